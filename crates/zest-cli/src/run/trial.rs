//! `zest trial`: questions put to a private server that holds what the ledger says, or to the server itself, and compared with our answers.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fmt::Write as _;
use std::net::IpAddr;

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use serde::Serialize;
use zest_bridges::in_use::{self, Asked};
use zest_bridges::private::{Mariadb, Postgresql, Said};
use zest_ledger::ask::{Answer, Form, Question, Refusal, Stage, Verdict};
use zest_ledger::mariadb::{self, AccountName};
use zest_ledger::source::visible;
use zest_ledger::{Engine, json, postgresql};

use super::live::{Session, unreachable};
use super::server::State;
use crate::args::Trial;
use crate::exit::Exit;
use crate::format;
use crate::out::{put, say};
use crate::progress;
use crate::render::style::{BAD, FAINT, GOOD, HEAD, hanging};
use crate::render::table::{Cell, Table, words};
use crate::unknown::Unknown;

/// The version of the form in which programs read a trial.
const FORMAT: &str = "zest-trial-1";
/// How many roles of an account are made active one after the other.
const ROLES: usize = 8;
/// What recorded questions are called, which have their own accounts.
const RECORDED: &str = "recorded questions";
/// How many disagreements are shown, the shortest first.
const SHOWN: usize = 5;

/// What came of a sort of question.
#[derive(Clone, Copy, Debug, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Row {
    allowed_by_both: u64,
    refused_by_both: u64,
    disagree: u64,
    not_decided: u64,
    not_tried: u64,
}

/// A question on which the server says something else.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Disagreement {
    account: String,
    role: Option<String>,
    line: String,
    server: String,
    answer: String,
}

/// What a trial came to.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Report {
    format: &'static str,
    system: String,
    at: String,
    server: &'static str,
    /// The server itself, where it was asked and no private one.
    #[serde(skip_serializing_if = "Option::is_none")]
    live: Option<String>,
    rows: BTreeMap<&'static str, Row>,
    disagreements: Vec<Disagreement>,
    not_tried: BTreeMap<String, u64>,
}

/// A question with who is to ask it on the server.
struct Try {
    sort: &'static str,
    question: Question,
}

/// What the server's side of a trial says.
enum Theirs {
    Allowed,
    Refused(String),
    NotTried(String),
}

impl From<Said> for Theirs {
    fn from(said: Said) -> Self {
        match said {
            Said::Allowed => Self::Allowed,
            Said::Refused(text) => Self::Refused(text),
            Said::Otherwise(text) => Self::NotTried(format!("the server fails for another reason: {text}")),
            _ => Self::NotTried("the server says something that is not known here".to_owned()),
        }
    }
}

impl From<Option<Said>> for Theirs {
    fn from(said: Option<Said>) -> Self {
        let not_put = || Self::NotTried("it may reach out of the private server, or cannot be taken back".to_owned());
        said.map_or_else(not_put, Self::from)
    }
}

impl From<Asked> for Theirs {
    fn from(asked: Asked) -> Self {
        match asked {
            Asked::Said(said) => said.into(),
            Asked::NotPut(why) => Self::NotTried(why),
            _ => Self::NotTried("what came of it is not known here".to_owned()),
        }
    }
}

/// A server that is asked: a private one that holds what the ledger says, or the one itself.
enum Server {
    Private(Box<Postgresql>),
    InUse(Box<in_use::Postgresql>),
}

impl Server {
    fn attempt(&mut self, account: &str, role: Option<&str>, statement: &str) -> Result<Theirs> {
        Ok(match self {
            Self::Private(server) => server.attempt(account, role, statement)?.into(),
            Self::InUse(server) => server.explain(account, role, statement)?.into(),
        })
    }

    /// Asks what a role holds, as the server's own functions say; nothing where the server has no such role, object or column.
    fn holds(&mut self, role: &str, (object, column): On<'_>, privilege: postgresql::Privilege, option: bool) -> Result<Option<bool>> {
        let session = match self {
            Self::Private(server) => server.session(),
            Self::InUse(server) if server.has(role, object, column) => server.session(),
            Self::InUse(_) => return Ok(None),
        };
        Ok(Some(session.holds(role, object, column, privilege, option)?))
    }
}

/// An object, and perhaps a column of it.
type On<'o> = (&'o postgresql::ObjectName, Option<&'o str>);

