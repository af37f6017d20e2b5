//! `zest rehearse` on a database server: statements in order.

use anyhow::Result;
use zest_ledger::Engine;
use zest_ledger::kind::Left;
use zest_ledger::rehearsal::Statements;
use zest_ledger::source::visible;

use super::rehearse::{LineByLine, Next, Tally, read_lines, refused};
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
    let mut session = Session { statements, tally: Tally::of(args) };
    read_lines(&mut session)?;
    session.tally.record.write(args)?;
    Ok(session.tally.exit())
}

struct Session {
    statements: Statements,
    tally: Tally,
}

impl LineByLine for Session {
    fn prompt(&self) -> String {
        self.statements.prompt()
    }

    fn line(&mut self, line: &str) -> Next {
        let Some(line) = self.tally.typed(line) else { return Next::Go };
        if let Some(own) = line.strip_prefix(':') {
            return self.own_word(own.trim());
        }
        let typed = self.statements.type_statement(line);
        let effect = match typed.left {
            Left::Nothing => "",
            Left::Session => "; the session goes on with it",
            Left::Changes => "; it is not carried out: what follows is answered as the ledger stands",
        };
        self.tally.answered(typed.answer, effect)
    }
}

impl Session {
    /// The tool's own words, which no server hears.
    fn own_word(&mut self, word: &str) -> Next {
        match word {
            "quit" => return Next::Stop,
            "why" => self.tally.why(),
            "state" if self.statements.carried().is_empty() => say!("  the session is as it was opened"),
            "state" => self.statements.carried().iter().for_each(|statement| say!("  {}", visible(statement))),
            "help" => put!("{}", text::STATEMENTS_HELP),
            _ => self.tally.unknown(word, text::STATEMENTS_HELP),
        }
        Next::Go
    }
}
