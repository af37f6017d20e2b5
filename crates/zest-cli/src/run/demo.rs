//! `zest demo`: real questions on the shipped ledger, or the ledger itself to play with.

use std::fs;
use std::path::Path;

use anyhow::{Context, Result, bail};
use include_dir::{Dir, include_dir};
use jiff::SignedDuration;
use zest_ledger::ask::Session;
use zest_ledger::entry::Proof;
use zest_ledger::finding::Severity;
use zest_ledger::rehearsal::Rehearsal;
use zest_ledger::{Engine, Ledger, Question, review};

use crate::args::Demo;
use crate::exit::Exit;
use crate::folder::is_document;
use crate::out::{put, say};
use crate::render::style::{FAINT, HEAD, hanging};
use crate::render::{answer, effective, findings, rehearsal};

/// What answers of the tour name as their ledger.
const SHIPPED: &str = "lanternsound (shipped)";

static DEMO: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/demo");

pub(crate) fn run(args: &Demo) -> Result<Exit> {
    match &args.into {
        Some(folder) => write(folder),
        None => tour(),
    }
}

/// Writes both demo ledgers into a folder that is not there yet: all of them or nothing.
fn write(folder: &Path) -> Result<Exit> {
    if folder.exists() {
        bail!("`{}` is already there; name a folder that is not, so that nothing of yours is overwritten", folder.display());
    }
    let parent = folder.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let name = folder.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
    let draft = parent.join(format!(".{name}.{}.new", std::process::id()));
    let written = fs::create_dir(&draft)
        .and_then(|()| DEMO.extract(&draft))
        .and_then(|()| fs::rename(&draft, folder))
        .with_context(|| format!("writing the demo ledgers to {}", folder.display()));
    if written.is_err() {
        // OK because the draft is ours; what cannot be removed stays behind under its hidden name.
        let _ = fs::remove_dir_all(&draft);
    }
    written?;
    say!("the demo ledgers are in {0}; try: zest findings --ledger {0}/with-defects", folder.display());
    Ok(Exit::Allowed)
}

/// Reads one of the shipped ledgers.
fn shipped(name: &str) -> Result<Ledger> {
    let folder = DEMO.get_dir(name).with_context(|| format!("the demo ledger {name} is not in this program"))?;
    let mut files: Vec<_> = folder.files().filter(|f| is_document(f.path())).collect();
    files.sort_by_key(|f| f.path());
    Ok(files.into_iter().fold(Ledger::new(), |ledger, file| {
        let name = file.path().file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
        ledger.document_bytes(&name, file.contents())
    }))
}

fn engine(name: &str) -> Result<Engine> {
    Ok(Engine::compile(shipped(name)?.estate()?)?)
}

fn heading(number: usize, title: &str, text: &str) {
    let rule = "-".repeat(80);
    say!("{FAINT}{rule}{FAINT:#}\n{HEAD}{number}. {title}{HEAD:#}\n   {}\n", hanging("   ", text));
}

