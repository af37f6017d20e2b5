//! `zest rehearse` on a host, a cloud or in an application: each line is an action of its own.

use anyhow::Result;
use zest_ledger::Engine;
use zest_ledger::ask::{Answer, Verdict};
use zest_ledger::rehearsal::Console;
use zest_ledger::source::visible;

use super::rehearse::{LineByLine, Next, exit, read_lines, refused, second_person};
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
    let mut session =
        Session { console, last: None, refusals: 0, unknown_words: 0, typed: 0, strict: args.strict, ledger: args.ledger.shown() };
    read_lines(&mut session)?;
    Ok(exit(args.strict, session.refusals, session.unknown_words, session.typed))
}

struct Session {
    console: Console,
    last: Option<Answer>,
    refusals: usize,
    unknown_words: usize,
    typed: usize,
    strict: bool,
    ledger: String,
}

impl LineByLine for Session {
    fn prompt(&self) -> String {
        self.console.prompt()
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
        if line == "?" {
            put!("{}", text::menu(&self.console.menu()));
            return Next::Go;
        }
        let answer = self.console.type_line(line);
        put!("{}", text::answered(&answer, ""));
        let is_refused = answer.verdict == Verdict::Denied;
        self.refusals += usize::from(is_refused);
        self.last = Some(answer);
        if is_refused && self.strict { Next::Stop } else { Next::Go }
    }
}

impl Session {
    /// The tool's own words, which no system hears.
    fn own_word(&mut self, word: &str) -> Next {
        let (verb, rest) = word.split_once(' ').unwrap_or((word, ""));
        let rest = rest.trim();
        match verb {
            "quit" => return Next::Stop,
            "why" => match &self.last {
                Some(answer) => put!("{}", crate::render::answer::render(answer, &self.ledger)),
                None => say!("  no line was typed yet"),
            },
            "as" if !rest.is_empty() => match rest.parse().map(|act| self.console.act(act)) {
                Ok(Ok(())) => say!("  {}", self.console.prompt()),
                Ok(Err(answer)) => {
                    self.refusals += 1;
                    put!("{}", text::answered(&answer, ""));
                    self.last = Some(*answer);
                    return if self.strict { Next::Stop } else { Next::Go };
                }
                Err(error) => say!("  {error}"),
            },
            "back" => {
                say!("  {}", if self.console.back() { self.console.prompt() } else { "already in their own name".to_owned() })
            }
            "confirm" => {
                self.console.confirm();
                say!("  confirmed from now on");
            }
            "approve" if !rest.is_empty() => match second_person(rest) {
                Ok((user, proofs)) => {
                    self.console.approve(user, proofs);
                    say!("  `{}` agrees from now on", visible(user));
                }
                Err(error) => say!("  {error}"),
            },
            "help" => put!("{}", text::CONSOLE_HELP),
            _ => {
                self.unknown_words += 1;
                put!("{}", text::unknown_word(word, text::CONSOLE_HELP));
            }
        }
        Next::Go
    }
}
