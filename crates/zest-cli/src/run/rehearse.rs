//! `zest rehearse`: a stand-in session, typed or from a script.

use std::io::{BufRead, IsTerminal};

use anyhow::{Context, Result, bail};
use rustyline::error::ReadlineError;
use zest_ledger::ask::{Answer, Fact, Proven, Session as Facts, Verdict};
use zest_ledger::entry::Kind;
use zest_ledger::expectation::recorded_steps;
use zest_ledger::rehearsal::{Effect, Rehearsal};
use zest_ledger::source::visible;

use crate::args::Rehearse;
use crate::exit::Exit;
use crate::out::{flush, put, say};
use crate::render::rehearsal as text;
use crate::render::style::{FAINT, HEAD};
use crate::whole;

pub(crate) fn run(args: &Rehearse) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let system = crate::unknown::system(engine.estate(), &args.on)?;
    match system.kind() {
        Kind::NETWORK_DEVICE => {}
        Kind::POSTGRESQL | Kind::MARIADB => return super::statements::run(engine.clone(), args),
        _ => return super::console::run(engine.clone(), args),
    }
    let notices = system.notices.clone();
    let mut rehearsal = match Rehearsal::open(engine.clone(), &args.user, &args.on, args.session.0.clone()) {
        Ok(rehearsal) => rehearsal,
        Err(answer) => return refused(&answer, args),
    };
    say!(
        "{FAINT}rehearsal: {} on {}, nothing is really done; ? lists what is permitted, :quit leaves the tool{FAINT:#}",
        visible(&args.user),
        visible(&args.on)
    );
    for notice in notices.iter().flat_map(|n| [&n.value.before, &n.value.after]).flatten() {
        say!("{}", visible(notice));
    }
    let mut session = Session { rehearsal: &mut rehearsal, tally: Tally::of(args) };
    read_lines(&mut session)?;
    let Session { tally, .. } = session;
    tally.record.write(args)?;
    if !rehearsal.is_over() {
        say!("{FAINT}the session is still open: no line has ended it{FAINT:#}");
    }
    Ok(tally.exit())
}

struct Session<'r> {
    rehearsal: &'r mut Rehearsal,
    tally: Tally,
}

/// What was typed and answered, to be written down as an expectation.
#[derive(Default)]
pub(super) struct Record {
    answers: Vec<Answer>,
    /// A word of the tool that made the session another one.
    changed_by: Option<&'static str>,
    /// The line that was typed last.
    line: String,
    /// Whether a line held a credential, which an answer does not show.
    is_covered: bool,
}

impl Record {
    fn typed(&mut self, line: &str) {
        line.clone_into(&mut self.line);
    }

    fn answered(&mut self, answer: &Answer) {
        let plain = |text: &str| text.trim().trim_end_matches(';').trim_end().to_owned();
        self.is_covered |= plain(&answer.question.line) != plain(&self.line);
        self.answers.push(answer.clone());
    }

    /// Notes that the session is not the one that was opened any more.
    pub(super) const fn changed(&mut self, word: &'static str) {
        self.changed_by = Some(word);
    }

    /// Appends it to the document that is stated, if one is.
    pub(super) fn write(&self, args: &Rehearse) -> Result<()> {
        let Some(path) = &args.record else { return Ok(()) };
        if let Some(word) = self.changed_by {
            bail!("`{word}` made the session another one: nothing is recorded; state the fact when the session is opened");
        }
        if self.answers.is_empty() {
            bail!("nothing was typed, so nothing is recorded");
        }
        if self.is_covered {
            bail!("a line holds a credential, and is not written down: nothing is recorded");
        }
        whole::append(path, &recorded_steps(&args.user, &args.on, &args.session.0, &self.answers))
    }
}

/// What a session comes to in which lines are answered one by one.
pub(super) struct Tally {
    pub(super) record: Record,
    last: Option<Answer>,
    refusals: usize,
    unknown_words: usize,
    typed: usize,
    strict: bool,
    ledger: String,
}

impl Tally {
    pub(super) fn of(args: &Rehearse) -> Self {
        Self {
            record: Record::default(),
            last: None,
            refusals: 0,
            unknown_words: 0,
            typed: 0,
            strict: args.strict,
            ledger: args.ledger.shown(),
        }
    }

    /// Counts a line; returns it without blanks around it, if anything is left.
    pub(super) fn typed<'l>(&mut self, line: &'l str) -> Option<&'l str> {
        let line = line.trim();
        self.typed += usize::from(!line.is_empty());
        self.record.typed(line);
        (!line.is_empty()).then_some(line)
    }

    /// Prints an answer, short; `effect` says what an allowed line did.
    pub(super) fn answered(&mut self, answer: Answer, effect: &str) -> Next {
        put!("{}", text::answered(&answer, effect));
        self.counted(answer)
    }

    /// Counts an answer that was printed, and keeps it.
    fn counted(&mut self, answer: Answer) -> Next {
        self.record.answered(&answer);
        let is_refused = answer.verdict == Verdict::Denied;
        self.refusals += usize::from(is_refused);
        self.last = Some(answer);
        if is_refused && self.strict { Next::Stop } else { Next::Go }
    }

    /// Explains the last answer in full.
    pub(super) fn why(&self) {
        match &self.last {
            Some(answer) => put!("{}", crate::render::answer::render(answer, &self.ledger)),
            None => say!("  no line was typed yet"),
        }
    }

    /// Says that a word is none of the tool's.
    pub(super) fn unknown(&mut self, word: &str, help: &str) {
        self.unknown_words += 1;
        put!("{}", text::unknown_word(word, help));
    }

    /// What a session that is over comes to: a word that the tool does not know counts, and with `strict` a refusal.
    pub(super) const fn exit(&self) -> Exit {
        if self.unknown_words > 0 {
            Exit::Unknown
        } else if self.strict && self.refusals > 0 {
            Exit::Denied
        } else if self.typed == 0 {
            Exit::Nothing
        } else {
            Exit::Allowed
        }
    }
}

