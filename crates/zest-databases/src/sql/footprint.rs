//! Walks a statement and notes what it touches.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxHashSet;
use sqlparser::ast::{
    AccessExpr, Assignment, AssignmentTarget, BinaryOperator, CastKind, ConflictTarget, Cte, CteAsMaterialized, DataType, Delete, Distinct,
    Expr, FromTable, Function, FunctionArg, FunctionArgExpr, FunctionArgumentClause, FunctionArguments, GroupByExpr, GroupByWithModifier,
    Ident, InTarget, Insert, JoinConstraint, JoinOperator, LimitClause, Merge, MergeAction, MergeClauseKind, MergeInsertKind,
    MergeUpdateKind, NamedWindowExpr, ObjectName, OnConflictAction, OnInsert, OrderByExpr, OrderByKind, OrderBySort, Query, Select,
    SelectItem, SelectItemQualifiedWildcardKind, SetExpr, Statement, Subscript, TableFactor, TableObject, TableSampleKind, TableWithJoins,
    UnaryOperator, Update, UpdateTableFromKind, Value, WindowFrameBound, WindowSpec, WindowType,
};
use sqlparser::dialect::{MySqlDialect, PostgreSqlDialect};
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Span, Token, TokenWithSpan, Tokenizer};

use super::comments::carried_out;
use super::words::is_word;

/// Whose SQL it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Dialect {
    Postgresql,
    Mariadb,
}

/// The longest text that is parsed, in bytes.
pub(super) const LONGEST: usize = 256 * 1024;
/// Up to this length a statement outside of any view or routine fits on whatever stack there is.
const SHORT: usize = 256;
/// What one byte of text can cost on the stack: `1+1+1…` makes a level of the tree of every two bytes, and walking
/// and dropping go down all of it.
const STACK_PER_BYTE: usize = 4 * 1024;

/// Parses a text and hands its statements, or why there are none, to `then`.
///
/// The parser bounds parentheses, but a long chain of operators makes a tree as deep as the chain is long. So long
/// texts, and texts met while another one is walked (`is_inner`), are parsed, walked and dropped on a stack of their
/// own, made for their length.
pub(crate) fn with_statements<T: Send>(
    dialect: Dialect,
    text: &str,
    is_inner: bool,
    then: impl FnOnce(Result<&[Statement], String>) -> T + Send,
) -> T {
    if text.len() > LONGEST {
        return then(Err(format!("a text of {} bytes is not read; up to {LONGEST} are", text.len())));
    }
    if text.len() <= SHORT && !is_inner {
        return then(parse(dialect, text).as_deref().map_err(Clone::clone));
    }
    // The thread takes `then` out; where there is no memory for a thread, it is still here to be told so.
    let then = Mutex::new(Some(then));
    let take = || then.lock().unwrap_or_else(PoisonError::into_inner).take().expect("it is taken once");
    std::thread::scope(|scope| {
        let stack = 1024 * 1024 + text.len() * STACK_PER_BYTE;
        let work = || take()(parse(dialect, text).as_deref().map_err(Clone::clone));
        match std::thread::Builder::new().stack_size(stack).spawn_scoped(scope, work) {
            Ok(thread) => thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)),
            Err(_) => take()(Err("there is no memory to read a text of this length".to_owned())),
        }
    })
}

/// The statement of a text that must hold just one.
pub(crate) fn one(read: Result<&[Statement], String>) -> Result<&Statement, String> {
    match read? {
        [statement] => Ok(statement),
        several => Err(format!("expected one statement, found {}: ask for each of them", several.len())),
    }
}

fn parse(dialect: Dialect, text: &str) -> Result<Vec<Statement>, String> {
    let carried_out = if dialect == Dialect::Mariadb { carried_out(text)? } else { Cow::Borrowed(text) };
    let text = &*carried_out;
    let parsed = match dialect {
        Dialect::Postgresql => {
            let tokens = Tokenizer::new(&PostgreSqlDialect {}, text).tokenize_with_location();
            tokens
                .map_err(ParserError::from)
                .and_then(|tokens| Parser::new(&PostgreSqlDialect {}).with_tokens_with_locations(as_parsed(&tokens)).parse_statements())
        }
        Dialect::Mariadb => {
            let tokens = Tokenizer::new(&MySqlDialect {}, text).tokenize_with_location();
            tokens
                .map_err(ParserError::from)
                .and_then(|tokens| Parser::new(&MySqlDialect {}).with_tokens_with_locations(as_parsed_by_mysql(&tokens)).parse_statements())
        }
    };
    parsed.map_err(|e| e.to_string().trim_start_matches("sql parser error: ").to_owned())
}

/// Stands for `DEFAULT VALUES` where the parser does not know it; no text of SQL holds such a sign.
const ALL_DEFAULTS: &str = "\0";

/// Words of MariaDB that read like a column and are functions: they are kept, and no column is called so without quotes.
const VALUES_OF_MARIADB: &[&str] = &[
    "current_date",
    "current_role",
    "current_time",
    "current_timestamp",
    "current_user",
    "localtime",
    "localtimestamp",
    "utc_date",
    "utc_time",
    "utc_timestamp",
];

/// Puts forms of MariaDB that the parser does not know into others that need the same rights: how a statement is carried out, locks of
/// rows, variables and files that rows go into, values of sequences, several tables in an UPDATE, what the rows of a table were.
fn as_parsed_by_mysql(tokens: &[TokenWithSpan]) -> Vec<TokenWithSpan> {
    let at: Vec<&TokenWithSpan> = tokens.iter().filter(|token| !matches!(token.token, Token::Whitespace(_))).collect();
    let begins =
        |i: usize, words: &[&str]| words.iter().enumerate().all(|(j, word)| at.get(i + j).is_some_and(|token| is_word(&token.token, word)));
    let is_variable = |i: usize| matches!(at.get(i).map(|token| &token.token), Some(Token::Word(word)) if word.value.starts_with('@'));
    let is_value =
        |i: usize| is_variable(i) || matches!(at.get(i).map(|token| &token.token), Some(Token::SingleQuotedString(_) | Token::Number(..)));
    let mut out: Vec<TokenWithSpan> = Vec::new();
    let (mut i, mut depth, mut in_update) = (0, 0_usize, false);
    while let Some(token) = at.get(i) {
        let put = |out: &mut Vec<TokenWithSpan>, new: Token| out.push(TokenWithSpan { token: new, span: token.span });
        match &token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            _ => {}
        }
        let begins_update = i == 0 && begins(i, &["update"]);
        in_update = (in_update || begins_update) && !(depth == 0 && begins(i, &["set"]));
        if begins(i, &["update"]) || begins(i, &["delete"]) {
            put(&mut out, token.token.clone());
            i += 1;
            while ["ignore", "low_priority", "quick"].iter().any(|word| begins(i, &[*word])) && !begins(i + 1, &["set"]) {
                i += 1;
            }
        } else if begins(i, &["lock", "in", "share", "mode"]) {
            i += 4;
        } else if begins(i, &["with", "system", "versioning"]) || begins(i, &["for", "system_time", "all"]) {
            i += 3;
        } else if begins(i, &["for", "system_time", "as", "of"]) && is_value(i + 4) {
            i += 5;
        } else if begins(i, &["into"]) && is_variable(i + 1) {
            i += 2;
            while at.get(i).is_some_and(|token| token.token == Token::Comma) && is_variable(i + 1) {
                i += 2;
            }
        } else if begins(i, &["into", "outfile"]) || begins(i, &["into", "dumpfile"]) {
            i += 3;
        } else if begins(i, &["next", "value", "for"]) || begins(i, &["previous", "value", "for"]) {
            let function = if begins(i, &["next"]) { "nextval" } else { "lastval" };
            put(&mut out, Token::make_word(function, None));
            put(&mut out, Token::LParen);
            i += 3;
            while let Some(part) = at.get(i).filter(|part| matches!(part.token, Token::Word(_) | Token::Period)) {
                out.push((*part).clone());
                i += 1;
                if at.get(i).is_none_or(|next| next.token != Token::Period) && part.token != Token::Period {
                    break;
                }
            }
            put(&mut out, Token::RParen);
        } else if in_update && depth == 0 && token.token == Token::Comma {
            put(&mut out, Token::make_word("CROSS", None));
            put(&mut out, Token::make_word("JOIN", None));
            i += 1;
        } else {
            out.push((*token).clone());
            i += 1;
        }
    }
    out
}

/// Puts forms that the parser does not know into others that need the same rights: `TABLE t`, locks of keys alone, whole rows of defaults
/// in a MERGE, what a table made like another takes along, and whether a new one is filled.
fn as_parsed(tokens: &[TokenWithSpan]) -> Vec<TokenWithSpan> {
    let word = |word: &str| Token::make_word(word, None);
    let spans: Vec<Span> = tokens.iter().map(|token| token.span).collect();
    let at: Vec<usize> = (0..tokens.len()).filter(|i| !matches!(tokens[*i].token, Token::Whitespace(_))).collect();
    let begins = |i: usize, words: &[&str]| {
        words.iter().enumerate().all(|(j, word)| at.get(i + j).is_some_and(|k| is_word(&tokens[*k].token, word)))
    };
    let is_create = begins(0, &["create"]);
    let mut out: Vec<Token> = Vec::new();
    let mut place: Vec<usize> = Vec::new();
    let mut put = |token: Token, from: usize| {
        out.push(token);
        place.push(from);
    };
    let mut i = 0;
    while let Some(&k) = at.get(i) {
        let taken = match () {
            () if i == 0 && begins(i, &["table"]) => {
                [word("SELECT"), Token::Mul, word("FROM")].into_iter().for_each(|token| put(token, k));
                1
            }
            () if begins(i, &["for", "no", "key", "update"]) => {
                [word("FOR"), word("UPDATE")].into_iter().for_each(|token| put(token, k));
                4
            }
            () if begins(i, &["for", "key", "share"]) => {
                [word("FOR"), word("SHARE")].into_iter().for_each(|token| put(token, k));
                3
            }
            () if begins(i, &["then", "insert", "default", "values"]) => {
                let all = Token::make_word(ALL_DEFAULTS, Some('"'));
                let tokens = [word("THEN"), word("INSERT"), word("VALUES"), Token::LParen, all, Token::RParen];
                tokens.into_iter().for_each(|token| put(token, k));
                4
            }
            () if is_create && (begins(i, &["including"]) || begins(i, &["excluding"])) => 2,
            () if is_create && begins(i, &["with", "no", "data"]) && at.get(i + 3).is_none_or(|k| tokens[*k].token == Token::SemiColon) => {
                3
            }
            () if is_create && begins(i, &["with", "data"]) && at.get(i + 2).is_none_or(|k| tokens[*k].token == Token::SemiColon) => 2,
            () => {
                put(tokens[k].token.clone(), k);
                1
            }
        };
        i += taken;
    }
    out.into_iter().zip(place).map(|(token, from)| TokenWithSpan { token, span: spans[from] }).collect()
}