fn tour() -> Result<Exit> {
    let demo = engine("lanternsound")?;
    let estate = demo.estate();
    say!(
        "{HEAD}Zest Ledger{HEAD:#}: the systems of Lanternsound Ferries, as text.\n{} people and programs in {} groups, {} systems, {} roles,\n{} command sets, {} assignments.\n",
        estate.users().len(),
        estate.groups().len(),
        estate.systems().len(),
        estate.roles().len(),
        estate.command_sets().len(),
        estate.assignments().len()
    );
    let morning = "2026-11-25T09:00:00+01:00".parse()?;
    let watch_room = "192.0.2.10".parse()?;
    let asked = |user: &str, system: &str, line: &str| Question::new(user, system, line).at(morning).from(watch_room);

    heading(
        1,
        "May the watch officer look at a route?",
        "Every reason is named with the file and line that says so, for an allowed answer too.",
    );
    say!("{}", answer::render(&demo.ask(&asked("watch-1", "sw-selkie-1", "sh paths")), SHIPPED));

    heading(2, "Why not the log?", "A refusal names all gates that would refuse, and the smallest changes that were tried and help.");
    say!("{}", answer::render(&demo.ask(&asked("watch-1", "sw-selkie-1", "show log")), SHIPPED));

    heading(3, "A restart takes two", "The engineer may, once he has confirmed and a second person agrees.");
    let office = "192.0.2.70".parse()?;
    say!("{}", answer::render(&demo.ask(&Question::new("net-1", "sw-selkie-1", "restart").from(office).level(15)), SHIPPED));

    heading(4, "The central source is down", "Local accounts decide then. Who can still get in?");
    say!("{}", answer::render(&demo.ask(&asked("watch-lead", "sw-selkie-1", "keep settings").central_down()), SHIPPED));

    heading(5, "Try it as that person", "A rehearsal: levels change as on the device, and nothing is really done.");
    let facts = Session { at: Some(morning), origin: Some(watch_room), ..Session::default() };
    if let Ok(mut session) = Rehearsal::open(engine("lanternsound")?, "watch-2", "sw-selkie-1", facts) {
        for line in ["elevate 7", "sh log last 20", "elevate", "sh lev", "leave"] {
            say!("{HEAD}{}{HEAD:#} {line}", session.prompt());
            put!("{}", rehearsal::typed(&session.type_line(line)));
        }
        say!();
    }

    heading(6, "What may the auditor do?", "Per device: through what, when, at which levels, which commands.");
    if let Some(rights) = review::effective(&demo, "auditor-1", Some("sw-selkie-1"), &Session::default()) {
        put!("{}", effective::render(&rights));
    }

    heading(
        7,
        "May she run this statement?",
        "On a database each privilege that the server would check is listed, in its order; the real servers judge our tests.",
    );
    let statement = "update fares.price set zone = 4 where zone = 3";
    say!("{}", answer::render(&demo.ask(&Question::statement("tariff-1", "ticketing", statement)), SHIPPED));
    let statement = "select name from club.member where id = 7";
    let at_the_pier = Question::statement("tariff-1", "loyalty", statement).from("198.51.100.9".parse()?);
    say!("{}", answer::render(&demo.ask(&at_the_pier), SHIPPED));

    heading(
        8,
        "With which proof, and as whom?",
        "On the cloud nobody does anything without a fresh code; work on production is done in a role that lasts an hour.",
    );
    let stop = |user: &str| Question::new(user, "skyquay", "hulls.stop on lanternsound/production/ticketing").at(morning);
    say!("{}", answer::render(&demo.ask(&stop("net-1").proof(Proof::Password, SignedDuration::ZERO)), SHIPPED));
    let keeper =
        || stop("net-1").proof(Proof::OneTimeCode, SignedDuration::from_mins(5)).acting("role:quay-keeper".parse().expect("a link"));
    say!("{}", answer::render(&demo.ask(&keeper()), SHIPPED));

    heading(9, "Who agrees?", "Releasing the lock of a ramp takes two; the second must be another, and hold the right at that moment.");
    let lock = Question::new("watch-1", "linkspan", "release-lock on ramp/selkie-1").proof(Proof::Password, SignedDuration::from_mins(2));
    say!("{}", answer::render(&demo.ask(&lock.clone().approved_by("watch-1")), SHIPPED));

    heading(
        10,
        "One menu on a shared account",
        "At a kiosk nobody knows the shared account's secret; each watch officer runs its menu from their own account.",
    );
    let kiosk = Question::new("watch-2", "kiosk-selkie", "/opt/kiosk/bin/screen show").acting("account:kiosk".parse().expect("a link"));
    let both = ["kiosk-selkie", "kiosk-kittiwake"].map(|system| {
        let mut question = kiosk.clone();
        question.system = system.to_owned();
        demo.ask(&question)
    });
    say!("{}", answer::table(&both));

    heading(11, "What is wrong with a ledger?", "The same ferries with defects built in; `zest findings` shows each with its text.");
    let broken = engine("with-defects")?;
    let found = review::hygiene(&broken, Some(morning));
    for finding in found.list().iter().filter(|f| f.severity() != Severity::Note) {
        let at = finding.primary.as_ref().map_or(String::new(), |l| found.sources().locate(l.place).to_string());
        say!("  {} {}", finding.code, hanging("         ", &format!("{} ({at})", finding.message)));
    }
    put!("  {}", findings::count(&found));
    say!("\nNext: zest demo --into play, then zest ask --ledger play/lanternsound --help");
    Ok(Exit::Allowed)
}
