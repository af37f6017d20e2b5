//! Ways on the demo with defects: nobody meant the help desk to come to root.

use std::fmt::Write as _;

use serde_json::Value;
use zest_testkit::pages::same_as_file;

use crate::support::{zest, zest_with};

const ROOT: &str = "ways --on tide-runner --acting account:root --ledger demo/with-defects";

#[test]
fn ways_to_the_top_are_found_in_three_and_four_steps() {
    let ran = zest(&format!("{ROOT} --cuts /bin/bash"));
    assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
    for part in [
        "tech-1 in 2 steps",
        "rota-1 in 3 steps",
        "desk-1 in 4 steps",
        "zest ask desk-1 --on roster reset-credential on user/rota-1",
        "so: signs in as `rota-1`",
        "--acting account:root",
        "without the rule `allow /bin/bash ...` of `shells` (ways.toml:34), 0 of 4",
    ] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    let json = zest(&format!("{ROOT} --of desk-1 --format json /bin/bash"));
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    let steps = found["ways"][0]["steps"].as_array().expect("a list");
    assert_eq!(steps.len(), 4);
    // The first step is a question of the ledger as it is.
    let asked = zest_with(&["ask", "--batch", "--ledger", "demo/with-defects"], format!("{}\n", steps[0]["question"]).as_bytes());
    assert!(asked.out.contains("\"verdict\":\"allowed\""), "{}", asked.out);
    let none = zest(&format!("{ROOT} --of watch-1 /bin/bash"));
    assert!(none.status == 1 && none.out.contains("0 of 1 person could get there"), "{}{}", none.out, none.err);
}

#[test]
fn what_cannot_be_got_at_is_said() {
    for (line, part) in [
        ("ways --of nobody", "no user is named `nobody`"),
        ("ways --to user:desk-11", "no user is named `desk-11`; did you mean `desk-1`?"),
        ("ways --to group:tide", "no group is named `tide`"),
        ("ways --to fleet", "nothing to get at"),
        ("ways --on nowhere show log", "no system is named `nowhere`"),
        ("ways", "required"),
        ("ways --of desk-1 --from 192.0.2.1", "state --on"),
        ("ways --like x", "--on"),
    ] {
        let ran = zest(
            &format!("{line} --ledger demo/with-defects")
                .replace("show log --ledger demo/with-defects", "--ledger demo/with-defects show log"),
        );
        assert!(ran.status == 2 && ran.err.contains(part), "{line}: {}\n{}{}", ran.status, ran.out, ran.err);
    }
}