/// What is done with a relation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Verb {
    Select,
    Insert,
    Update,
    Delete,
    /// `SELECT … FOR UPDATE` and its like.
    Lock,
}

/// Some columns of a relation.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct Columns {
    /// All of them.
    pub(crate) whole: bool,
    pub(crate) names: BTreeSet<String>,
}

impl Columns {
    fn add(&mut self, others: &Self) {
        self.whole |= others.whole;
        self.names.extend(others.names.iter().cloned());
    }
}

/// One occurrence of a relation in a statement.
#[derive(Clone, Debug)]
pub(crate) struct Use {
    /// The number of the relation, as [`Names`] gave it.
    pub(crate) relation: usize,
    pub(crate) verbs: BTreeSet<Verb>,
    pub(crate) selected: Columns,
    /// Those of them that are read whatever the server leaves out: not only for what a query in FROM gives, which may be read by nobody.
    pub(crate) surely: Columns,
    pub(crate) inserted: Columns,
    pub(crate) updated: Columns,
    /// Columns that are given their default by the word for it.
    pub(crate) defaulted: BTreeSet<String>,
    /// Whether it stands in what a query in FROM gives, so that the server may leave it out.
    #[cfg_attr(not(feature = "postgresql"), expect(dead_code, reason = "MariaDB leaves nothing out"))]
    pub(crate) is_open: bool,
}

/// The columns that every table of PostgreSQL has.
pub(crate) const SYSTEM_COLUMNS: &[&str] = &["ctid", "xmin", "xmax", "cmin", "cmax", "tableoid"];

/// The number of a relation that no name stands for in the statement.
#[cfg(feature = "postgresql")]
pub(crate) const UNNAMED: usize = usize::MAX;

impl Use {
    /// Makes a use in which no column is touched yet.
    pub(crate) fn of(relation: usize, verb: Verb) -> Self {
        let nothing = Columns::default();
        Self {
            relation,
            verbs: [verb].into(),
            selected: nothing.clone(),
            surely: nothing.clone(),
            inserted: nothing.clone(),
            updated: nothing,
            defaulted: BTreeSet::new(),
            is_open: false,
        }
    }

    /// Makes a use in which some columns are read, for sure.
    pub(crate) fn reading(relation: usize, columns: Columns) -> Self {
        Self { selected: columns.clone(), surely: columns, ..Self::of(relation, Verb::Select) }
    }

    /// Whether rows are made, changed or removed.
    pub(crate) fn changes(&self) -> bool {
        self.verbs.iter().any(|verb| match verb {
            Verb::Insert | Verb::Update | Verb::Delete => true,
            Verb::Select | Verb::Lock => false,
        })
    }
}

/// A call of a routine.
#[derive(Clone, Debug)]
pub(crate) struct Call {
    pub(crate) name: Vec<String>,
    pub(crate) arguments: usize,
    /// The types of the arguments that are sure, in the words of the statement or of the ledger.
    pub(crate) types: Vec<Option<String>>,
    /// The first argument, where it is a text.
    pub(crate) text: Option<String>,
    /// Which arguments name nothing, whatever they are for: numbers, NULL, and texts without a dot.
    pub(crate) plain: Vec<bool>,
    /// False where nobody reads what it gives, and so it is not called.
    pub(crate) is_run: bool,
    /// Whether it stands in what a query in FROM gives, so that the server may leave it out.
    pub(crate) is_open: bool,
}

impl Call {
    fn of(name: Vec<String>, arguments: usize) -> Self {
        Self { name, arguments, types: vec![None; arguments], text: None, plain: vec![false; arguments], is_run: true, is_open: false }
    }
}

/// What a statement touches.
#[derive(Clone, Debug, Default)]
pub(crate) struct Footprint {
    pub(crate) uses: Vec<Use>,
    pub(crate) calls: Vec<Call>,
    /// What could not be followed.
    pub(crate) undecided: Vec<String>,
}

/// A relation that was found by name.
#[derive(Clone, Debug)]
pub(crate) struct Relation {
    pub(crate) number: usize,
    pub(crate) columns: Vec<String>,
    /// Whether it has columns that are not listed, for which the same rights are needed as for all of it.
    pub(crate) is_open: bool,
}

/// Finds relations by name.
pub(crate) trait Names {
    /// Finds a relation; the text says why it cannot be found.
    fn relation(&mut self, name: &[String]) -> Result<Relation, String>;

    /// The relations in the FROM clause of the outermost SELECT were found.
    fn in_from_are_found(&mut self);

    /// Looks at a type that a value is turned into; `text` is the value where it is written out. The error says why it
    /// is not known what that needs.
    fn cast(&mut self, data_type: &DataType, text: Option<&str>) -> Result<(), String>;

    /// Looks at the name of something that needs no right but that its schema is open: a collation, an operator.
    fn in_schema(&mut self, name: &[String]);

    /// Returns the type of a column of a relation that was found, where it is known.
    fn column_type(&self, relation: usize, column: &str) -> Option<String>;

    /// Takes a name, or the one of a field behind that of a row, for that of a variable, where it is one: then it is never a column.
    fn variable(&mut self, row: Option<&str>, name: &str) -> bool;

    /// Whether a function surely looks at nothing but the values it is given: it sums up no rows.
    fn is_of_one_row(&self, name: &[String]) -> bool;
}

/// Something in a FROM clause.
#[derive(Clone, Debug)]
struct Source {
    alias: String,
    /// The use it stands for; none for subqueries and functions, whose insides were noted already.
    at: Option<usize>,
    columns: Outputs,
    /// Those of them that a name by itself may mean: the others were made one with another source's by a join.
    alone: Outputs,
}

impl Source {
    fn new(alias: String, at: Option<usize>, columns: Outputs) -> Self {
        Self { alias, at, alone: columns.clone(), columns }
    }

    fn width(&self) -> usize {
        self.columns.as_ref().map_or(1, |columns| columns.len())
    }
}

/// Whose column a name by itself means, behind a join by name.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Side {
    Left,
    Right,
}

/// The columns of something; none where they cannot be known. They are shared: common table expressions hand them on and on.
type Outputs = Option<Arc<Vec<String>>>;

/// More columns than either server takes in one select list (PostgreSQL 1,664, MariaDB 4,096).
const MOST_COLUMNS: usize = 4096;
/// How many columns of sources are looked through for one statement.
const MOST_WORK: usize = 50_000_000;

/// A query of a `WITH` clause.
#[derive(Clone, Debug)]
struct Common {
    name: String,
    outputs: Outputs,
    /// The uses and calls in it, of a query that only reads: PostgreSQL does not run one that nobody refers to.
    reads: Option<(std::ops::Range<usize>, std::ops::Range<usize>)>,
    /// How often it is referred to.
    used: usize,
    /// The names of others that it refers to.
    refers_to: Vec<String>,
}

/// The walk over one statement.
pub(crate) struct Walker<'n> {
    dialect: Dialect,
    names: &'n mut dyn Names,
    pub(crate) footprint: Footprint,
    /// Sources that can be seen, innermost scope last.
    scopes: Vec<Vec<Source>>,
    with: Vec<Common>,
    /// The names of queries of `WITH` clauses that were met in the one that is walked.
    refers_to: Vec<String>,
    depth: usize,
    /// How much has been looked through.
    work: usize,
    /// Whether it is in the body of a routine: a name that is no column is a parameter there, and the server looked when it was made.
    in_body: bool,
    /// Which of what stands in FROM is locked by the SELECT that is walked.
    locked: Locked,
    /// Whether the query that is walked next is locked by the one around it.
    is_locked: bool,
    /// Whether it only matters if the query that is walked next has rows: MariaDB does not look what `*` stands for then.
    is_only_found: bool,
    /// Names of output columns that come before those of relations.
    given: FxHashSet<String>,
    /// Whether what the query that is walked next gives may be read by nobody.
    may_be_unread: bool,
    /// Whether what such a query gives is walked.
    is_open: bool,
    /// Whether the SELECT whose FROM is walked reads all that stands there.
    reads_all: bool,
}

/// What a query locks of what stands in its FROM: a lock of a query in there locks all that it reads from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
enum Locked {
    #[default]
    Nothing,
    All,
    /// What is called so.
    Named(Vec<String>),
}

impl Locked {
    fn has(&self, alias: &str) -> bool {
        match self {
            Self::Nothing => false,
            Self::All => true,
            Self::Named(names) => names.iter().any(|name| name == alias),
        }
    }
}

/// The deepest nesting that is followed.
const DEEPEST: usize = 400;

pub(crate) fn fold(dialect: Dialect, ident: &Ident) -> String {
    if dialect == Dialect::Postgresql && ident.quote_style.is_none() { ident.value.to_lowercase() } else { ident.value.clone() }
}

/// Returns the parts of a name, folded as the server does.
pub(crate) fn table_name(dialect: Dialect, name: &ObjectName) -> Vec<String> {
    name.0.iter().filter_map(|p| p.as_ident()).map(|i| fold(dialect, i)).collect()
}

impl<'n> Walker<'n> {
    pub(crate) fn new(dialect: Dialect, names: &'n mut dyn Names, in_body: bool) -> Self {
        Self {
            dialect,
            names,
            footprint: Footprint::default(),
            scopes: Vec::new(),
            with: Vec::new(),
            refers_to: Vec::new(),
            depth: 0,
            work: 0,
            in_body,
            locked: Locked::Nothing,
            is_locked: false,
            is_only_found: false,
            given: FxHashSet::default(),
            may_be_unread: false,
            is_open: false,
            reads_all: false,
        }
    }