pub(crate) fn run(args: &Trial) -> Result<Exit> {
    if let Some(option) = args.server.stated().filter(|_| !args.live) {
        return Err(Unknown(format!("`{option}` says how the server is reached, and a private one is asked: state --live as well")).into());
    }
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let at = args.moment.moment();
    let state = State::of(engine.estate(), &args.system, at)?;
    let mut session = None;
    if args.live {
        let system = crate::unknown::system(engine.estate(), &args.system)?;
        session = match Session::open(system, &args.server) {
            Ok(session) => Some(session),
            Err(error) => return unreachable(&error),
        };
    }
    let mut report = Report {
        format: FORMAT,
        system: args.system.clone(),
        at: at.to_string(),
        server: match state {
            State::Postgresql(_) => "PostgreSQL 15",
            State::Mariadb(_) => "MariaDB 10.11",
        },
        live: session.as_ref().map(Session::target),
        rows: BTreeMap::new(),
        disagreements: Vec::new(),
        not_tried: BTreeMap::new(),
    };
    let given = given(args, at)?;
    match state {
        State::Postgresql(state) => {
            let mut server = match session {
                Some(Session::Postgresql(session)) => Server::InUse(Box::new(in_use::Postgresql::new(*session)?)),
                _ => Server::Private(Box::new(Postgresql::start(&state)?)),
            };
            let tries =
                if given.is_empty() { of_postgresql(&state, args, at) } else { spread(given, &accounts_of_postgresql(&state, args)) };
            let mut into = BTreeMap::new();
            carry_out(engine, tries, &mut report, |question, answer| on_postgresql(&mut server, &mut into, question, answer))?;
        }
        State::Mariadb(state) => {
            let mut tries = if given.is_empty() { of_mariadb(&state, args, at) } else { spread(given, &accounts_of_mariadb(&state, args)) };
            if let Some(Session::Mariadb(session)) = session {
                let mut server = in_use::Mariadb::new(*session)?;
                let account = server.account().to_string();
                tries.retain(|one| one.sort == RECORDED || one.question.session.account.as_ref() == Some(&account));
                carry_out(engine, tries, &mut report, |question, answer| {
                    if answer.account.as_deref().and_then(AccountName::parse).as_ref() != Some(server.account()) {
                        let why = format!("`{}` signed in, and nobody else's credential is known", server.account());
                        return Ok(Theirs::NotTried(why));
                    }
                    let stated = question.session.active_roles.as_ref().and_then(|roles| roles.first());
                    let of_account = || state.accounts.get(server.account())?.default_role.as_ref();
                    let role = stated.or_else(of_account).cloned();
                    Ok(server.explain(&state, role.as_deref(), &question.line).into())
                })?;
            } else {
                let mut server = Mariadb::start(&state)?;
                carry_out(engine, tries, &mut report, |question, answer| {
                    let Some(account) = answer.account.as_deref().and_then(AccountName::parse) else {
                        return Ok(Theirs::NotTried("no account was found".to_owned()));
                    };
                    let is_due = state.accounts.get(&account).is_some_and(|known| known.credential_due.is_some());
                    if is_due && answer.refusal == Some(Refusal::CredentialMustChange) {
                        return Ok(Theirs::NotTried("it hangs on how old the credential is".to_owned()));
                    }
                    let role = question.session.active_roles.as_ref().and_then(|roles| roles.first());
                    Ok(server.attempt(&account, role.map(String::as_str), &question.line)?.into())
                })?;
                server.is_as_it_was()?;
            }
        }
    }
    args.format.format.print(|| format::data(&report), || in_rows(&report), || tell(&report));
    Ok(
        match report
            .rows
            .values()
            .map(|row| (row.disagree, row.allowed_by_both + row.refused_by_both))
            .fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1))
        {
            (0, 0) => Exit::Nothing,
            (0, _) => Exit::Allowed,
            _ => Exit::Denied,
        },
    )
}

/// Reads the questions that are given: statements for every account, and recorded questions as they are.
fn given(args: &Trial, at: Timestamp) -> Result<Vec<Try>> {
    let mut list: Vec<Try> =
        (args.sql.iter()).map(|sql| Try { sort: "statements", question: Question::statement("", &args.system, sql).at(at) }).collect();
    let Some(path) = &args.questions else { return Ok(list) };
    let text = std::fs::read_to_string(path).with_context(|| format!("reading questions from {}", path.display()))?;
    for (number, line) in (1..).zip(text.lines()).filter(|(_, line)| !line.trim().is_empty()) {
        let question = json::parse_question_in(line, &Question::new("", &args.system, "").at(at).session);
        let question = question.with_context(|| format!("{}:{number}", path.display()))?;
        if question.system != args.system {
            continue;
        }
        if question.form != Form::Statement {
            bail!("{}:{number}: only statements are put to a server one by one: write `sql` instead of `line`", path.display());
        }
        list.push(Try { sort: RECORDED, question });
    }
    if list.is_empty() {
        bail!("{} holds no question about `{}`", path.display(), visible(&args.system));
    }
    Ok(list)
}

