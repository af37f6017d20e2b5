//! `zest rehearse` on a database server: statements in order.

use anyhow::Result;
use zest_ledger::Engine;
use zest_ledger::ask::{Answer, Verdict};
use zest_ledger::kind::Left;
use zest_ledger::rehearsal::Statements;
use zest_ledger::source::visible;

use super::rehearse::{LineByLine, Next, exit, read_lines, refused};
use crate::args::Rehearse;
use crate::exit::Exit;
use crate::out::{put, say};
use crate::render::rehearsal as text;
use crate::render::style::FAINT;

pub(crate) fn run(engine: Engine, args: &Rehearse) -> Result<Exit> {
    let statements = match Statements::open(engine, &args.user, &args.on, args.session.0.clone()) {
        Ok(statements) => statements,
        Err(answer) => return refused(&answer, args),
    };
    say!(
        "{FAINT}rehearsal: {} on {}, nothing is really done; each line is a statement, :help lists the words, :quit leaves{FAINT:#}",
        visible(&args.user),
        visible(&args.on)
    );
    let mut session =
        Session { statements, last: None, refusals: 0, unknown_words: 0, typed: 0, strict: args.strict, ledger: args.ledger.shown() };
    read_lines(&mut session)?;
    Ok(exit(args.strict, session.refusals, session.unknown_words, session.typed))
}

struct Session {
    statements: Statements,
    last: Option<Answer>,
    refusals: usize,
    unknown_words: usize,
    typed: usize,
    strict: bool,
    ledger: String,
}

impl LineByLine for Session {
    fn prompt(&self) -> String {
        self.statements.prompt()
    }

    fn line(&mut self, line: &str) -> Next {
        let line = line.trim();
        if line.is_empty() {
            return Next::Go;
        }
        self.typed += 1;
        if let Some(own) = line.strip_prefix(':') {
            return self.own_word(own.trim());
        }
        let typed = self.statements.type_statement(line);
        let effect = match typed.left {
            Left::Nothing => "",
            Left::Session => "; the session goes on with it",
            Left::Changes => "; it is not carried out: what follows is answered as the ledger stands",
        };
        put!("{}", text::answered(&typed.answer, effect));
        let is_refused = typed.answer.verdict == Verdict::Denied;
        self.refusals += usize::from(is_refused);
        self.last = Some(typed.answer);
        if is_refused && self.strict { Next::Stop } else { Next::Go }
    }
}

impl Session {
    /// The tool's own words, which no server hears.
    fn own_word(&mut self, word: &str) -> Next {
        match word {
            "quit" => return Next::Stop,
            "why" => match &self.last {
                Some(answer) => put!("{}", crate::render::answer::render(answer, &self.ledger)),
                None => say!("  no statement was typed yet"),
            },
            "state" if self.statements.carried().is_empty() => say!("  the session is as it was opened"),
            "state" => self.statements.carried().iter().for_each(|statement| say!("  {}", visible(statement))),
            "help" => put!("{}", text::STATEMENTS_HELP),
            _ => {
                self.unknown_words += 1;
                put!("{}", text::unknown_word(word, text::STATEMENTS_HELP));
            }
        }
        Next::Go
    }
}