#[test]
fn the_page_of_ways_is_what_the_program_prints() {
    let mut page = String::from(
        "# Ways\n\nThe surprise is always a chain: the help desk may reset the password of whoever says who keeps the tides, and they may edit the job whose\naccount runs a shell as root. `zest ways` finds by which acts somebody could come to more than was given, shortest first. A test writes this\npage (`ZEST_REWRITE=1`).\n\n| act | what it gives |\n|---|---|\n| `reset-credential on user/X` | to sign in as X, where X proves identity by password |\n| `change-members on group/G`, owning G | to be in G |\n| `edit-job on job/J` on a host | to run anything as the account of the job, and what that account may run as others |\n| writing to a folder (`writable-by` of a host) from which a job or a rule of running as another account runs something | the same, as that account |\n| `edit-role on role/R` | whatever a role can give, and being one whom it admits, for whoever holds it |\n| `edit-command-set on command-set/C` | every line, where the set counts |\n| `grant-on on P` | anything on P and below it |\n| `read-secret on secret/S` | to sign in as the user or account whose credential it is, where the secret says so (`opens`) |\n| `GRANT ROLE` on a database server | the role, for an account of one's own |\n| `ALTER ROLE … PASSWORD`, `ALTER USER … IDENTIFIED BY` | to sign in as that account |\n| `GRANT ALL PRIVILEGES` by the owner of a table, view or sequence | whatever can be done with it, also where the owner gave it away |\n| `ALTER TABLE … DISABLE ROW LEVEL SECURITY` by the owner | that policies hide nothing any more |\n| `COPY … TO PROGRAM`, `COPY … TO` a file (PostgreSQL) | anything there: what runs as the server's own account signs in as its superuser |\n| `INSERT INTO mysql.global_priv` (MariaDB) | anything there, once the server reads its tables anew |\n| reading a view, changing through one, calling a routine that runs as its owner or definer | what it does there, where that is what was looked for |\n| `CREATE DEFINER=… PROCEDURE`, `… EVENT` (MariaDB) | statements as that account, where it may execute the routine, or has EVENT there, without any role |\n\nActing as another, assumed roles and running as an account are no steps: the sessions of each step may do so, over two links. Each step is a\nquestion that is allowed in the ledger as the steps before left it, so a group that takes rights away (separated duties) is no way to them.\n`--brief` tells each way in one line. People whom nothing tells apart stand for each other as those whose credential is reset. What a\ndefiner's view or routine does is a last step, where a privilege is looked for: as far as it goes, and only where it takes all columns that are\nmeant. Of one that was not read in full it is not known, so that no way leads there is not proved. What rules do when somebody\nwrites is done by the owner of the table, and counts as well; what a trigger does is not followed: behind one that may run as somebody else,\n`no-way` is not proved. Nor is it of whoever may make views and triggers for another definer, or anything for a role. Passing a\nprivilege on gives others what one holds oneself, and is none either. On database servers each statement is tried without a role, and with each\nthat could matter being active; what is come to on one leads to nothing elsewhere.\n\nAccounts of a database server that nothing tells apart stand for each other as well: whoever came to one of them is told of that one, with how
many others there are, and goes on to none of these (of more than 50 only those are tried that differ, or by\nwhose names somebody who comes to anything signs in), and more than 16 things that are come to on one server are tried together at first:\nthere, whatever is come to adds to what is held (where policies only narrow, they are tried one by one). Limits\nthat were met (20,000 things, 600 ledgers, 5,000 statements of an account, 10,000 tries with its roles) are told. `zest findings` stops earlier, and says from how many people\nit did not look (ZL0929). That no way leads somewhere can be promised (`no-way`, [promises](promises.md)).\n\n`zest findings` tells ways to the top that nobody meant (ZL0928): to level 15 of a device, a shell as root on a host, a superuser of PostgreSQL, the\nown tables of MariaDB, granting on the outermost container of a cloud; and groups without an owner into which somebody is taken on one (ZL0930).\nWhoever is meant to come there is written down, with the reason:\n\n```toml\n[[meant-ways]]\nwho = [\"user:net-lead\"]\non = [\"ticketing\", \"loyalty\"]\nbecause = \"owns the group of the database leads while they are two\"\n```\n",
    );
    let mut show = |head: &str, about: &str, command: &str| {
        let out = zest(command).out;
        let _ = write!(page, "\n## {head}\n\n{about}\n\n```text\n$ zest {command}\n```\n\n```text\n{}\n```\n", out.trim_end());
    };
    show(
        "Who could come to this",
        "Everybody who could get there, and which single entry, taken out, leaves fewest.",
        "ways --on tide-runner --acting account:root --cuts --ledger demo/with-defects /bin/bash",
    );
    show(
        "What falls if this person is taken over",
        "All that somebody could come to, each with a shortest way.",
        "ways --of desk-1 --ledger demo/with-defects",
    );
    show(
        "In one line each",
        "The same as at the top, to be pasted into a ticket.",
        "ways --on tide-runner --acting account:root --brief --ledger demo/with-defects /bin/bash",
    );
    page.push_str("\n## As a drawing\n\n`--draw FILE` writes the ways as SVG: one row a person, one box a step.\n\n![ways to root](screenshots/ways-drawn.png)\n");
    same_as_file("docs/ways.md", &page);
    let folder = tempfile::tempdir().expect("a folder");
    let drawing = folder.path().join("ways.svg");
    let ran = zest_with(
        &[
            "ways",
            "--on",
            "tide-runner",
            "--acting",
            "account:root",
            "--draw",
            drawing.to_str().expect("a path"),
            "--ledger",
            "demo/with-defects",
            "/bin/bash",
        ],
        b"",
    );
    assert_eq!(ran.status, 0, "{}", ran.err);
    let drawn = std::fs::read_to_string(&drawing).expect("it was drawn");
    assert!(drawn.starts_with("<svg ") && drawn.ends_with("</svg>\n") && drawn.contains("desk-1: reset-credential"), "{drawn}");
}