/// Whether to go on reading.
#[derive(PartialEq, Eq)]
pub(super) enum Next {
    Go,
    Stop,
}

/// A session that takes what is typed, line by line.
pub(super) trait LineByLine {
    fn prompt(&self) -> String;

    /// Takes one line.
    fn line(&mut self, line: &str) -> Next;
}

/// Reads lines from the terminal, or else a script from standard input, until the session has enough.
pub(super) fn read_lines(session: &mut impl LineByLine) -> Result<()> {
    if !std::io::stdin().is_terminal() {
        for line in std::io::stdin().lock().lines() {
            let line = line.context("reading the script from standard input")?;
            let trimmed = line.trim();
            if trimmed.is_empty() || trimmed.starts_with('#') {
                continue;
            }
            say!("{HEAD}{}{HEAD:#} {}", session.prompt(), visible(trimmed));
            let next = session.line(trimmed);
            flush()?;
            if next == Next::Stop {
                break;
            }
        }
        return Ok(());
    }
    let mut editor = rustyline::DefaultEditor::new().context("preparing the terminal")?;
    loop {
        flush()?;
        match editor.readline(&format!("{} ", session.prompt())) {
            Ok(line) => {
                // OK because a history that does not grow is no reason to stop.
                let _ = editor.add_history_entry(&line);
                if session.line(&line) == Next::Stop {
                    return Ok(());
                }
            }
            Err(ReadlineError::Eof | ReadlineError::Interrupted) => return Ok(()),
            Err(error) => return Err(error).context("reading a line"),
        }
    }
}

/// Reads `USER PROOF=AGE ...`: the second person, and what they have proven.
pub(super) fn second_person(text: &str) -> Result<(&str, Option<Vec<Proven>>), String> {
    let mut words = text.split_whitespace();
    let user = words.next().unwrap_or_default();
    let mut session = Facts::default();
    for word in words {
        session.state(Fact::ApproverProofs, word).map_err(|why| why.to_string())?;
    }
    Ok((user, session.approver_proofs))
}

/// Prints why no session is opened.
pub(super) fn refused(answer: &Answer, args: &Rehearse) -> Result<Exit> {
    if let Some(unknown) = crate::unknown::in_answer(answer) {
        return Err(unknown.into());
    }
    put!("{}", crate::render::answer::render(answer, &args.ledger.shown()));
    Ok(Exit::Denied)
}

impl LineByLine for Session<'_> {
    fn prompt(&self) -> String {
        self.rehearsal.prompt()
    }

    fn line(&mut self, line: &str) -> Next {
        let Some(line) = self.tally.typed(line) else { return Next::Go };
        if let Some(own) = line.strip_prefix(':') {
            return self.own_word(own.trim());
        }
        if let Some(begun) = line.strip_suffix('?') {
            let menu = self.rehearsal.menu().into_iter().filter(|item| goes_on_from(&item.line, begun)).collect::<Vec<_>>();
            put!("{}", text::menu(&menu));
            return Next::Go;
        }
        let typed = self.rehearsal.type_line(line);
        put!("{}", text::typed(&typed));
        let next = self.tally.counted(typed.answer);
        if typed.effect == Effect::Ended { Next::Stop } else { next }
    }
}

impl Session<'_> {
    /// The tool's own words, which no device hears.
    fn own_word(&mut self, word: &str) -> Next {
        let (verb, rest) = word.split_once(' ').unwrap_or((word, ""));
        let rest = rest.trim();
        match verb {
            "quit" => return Next::Stop,
            "why" => match &self.tally.last {
                Some(answer) => {
                    let mut answer = answer.clone();
                    if answer.refusal.is_some() {
                        answer.remedies = self.rehearsal.remedies(&answer);
                    }
                    put!("{}", crate::render::answer::render(&answer.covered(), &self.tally.ledger));
                }
                None => say!("  no line was typed yet"),
            },
            "allow" if !rest.is_empty() => match self.rehearsal.allow_on_trial(rest) {
                Ok(Some(set)) => {
                    self.tally.record.changed(":allow");
                    say!("  on trial: command set `{}` begins with \"allow {}\"", visible(&set), visible(rest));
                }
                Ok(None) => say!("  no command set is in force here, so there is nothing to add a rule to"),
                Err(error) => say!("  the pattern cannot be read: {error}"),
            },
            "confirm" => {
                self.rehearsal.confirm();
                self.tally.record.changed(":confirm");
                say!("  confirmed from now on");
            }
            "approve" if !rest.is_empty() => match second_person(rest) {
                Ok((user, proofs)) => {
                    self.rehearsal.approve(user, proofs);
                    self.tally.record.changed(":approve");
                    say!("  `{}` agrees from now on", visible(user));
                }
                Err(error) => say!("  {error}"),
            },
            "state" => say!("  level {}, mode {}", self.rehearsal.level(), visible(self.rehearsal.mode())),
            "help" => put!("{}", text::HELP),
            _ => self.tally.unknown(word, text::HELP),
        }
        Next::Go
    }
}

/// Returns whether a command may go on from words that were begun: `show lo` goes on as `show log`.
fn goes_on_from(command: &str, begun: &str) -> bool {
    let mut words = command.split_whitespace();
    begun.split_whitespace().all(|typed| words.next().is_some_and(|word| word.starts_with(typed) || word.starts_with('{')))
}
