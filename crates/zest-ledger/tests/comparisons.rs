//! Comparisons of attributes: every relation at its boundary, both ways round, and what never holds together.

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::finding::Code;
use zest_ledger::{Engine, Ledger, Question};

use crate::support::{ask, outcome};

fn ledger(comparisons: &[&str]) -> Ledger {
    let list = comparisons.iter().map(|c| format!("{c:?}")).collect::<Vec<_>>().join(", ");
    Ledger::new().document(
        "c.toml",
        &format!(
            "[users]\na-1 = {{ proofs = [\"password\"], attributes = {{ grade = \"5\", pier = \"selkie\" }} }}\n[systems.app]\nkind = \"application\"\n\
             [applications.app]\nsession-attributes = [\"amount\", \"note\"]\n[applications.app.types.box]\nrights = [\"open\"]\n\
             [applications.app.objects]\n\"box/selkie\" = {{ attributes = {{ size = \"5\", name = \"other\" }} }}\n\
             [[applications.app.grants]]\nallow = [\"open\"]\non = \"box/*\"\nto = [\"user:a-1\"]\nwhen = {{ compare = [{list}] }}\n"
        ),
    )
}

fn compiled(comparison: &str) -> Engine {
    Engine::compile(ledger(&[comparison]).estate().unwrap_or_else(|f| panic!("{f}"))).unwrap_or_else(|f| panic!("{f}"))
}

fn amount(text: &str) -> Question {
    Question::new("a-1", "app", "open on box/selkie").attribute("amount", text)
}

#[test]
fn every_relation_holds_up_to_its_boundary_and_not_beyond() {
    // The comparison, and for which of 4, 5 and 6 it holds.
    let table = [
        ("session.amount = '5'", [false, true, false]),
        ("session.amount != '5'", [true, false, true]),
        ("session.amount < 5", [true, false, false]),
        ("session.amount <= 5", [true, true, false]),
        ("session.amount > 5", [false, false, true]),
        ("session.amount >= 5", [false, true, true]),
        ("5 < session.amount", [false, false, true]),
        ("5 <= session.amount", [false, true, true]),
        ("5 > session.amount", [true, false, false]),
        ("5 >= session.amount", [true, true, false]),
        ("session.amount = user.grade", [false, true, false]),
        ("session.amount < user.grade", [true, false, false]),
        ("session.amount > resource.size", [false, false, true]),
    ];
    for (comparison, wanted) in table {
        let engine = compiled(comparison);
        for (value, holds) in ["4", "5", "6"].into_iter().zip(wanted) {
            let wanted = if holds { Ok(Verdict::Allowed) } else { Err(Refusal::AttributesDiffer) };
            assert_eq!(outcome(&ask(&engine, &amount(value))), wanted, "{comparison} with {value}");
        }
        let nothing = ask(&engine, &Question::new("a-1", "app", "open on box/selkie"));
        assert_eq!(outcome(&nothing), Err(Refusal::NotStated), "{comparison} with nothing");
    }
}

#[test]
fn what_is_no_number_is_not_compared_as_one() {
    for value in ["five", "5.0", "", "0x5", "5 "] {
        assert!(outcome(&ask(&compiled("session.amount < 9"), &amount(value))).is_err(), "{value}");
        assert!(outcome(&ask(&compiled("session.amount > 1"), &amount(value))).is_err(), "{value}");
    }
}

#[test]
fn a_resource_has_a_name_and_a_path_of_its_own() {
    let open = Question::new("a-1", "app", "open on box/selkie");
    for (comparison, holds) in [
        ("user.pier = resource.name", true),
        ("resource.path = 'box/selkie'", true),
        ("resource.name = 'other'", false),
        ("user.id = 'a-1'", true),
        ("user.id = 'b-1'", false),
    ] {
        let wanted = if holds { Ok(Verdict::Allowed) } else { Err(Refusal::AttributesDiffer) };
        assert_eq!(outcome(&ask(&compiled(comparison), &open)), wanted, "{comparison}");
    }
}

#[test]
fn a_sign_inside_of_quotes_is_text() {
    let engine = compiled("session.note = 'a<=b \"c\" != d'");
    let note = |text: &str| Question::new("a-1", "app", "open on box/selkie").attribute("note", text);
    assert_eq!(outcome(&ask(&engine, &note("a<=b \"c\" != d"))), Ok(Verdict::Allowed));
    assert_eq!(outcome(&ask(&engine, &note("a"))), Err(Refusal::AttributesDiffer));
    let turned = compiled("'a<=b' = session.note");
    assert_eq!(outcome(&ask(&turned, &note("a<=b"))), Ok(Verdict::Allowed));
}

#[test]
fn a_refusal_shows_the_comparison_as_it_is_written() {
    for comparison in ["session.amount < '5'", "session.amount >= '5'", "session.amount != '5'", "session.amount > user.grade"] {
        let value = if comparison.contains('<') || comparison.contains("!=") || comparison.contains("user") { "5" } else { "4" };
        let answer = ask(&compiled(comparison), &amount(value));
        let text = answer.first_refusal().map_or("", |g| &g.text);
        assert!(text.contains(comparison), "{comparison}: {text}");
    }
}

#[test]
fn two_that_never_hold_together_are_found_and_two_that_may_are_not() {
    let table = [
        (["session.amount = '1'", "session.amount = '2'"], true),
        (["session.amount = '1'", "session.amount = '1'"], false),
        (["session.amount = '1'", "session.amount != '1'"], true),
        (["session.amount != '1'", "session.amount = '2'"], false),
        (["session.amount < 5", "session.amount > 5"], true),
        (["session.amount < 5", "session.amount >= 5"], true),
        (["session.amount <= 5", "session.amount >= 5"], false),
        (["session.amount <= 5", "session.amount > 5"], true),
        (["session.amount <= 5", "session.amount >= 3"], false),
        (["session.amount <= 5", "session.amount = '4'"], false),
        (["session.amount >= 5", "session.amount = '6'"], false),
        (["session.amount > 1", "session.amount < 3"], false),
        (["session.amount > 1", "session.amount < 2"], true),
        (["3 < session.amount", "session.amount < 4"], true),
        (["3 <= session.amount", "session.amount < 4"], false),
        (["5 > session.amount", "5 < session.amount"], true),
        (["5 >= session.amount", "5 <= session.amount"], false),
        (["session.amount = '5'", "session.amount < 5"], true),
        (["session.amount = '5'", "session.amount <= 5"], false),
        (["session.amount < 5", "session.note > 5"], false),
        (["session.amount != '5'", "session.amount < 5"], false),
    ];
    for (pair, never) in table {
        let validated = ledger(&pair).validate();
        let found = validated.findings.list().iter().any(|f| f.code == Code::ImpossibleCondition);
        assert_eq!(found, never, "{pair:?}: {}", validated.findings);
    }
    for (alone, never) in [("user.grade < user.grade", true), ("user.grade <= user.grade", false)] {
        let validated = ledger(&[alone]).validate();
        assert_eq!(validated.findings.list().iter().any(|f| f.code == Code::ImpossibleCondition), never, "{alone}");
    }
}