    fn undecided(&mut self, why: impl Into<String>) {
        self.footprint.undecided.push(why.into());
    }

    /// Puts columns behind each other.
    fn all_together(&mut self, lists: Vec<Outputs>) -> Outputs {
        let lists: Vec<Arc<Vec<String>>> = lists.into_iter().collect::<Option<_>>()?;
        if lists.iter().map(|l| l.len()).sum::<usize>() > MOST_COLUMNS {
            self.undecided(format!("more than {MOST_COLUMNS} columns in one select list"));
            return None;
        }
        Some(Arc::new(lists.iter().flat_map(|l| l.iter().cloned()).collect()))
    }

    /// Counts what is looked through; false once it is too much, and then the statement is not decided.
    fn spend(&mut self, work: usize) -> bool {
        let before = self.work;
        self.work = before.saturating_add(work);
        if before <= MOST_WORK && self.work > MOST_WORK {
            self.undecided("too many sources and columns to look each up");
        }
        self.work <= MOST_WORK
    }

    fn same(&self, one: &str, other: &str) -> bool {
        if self.dialect == Dialect::Mariadb { one.eq_ignore_ascii_case(other) } else { one == other }
    }

    /// What two names have alike that are the same.
    fn key(&self, name: &str) -> String {
        if self.dialect == Dialect::Mariadb { name.to_ascii_lowercase() } else { name.to_owned() }
    }

    fn fold(&self, ident: &Ident) -> String {
        fold(self.dialect, ident)
    }

    /// Opens a use of a relation.
    fn relation(&mut self, name: &ObjectName, verb: Verb) -> Option<(usize, Relation)> {
        let parts = table_name(self.dialect, name);
        match self.names.relation(&parts) {
            Ok(relation) => {
                self.footprint.uses.push(Use { is_open: self.is_open, ..Use::of(relation.number, verb) });
                Some((self.footprint.uses.len() - 1, relation))
            }
            Err(why) => {
                self.undecided(why);
                None
            }
        }
    }

    fn source_of(&mut self, name: &ObjectName, alias: Option<&Ident>, verb: Verb) -> Source {
        let last = name.0.last().and_then(|p| p.as_ident()).map_or(String::new(), |i| self.fold(i));
        let alias = alias.map_or(last, |a| self.fold(a));
        match self.relation(name, verb) {
            Some((_, relation)) if relation.is_open => Source::new(alias, None, None),
            Some((at, relation)) => Source::new(alias, Some(at), Some(Arc::new(relation.columns))),
            None => Source::new(alias, None, None),
        }
    }

    fn select_column(&mut self, at: usize, column: &str) {
        let found = &mut self.footprint.uses[at];
        found.verbs.insert(Verb::Select);
        found.selected.names.insert(column.to_owned());
        if !self.is_open {
            found.surely.names.insert(column.to_owned());
        }
    }

    fn select_whole(&mut self, at: usize) {
        let found = &mut self.footprint.uses[at];
        found.verbs.insert(Verb::Select);
        found.selected.whole = true;
        found.surely.whole |= !self.is_open;
    }
}