/// Spreads statements over accounts; what is recorded has its own.
fn spread(given: Vec<Try>, accounts: &[Question]) -> Vec<Try> {
    let mut list = Vec::new();
    for Try { sort, question } in given {
        if !question.user.is_empty() {
            list.push(Try { sort, question });
            continue;
        }
        for who in accounts {
            let mut asked = Question::statement(&who.user, &question.system, &question.line);
            asked.session = who.session.clone();
            list.push(Try { sort, question: asked });
        }
    }
    list
}

/// The sessions that accounts of a PostgreSQL server can open: in their own name, and with each role that they may make active.
fn accounts_of_postgresql(state: &postgresql::State, args: &Trial) -> Vec<Question> {
    let at = args.moment.moment();
    let mut list = Vec::new();
    for (account, _) in state.roles.iter().filter(|(name, role)| role.login && args.takes(name)) {
        let own = Question::statement(account, &args.system, "").account(account).at(at);
        let roles = state.roles.keys().filter(|role| *role != account && state.may_become(account, role)).take(ROLES);
        let active: Vec<Question> = roles.map(|role| own.clone().active_role(role)).collect();
        list.push(own);
        list.extend(active);
    }
    list
}

/// Every privilege on every object, and on every column of it, for each session.
fn of_postgresql(state: &postgresql::State, args: &Trial, at: Timestamp) -> Vec<Try> {
    let mut list = Vec::new();
    let on_columns = [postgresql::Privilege::Select, postgresql::Privilege::Insert, postgresql::Privilege::Update];
    for who in accounts_of_postgresql(state, args) {
        let mut put = |sort: &'static str, line: String| {
            let mut question = Question::new(&who.user, &args.system, &line).at(at);
            question.session = who.session.clone();
            list.push(Try { sort, question });
        };
        for (object, entry) in &state.objects {
            for privilege in object.class.applicable().iter() {
                put("privileges on objects", format!("{} on {object}", privilege.word()));
                put("rights to pass on", format!("pass on {} on {object}", privilege.word()));
            }
            for column in &entry.columns {
                for privilege in on_columns {
                    put("privileges on columns", format!("{} ({}) on {object}", privilege.word(), column.name));
                }
            }
        }
    }
    list
}

/// Asks the server what a question for a privilege means, or puts a statement to it. Who gets into which schema, it is asked once.
fn on_postgresql(
    server: &mut Server,
    into: &mut BTreeMap<(String, String), Option<bool>>,
    question: &Question,
    answer: &Answer,
) -> Result<Theirs> {
    let Some(account) = &answer.account else { return Ok(Theirs::NotTried("no account was found".to_owned())) };
    let role = question.session.active_roles.as_ref().and_then(|roles| roles.first());
    if question.form == Form::Statement {
        return server.attempt(account, role.map(String::as_str), &question.line);
    }
    let line = question.line.strip_prefix("pass on ").unwrap_or(&question.line);
    let parsed = line.split_once(" on ").and_then(|(head, on)| {
        let (word, column) = head.split_once(" (").map_or((head, None), |(word, column)| (word, column.strip_suffix(')')));
        Some((postgresql::Privilege::from_word(word)?, column, postgresql::ObjectName::parse(on)?))
    });
    let (privilege, column, object) = parsed.context("the questions of a trial are of its own form")?;
    let who = role.unwrap_or(account);
    if let Some(name) = object.schema() {
        let schema = postgresql::ObjectName::new(postgresql::Class::Schema, &[name]);
        let gets_in = match into.entry((who.clone(), name.to_owned())) {
            Entry::Occupied(known) => *known.get(),
            Entry::Vacant(new) => *new.insert(server.holds(who, (&schema, None), postgresql::Privilege::Usage, false)?),
        };
        match gets_in {
            Some(true) => {}
            Some(false) => return Ok(Theirs::Refused(format!("{schema} is shut"))),
            None => return Ok(Theirs::NotTried(format!("the server has no {schema}, or no `{who}`"))),
        }
    }
    Ok(match server.holds(who, (&object, column), privilege, question.line.starts_with("pass on "))? {
        Some(true) => Theirs::Allowed,
        Some(false) => Theirs::Refused("its function says false".to_owned()),
        None => Theirs::NotTried(format!("the server has no {object}, not that column of it, or no `{who}`")),
    })
}

