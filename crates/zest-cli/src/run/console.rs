//! `zest rehearse` on a host, a cloud or in an application: each line is an action of its own.

use anyhow::Result;
use zest_ledger::Engine;
use zest_ledger::rehearsal::Console;
use zest_ledger::source::visible;

use super::rehearse::{LineByLine, Next, Tally, read_lines, refused, second_person};
use crate::args::Rehearse;
use crate::exit::Exit;
use crate::out::{put, say};
use crate::render::rehearsal as text;
use crate::render::style::FAINT;

pub(crate) fn run(engine: Engine, args: &Rehearse) -> Result<Exit> {
    let console = match Console::open(engine, &args.user, &args.on, args.session.0.clone()) {
        Ok(console) => console,
        Err(answer) => return refused(&answer, args),
    };
    say!(
        "{FAINT}rehearsal: {} on {}, nothing is really done; ? lists what is permitted, :as LINK acts as another, :quit leaves{FAINT:#}",
        visible(&args.user),
        visible(&args.on)
    );
    let mut session = Session { console, tally: Tally::of(args) };
    read_lines(&mut session)?;
    session.tally.record.write(args)?;
    Ok(session.tally.exit())
}

struct Session {
    console: Console,
    tally: Tally,
}

impl LineByLine for Session {
    fn prompt(&self) -> String {
        self.console.prompt()
    }

    fn line(&mut self, line: &str) -> Next {
        let Some(line) = self.tally.typed(line) else { return Next::Go };
        if let Some(own) = line.strip_prefix(':') {
            return self.own_word(own.trim());
        }
        if line == "?" {
            put!("{}", text::menu(&self.console.menu()));
            return Next::Go;
        }
        self.tally.answered(self.console.type_line(line), "")
    }
}

impl Session {
    /// The tool's own words, which no system hears.
    fn own_word(&mut self, word: &str) -> Next {
        let (verb, rest) = word.split_once(' ').unwrap_or((word, ""));
        let rest = rest.trim();
        match verb {
            "quit" => return Next::Stop,
            "why" => self.tally.why(),
            "as" if !rest.is_empty() => match rest.parse().map(|act| self.console.act(act)) {
                Ok(Ok(())) => {
                    self.tally.record.changed(":as");
                    say!("  {}", self.console.prompt());
                }
                Ok(Err(answer)) => {
                    self.tally.record.changed(":as");
                    return self.tally.answered(*answer, "");
                }
                Err(error) => say!("  {error}"),
            },
            "back" => {
                self.tally.record.changed(":back");
                say!("  {}", if self.console.back() { self.console.prompt() } else { "already in their own name".to_owned() })
            }
            "confirm" => {
                self.console.confirm();
                self.tally.record.changed(":confirm");
                say!("  confirmed from now on");
            }
            "approve" if !rest.is_empty() => match second_person(rest) {
                Ok((user, proofs)) => {
                    self.console.approve(user, proofs);
                    self.tally.record.changed(":approve");
                    say!("  `{}` agrees from now on", visible(user));
                }
                Err(error) => say!("  {error}"),
            },
            "help" => put!("{}", text::CONSOLE_HELP),
            _ => self.tally.unknown(word, text::CONSOLE_HELP),
        }
        Next::Go
    }
}