/// Queries
impl Walker<'_> {
    pub(crate) fn query(&mut self, query: &Query) -> Outputs {
        self.depth += 1;
        if self.depth > DEEPEST {
            self.undecided("the statement is nested too deep");
            return None;
        }
        let with = self.with.len();
        let given = std::mem::take(&mut self.given);
        // What stands in WITH is not locked along.
        let is_locked = std::mem::take(&mut self.is_locked);
        let is_only_found = std::mem::take(&mut self.is_only_found);
        let may_be_unread = std::mem::take(&mut self.may_be_unread);
        if let Some(clause) = &query.with {
            for cte in &clause.cte_tables {
                self.cte(cte, clause.recursive);
            }
        }
        self.may_be_unread = may_be_unread;
        self.is_locked = is_locked;
        self.is_only_found = is_only_found;
        let outputs = self.set_expr(&query.body, Some(query));
        self.given = given;
        self.is_locked = false;
        self.is_only_found = false;
        self.may_be_unread = false;
        let mut ending = self.with.split_off(with);
        while let Some(common) = ending.pop() {
            let Some((uses, calls)) = common.reads.filter(|_| common.used == 0 && self.dialect == Dialect::Postgresql) else { continue };
            self.footprint.uses[uses].iter_mut().for_each(|used| used.verbs.clear());
            self.footprint.calls[calls].iter_mut().for_each(|call| call.is_run = false);
            // One that is referred to but here goes with it: the server has put it in its place.
            for name in common.refers_to {
                if let Some(other) = ending.iter_mut().rev().find(|other| other.name == name && other.used == 1) {
                    other.used = 0;
                }
            }
        }
        self.depth -= 1;
        outputs
    }

    fn cte(&mut self, cte: &Cte, recursive: bool) {
        let name = self.fold(&cte.alias.name);
        let named: Outputs =
            (!cte.alias.columns.is_empty()).then(|| Arc::new(cte.alias.columns.iter().map(|c| fold(self.dialect, &c.name)).collect()));
        if recursive {
            self.with.push(Common { name: name.clone(), outputs: named.clone(), reads: None, used: 1, refers_to: Vec::new() });
        }
        let (uses, calls) = (self.footprint.uses.len(), self.footprint.calls.len());
        let outer = std::mem::take(&mut self.refers_to);
        self.may_be_unread = !recursive && cte.materialized != Some(CteAsMaterialized::Materialized);
        let outputs = self.query(&cte.query);
        let refers_to = std::mem::replace(&mut self.refers_to, outer);
        if recursive {
            self.with.pop();
        }
        let changes = self.footprint.uses[uses..].iter().any(|used| used.verbs.iter().any(|verb| *verb != Verb::Select));
        let reads = (!changes).then_some((uses..self.footprint.uses.len(), calls..self.footprint.calls.len()));
        self.with.push(Common { name, outputs: named.or(outputs), reads, used: 0, refers_to });
    }

    fn set_expr(&mut self, body: &SetExpr, query: Option<&Query>) -> Outputs {
        // What is given to a change is read.
        self.may_be_unread &= matches!(body, SetExpr::Select(_) | SetExpr::SetOperation { .. } | SetExpr::Query(_));
        match body {
            SetExpr::Select(select) => self.select(select, query),
            SetExpr::Query(inner) => {
                self.is_locked |= query.is_some_and(|query| !query.locks.is_empty());
                let outputs = self.query(inner);
                self.tail(query, outputs.clone());
                outputs
            }
            SetExpr::SetOperation { left, right, .. } => {
                self.depth += 1;
                if self.depth > DEEPEST {
                    self.undecided("the statement is nested too deep");
                    return None;
                }
                // The rows of several queries together are not locked.
                self.is_locked = false;
                let (is_only_found, may_be_unread) = (self.is_only_found, self.may_be_unread);
                let outputs = self.set_expr(left, None);
                (self.is_only_found, self.may_be_unread) = (is_only_found, may_be_unread);
                self.set_expr(right, None);
                self.depth -= 1;
                self.tail(query, outputs.clone());
                outputs
            }
            SetExpr::Values(values) => {
                self.scopes.push(Vec::new());
                values.rows.iter().flat_map(|r| &r.content).for_each(|e| self.expr(e));
                self.scopes.pop();
                self.tail(query, None);
                values.rows.first().map(|r| Arc::new((1..=r.content.len()).map(|i| format!("column{i}")).collect()))
            }
            SetExpr::Insert(statement) | SetExpr::Update(statement) | SetExpr::Delete(statement) | SetExpr::Merge(statement) => {
                self.statement(statement)
            }
            SetExpr::Table(table) => {
                let parts: Vec<String> = table.schema_name.iter().chain(&table.table_name).map(|i| fold(self.dialect, i)).collect();
                if let [one] = parts.as_slice()
                    && let Some(common) = self.with.iter_mut().rev().find(|common| common.name == *one)
                {
                    common.used += 1;
                    let outputs = common.outputs.clone();
                    self.refers_to.push(one.clone());
                    return outputs;
                }
                match self.names.relation(&parts) {
                    Ok(relation) => {
                        let whole = Columns { whole: true, ..Columns::default() };
                        self.footprint.uses.push(Use::reading(relation.number, whole));
                        Some(Arc::new(relation.columns))
                    }
                    Err(why) => {
                        self.undecided(why);
                        None
                    }
                }
            }
        }
    }

    /// What stands behind the body of a query: order and limits, over the output columns.
    fn tail(&mut self, query: Option<&Query>, outputs: Outputs) {
        let Some(query) = query else { return };
        self.scopes.push(vec![Source::new(String::new(), None, outputs)]);
        self.behind(query, &FxHashSet::default());
        self.scopes.pop();
    }

    /// What stands behind a query. An order by a name alone is that of the output column that was given it, where there is one, whatever
    /// is called so in a relation; in an expression the relation's column comes first.
    fn behind(&mut self, query: &Query, given: &FxHashSet<String>) {
        if let Some(OrderByKind::Expressions(list)) = query.order_by.as_ref().map(|o| &o.kind) {
            for one in list {
                if !matches!(&one.expr, Expr::Identifier(ident) if given.contains(&self.key(&self.fold(ident)))) {
                    self.expr(&one.expr);
                }
                self.sort(one);
            }
        }
        match &query.limit_clause {
            Some(LimitClause::LimitOffset { limit, offset, limit_by }) => {
                limit.iter().chain(offset.iter().map(|o| &o.value)).chain(limit_by).for_each(|e| self.expr(e));
            }
            Some(LimitClause::OffsetCommaLimit { offset, limit }) => {
                self.expr(offset);
                self.expr(limit);
            }
            None => {}
        }
        if !query.pipe_operators.is_empty() || query.for_clause.is_some() {
            self.undecided("a clause of another dialect");
        }
    }

    fn order(&mut self, list: &[OrderByExpr]) {
        for one in list {
            self.expr(&one.expr);
            self.sort(one);
        }
    }

    fn sort(&mut self, one: &OrderByExpr) {
        if let Some(OrderBySort::Using(operator)) = &one.options.sort {
            self.names.in_schema(&table_name(self.dialect, operator));
        }
    }

    fn select(&mut self, select: &Select, query: Option<&Query>) -> Outputs {
        if select.into.is_some() {
            self.undecided("SELECT … INTO makes a table");
        }
        self.scopes.push(Vec::new());
        let locked = self.locks(query);
        let is_only_found = std::mem::take(&mut self.is_only_found);
        let around = std::mem::replace(&mut self.locked, locked.clone());
        let may_be_unread = std::mem::take(&mut self.may_be_unread);
        // All of it is read where all of this is.
        let is_all = |item: &SelectItem| matches!(item, SelectItem::Wildcard(_));
        let reads_all = std::mem::replace(&mut self.reads_all, !may_be_unread && select.projection.iter().any(is_all));
        for item in &select.from {
            self.joins(item, Verb::Select);
        }
        self.reads_all = reads_all;
        if self.scopes.len() == 1 {
            self.names.in_from_are_found();
        }
        self.locked = around;
        let mut aliases = Vec::new();
        let mut named = Vec::new();
        let is_open = self.is_open;
        self.is_open |= may_be_unread && select.distinct.is_none();
        for item in &select.projection {
            let is_all =
                matches!(item, SelectItem::Wildcard(_) | SelectItem::QualifiedWildcard(SelectItemQualifiedWildcardKind::ObjectName(_), _));
            let names = if is_only_found && is_all { None } else { self.item(item) };
            if let SelectItem::ExprWithAlias { alias, .. } = item {
                aliases.push(self.fold(alias));
            }
            named.push(names);
        }
        self.is_open = is_open;
        let outputs = self.all_together(named);
        if let Some(Distinct::On(list)) = &select.distinct {
            if self.dialect == Dialect::Mariadb {
                self.undecided("a clause of another dialect");
            }
            list.iter().for_each(|e| self.expr(e));
        }
        select.selection.iter().chain(&select.qualify).for_each(|e| self.expr(e));
        let given: FxHashSet<String> = aliases.iter().map(|name| self.key(name)).collect();
        if let Some(having) = &select.having {
            // On MariaDB the output columns come first here, but in functions that sum up rows.
            self.given = if self.dialect == Dialect::Mariadb { given.clone() } else { FxHashSet::default() };
            self.expr(having);
            self.given.clear();
        }
        // Grouping and order may name an output column; that is no column of a relation then.
        if !aliases.is_empty() {
            let named = Source::new(String::new(), None, Some(Arc::new(aliases)));
            if let Some(scope) = self.scopes.last_mut() {
                scope.push(named);
            }
        }
        if let GroupByExpr::Expressions(list, modifiers) = &select.group_by {
            list.iter().for_each(|e| self.expr(e));
            if modifiers.iter().any(|m| !matches!(m, GroupByWithModifier::Rollup)) {
                self.undecided("a clause of another dialect");
            }
        }
        for window in &select.named_window {
            if let NamedWindowExpr::WindowSpec(spec) = &window.1 {
                self.window(spec);
            }
        }
        if !select.sort_by.is_empty() || !select.cluster_by.is_empty() || !select.distribute_by.is_empty() {
            self.undecided("a clause of another dialect");
        }
        if !select.lateral_views.is_empty() || !select.connect_by.is_empty() || select.prewhere.is_some() || select.top.is_some() {
            self.undecided("a clause of another dialect");
        }
        if let Some(query) = query {
            self.behind(query, &given);
        }
        if locked != Locked::Nothing {
            let scope = self.scopes.last().cloned().unwrap_or_default();
            for at in scope.iter().filter(|source| locked.has(&source.alias)).filter_map(|source| source.at) {
                self.footprint.uses[at].verbs.insert(Verb::Lock);
            }
        }
        self.scopes.pop();
        outputs
    }

    /// What a SELECT locks: all, where the query around it locks it, or what its own clauses name.
    fn locks(&mut self, query: Option<&Query>) -> Locked {
        let around = if std::mem::take(&mut self.is_locked) { Locked::All } else { Locked::Nothing };
        query.into_iter().flat_map(|query| &query.locks).fold(around, |locked, lock| {
            let of = lock.of.as_ref().and_then(|o| o.0.last()).and_then(|p| p.as_ident()).map(|i| self.fold(i));
            match (locked, of) {
                (Locked::All, _) | (_, None) => Locked::All,
                (Locked::Nothing, Some(name)) => Locked::Named(vec![name]),
                (Locked::Named(names), Some(name)) => Locked::Named(names.into_iter().chain([name]).collect()),
            }
        })
    }

    /// One item of a select list; returns the names of the output columns.
    fn item(&mut self, item: &SelectItem) -> Outputs {
        match item {
            SelectItem::UnnamedExpr(expr) => {
                self.expr(expr);
                Some(Arc::new(vec![output_name(self.dialect, expr)]))
            }
            SelectItem::ExprWithAlias { expr, alias } => {
                self.expr(expr);
                Some(Arc::new(vec![self.fold(alias)]))
            }
            SelectItem::ExprWithAliases { expr, aliases } => {
                self.expr(expr);
                Some(Arc::new(aliases.iter().map(|a| self.fold(a)).collect()))
            }
            SelectItem::Wildcard(_) => {
                let mut scope = self.scopes.last().cloned().unwrap_or_default();
                scope.iter_mut().for_each(|source| source.columns.clone_from(&source.alone));
                self.all_of(&scope)
            }
            SelectItem::QualifiedWildcard(SelectItemQualifiedWildcardKind::ObjectName(name), _) => {
                let alias = name.0.last().and_then(|p| p.as_ident()).map_or(String::new(), |i| self.fold(i));
                let found: Vec<Source> =
                    self.scopes.iter().rev().find_map(|s| s.iter().find(|x| x.alias == alias).cloned()).into_iter().collect();
                if found.is_empty() {
                    self.undecided(format!("nothing is called `{alias}`"));
                    return None;
                }
                self.all_of(&found)
            }
            SelectItem::QualifiedWildcard(SelectItemQualifiedWildcardKind::Expr(expr), _) => {
                self.expr(expr);
                None
            }
        }
    }

    fn all_of(&mut self, sources: &[Source]) -> Outputs {
        let mut lists = Vec::new();
        for source in sources.iter().filter(|s| !s.alias.is_empty()) {
            if let Some(at) = source.at {
                self.footprint.uses[at].verbs.insert(Verb::Select);
                source.columns.iter().flat_map(|columns| columns.iter()).for_each(|column| self.select_column(at, column));
            }
            lists.push(source.columns.clone());
        }
        self.all_together(lists)
    }

    fn joins(&mut self, item: &TableWithJoins, verb: Verb) {
        let before = self.scopes.last().map_or(0, Vec::len);
        self.factor(&item.relation, verb);
        for join in &item.joins {
            let seen = self.scopes.last().map_or(0, Vec::len);
            self.factor(&join.relation, verb);
            let kept =
                if matches!(join.join_operator, JoinOperator::Right(_) | JoinOperator::RightOuter(_)) { Side::Right } else { Side::Left };
            let (JoinOperator::Join(constraint)
            | JoinOperator::Inner(constraint)
            | JoinOperator::Left(constraint)
            | JoinOperator::LeftOuter(constraint)
            | JoinOperator::Right(constraint)
            | JoinOperator::RightOuter(constraint)
            | JoinOperator::FullOuter(constraint)
            | JoinOperator::CrossJoin(constraint)
            | JoinOperator::StraightJoin(constraint)) = &join.join_operator
            else {
                self.undecided("a join of another dialect");
                continue;
            };
            match constraint {
                JoinConstraint::On(expr) => self.expr(expr),
                JoinConstraint::Using(list) | JoinConstraint::UsingAlias(list, _) => {
                    let columns = list.iter().filter_map(|name| table_name(self.dialect, name).pop()).map(|name| self.key(&name)).collect();
                    self.join_by_name(before..seen, kept, &columns);
                }
                JoinConstraint::Natural => {
                    let common = self.common(before..seen);
                    self.join_by_name(before..seen, kept, &common);
                }
                JoinConstraint::None => {}
            }
        }
    }

    /// Returns the keys of the columns that what stands behind `left` in a scope has in common with it.
    fn common(&mut self, left: std::ops::Range<usize>) -> FxHashSet<String> {
        let Some(scope) = self.scopes.last() else { return FxHashSet::default() };
        let work = scope[left.start..].iter().map(Source::width).sum();
        let is_known = scope[left.start..].iter().all(|source| source.columns.is_some());
        if !self.spend(work) {
            return FxHashSet::default();
        }
        if !is_known {
            self.undecided("a natural join with something whose columns are not known");
        }
        let Some(scope) = self.scopes.last() else { return FxHashSet::default() };
        let keys = |sources: &[Source]| -> FxHashSet<String> {
            sources.iter().filter_map(|source| source.alone.as_ref()).flat_map(|list| list.iter().map(|name| self.key(name))).collect()
        };
        keys(&scope[left.clone()]).intersection(&keys(&scope[left.end..])).cloned().collect()
    }

    /// Joins what stands behind `left` in a scope with it, by columns that are called alike.
    ///
    /// PostgreSQL reads them on both sides. MariaDB asks only for those that are named: by themselves they are the left side's, behind
    /// `RIGHT JOIN` the right side's.
    fn join_by_name(&mut self, left: std::ops::Range<usize>, kept: Side, common: &FxHashSet<String>) {
        let Some(mut scope) = self.scopes.last_mut().map(std::mem::take) else { return };
        if self.spend(scope[left.start..].iter().map(Source::width).sum()) {
            for (number, source) in scope.iter_mut().enumerate().skip(left.start) {
                let Some(columns) = &source.alone else { continue };
                let is_joined = |name: &&String| common.contains(&self.key(name));
                match (self.dialect, source.at) {
                    (Dialect::Postgresql, Some(at)) => {
                        let joined: Vec<String> = columns.iter().filter(is_joined).cloned().collect();
                        joined.iter().for_each(|name| self.select_column(at, name));
                    }
                    (Dialect::Mariadb, _) if left.contains(&number) == (kept == Side::Right) => {
                        source.alone = Some(Arc::new(columns.iter().filter(|name| !is_joined(name)).cloned().collect()));
                    }
                    (Dialect::Postgresql, None) | (Dialect::Mariadb, _) => {}
                }
            }
        }
        if let Some(place) = self.scopes.last_mut() {
            *place = scope;
        }
    }

    fn factor(&mut self, factor: &TableFactor, verb: Verb) {
        let alias = match factor {
            TableFactor::Table { alias, .. }
            | TableFactor::Derived { alias, .. }
            | TableFactor::TableFunction { alias, .. }
            | TableFactor::Function { alias, .. }
            | TableFactor::UNNEST { alias, .. }
            | TableFactor::JsonTable { alias, .. }
            | TableFactor::OpenJsonTable { alias, .. }
            | TableFactor::NestedJoin { alias, .. }
            | TableFactor::Pivot { alias, .. }
            | TableFactor::Unpivot { alias, .. }
            | TableFactor::MatchRecognize { alias, .. }
            | TableFactor::XmlTable { alias, .. }
            | TableFactor::SemanticView { alias, .. } => alias.as_ref(),
            TableFactor::UnpivotExpr { .. } => None,
        };
        // What a function is said to return names types.
        alias
            .into_iter()
            .flat_map(|alias| &alias.columns)
            .filter_map(|column| column.data_type.as_ref())
            .for_each(|of| self.cast(of, None));
        match factor {
            TableFactor::Table { name, alias, args: None, version: None, json_path: None, sample, with_hints, .. } => {
                let is_plain = |kind: &TableSampleKind| {
                    let (TableSampleKind::BeforeTableAlias(sample) | TableSampleKind::AfterTableAlias(sample)) = kind;
                    let value = sample.quantity.as_ref().map(|quantity| &quantity.value);
                    self.dialect == Dialect::Postgresql && value.is_none_or(|value| matches!(value, Expr::Value(_)))
                };
                if sample.as_ref().is_some_and(|kind| !is_plain(kind)) || !with_hints.is_empty() {
                    self.undecided("a sample of a relation, whose arguments are not followed");
                }
                let parts = table_name(self.dialect, name);
                if self.dialect == Dialect::Mariadb && matches!(parts.as_slice(), [one] if one.eq_ignore_ascii_case("dual")) {
                    return;
                }
                let common = if parts.len() == 1 { self.with.iter_mut().rev().find(|c| c.name == parts[0]) } else { None };
                let common = common.map(|common| {
                    common.used += 1;
                    (common.name.clone(), common.outputs.clone())
                });
                self.refers_to.extend(common.iter().map(|(name, _)| name.clone()));
                let mut source = match common {
                    Some((name, columns)) => Source::new(alias.as_ref().map_or(name, |a| self.fold(&a.name)), None, columns),
                    None => self.source_of(name, alias.as_ref().map(|a| &a.name), verb),
                };
                if let Some(alias) = alias.as_ref().filter(|a| !a.columns.is_empty()) {
                    if source.at.is_some() {
                        self.undecided("columns are renamed in FROM");
                    }
                    let renamed = Some(Arc::new(alias.columns.iter().map(|c| self.fold(&c.name)).collect()));
                    source = Source::new(source.alias, source.at, renamed);
                }
                self.see(source);
            }
            TableFactor::Table { name, alias, args: Some(args), .. } => {
                let call = Call { is_open: self.is_open, ..Call::of(table_name(self.dialect, name), args.args.len()) };
                args.args.iter().for_each(|a| self.argument(a));
                self.footprint.calls.push(call);
                let last = table_name(self.dialect, name).pop().unwrap_or_default();
                self.see(Source::new(alias.as_ref().map_or(last, |a| self.fold(&a.name)), None, None));
            }
            TableFactor::Derived { subquery, alias, lateral, .. } => {
                // Only a lateral subquery sees what stands beside it.
                let hidden = if *lateral { None } else { self.scopes.last_mut().map(std::mem::take) };
                self.is_locked = self.locked.has(&alias.as_ref().map_or("?".to_owned(), |a| self.fold(&a.name)));
                let reads_all = std::mem::take(&mut self.reads_all);
                self.may_be_unread = !reads_all;
                let outputs = self.query(subquery);
                self.reads_all = reads_all;
                if let (Some(hidden), Some(scope)) = (hidden, self.scopes.last_mut()) {
                    *scope = hidden;
                }
                let columns = match alias.as_ref().filter(|a| !a.columns.is_empty()) {
                    Some(alias) => Some(Arc::new(alias.columns.iter().map(|c| self.fold(&c.name)).collect())),
                    None => outputs,
                };
                let alias = alias.as_ref().map_or("?".to_owned(), |a| self.fold(&a.name));
                self.see(Source::new(alias, None, columns));
            }
            TableFactor::Function { name, args, alias, .. } => {
                let call = Call { is_open: self.is_open, ..Call::of(table_name(self.dialect, name), args.len()) };
                args.iter().for_each(|a| self.argument(a));
                self.footprint.calls.push(call);
                let alias = alias.as_ref().map_or("?".to_owned(), |a| self.fold(&a.name));
                self.see(Source::new(alias, None, None));
            }
            TableFactor::UNNEST { alias, array_exprs, .. } => {
                array_exprs.iter().for_each(|e| self.expr(e));
                let alias = alias.as_ref().map_or("unnest".to_owned(), |a| self.fold(&a.name));
                self.see(Source::new(alias, None, None));
            }
            TableFactor::NestedJoin { table_with_joins, .. } => self.joins(table_with_joins, verb),
            _ => self.undecided("a form of FROM that is not followed"),
        }
    }

    fn see(&mut self, source: Source) {
        if let Some(scope) = self.scopes.last_mut() {
            scope.push(source);
        }
    }
}