/// The sessions that accounts of a MariaDB server can open: with their default role, and with each role that they may make active.
fn accounts_of_mariadb(state: &mariadb::State, args: &Trial) -> Vec<Question> {
    let at = args.moment.moment();
    let mut list = Vec::new();
    for account in state.accounts.keys().filter(|account| args.takes(&account.to_string()) || args.takes(&account.user)) {
        let mut own = Question::statement(&account.user, &args.system, "").account(&account.to_string()).at(at);
        match address_in(&account.host) {
            Some(address) => own = own.from(address),
            None => own.session.local = true,
        }
        let holder = mariadb::Holder::Account(account.clone());
        let roles = state.memberships.keys().filter(|(member, _)| *member == holder).map(|(_, role)| role).take(ROLES);
        let active: Vec<Question> = roles.map(|role| own.clone().active_role(role)).collect();
        list.push(own);
        list.extend(active);
    }
    list
}

/// An address that the origin of an account admits.
fn address_in(host: &str) -> Option<IpAddr> {
    if host == "%" {
        return "192.0.2.77".parse().ok();
    }
    host.split('/').next().unwrap_or(host).replace(['%', '_'], "7").parse().ok()
}

/// Statements that read and change each table and view, column by column, for each session.
fn of_mariadb(state: &mariadb::State, args: &Trial, at: Timestamp) -> Vec<Try> {
    let mut list = Vec::new();
    for who in accounts_of_mariadb(state, args) {
        let mut put = |sort: &'static str, line: String| {
            let mut question = Question::statement(&who.user, &args.system, &line).at(at);
            question.session = who.session.clone();
            list.push(Try { sort, question });
        };
        for (object, entry) in &state.objects {
            let name = object.sql();
            match object.class {
                mariadb::Class::Table => {
                    for (column, _) in &entry.columns {
                        let column = mariadb::quoted(column);
                        put("reading columns", format!("SELECT {column} FROM {name}"));
                        put("changing columns", format!("INSERT INTO {name} ({column}) VALUES (DEFAULT)"));
                        put("changing columns", format!("UPDATE {name} SET {column} = NULL"));
                    }
                    put("removing rows", format!("DELETE FROM {name}"));
                    put("what is shown", format!("SHOW CREATE TABLE {name}"));
                    put("what is shown", format!("SHOW COLUMNS FROM {name}"));
                }
                mariadb::Class::View => entry.columns.iter().for_each(|(column, _)| {
                    put("reading columns", format!("SELECT {} FROM {name}", mariadb::quoted(column)));
                }),
                _ => {}
            }
        }
    }
    list
}

fn carry_out(
    engine: &Engine,
    tries: Vec<Try>,
    report: &mut Report,
    mut ask: impl FnMut(&Question, &Answer) -> Result<Theirs>,
) -> Result<()> {
    let bar = progress::of_steps(tries.len() as u64);
    for Try { sort, question } in tries {
        bar.inc(1);
        let answer = engine.explain(&question);
        let stage = answer.refusal.map(Refusal::stage);
        let row = report.rows.entry(sort).or_default();
        if matches!(stage, Some(Stage::Entry | Stage::Conditions)) && answer.refusal != Some(Refusal::NotDecided) {
            row.not_tried += 1;
            let why = answer.first_refusal().map_or_else(String::new, |gate| gate.text.clone());
            *report.not_tried.entry(format!("decided before the server is asked: {why}")).or_default() += 1;
            continue;
        }
        let theirs = ask(&question, &answer)?;
        let is_undecided = matches!(answer.refusal, Some(Refusal::NotDecided | Refusal::StatementUnreadable));
        let is_allowed = answer.verdict != Verdict::Denied;
        match theirs {
            Theirs::NotTried(why) => {
                row.not_tried += 1;
                *report.not_tried.entry(why).or_default() += 1;
            }
            Theirs::Allowed | Theirs::Refused(_) if is_undecided => row.not_decided += 1,
            Theirs::Allowed if is_allowed => row.allowed_by_both += 1,
            Theirs::Refused(_) if !is_allowed => row.refused_by_both += 1,
            Theirs::Allowed | Theirs::Refused(_) => {
                row.disagree += 1;
                report.disagreements.push(Disagreement {
                    account: answer.account.clone().unwrap_or_default(),
                    role: question.session.active_roles.as_ref().and_then(|roles| roles.first().cloned()),
                    line: question.line.clone(),
                    server: if let Theirs::Refused(text) = theirs { format!("refuses: {text}") } else { "allows it".to_owned() },
                    answer: answer.first_refusal().map_or_else(|| "allowed".to_owned(), |gate| format!("denied: {}", gate.text)),
                });
            }
        }
    }
    bar.finish_and_clear();
    report.disagreements.sort_by_key(|found| (found.line.len(), found.line.clone(), found.account.clone()));
    Ok(())
}

