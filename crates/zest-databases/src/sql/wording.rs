//! Expressions in one wording: a server prints what it was given in words of its own.

use std::ops::ControlFlow;

use sqlparser::ast::{
    Array, BinaryOperator, CastKind, DataType, Expr, FunctionArguments, Ident, InTarget, ObjectName, ObjectNamePart, SelectItem, SetExpr,
    Statement, Value, VisitMut, VisitorMut,
};

use super::footprint::{Dialect, one, with_statements};

/// An expression with every part of it in one pair of brackets, without the types that a server adds to literals, and with lists as it
/// writes them. What cannot be read stays as it is but for its spaces.
pub(crate) fn in_one_wording(dialect: Dialect, text: &str) -> String {
    let worded = read_one(dialect, text, in_words);
    worded.unwrap_or_else(|| text.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// Whether a text can be read as one expression.
pub(crate) fn is_expression(dialect: Dialect, text: &str) -> bool {
    read_one(dialect, text, |_| ()).is_some()
}

/// Reads a text as one expression and goes on with it; nothing where it is none.
pub(super) fn read_one<T: Send>(dialect: Dialect, text: &str, go_on: impl FnOnce(&Expr) -> T + Send) -> Option<T> {
    with_statements(dialect, &format!("SELECT {text}"), false, |read| Some(go_on(only_expression(one(read).ok()?)?)))
}

/// An expression that was read, in one wording.
pub(super) fn in_words(expr: &Expr) -> String {
    let mut expr = expr.clone();
    let _ = expr.visit(&mut Wording);
    expr.to_string()
}

fn only_expression(statement: &Statement) -> Option<&Expr> {
    let Statement::Query(query) = statement else { return None };
    let SetExpr::Select(select) = &*query.body else { return None };
    // Nothing may stand behind it.
    match select.projection.as_slice() {
        [SelectItem::UnnamedExpr(expr)] if select.from.is_empty() && select.selection.is_none() => Some(expr),
        _ => None,
    }
}

struct Wording;

impl VisitorMut for Wording {
    type Break = ();

    fn pre_visit_relation(&mut self, relation: &mut ObjectName) -> ControlFlow<()> {
        plainly_named(relation);
        ControlFlow::Continue(())
    }

    // Parts come first, so that each of them is worded already.
    fn post_visit_expr(&mut self, expr: &mut Expr) -> ControlFlow<()> {
        let was = std::mem::replace(expr, Expr::Value(Value::Null.into()));
        *expr = worded(was);
        ControlFlow::Continue(())
    }
}

fn worded(expr: Expr) -> Expr {
    match expr {
        Expr::Nested(inner) => *inner,
        Expr::Cast { kind: CastKind::DoubleColon, expr, data_type, .. } if is_text(&expr) && is_added(&data_type) => *expr,
        Expr::In { expr, target: InTarget::List(list), negated, global: false } => {
            let right = Box::new(Expr::Array(Array { elem: list, named: true }));
            nested(match negated {
                false => Expr::AnyOp { left: expr, compare_op: BinaryOperator::Eq, right, is_some: false },
                true => Expr::AllOp { left: expr, compare_op: BinaryOperator::NotEq, right },
            })
        }
        Expr::Function(mut function) if matches!(function.args, FunctionArguments::None) => {
            // A word for a value, such as CURRENT_USER.
            let word = function.name.to_string().to_uppercase();
            function.name.0 = vec![ObjectNamePart::Identifier(Ident::new(word))];
            Expr::Function(function)
        }
        Expr::Function(mut function) => {
            plainly_named(&mut function.name);
            Expr::Function(function)
        }
        Expr::Identifier(name) => Expr::Identifier(plain(name)),
        Expr::CompoundIdentifier(names) => Expr::CompoundIdentifier(names.into_iter().map(plain).collect()),
        simple @ (Expr::Value(_) | Expr::Subquery(_) | Expr::Exists { .. } | Expr::Array(_) | Expr::Case { .. } | Expr::Tuple(_)) => simple,
        compound => nested(compound),
    }
}

/// A name without the quotes that it can do without, and in small letters where it has none.
fn plain(name: Ident) -> Ident {
    let is_small = name.value.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    match name.quote_style {
        None => Ident::new(name.value.to_lowercase()),
        Some(_) if is_small => Ident::new(name.value),
        Some(_) => name,
    }
}

fn plainly_named(name: &mut ObjectName) {
    for part in &mut name.0 {
        if let ObjectNamePart::Identifier(ident) = part {
            *ident = plain(ident.clone());
        }
    }
}

fn nested(expr: Expr) -> Expr {
    Expr::Nested(Box::new(expr))
}

fn is_text(expr: &Expr) -> bool {
    matches!(expr, Expr::Value(value) if matches!(value.value, Value::SingleQuotedString(_)))
}

/// The types that literals get for being compared with columns.
fn is_added(data_type: &DataType) -> bool {
    match data_type {
        DataType::Text | DataType::Regclass | DataType::CharacterVarying(None) | DataType::Date | DataType::Timestamp(..) => true,
        DataType::Custom(name, _) => name.to_string() == "name",
        _ => false,
    }
}