fn output_name(dialect: Dialect, expr: &Expr) -> String {
    match expr {
        Expr::Identifier(ident) => fold(dialect, ident),
        Expr::CompoundIdentifier(parts) => parts.last().map_or(String::new(), |i| fold(dialect, i)),
        Expr::Function(function) => table_name(dialect, &function.name).pop().unwrap_or_default(),
        Expr::Cast { expr, .. } | Expr::Nested(expr) => output_name(dialect, expr),
        _ => "?column?".to_owned(),
    }
}

/// Expressions
impl Walker<'_> {
    fn column(&mut self, alias: Option<&str>, column: &str) {
        for scope in (0..self.scopes.len()).rev() {
            let work = self.scopes[scope].iter().map(|s| if alias.is_none_or(|a| s.alias == a) { s.width() } else { 1 }).sum();
            if !self.spend(work) {
                return;
            }
            // The scope is looked at as a whole before anything is noted.
            let sources = std::mem::take(&mut self.scopes[scope]);
            let came = self.column_of(&sources, alias, column);
            self.scopes[scope] = sources;
            if came {
                return;
            }
        }
        let shown = alias.map_or(column.to_owned(), |a| format!("{a}.{column}"));
        if self.scopes.iter().flatten().any(|s| s.columns.is_none() && s.at.is_none()) {
            return self.undecided(format!("the column `{shown}` may come from something whose columns are not known"));
        }
        if self.in_body {
            return;
        }
        self.undecided(format!("no column is called `{shown}`"));
    }

    /// Looks a column up in one scope; returns whether the search ends there.
    fn column_of(&mut self, sources: &[Source], alias: Option<&str>, column: &str) -> bool {
        for source in sources.iter().filter(|s| alias.is_none_or(|a| s.alias == a)) {
            let columns = if alias.is_some() { &source.columns } else { &source.alone };
            let known = columns.as_ref().and_then(|l| l.iter().find(|c| self.same(c, column)).cloned());
            let is_system =
                self.dialect == Dialect::Postgresql && (alias.is_some() || sources.len() == 1) && SYSTEM_COLUMNS.contains(&column);
            match (known, source.at) {
                (Some(name), Some(at)) => {
                    self.select_column(at, &name);
                    return true;
                }
                (Some(_), None) => return true,
                (None, Some(at)) if is_system => {
                    self.select_column(at, column);
                    return true;
                }
                _ if source.columns.is_none() && source.at.is_none() && (alias.is_some() || sources.len() == 1) => return true,
                _ => {}
            }
        }
        // The name of a source alone is its whole row.
        if alias.is_none()
            && let Some(source) = sources.iter().find(|s| s.alias == column && !s.alias.is_empty())
            && self.dialect == Dialect::Postgresql
        {
            if let Some(at) = source.at {
                self.select_whole(at);
            }
            return true;
        }
        false
    }

    fn argument(&mut self, argument: &FunctionArg) {
        let (FunctionArg::Named { arg, .. } | FunctionArg::ExprNamed { arg, .. } | FunctionArg::Unnamed(arg)) = argument;
        match arg {
            FunctionArgExpr::Expr(expr) => self.expr(expr),
            FunctionArgExpr::QualifiedWildcard(name) => {
                let alias = table_name(self.dialect, name).pop().unwrap_or_default();
                self.column(None, &alias);
            }
            FunctionArgExpr::Wildcard => {}
            FunctionArgExpr::WildcardWithOptions(_) => self.undecided("a wildcard with options"),
        }
    }

    pub(crate) fn call(&mut self, function: &Function) {
        if self.dialect == Dialect::Mariadb && self.sequence(function) {
            return;
        }
        let mut call = Call::of(table_name(self.dialect, &function.name), 0);
        for arguments in [&function.parameters, &function.args] {
            match arguments {
                FunctionArguments::None => {}
                FunctionArguments::Subquery(query) => {
                    call.arguments += 1;
                    call.types.push(None);
                    call.plain.push(false);
                    self.query(query);
                }
                FunctionArguments::List(list) => {
                    call.arguments += list.args.len();
                    for argument in &list.args {
                        let FunctionArg::Unnamed(FunctionArgExpr::Expr(expr)) = argument else {
                            call.types.push(None);
                            call.plain.push(false);
                            continue;
                        };
                        call.types.push(self.type_of(expr));
                        call.plain.push(match expr {
                            Expr::Value(value) => match &value.value {
                                Value::Null | Value::Number(..) => true,
                                Value::SingleQuotedString(text) => !text.contains('.'),
                                _ => false,
                            },
                            // Who is signed in, and the like.
                            Expr::Function(function) if matches!(function.args, FunctionArguments::None) => {
                                let name = table_name(self.dialect, &function.name);
                                matches!(name.as_slice(), [one] if WORDS_FOR_VALUES.contains(&one.as_str()))
                            }
                            // The server's own number of something.
                            _ => matches!(call.types.last(), Some(Some(known)) if matches!(known.as_str(), "integer" | "bigint" | "oid")),
                        });
                    }
                    if let Some(FunctionArg::Unnamed(FunctionArgExpr::Expr(expr))) = list.args.first() {
                        call.text = text_of(expr);
                    }
                    let of_new_row = self.dialect == Dialect::Mariadb
                        && matches!(call.name.as_slice(), [name] if ["value", "values"].iter().any(|word| name.eq_ignore_ascii_case(word)));
                    match list.args.as_slice() {
                        // The name of a column, also where a variable is called so.
                        [FunctionArg::Unnamed(FunctionArgExpr::Expr(Expr::Identifier(ident)))] if of_new_row => {
                            self.column(None, &ident.value);
                        }
                        list => list.iter().for_each(|a| self.argument(a)),
                    }
                    for clause in &list.clauses {
                        match clause {
                            FunctionArgumentClause::OrderBy(list) => self.order(list),
                            FunctionArgumentClause::Where(expr) | FunctionArgumentClause::Limit(expr) => self.expr(expr),
                            FunctionArgumentClause::IgnoreOrRespectNulls(_) | FunctionArgumentClause::Separator(_) => {}
                            _ => self.undecided("a clause of a function call that is not followed"),
                        }
                    }
                }
            }
        }
        function.filter.iter().for_each(|e| self.expr(e));
        self.order(&function.within_group);
        if let Some(WindowType::WindowSpec(spec)) = &function.over {
            self.window(spec);
        }
        if self.dialect == Dialect::Mariadb && matches!(call.name.as_slice(), [name] if name.eq_ignore_ascii_case("default")) {
            return self.undecided("what the default of a column is made of that DEFAULT names");
        }
        call.is_open = self.is_open;
        self.footprint.calls.push(call);
    }

    /// On MariaDB a sequence is a relation that functions of its own read and go on with; whether a call is one of them.
    fn sequence(&mut self, function: &Function) -> bool {
        let name = table_name(self.dialect, &function.name);
        let [name] = name.as_slice() else { return false };
        let verbs: &[Verb] = match name.to_lowercase().as_str() {
            "nextval" => &[Verb::Select, Verb::Insert],
            "lastval" => &[Verb::Select],
            "setval" => &[Verb::Insert],
            _ => return false,
        };
        let FunctionArguments::List(list) = &function.args else { return false };
        let sequence = match list.args.first() {
            Some(FunctionArg::Unnamed(FunctionArgExpr::Expr(Expr::Identifier(ident)))) => vec![ident.clone()],
            Some(FunctionArg::Unnamed(FunctionArgExpr::Expr(Expr::CompoundIdentifier(parts)))) => parts.clone(),
            _ => return false,
        };
        if let Some((at, _)) = self.relation(&ObjectName::from(sequence), verbs[0]) {
            let whole = || Columns { whole: true, names: BTreeSet::new() };
            let used = &mut self.footprint.uses[at];
            used.verbs.extend(verbs);
            (used.selected, used.inserted) = (whole(), whole());
        }
        list.args.iter().skip(1).for_each(|argument| self.argument(argument));
        true
    }

    /// Returns the type of an expression where it is sure.
    fn type_of(&self, expr: &Expr) -> Option<String> {
        match expr {
            Expr::Nested(inner) | Expr::UnaryOp { op: UnaryOperator::Minus | UnaryOperator::Plus, expr: inner } => self.type_of(inner),
            Expr::Cast { data_type, .. } => Some(data_type.to_string().to_lowercase()),
            Expr::Value(value) => match &value.value {
                Value::Number(number, _) if number.parse::<i32>().is_ok() => Some("integer".to_owned()),
                Value::Number(number, _) if number.parse::<i64>().is_ok() => Some("bigint".to_owned()),
                Value::Number(..) => Some("numeric".to_owned()),
                Value::Boolean(_) => Some("boolean".to_owned()),
                _ => None,
            },
            Expr::Identifier(ident) => self.type_of_column(None, &self.fold(ident)),
            Expr::CompoundIdentifier(parts) => match parts.as_slice() {
                [.., alias, column] => self.type_of_column(Some(&self.fold(alias)), &self.fold(column)),
                _ => None,
            },
            _ => None,
        }
    }

    fn type_of_column(&self, alias: Option<&str>, column: &str) -> Option<String> {
        let scope = self.scopes.last()?;
        let has = |source: &&Source| {
            alias.is_none_or(|alias| source.alias == alias)
                && source.columns.as_ref().is_none_or(|list| list.iter().any(|known| self.same(known, column)))
        };
        let mut found = scope.iter().filter(has);
        let (source, None) = (found.next()?, found.next()) else { return None };
        self.names.column_type(self.footprint.uses[source.at?].relation, column)
    }

    fn window(&mut self, spec: &WindowSpec) {
        spec.partition_by.iter().for_each(|e| self.expr(e));
        self.order(&spec.order_by);
        for bound in spec.window_frame.iter().flat_map(|f| std::iter::once(&f.start_bound).chain(&f.end_bound)) {
            if let WindowFrameBound::Preceding(Some(e)) | WindowFrameBound::Following(Some(e)) = bound {
                self.expr(e);
            }
        }
    }

    fn cast(&mut self, data_type: &DataType, text: Option<&str>) {
        if let Err(why) = self.names.cast(data_type, text) {
            self.undecided(&why);
        }
    }

    /// Walks an expression; however deep it is, the stack was made for its text.
    pub(crate) fn expr(&mut self, expr: &Expr) {
        match expr {
            Expr::Cast { kind: CastKind::DoubleColon, .. } | Expr::ILike { .. } if self.dialect == Dialect::Mariadb => {
                self.undecided("an expression of another dialect");
            }
            Expr::Identifier(ident) => {
                let name = self.fold(ident);
                // A variable, the word for a default, or one that reads like a function, not a column.
                let is_word =
                    self.dialect == Dialect::Postgresql && ident.quote_style.is_none() && WORDS_FOR_VALUES.contains(&name.as_str());
                let is_variable = self.dialect == Dialect::Mariadb
                    && (name.starts_with('@') || ident.quote_style.is_none() && VALUES_OF_MARIADB.contains(&name.to_lowercase().as_str()));
                let is_given = !self.given.is_empty() && self.given.contains(&self.key(&name));
                if !(is_default(expr) || is_word || is_variable || is_given || self.names.variable(None, &name)) {
                    self.column(None, &name);
                }
            }
            Expr::CompoundIdentifier(parts) => {
                let names: Vec<String> = parts.iter().map(|i| self.fold(i)).collect();
                match names.as_slice() {
                    // A setting of the server, which everybody may see.
                    [first, ..] if self.dialect == Dialect::Mariadb && first.starts_with("@@") => {}
                    [row, field] if self.names.variable(Some(row), field) => {}
                    [.., alias, column] => self.column(Some(alias), column),
                    _ => self.undecided("a name that is not followed"),
                }
            }
            Expr::IsFalse(e)
            | Expr::IsNotFalse(e)
            | Expr::IsTrue(e)
            | Expr::IsNotTrue(e)
            | Expr::IsNull(e)
            | Expr::IsNotNull(e)
            | Expr::IsUnknown(e)
            | Expr::IsNotUnknown(e)
            | Expr::Nested(e)
            | Expr::UnaryOp { expr: e, .. }
            | Expr::Extract { expr: e, .. }
            | Expr::Ceil { expr: e, .. }
            | Expr::Floor { expr: e, .. }
            | Expr::Prefixed { value: e, .. }
            | Expr::Named { expr: e, .. }
            | Expr::IsJson { expr: e, .. }
            | Expr::IsNormalized { expr: e, .. } => self.expr(e),
            Expr::Convert { expr: e, styles, data_type, .. } => {
                self.expr(e);
                data_type.iter().for_each(|t| self.cast(t, None));
                styles.iter().for_each(|e| self.expr(e));
            }
            Expr::IsDistinctFrom(a, b) | Expr::IsNotDistinctFrom(a, b) => [a, b].into_iter().for_each(|e| self.expr(e)),
            Expr::Collate { expr: e, collation } => {
                self.expr(e);
                self.names.in_schema(&table_name(self.dialect, collation));
            }
            Expr::BinaryOp { left, op, right }
            | Expr::AnyOp { left, compare_op: op, right, .. }
            | Expr::AllOp { left, compare_op: op, right } => {
                self.expr(left);
                self.expr(right);
                if let BinaryOperator::PGCustomBinaryOperator(name) = op {
                    self.names.in_schema(name);
                }
            }
            Expr::In { expr, target, .. } => {
                self.expr(expr);
                match target {
                    InTarget::List(list) => list.iter().for_each(|e| self.expr(e)),
                    InTarget::Subquery(query) => {
                        self.query(query);
                    }
                    InTarget::Unnest(e) => self.expr(e),
                    InTarget::Table { .. } => self.undecided("IN with a table"),
                }
            }
            Expr::Between { expr, low, high, .. } => [expr, low, high].into_iter().for_each(|e| self.expr(e)),
            Expr::Like { expr, pattern, escape_char, .. }
            | Expr::ILike { expr, pattern, escape_char, .. }
            | Expr::SimilarTo { expr, pattern, escape_char, .. } => {
                self.expr(expr);
                self.expr(pattern);
                escape_char.iter().for_each(|e| self.expr(e));
            }
            Expr::RLike { expr, pattern, .. } => {
                self.expr(expr);
                self.expr(pattern);
            }
            Expr::AtTimeZone { timestamp, time_zone } => {
                self.expr(timestamp);
                self.expr(time_zone);
            }
            Expr::Position { expr, r#in } => {
                self.expr(expr);
                self.expr(r#in);
            }
            Expr::Substring { expr, substring_from, substring_for, .. } => {
                self.expr(expr);
                substring_from.iter().chain(substring_for).for_each(|e| self.expr(e));
            }
            Expr::Trim { expr, trim_what, trim_characters, .. } => {
                self.expr(expr);
                trim_what.iter().for_each(|e| self.expr(e));
                trim_characters.iter().flatten().for_each(|e| self.expr(e));
            }
            Expr::Overlay { expr, overlay_what, overlay_from, overlay_for } => {
                [expr, overlay_what, overlay_from].into_iter().for_each(|e| self.expr(e));
                overlay_for.iter().for_each(|e| self.expr(e));
            }
            Expr::Cast { expr: e, data_type, .. } => {
                self.expr(e);
                // A number of the server's own is turned into the name that it has.
                let is_number = matches!(&**e, Expr::Identifier(name) if name.quote_style.is_none() && name.value.eq_ignore_ascii_case("tableoid"))
                    || matches!(&**e, Expr::CompoundIdentifier(parts) if parts.last().is_some_and(|name| name.value.eq_ignore_ascii_case("tableoid")));
                if !is_number || *data_type != DataType::Regclass {
                    self.cast(data_type, text_of(e).as_deref());
                }
            }
            Expr::TypedString(typed) => {
                let text = match &typed.value.value {
                    Value::SingleQuotedString(text) => Some(text.clone()),
                    _ => None,
                };
                self.cast(&typed.data_type, text.as_deref());
            }
            Expr::Value(_) | Expr::Wildcard(_) => {}
            Expr::Function(function) => {
                let is_of_one_row = || function.over.is_none() && self.names.is_of_one_row(&table_name(self.dialect, &function.name));
                let hidden = if self.given.is_empty() || is_of_one_row() { None } else { Some(std::mem::take(&mut self.given)) };
                self.call(function);
                if let Some(given) = hidden {
                    self.given = given;
                }
            }
            Expr::Case { operand, conditions, else_result, .. } => {
                operand.iter().chain(else_result).for_each(|e| self.expr(e));
                for when in conditions {
                    self.expr(&when.condition);
                    self.expr(&when.result);
                }
            }
            Expr::Exists { subquery, negated: _ } => {
                self.is_only_found = self.dialect == Dialect::Mariadb;
                self.may_be_unread = true;
                self.query(subquery);
            }
            Expr::Subquery(subquery) => {
                self.query(subquery);
            }
            Expr::GroupingSets(sets) | Expr::Cube(sets) | Expr::Rollup(sets) => sets.iter().flatten().for_each(|e| self.expr(e)),
            Expr::Tuple(list) => list.iter().for_each(|e| self.expr(e)),
            Expr::Array(array) => array.elem.iter().for_each(|e| self.expr(e)),
            Expr::Interval(interval) => self.expr(&interval.value),
            Expr::CompoundFieldAccess { root, access_chain } => {
                self.expr(root);
                for access in access_chain {
                    match access {
                        AccessExpr::Subscript(Subscript::Index { index }) => self.expr(index),
                        AccessExpr::Subscript(Subscript::Slice { lower_bound, upper_bound, stride }) => {
                            lower_bound.iter().chain(upper_bound).chain(stride).for_each(|e| self.expr(e));
                        }
                        AccessExpr::Dot(_) => {}
                    }
                }
            }
            Expr::QualifiedWildcard(name, _) => {
                let alias = table_name(self.dialect, name).pop().unwrap_or_default();
                self.column(None, &alias);
            }
            Expr::MatchAgainst { columns, .. } => {
                for column in columns {
                    let parts = table_name(self.dialect, column);
                    if let Some(name) = parts.last() {
                        self.column(parts.len().checked_sub(2).map(|i| parts[i].as_str()), name);
                    }
                }
            }
            _ => self.undecided("an expression that is not followed"),
        }
    }
}