fn in_rows(report: &Report) -> Table {
    let Report { format: _, system, at, server, live, rows, disagreements, not_tried } = report;
    let whom = live.as_ref().map_or_else(|| format!("a private {server}"), |target| format!("the {server} itself, at {target}"));
    let columns = ["asked", "allowed by both", "refused by both", "disagree", "not decided", "not tried"].map(words);
    let mut table = Table::new(format!("Trial of `{system}` at {at}, on {whom}"), columns);
    for (sort, Row { allowed_by_both, refused_by_both, disagree, not_decided, not_tried }) in rows {
        let [allowed, refused, disagree, open, left] =
            [allowed_by_both, refused_by_both, disagree, not_decided, not_tried].map(|count| Cell::from(count.to_string()));
        table.row([(*sort).into(), allowed, refused, disagree, open, left]);
    }
    for Disagreement { account, role, line, server, answer } in disagreements {
        let role = role.as_ref().map_or_else(String::new, |role| format!(" as `{role}`"));
        table.remark(format!("disagree: `{account}`{role}: `{line}`: the server {server}; we say: {answer}"));
    }
    not_tried.iter().for_each(|(why, count)| table.remark(format!("not tried: {count}: {why}")));
    table
}

fn tell(report: &Report) {
    say!("{HEAD}trial of {}{HEAD:#}, at {}", visible(&report.system), report.at);
    match &report.live {
        None => say!(
            "{FAINT}a private {} with the schema and rights of the ledger, and no rows; read back, nothing differs{FAINT:#}\n",
            report.server
        ),
        Some(target) => say!(
            "{FAINT}the {} itself, at {target}; statements were put to it as EXPLAIN, and nothing was changed{FAINT:#}\n",
            report.server
        ),
    }
    let mut table = comfy_table::Table::new();
    table.load_style(comfy_table::presets::NOTHING);
    table.set_header(["asked", "allowed by both", "refused by both", "disagree", "not decided", "not tried"]);
    for (sort, row) in &report.rows {
        let Row { allowed_by_both, refused_by_both, disagree, not_decided, not_tried } = row;
        let numbers = [allowed_by_both, refused_by_both, disagree, not_decided, not_tried];
        table.add_row(std::iter::once((*sort).to_owned()).chain(numbers.iter().map(ToString::to_string)));
    }
    for column in table.column_iter_mut().skip(1) {
        column.set_cell_alignment(comfy_table::CellAlignment::Right);
    }
    say!("{}", table.to_string().lines().map(str::trim_end).collect::<Vec<_>>().join("\n"));
    let mut out = String::new();
    for found in report.disagreements.iter().take(SHOWN) {
        let role = found.role.as_ref().map_or(String::new(), |role| format!(" as {}", visible(role)));
        let _ = writeln!(out, "\n{BAD}disagree{BAD:#}  {}{role}: {}", visible(&found.account), visible(&found.line));
        let _ = writeln!(out, "  the server {}", hanging("  ", &visible(&found.server)));
        let _ = writeln!(out, "  we say: {}", hanging("  ", &visible(&found.answer)));
    }
    if report.disagreements.len() > SHOWN {
        let _ = writeln!(out, "\n{} more disagreements", report.disagreements.len() - SHOWN);
    }
    if !report.not_tried.is_empty() {
        let _ = writeln!(out, "\nnot tried:");
        for (why, count) in &report.not_tried {
            let _ = writeln!(out, "  {count:>5}  {}", hanging("         ", &visible(why)));
        }
    }
    put!("{out}");
    if report.disagreements.is_empty() {
        say!("\n{GOOD}the server says the same wherever both decide{GOOD:#}");
    }
}