/// Words of SQL that stand for a value of the session, which the parser takes for names.
pub(crate) const WORDS_FOR_VALUES: &[&str] = &["current_catalog", "current_role", "current_schema", "current_user", "session_user", "user"];

/// The rows of a query that is nothing else.
fn only_rows(query: &Query) -> Option<&[sqlparser::ast::Parens<Vec<Expr>>]> {
    let SetExpr::Values(values) = &*query.body else { return None };
    let is_bare =
        query.with.is_none() && query.order_by.is_none() && query.limit_clause.is_none() && query.fetch.is_none() && query.locks.is_empty();
    is_bare.then_some(&values.rows)
}

/// Whether an expression is the word `DEFAULT`, which names the default of a column.
fn is_default(expr: &Expr) -> bool {
    matches!(expr, Expr::Identifier(ident) if ident.quote_style.is_none() && ident.value.eq_ignore_ascii_case("default"))
}

fn text_of(expr: &Expr) -> Option<String> {
    match expr {
        Expr::Value(value) => match &value.value {
            Value::SingleQuotedString(text) => Some(text.clone()),
            _ => None,
        },
        Expr::Cast { expr, .. } | Expr::Nested(expr) => text_of(expr),
        _ => None,
    }
}

/// Statements that change rows
impl Walker<'_> {
    /// Walks a query or a statement that changes rows; returns the output columns. Others are undecided.
    pub(crate) fn statement(&mut self, statement: &Statement) -> Outputs {
        match statement {
            Statement::Query(query) => self.query(query),
            Statement::Insert(insert) => self.insert(insert),
            Statement::Update(update) => self.update(update),
            Statement::Delete(delete) => self.delete(delete),
            Statement::Merge(merge) => self.merge(merge),
            _ => {
                self.undecided("a statement that is not followed");
                None
            }
        }
    }

    fn returning(&mut self, items: Option<&Vec<SelectItem>>) -> Outputs {
        let named = items.into_iter().flatten().map(|item| self.item(item)).collect();
        self.all_together(named)
    }

    fn insert(&mut self, insert: &Insert) -> Outputs {
        let TableObject::TableName(name) = &insert.table else {
            self.undecided("INSERT into something that is no table");
            return None;
        };
        let alias = insert.table_alias.as_ref().map(|a| &a.alias);
        let target = self.source_of(name, alias, Verb::Insert);
        let columns = target.columns.clone().unwrap_or_default();
        let rows_of_mariadb = insert.source.as_ref().filter(|_| self.dialect == Dialect::Mariadb).and_then(|query| only_rows(query));
        let mut given = match rows_of_mariadb {
            Some(rows) => {
                rows.iter().enumerate().for_each(|(turn, row)| self.new_row(&target, turn, row.content.iter()));
                rows.first().map(|row| Some(Arc::new(row.content.iter().map(|_| String::new()).collect())))
            }
            None => insert.source.as_ref().map(|query| self.query(query)),
        };
        if !insert.assignments.is_empty() {
            self.new_row(&target, 0, insert.assignments.iter().map(|a| &a.value));
            given = Some(Some(Arc::new(insert.assignments.iter().map(|_| String::new()).collect())));
        }
        if let Some(at) = target.at {
            let listed: Vec<String> = if insert.assignments.is_empty() {
                insert.columns.iter().filter_map(|c| table_name(self.dialect, c).pop()).collect()
            } else {
                insert.assignments.iter().flat_map(|a| self.targets(a)).collect()
            };
            let set: Vec<String> = match (listed.is_empty(), given) {
                (false, _) => self.known(&columns, &listed),
                (true, None) => Vec::new(),
                // `VALUES ()` gives every column its default.
                (true, Some(Some(outputs))) if self.dialect == Dialect::Mariadb && outputs.is_empty() => Vec::new(),
                (true, Some(_)) if self.dialect == Dialect::Mariadb => columns.to_vec(),
                (true, Some(Some(outputs))) => columns.iter().take(outputs.len()).cloned().collect(),
                (true, Some(None)) => {
                    self.undecided("how many columns are inserted");
                    columns.to_vec()
                }
            };
            let rows = match insert.source.as_ref().map(|query| &*query.body) {
                Some(SetExpr::Values(values)) => values.rows.iter().map(|row| row.content.as_slice()).collect(),
                _ => Vec::new(),
            };
            let word = |row: &[Expr]| -> Vec<String> {
                row.iter().zip(&set).filter(|(value, _)| is_default(value)).map(|(_, column)| column.clone()).collect()
            };
            let defaulted: Vec<String> = rows.into_iter().flat_map(word).collect();
            self.footprint.uses[at].defaulted.extend(defaulted);
            self.footprint.uses[at].inserted.names.extend(set);
            if insert.replace_into {
                self.footprint.uses[at].verbs.insert(Verb::Delete);
            }
        }
        match &insert.on {
            Some(OnInsert::DuplicateKeyUpdate(list)) => {
                // MariaDB 10.11 asks for UPDATE on the columns that are inserted, and for SELECT on those that are assigned.
                self.scopes.push(vec![target.clone()]);
                for assignment in list {
                    self.expr(&assignment.value);
                    self.targets(assignment).iter().for_each(|c| self.column(Some(&target.alias), c));
                }
                if let Some(at) = target.at {
                    let used = &mut self.footprint.uses[at];
                    used.verbs.insert(Verb::Update);
                    used.updated = used.inserted.clone();
                }
                self.scopes.pop();
            }
            Some(OnInsert::OnConflict(conflict)) => {
                let excluded = Source::new("excluded".to_owned(), target.at, target.columns.clone());
                // The target stands first: a column without a table is one of its.
                self.scopes.push(vec![target.clone(), excluded]);
                match &conflict.conflict_target {
                    Some(ConflictTarget::Columns { columns, predicate }) => {
                        for column in columns {
                            let name = self.fold(column);
                            self.column(Some(&target.alias), &name);
                        }
                        predicate.iter().for_each(|e| self.expr(e));
                    }
                    Some(ConflictTarget::OnConstraint(_)) => self.undecided("which columns the constraint has"),
                    None => {}
                }
                if let OnConflictAction::DoUpdate(update) = &conflict.action {
                    self.assign(&target, &update.assignments);
                    update.selection.iter().for_each(|e| self.expr(e));
                }
                self.scopes.pop();
            }
            Some(_) => self.undecided("a clause of INSERT that is not followed"),
            None => {}
        }
        let at_target = target.at;
        self.scopes.push(vec![target]);
        // What comes back is looked at by itself for a moment, to know which columns those are.
        let is_looked_at_both_ways = self.dialect == Dialect::Mariadb && insert.returning.is_some();
        let read = at_target.filter(|_| is_looked_at_both_ways).map(|at| std::mem::take(&mut self.footprint.uses[at].selected));
        let outputs = self.returning(insert.returning.as_ref());
        if let Some((at, read)) = at_target.zip(read) {
            // MariaDB 10.11 asks for INSERT and for SELECT on all columns that are named and on all that come back.
            let names_columns = !(insert.columns.is_empty() && insert.assignments.is_empty());
            let used = &mut self.footprint.uses[at];
            used.inserted.add(&used.selected);
            if names_columns {
                used.selected = used.inserted.clone();
            }
            used.selected.add(&read);
            used.verbs.insert(Verb::Select);
            if used.verbs.contains(&Verb::Update) {
                used.updated.add(&used.inserted);
            }
        }
        self.scopes.pop();
        outputs
    }

    /// The values of one new row, which on MariaDB may name columns of the table: in the first row they are asked for as those that are
    /// inserted, in the others as those that are read.
    fn new_row<'e>(&mut self, target: &Source, turn: usize, values: impl Iterator<Item = &'e Expr>) {
        self.scopes.push(vec![target.clone()]);
        values.for_each(|value| self.expr(value));
        self.scopes.pop();
        if let Some(at) = target.at.filter(|_| turn == 0) {
            let used = &mut self.footprint.uses[at];
            let named = std::mem::take(&mut used.selected);
            used.inserted.add(&named);
            used.verbs.remove(&Verb::Select);
        }
    }

    fn targets(&self, assignment: &Assignment) -> Vec<String> {
        match &assignment.target {
            AssignmentTarget::ColumnName(name) => table_name(self.dialect, name).pop().into_iter().collect(),
            AssignmentTarget::Tuple(names) => names.iter().filter_map(|n| table_name(self.dialect, n).pop()).collect(),
        }
    }

    /// Finds columns by name; those that are not there are undecided.
    fn known(&mut self, columns: &[String], wanted: &[String]) -> Vec<String> {
        let mut list = Vec::new();
        for name in wanted {
            match columns.iter().find(|c| self.same(c, name)) {
                Some(column) => list.push(column.clone()),
                None => self.undecided(format!("no column is called `{name}`")),
            }
        }
        list
    }

    fn assign(&mut self, target: &Source, list: &[Assignment]) {
        for assignment in list {
            self.expr(&assignment.value);
            let names = self.targets(assignment);
            let Some(at) = target.at else { continue };
            let columns = target.columns.clone().unwrap_or_default();
            let known = self.known(&columns, &names);
            if is_default(&assignment.value) {
                self.footprint.uses[at].defaulted.extend(known.iter().cloned());
            }
            self.footprint.uses[at].verbs.insert(Verb::Update);
            self.footprint.uses[at].updated.names.extend(known);
        }
    }

    fn update(&mut self, update: &Update) -> Outputs {
        self.scopes.push(Vec::new());
        if self.dialect == Dialect::Mariadb {
            // Several tables may be named; those are changed whose columns are assigned. Which rights the others need is
            // not the same as for a query.
            self.joins(&update.table, Verb::Select);
            for source in self.scopes.last().cloned().unwrap_or_default() {
                if let Some(at) = source.at {
                    self.footprint.uses[at].verbs.remove(&Verb::Select);
                }
            }
            for assignment in &update.assignments {
                self.expr(&assignment.value);
                let AssignmentTarget::ColumnName(name) = &assignment.target else { continue };
                let parts = table_name(self.dialect, name);
                let Some(column) = parts.last().cloned() else { continue };
                let alias = parts.len().checked_sub(2).map(|i| parts[i].clone());
                let scope = self.scopes.last().cloned().unwrap_or_default();
                let fits = |s: &&Source| {
                    let columns = if alias.is_some() { &s.columns } else { &s.alone };
                    alias.as_ref().is_none_or(|a| *a == s.alias)
                        && columns.as_ref().is_some_and(|l| l.iter().any(|c| c.eq_ignore_ascii_case(&column)))
                };
                let found = scope.iter().find(fits).and_then(|s| Some((s.at?, s.columns.clone()?)));
                match found {
                    Some((at, columns)) => {
                        let known = self.known(&columns, &[column]);
                        self.footprint.uses[at].verbs.insert(Verb::Update);
                        self.footprint.uses[at].updated.names.extend(known);
                    }
                    None => self.undecided(format!("no column is called `{column}`")),
                }
            }
        } else {
            self.factor(&update.table.relation, Verb::Update);
            let target = self.scopes.last().and_then(|s| s.first()).cloned();
            if let Some(UpdateTableFromKind::AfterSet(list) | UpdateTableFromKind::BeforeSet(list)) = &update.from {
                list.iter().for_each(|item| self.joins(item, Verb::Select));
            }
            match target {
                Some(target) => self.assign(&target, &update.assignments),
                None => self.undecided("what is updated"),
            }
        }
        update.selection.iter().for_each(|e| self.expr(e));
        if self.dialect == Dialect::Mariadb {
            // Of those that are not changed, something must be open for reading.
            for at in self.scopes.last().into_iter().flatten().filter_map(|source| source.at) {
                let used = &mut self.footprint.uses[at];
                if used.verbs.is_empty() {
                    used.verbs.insert(Verb::Select);
                }
            }
        }
        self.order(&update.order_by);
        let outputs = self.returning(update.returning.as_ref());
        self.scopes.pop();
        outputs
    }

    fn delete(&mut self, delete: &Delete) -> Outputs {
        let (FromTable::WithFromKeyword(from) | FromTable::WithoutKeyword(from)) = &delete.from;
        self.scopes.push(Vec::new());
        if delete.tables.is_empty() && delete.using.is_none() || self.dialect == Dialect::Postgresql {
            from.iter().for_each(|item| self.joins(item, Verb::Delete));
            delete.using.iter().flatten().for_each(|item| self.joins(item, Verb::Select));
        } else {
            // DELETE a FROM a JOIN b, or DELETE FROM a USING a JOIN b: all are read.
            let (names, sources) = match &delete.using {
                Some(using) => {
                    let named = from
                        .iter()
                        .filter_map(|f| if let TableFactor::Table { name, .. } = &f.relation { Some(name.clone()) } else { None });
                    (named.collect(), using)
                }
                None => (delete.tables.clone(), from),
            };
            sources.iter().for_each(|item| self.joins(item, Verb::Select));
            let scope = self.scopes.last().cloned().unwrap_or_default();
            for name in names {
                let alias = table_name(self.dialect, &name).pop().unwrap_or_default();
                match scope.iter().find(|s| s.alias == alias).and_then(|s| s.at) {
                    Some(at) => {
                        self.footprint.uses[at].verbs.insert(Verb::Delete);
                    }
                    None => self.undecided(format!("nothing is called `{alias}`")),
                }
            }
        }
        delete.selection.iter().for_each(|e| self.expr(e));
        self.order(&delete.order_by);
        let outputs = self.returning(delete.returning.as_ref());
        self.scopes.pop();
        outputs
    }

    fn merge(&mut self, merge: &Merge) -> Outputs {
        let TableFactor::Table { name, alias, .. } = &merge.table else {
            self.undecided("MERGE into something that is no table");
            return None;
        };
        let target = self.source_of(name, alias.as_ref().map(|a| &a.name), Verb::Select);
        if let Some(at) = target.at {
            self.footprint.uses[at].verbs.clear();
        }
        self.scopes.push(vec![target.clone()]);
        self.factor(&merge.source, Verb::Select);
        self.expr(&merge.on);
        for clause in &merge.clauses {
            // Where no row of the target matches, none is seen.
            let hidden = match clause.clause_kind {
                MergeClauseKind::NotMatched | MergeClauseKind::NotMatchedByTarget => self.scopes.last_mut().map(|scope| scope.remove(0)),
                MergeClauseKind::Matched | MergeClauseKind::NotMatchedBySource => None,
            };
            clause.predicate.iter().for_each(|e| self.expr(e));
            match &clause.action {
                MergeAction::Insert(insert) => {
                    let columns = target.columns.clone().unwrap_or_default();
                    let listed: Vec<String> = insert.columns.iter().filter_map(|c| table_name(self.dialect, c).pop()).collect();
                    let is_all_defaults = |row: &[Expr]| matches!(row, [Expr::Identifier(ident)] if ident.value == ALL_DEFAULTS);
                    let has_none =
                        matches!(&insert.kind, MergeInsertKind::Values(values) if values.rows.iter().any(|r| is_all_defaults(&r.content)));
                    let set = match () {
                        () if has_none => Vec::new(),
                        () if listed.is_empty() => columns.to_vec(),
                        () => self.known(&columns, &listed),
                    };
                    if let Some(at) = target.at {
                        self.footprint.uses[at].verbs.insert(Verb::Insert);
                        self.footprint.uses[at].inserted.names.extend(set.iter().cloned());
                    }
                    match &insert.kind {
                        MergeInsertKind::Values(values) => {
                            let defaulted: Vec<String> = values
                                .rows
                                .iter()
                                .flat_map(|row| row.content.iter().zip(&set))
                                .filter(|(value, _)| is_default(value))
                                .map(|(_, column)| column.clone())
                                .collect();
                            if let Some(at) = target.at {
                                self.footprint.uses[at].defaulted.extend(defaulted);
                            }
                            if !has_none {
                                values.rows.iter().flat_map(|r| &r.content).for_each(|e| self.expr(e));
                            }
                        }
                        _ => self.undecided("a form of MERGE that is not followed"),
                    }
                }
                MergeAction::Update(update) => match &update.kind {
                    MergeUpdateKind::Set(list) => self.assign(&target, list),
                    MergeUpdateKind::Wildcard => self.undecided("a form of MERGE that is not followed"),
                },
                MergeAction::Delete { .. } => {
                    if let Some(at) = target.at {
                        self.footprint.uses[at].verbs.insert(Verb::Delete);
                    }
                }
                MergeAction::DoNothing { .. } => {
                    // The server wants to see something of the table even there.
                    if let Some(at) = target.at {
                        self.footprint.uses[at].verbs.insert(Verb::Select);
                    }
                }
            }
            if let (Some(hidden), Some(scope)) = (hidden, self.scopes.last_mut()) {
                scope.insert(0, hidden);
            }
        }
        self.scopes.pop();
        Some(Arc::default())
    }
}
