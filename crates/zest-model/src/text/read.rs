//! Reads a TOML document into entries.

use std::ops::Range;

use jiff::{SignedDuration, Timestamp, ToSpan, civil::Date, tz::TimeZone};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::format::DOCUMENT;
use super::shape::{Checker, OutsideTable};
use crate::entries::{Entries, OutsideEntry};
use crate::entry::{
    Abbreviation, Account, ActAs, Apart, Assignment, Assumable, Authorisation, AuthorisedLevels, Band, BareElevation, Ceiling, Channel,
    Command, CommandSet, Credential, CredentialRule, Database, DatabaseGrant, DatabaseObject, DatabaseRole, Does, Grant, Group, Host,
    HostAccount, IdentitySource, Job, Kind, Mode, NameCase, Notices, ObjectType, Obligations, On, Operation, OriginNetworks, Otherwise,
    OwnLevel, Proof, Resource, Role, Rule, RuleVerb, RunAs, RunsAs, Separation, Service, System, Unrestricted, User, UserKind, Vocabulary,
    When, WhenCentralDown,
};
use crate::finding::{Code, Finding};
use crate::shape::Source;
use crate::source::{At, SourceId, visible};

/// How many syntax errors of one document are reported one by one.
const SYNTAX_ERRORS_SHOWN: usize = 50;

/// Reads one document; what cannot be read is reported and the rest is kept.
pub fn read_document(
    text: &str,
    source: SourceId,
    (kinds, outside): (&[&'static str], &[OutsideTable]),
    entries: &mut Entries,
    findings: &mut Vec<Finding>,
) {
    let (document, errors) = DeTable::parse_recoverable(text);
    let mut checker = Checker { outside, kinds, source, findings };
    for (count, error) in errors.iter().enumerate() {
        let span = error.span().unwrap_or(0..0);
        let place = checker.place(widened(text, span));
        if count == SYNTAX_ERRORS_SHOWN {
            let rest = errors.len() - count;
            checker.findings.push(Finding::new(Code::Syntax, format!("{rest} more syntax errors follow in this document")).at(place, ""));
            break;
        }
        let (message, help) = syntax_message(error.message());
        checker.findings.push(Finding::new(Code::Syntax, message).at(place, "").help(help));
    }
    checker.table(document.get_ref(), &(0..0), &DOCUMENT);
    let mut reader = Reader { checker };
    let root = Fields(document.get_ref());
    if let Some(version) = reader.whole::<i64>(&root, "format")
        && version.value != 1
    {
        let finding = Finding::new(Code::UnknownVersion, format!("this program reads format 1, not {}", version.value))
            .at(version.place, "unknown version")
            .help("use a newer program, or write the document in format 1");
        reader.checker.findings.push(finding);
    }
    for (id, fields) in reader.map(&root, "users") {
        entries.users.push(reader.user(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "groups") {
        entries.groups.push(reader.group(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "origins") {
        let mut origin = OriginNetworks::at(id);
        origin.remark = reader.text(&fields, "remark");
        origin.networks = reader.texts(&fields, "networks");
        entries.origins.push(origin.into());
    }
    for (id, fields) in reader.map(&root, "systems") {
        entries.systems.push(reader.system(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "vocabularies") {
        entries.vocabularies.push(reader.vocabulary(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "command-sets") {
        entries.command_sets.push(reader.command_set(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "roles") {
        entries.roles.push(reader.role(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "databases") {
        entries.databases.push(reader.database(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "clouds").into_iter().chain(reader.map(&root, "applications")) {
        entries.services.push(reader.service(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "hosts") {
        entries.hosts.push(reader.host(id, &fields).into());
    }
    for (id, fields) in reader.map(&root, "credential-rules") {
        let mut rule = CredentialRule::at(id);
        rule.of = reader.texts(&fields, "of");
        rule.shortest = reader.whole(&fields, "shortest");
        rule.oldest_days = reader.whole(&fields, "oldest-days");
        entries.credential_rules.push(rule.into());
    }
    for (id, fields) in reader.map(&root, "separations") {
        let mut separation = Separation::at(id);
        separation.roles = reader.texts(&fields, "roles");
        separation.never = reader.word(&fields, "never", Apart::from_word);
        separation.because = reader.text(&fields, "because");
        entries.separations.push(separation.into());
    }
    for table in outside {
        for (id, fields) in reader.map(&root, table.name) {
            let kept = (table.read)(&mut Row { reader: &mut reader, fields: &fields });
            entries.outside.push(OutsideEntry { table: table.name, id, kept }.into());
        }
    }
    for (span, fields) in tables(&root, "assignments") {
        entries.assignments.push(reader.assignment(span, &fields).into());
    }
}

/// Gives an empty span the character it stands before, so that there is something to underline.
fn widened(text: &str, span: Range<usize>) -> Range<usize> {
    let end = span.end.min(text.len());
    let start = span.start.min(end);
    if start < end {
        return start..end;
    }
    match text[start..].chars().next() {
        Some(c) if c != '\n' => start..start + c.len_utf8(),
        _ => start..start,
    }
}

fn syntax_message(message: &str) -> (String, String) {
    let (what, expected) = message.split_once(", expected ").unwrap_or((message, ""));
    let help = match (what, expected) {
        ("duplicate key", _) => {
            "each key may stand once in a table, and each id once in the ledger: merge the two, or rename one".to_owned()
        }
        (_, "") => "compare the line with the TOML 1.1 rules".to_owned(),
        (_, wanted) => format!("expected {}", visible(wanted)),
    };
    (visible(what), help)
}

/// The fields of one table.
#[derive(Debug)]
struct Fields<'a, 'i>(&'a DeTable<'i>);

impl<'a, 'i> Fields<'a, 'i> {
    fn get(&self, key: &str) -> Option<&'a Spanned<DeValue<'i>>> {
        self.0.get(key).filter(|v| v.span() != (0..0))
    }
}

fn tables<'a, 'i>(fields: &Fields<'a, 'i>, key: &str) -> Vec<(Range<usize>, Fields<'a, 'i>)> {
    let Some(DeValue::Array(items)) = fields.get(key).map(Spanned::get_ref) else { return Vec::new() };
    items.iter().filter_map(|item| item.get_ref().as_table().map(|t| (item.span(), Fields(t)))).collect()
}

/// A row of a table of a kind from outside, checked against its shape: values that do not fit are left out, and reported.
#[derive(Debug)]
pub struct Row<'r, 'f, 'd> {
    reader: &'r mut Reader<'f>,
    fields: &'r Fields<'d, 'd>,
}

impl Row<'_, '_, '_> {
    /// Returns a text.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<At<String>> {
        self.reader.text(self.fields, key)
    }

    /// Returns a list of texts.
    #[must_use]
    pub fn texts(&self, key: &str) -> Vec<At<String>> {
        self.reader.texts(self.fields, key)
    }

    /// Returns `true` or `false`.
    #[must_use]
    pub fn flag(&self, key: &str) -> Option<At<bool>> {
        self.reader.flag(self.fields, key)
    }

    /// Returns a whole number.
    #[must_use]
    pub fn whole(&self, key: &str) -> Option<At<i64>> {
        self.reader.whole(self.fields, key)
    }

    /// Returns a moment; a plain date under `until` is the end of that day.
    #[must_use]
    pub fn moment(&mut self, key: &str) -> Option<At<Timestamp>> {
        self.reader.moment(self.fields, key)
    }

    /// Returns conditions, of the shape `WHEN`.
    #[must_use]
    pub fn when(&mut self, key: &str) -> When {
        self.reader.when(self.fields, key)
    }

    /// Returns obligations under `after`, of the shape `AFTER`.
    #[must_use]
    pub fn after(&mut self) -> Obligations {
        self.reader.obligations(self.fields).unwrap_or_default()
    }

    /// Reads the rows of a table below this one, each by its name.
    pub fn rows<T>(&mut self, key: &str, mut read: impl FnMut(At<String>, &mut Row<'_, '_, '_>) -> T) -> Vec<T> {
        let rows = self.reader.map(self.fields, key);
        rows.into_iter().map(|(name, fields)| read(name, &mut Row { reader: self.reader, fields: &fields })).collect()
    }
}

impl Source for Row<'_, '_, '_> {
    fn text(&self, key: &str) -> Option<At<String>> {
        self.reader.text(self.fields, key)
    }

    fn texts(&self, key: &str) -> Vec<At<String>> {
        self.reader.texts(self.fields, key)
    }

    fn flag(&self, key: &str) -> Option<At<bool>> {
        self.reader.flag(self.fields, key)
    }

    fn length(&mut self, key: &str) -> Option<At<SignedDuration>> {
        self.reader.length(self.fields, key)
    }
}

/// Takes values out of tables that have been checked already: what does not fit is skipped in silence here.
#[derive(Debug)]
struct Reader<'f> {
    checker: Checker<'f>,
}

impl Reader<'_> {
    fn at<T>(&self, value: T, span: Range<usize>) -> At<T> {
        At::new(value, self.checker.place(span))
    }

    fn text(&self, fields: &Fields<'_, '_>, key: &str) -> Option<At<String>> {
        self.as_text(fields.get(key)?)
    }

    fn as_text(&self, value: &Spanned<DeValue<'_>>) -> Option<At<String>> {
        value.get_ref().as_str().map(|s| self.at(s.to_owned(), value.span()))
    }

    fn texts(&self, fields: &Fields<'_, '_>, key: &str) -> Vec<At<String>> {
        let Some(DeValue::Array(items)) = fields.get(key).map(Spanned::get_ref) else { return Vec::new() };
        items.iter().filter_map(|v| self.as_text(v)).collect()
    }

    fn flag(&self, fields: &Fields<'_, '_>, key: &str) -> Option<At<bool>> {
        let value = fields.get(key)?;
        value.get_ref().as_bool().map(|b| self.at(b, value.span()))
    }

    fn whole<T: TryFrom<i64>>(&self, fields: &Fields<'_, '_>, key: &str) -> Option<At<T>> {
        let value = fields.get(key)?;
        let number = as_whole(value.get_ref())?;
        T::try_from(number).ok().map(|n| self.at(n, value.span()))
    }

    fn level(&self, fields: &Fields<'_, '_>, key: &str) -> Option<At<u8>> {
        self.whole::<u8>(fields, key).filter(|l| l.value <= 15)
    }

    fn word<T>(&self, fields: &Fields<'_, '_>, key: &str, parse: fn(&str) -> Option<T>) -> Option<At<T>> {
        let text = self.text(fields, key)?;
        parse(&text.value).map(|value| At::new(value, text.place))
    }

    fn words<T>(&self, fields: &Fields<'_, '_>, key: &str, parse: fn(&str) -> Option<T>) -> Vec<At<T>> {
        worded(self.texts(fields, key), parse)
    }

    fn table<'a, 'i>(&self, fields: &Fields<'a, 'i>, key: &str) -> Option<(Range<usize>, Fields<'a, 'i>)> {
        let value = fields.get(key)?;
        value.get_ref().as_table().map(|t| (value.span(), Fields(t)))
    }

    fn map<'a, 'i>(&self, fields: &Fields<'a, 'i>, key: &str) -> Vec<(At<String>, Fields<'a, 'i>)> {
        let Some(DeValue::Table(table)) = fields.get(key).map(Spanned::get_ref) else { return Vec::new() };
        let mut rows: Vec<_> = table
            .iter()
            .filter_map(|(id, value)| value.get_ref().as_table().map(|t| (self.at(id.get_ref().to_string(), id.span()), Fields(t))))
            .collect();
        rows.sort_by_key(|(id, _)| id.place);
        rows
    }

    fn length(&mut self, fields: &Fields<'_, '_>, key: &str) -> Option<At<SignedDuration>> {
        let text = self.text(fields, key)?;
        match text.value.parse::<SignedDuration>() {
            Ok(length) if !length.is_negative() => Some(At::new(length, text.place)),
            _ => {
                self.bad_value(&text, "a length of time", "write it like \"45s\", \"10m\", \"1h 30m\" or \"8h\"");
                None
            }
        }
    }

    fn bad_value(&mut self, text: &At<String>, what: &str, help: &str) {
        let finding =
            Finding::new(Code::BadValue, format!("`{}` is not {what}", visible(&text.value))).at(text.place, "cannot be read").help(help);
        self.checker.findings.push(finding);
    }

    /// Reads a moment; a plain date means its first moment, or as an end the first moment after it, in UTC.
    fn moment(&mut self, fields: &Fields<'_, '_>, key: &str) -> Option<At<Timestamp>> {
        let value = fields.get(key)?;
        let DeValue::Datetime(written) = value.get_ref() else { return None };
        let text = written.to_string();
        let moment = if written.time.is_none() {
            let date = text.parse::<Date>().ok();
            let date = if key == "until" { date.and_then(|d| d.checked_add(1.day()).ok()) } else { date };
            date.and_then(|d| d.to_zoned_datetime(TimeZone::UTC).ok()).map(|z| z.timestamp())
        } else {
            text.parse::<Timestamp>().ok()
        };
        let place = self.checker.place(value.span());
        if moment.is_none() {
            self.bad_value(
                &At::new(text, place),
                "a moment",
                "write a date, or a date and time with its offset: 2027-03-31T18:00:00+02:00",
            );
        }
        moment.map(|m| At::new(m, place))
    }

    fn window(&mut self, from: Option<&At<Timestamp>>, until: Option<&At<Timestamp>>) {
        if let (Some(from), Some(until)) = (from, until)
            && from.value >= until.value
        {
            let finding = Finding::new(Code::EmptyWindow, "`until` is not after `from`, so the entry never holds")
                .at(until.place, "ends here")
                .also(from.place, "starts here")
                .help("swap the two, or mend the year");
            self.checker.findings.push(finding);
        }
    }

    fn kind(&self, fields: &Fields<'_, '_>) -> Option<At<Kind>> {
        let text = self.text(fields, "kind")?;
        let word = self.checker.kinds.iter().find(|known| **known == text.value)?;
        Some(At::new(Kind::new(word), text.place))
    }

    fn user(&mut self, id: At<String>, fields: &Fields<'_, '_>) -> User {
        let mut user = User::at(id);
        user.name = self.text(fields, "name");
        user.remark = self.text(fields, "remark");
        user.path = self.text(fields, "path");
        user.kind = self.word(fields, "kind", UserKind::from_word);
        user.proofs = self.words(fields, "proofs", Proof::from_word);
        user.channels = fields.get("channels").map(|_| self.words(fields, "channels", Channel::from_word));
        user.disabled = self.flag(fields, "disabled");
        user.from = self.moment(fields, "from");
        user.until = self.moment(fields, "until");
        self.window(user.from.as_ref(), user.until.as_ref());
        user.must_change_credential = self.flag(fields, "must-change-credential");
        user.attributes = self.pairs(fields, "attributes");
        user.credential_set = self.moment(fields, "credential-set");
        user.credential_length = self.whole(fields, "credential-length");
        user
    }

    fn group(&self, id: At<String>, fields: &Fields<'_, '_>) -> Group {
        let mut group = Group::at(id);
        group.name = self.text(fields, "name");
        group.remark = self.text(fields, "remark");
        group.members = self.texts(fields, "members");
        group.owners = self.texts(fields, "owners");
        group.directory = self.text(fields, "directory");
        group
    }

    fn system(&mut self, id: At<String>, fields: &Fields<'_, '_>) -> System {
        let mut system = System::at(id);
        system.kind = self.kind(fields);
        system.name = self.text(fields, "name");
        system.remark = self.text(fields, "remark");
        system.address = self.text(fields, "address");
        system.within = self.text(fields, "within");
        system.vocabulary = self.text(fields, "vocabulary");
        system.no_command_set = self.word(fields, "no-command-set", Unrestricted::from_word);
        system.name_case = self.word(fields, "name-case", NameCase::from_word);
        system.when_central_down = self.word(fields, "when-central-down", WhenCentralDown::from_word);
        system.privileged_at_sign_in = self.flag(fields, "privileged-at-sign-in");
        if let Some(value) = fields.get("identity-sources") {
            let order = self.words(fields, "identity-sources", IdentitySource::from_word).into_iter().map(|s| s.value).collect();
            system.identity_sources = Some(self.at(order, value.span()));
        }
        if let Some((_, labels)) = self.table(fields, "labels") {
            for (key, value) in labels.0 {
                if let Some(text) = self.as_text(value) {
                    system.labels.push((self.at(key.get_ref().to_string(), key.span()), text));
                }
            }
        }
        if let Some((span, rule)) = self.table(fields, "authorisation") {
            system.authorisation = self.authorisation(&rule).map(|a| self.at(a, span));
        }
        for (_, row) in tables(fields, "own-levels") {
            if let (Some(command), Some(level)) = (self.text(&row, "command"), self.level(&row, "level")) {
                system.own_levels.push(OwnLevel { command, level });
            }
        }
        if let Some((span, notices)) = self.table(fields, "notices") {
            let text = |key| self.text(&notices, key).map(|t| t.value);
            system.notices = Some(self.at(Notices { before: text("before"), after: text("after") }, span));
        }
        for (login, fields) in self.map(fields, "accounts") {
            system.accounts.push(self.account(login, &fields));
        }
        system.database = self.text(fields, "database");
        for (channel, proofs) in self.lists(fields, "accepts") {
            if let Some(channel) = self.known(&channel, Channel::WORDS, Channel::from_word) {
                system.accepts.push((channel, worded(proofs, Proof::from_word)));
            }
        }
        system
    }

    fn database(&mut self, system: At<String>, fields: &Fields<'_, '_>) -> Database {
        let mut database = Database::at(system);
        database.owner = self.text(fields, "owner");
        for (name, row) in self.map(fields, "accounts") {
            database.accounts.push(self.database_role(name, &row));
        }
        for (name, row) in self.map(fields, "roles") {
            database.roles.push(self.database_role(name, &row));
        }
        for (name, row) in self.map(fields, "objects") {
            database.objects.push(self.database_object(name, &row));
        }
        for (span, row) in tables(fields, "grants") {
            database.grants.push(self.database_grant(span, &row));
        }
        for (span, row) in tables(fields, "default-grants") {
            database.default_grants.push(self.database_grant(span, &row));
        }
        database.not_modelled = self.texts(fields, "not-modelled");
        database
    }

    fn database_role(&mut self, name: At<String>, fields: &Fields<'_, '_>) -> DatabaseRole {
        let mut role = DatabaseRole::at(name);
        role.remark = self.text(fields, "remark");
        role.used_by = self.texts(fields, "used-by");
        role.may = self.texts(fields, "may");
        role.inherit = self.flag(fields, "inherit");
        role.member_of = self.texts(fields, "member-of");
        role.administers = self.texts(fields, "administers");
        role.default_role = self.text(fields, "default-role");
        role.connection_limit = self.whole(fields, "connection-limit");
        role.until = self.moment(fields, "until");
        role.locked = self.flag(fields, "locked");
        role.credential = self.word(fields, "credential", Credential::from_word);
        role.not_modelled = self.texts(fields, "not-modelled");
        if let Some((_, limits)) = self.table(fields, "limits") {
            for (key, _) in limits.0 {
                if let Some(number) = self.whole(&limits, key.get_ref()) {
                    role.limits.push((self.at(key.get_ref().to_string(), key.span()), number));
                }
            }
        }
        role
    }

    /// Reads a table of texts by name, in the order in which it is written.
    fn pairs(&self, fields: &Fields<'_, '_>, key: &str) -> Vec<(At<String>, At<String>)> {
        let Some((_, table)) = self.table(fields, key) else { return Vec::new() };
        let mut pairs: Vec<_> =
            table.0.iter().filter_map(|(k, v)| Some((self.at(k.get_ref().to_string(), k.span()), self.as_text(v)?))).collect();
        pairs.sort_by_key(|(k, _)| k.place);
        pairs
    }

    fn database_object(&self, name: At<String>, fields: &Fields<'_, '_>) -> DatabaseObject {
        let mut object = DatabaseObject::at(name);
        object.remark = self.text(fields, "remark");
        object.owner = self.text(fields, "owner");
        object.columns = self.pairs(fields, "columns");
        let bare = self.texts(fields, "columns").into_iter().map(|c| (c.clone(), At::new(String::new(), c.place)));
        object.columns.extend(bare);
        object.defaults = self.pairs(fields, "defaults");
        object.query = self.text(fields, "query");
        object.runs_as = self.word(fields, "runs-as", RunsAs::from_word);
        object.row_security = self.flag(fields, "row-security");
        object.parameters = self.text(fields, "parameters");
        object.returns = self.text(fields, "returns");
        object.language = self.text(fields, "language");
        object.body = self.text(fields, "body");
        object.values = self.texts(fields, "values");
        object.wrapper = self.text(fields, "wrapper");
        object.not_modelled = self.texts(fields, "not-modelled");
        object
    }

    fn database_grant(&mut self, span: Range<usize>, fields: &Fields<'_, '_>) -> DatabaseGrant {
        let mut grant = DatabaseGrant::at(self.checker.place(span));
        grant.allow = self.texts(fields, "allow");
        grant.revoke = self.texts(fields, "revoke");
        grant.deny = self.texts(fields, "deny");
        grant.except = self.texts(fields, "except");
        grant.on = self.texts(fields, "on");
        grant.on.extend(self.text(fields, "on"));
        grant.columns = self.texts(fields, "columns");
        grant.to = self.texts(fields, "to");
        grant.to.extend(self.texts(fields, "from"));
        grant.regrant = self.flag(fields, "regrant");
        grant.cascade = self.flag(fields, "cascade");
        grant.grantor = self.text(fields, "grantor");
        grant.creator = self.text(fields, "creator");
        grant.because = self.text(fields, "because");
        grant.until = self.moment(fields, "until");
        grant
    }

    fn authorisation(&self, fields: &Fields<'_, '_>) -> Option<Authorisation> {
        let levels = match fields.get("levels")?.get_ref() {
            DeValue::Array(items) => {
                AuthorisedLevels::Listed(items.iter().filter_map(|v| u8::try_from(as_whole(v.get_ref())?).ok()).collect())
            }
            DeValue::String(word) if word == "all" => AuthorisedLevels::All,
            _ => AuthorisedLevels::Listed(Vec::new()),
        };
        Some(Authorisation { levels, configuration: self.flag(fields, "configuration")?.value })
    }

    fn account(&self, login: At<String>, fields: &Fields<'_, '_>) -> Account {
        let mut account = Account::at(login);
        account.remark = self.text(fields, "remark");
        account.band = self.band(fields);
        account.used_by = self.texts(fields, "used-by");
        account.origin = fields.get("origin").map(|_| self.texts(fields, "origin"));
        account.locked = self.flag(fields, "locked");
        account.credential = self.word(fields, "credential", Credential::from_word);
        account.emergency = self.flag(fields, "emergency");
        account.commands = self.texts(fields, "commands");
        account
    }

    fn band(&self, fields: &Fields<'_, '_>) -> Option<Band> {
        let (_, band) = self.table(fields, "band")?;
        Some(Band { start: self.level(&band, "start")?, ceiling: self.level(&band, "ceiling")? })
    }

    fn vocabulary(&self, id: At<String>, fields: &Fields<'_, '_>) -> Vocabulary {
        let mut vocabulary = Vocabulary::at(id);
        vocabulary.name = self.text(fields, "name");
        vocabulary.remark = self.text(fields, "remark");
        vocabulary.start_mode = self.text(fields, "start-mode");
        vocabulary.bare_elevation = self.word(fields, "bare-elevation", BareElevation::from_word);
        vocabulary.abbreviation = self.word(fields, "abbreviation", Abbreviation::from_word);
        for (name, mode) in self.map(fields, "modes") {
            let text = |key| self.text(&mode, key).map(|t| t.value);
            vocabulary.modes.push(Mode {
                name,
                prompt: text("prompt"),
                raised_prompt: text("raised-prompt"),
                configuration: self.flag(&mode, "configuration").is_some_and(|f| f.value),
            });
        }
        for (_, row) in tables(fields, "commands") {
            let Some(line) = self.text(&row, "line") else { continue };
            let mut command = Command::at(line);
            command.modes = self.texts(&row, "in");
            command.level = self.level(&row, "level");
            command.does = self.word(&row, "does", Does::from_word);
            command.enters = self.text(&row, "enters");
            command.about = self.text(&row, "about");
            vocabulary.commands.push(command);
        }
        vocabulary
    }

    fn command_set(&mut self, id: At<String>, fields: &Fields<'_, '_>) -> CommandSet {
        let mut set = CommandSet::at(id);
        set.remark = self.text(fields, "remark");
        set.otherwise = self.word(fields, "otherwise", Otherwise::from_word);
        if let Some(DeValue::Array(items)) = fields.get("rules").map(Spanned::get_ref) {
            for item in items {
                let rule = match item.get_ref() {
                    DeValue::Table(table) => self.rule_table(item.span(), &Fields(table)),
                    _ => self.as_text(item).and_then(|text| self.rule_text(&text)),
                };
                set.rules.extend(rule);
            }
        }
        set
    }

    /// Reads `allow PATTERN`, `deny PATTERN` or `include SET`.
    fn rule_text(&mut self, text: &At<String>) -> Option<Rule> {
        let trimmed = text.value.trim();
        let (verb, rest) = trimmed.split_once(char::is_whitespace).unwrap_or((trimmed, ""));
        match RuleVerb::from_word(verb) {
            Some(verb) if !rest.trim().is_empty() => {
                Some(Rule { verb, text: At::new(rest.trim().to_owned(), text.place), after: None, because: None })
            }
            _ => {
                let finding = Finding::new(Code::BadPattern, format!("the rule `{}` cannot be read", visible(trimmed)))
                    .at(text.place, "expected `allow PATTERN`, `deny PATTERN` or `include SET`")
                    .help("a rule begins with one of these words and says what it is about: \"allow show release\"");
                self.checker.findings.push(finding);
                None
            }
        }
    }

    fn rule_table(&mut self, span: Range<usize>, fields: &Fields<'_, '_>) -> Option<Rule> {
        let mut given = Vec::new();
        for verb in [RuleVerb::Allow, RuleVerb::Deny, RuleVerb::Include] {
            given.extend(self.text(fields, verb.word()).map(|text| (verb, text)));
        }
        let after = self.obligations(fields).map(Box::new);
        let because = self.text(fields, "because");
        let place = self.checker.place(span);
        match (<[_; 1]>::try_from(given), &after) {
            (Ok([(RuleVerb::Allow, text)]), _) => Some(Rule { verb: RuleVerb::Allow, text, after, because }),
            (Ok([(verb, text)]), None) => Some(Rule { verb, text, after, because }),
            _ => {
                let finding = Finding::new(Code::BadPattern, "a rule in table form has one of `allow`, `deny` and `include`")
                    .at(place, "exactly one is expected; `after` goes with `allow` only")
                    .help("write one table for each rule");
                self.checker.findings.push(finding);
                None
            }
        }
    }

    fn role(&mut self, id: At<String>, fields: &Fields<'_, '_>) -> Role {
        let mut role = Role::at(id);
        role.name = self.text(fields, "name");
        role.remark = self.text(fields, "remark");
        role.includes = self.texts(fields, "includes");
        role.band = self.band(fields);
        role.commands = self.texts(fields, "commands");
        role.grants = self.grants(fields);
        role.assumable = self.table(fields, "assumable").map(|(span, row)| Assumable {
            place: Some(self.checker.place(span)),
            by: self.texts(&row, "by"),
            when: self.when(&row, "when"),
            longest: self.length(&row, "longest"),
            may_state: self.texts(&row, "may-state"),
        });
        role
    }

    fn assignment(&mut self, span: Range<usize>, fields: &Fields<'_, '_>) -> Assignment {
        let mut assignment = Assignment::at(self.checker.place(span));
        assignment.to = self.texts(fields, "to");
        assignment.roles = self.texts(fields, "roles");
        assignment.rank = self.whole(fields, "rank");
        assignment.from = self.moment(fields, "from");
        assignment.until = self.moment(fields, "until");
        self.window(assignment.from.as_ref(), assignment.until.as_ref());
        assignment.because = self.text(fields, "because");
        if let Some((span, on)) = self.table(fields, "on") {
            assignment.on = self.on(span, &on);
        }
        assignment.when = self.when(fields, "when");
        assignment
    }

    fn when(&mut self, fields: &Fields<'_, '_>, key: &str) -> When {
        let Some((_, when)) = self.table(fields, key) else { return When::default() };
        When::read(&mut Row { reader: self, fields: &when })
    }

    fn obligations(&mut self, fields: &Fields<'_, '_>) -> Option<Obligations> {
        let (_, after) = self.table(fields, "after")?;
        Some(self.duties(&after))
    }

    fn duties(&mut self, after: &Fields<'_, '_>) -> Obligations {
        Obligations::read(&mut Row { reader: self, fields: after })
    }

    fn service(&mut self, system: At<String>, fields: &Fields<'_, '_>) -> Service {
        let mut service = Service::at(system);
        service.interface = self.text(fields, "interface");
        for (name, row) in self.map(fields, "operations") {
            service.operations.push(Operation { name, reads: self.flag(&row, "reads"), about: self.text(&row, "about") });
        }
        service.operation_groups = self.lists(fields, "operation-groups");
        service.addresses = self.pairs(fields, "addresses");
        for (path, row) in self.map(fields, "resources").into_iter().chain(self.map(fields, "objects")) {
            let mut resource = Resource::at(path);
            resource.remark = self.text(&row, "remark");
            resource.attributes = self.pairs(&row, "attributes");
            resource.after = self.obligations(&row).unwrap_or_default();
            service.resources.push(resource);
        }
        for (name, row) in self.map(fields, "types") {
            let mut object_type = ObjectType::at(name);
            object_type.rights = self.texts(&row, "rights");
            object_type.looks = self.texts(&row, "looks");
            object_type.after = self.obligations(&row).unwrap_or_default();
            for (right, after) in self.map(&row, "rights-after") {
                object_type.rights_after.push((right, self.duties(&after)));
            }
            object_type.second_person_right = self.text(&row, "second-person-right");
            service.types.push(object_type);
        }
        service.grants = self.grants(fields);
        for (span, row) in tables(fields, "ceilings") {
            let mut ceiling = Ceiling::at(self.checker.place(span));
            ceiling.allow = self.texts(&row, "allow");
            ceiling.except = self.texts(&row, "except");
            ceiling.of = self.texts(&row, "of");
            ceiling.within = self.text(&row, "within");
            ceiling.when = self.when(&row, "when");
            service.ceilings.push(ceiling);
        }
        for (span, row) in tables(fields, "acting") {
            let Some(target) = self.text(&row, "as") else { continue };
            let (place, by) = (self.checker.place(span), self.texts(&row, "by"));
            service.acting.push(ActAs { place, target, by, when: self.when(&row, "when") });
        }
        for (channel, channels) in self.lists(fields, "proofs-cover") {
            if let Some(channel) = self.known(&channel, Channel::WORDS, Channel::from_word) {
                service.proofs_cover.push((channel, worded(channels, Channel::from_word)));
            }
        }
        for (proof, operations) in self.lists(fields, "obtains") {
            if let Some(proof) = self.known(&proof, Proof::WORDS, Proof::from_word) {
                service.obtains.push((proof, operations));
            }
        }
        service.session_attributes = self.texts(fields, "session-attributes");
        service.identity_checks = self.flag(fields, "identity-checks");
        service
    }

    fn host(&mut self, system: At<String>, fields: &Fields<'_, '_>) -> Host {
        let mut host = Host::at(system);
        for (login, row) in self.map(fields, "accounts") {
            let mut account = HostAccount::at(login);
            account.remark = self.text(&row, "remark");
            account.shell = self.text(&row, "shell");
            account.used_by = self.texts(&row, "used-by");
            account.origin = row.get("origin").map(|_| self.texts(&row, "origin"));
            account.locked = self.flag(&row, "locked");
            account.until = self.moment(&row, "until");
            account.commands = self.texts(&row, "commands");
            account.commands_of = self.lists(&row, "commands-of");
            account.proof = self.flag(&row, "proof");
            host.accounts.push(account);
        }
        for (span, row) in tables(fields, "run-as") {
            let mut rule = RunAs::at(self.checker.place(span));
            rule.by = self.texts(&row, "by");
            rule.target = self.texts(&row, "as");
            rule.commands = self.texts(&row, "commands");
            rule.proof = self.flag(&row, "proof");
            rule.any_environment = self.flag(&row, "any-environment");
            rule.because = self.text(&row, "because");
            host.run_as.push(rule);
        }
        for (name, row) in self.map(fields, "jobs") {
            let mut job = Job::at(name);
            job.runs_as = self.text(&row, "runs-as");
            job.line = self.text(&row, "line");
            job.edited_by = self.texts(&row, "edited-by");
            host.jobs.push(job);
        }
        host.links = self.pairs(fields, "links");
        host.keep_environment = self.texts(fields, "keep-environment");
        host.proof_lasts = self.length(fields, "proof-lasts");
        host
    }

    fn grants(&mut self, fields: &Fields<'_, '_>) -> Vec<Grant> {
        let mut grants = Vec::new();
        for (span, row) in tables(fields, "grants") {
            let mut grant = Grant::at(self.checker.place(span));
            grant.allow = self.texts(&row, "allow");
            grant.deny = self.texts(&row, "deny");
            grant.except = self.texts(&row, "except");
            grant.on = self.texts(&row, "on");
            grant.on.extend(self.text(&row, "on"));
            grant.except_on = self.texts(&row, "except-on");
            grant.except_on.extend(self.text(&row, "except-on"));
            grant.to = self.texts(&row, "to");
            grant.when = self.when(&row, "when");
            grant.lifted_by = self.when(&row, "lifted-by");
            grant.after = self.obligations(&row).unwrap_or_default();
            grant.from = self.moment(&row, "from");
            grant.until = self.moment(&row, "until");
            self.window(grant.from.as_ref(), grant.until.as_ref());
            grant.because = self.text(&row, "because");
            grants.push(grant);
        }
        grants
    }

    /// Reads a table of lists of texts by name, in the order in which it is written.
    fn lists(&self, fields: &Fields<'_, '_>, key: &str) -> Vec<(At<String>, Vec<At<String>>)> {
        let Some((_, table)) = self.table(fields, key) else { return Vec::new() };
        let name = |k: &Spanned<std::borrow::Cow<'_, str>>| self.at(k.get_ref().to_string(), k.span());
        let mut lists: Vec<_> = table.0.iter().map(|(k, _)| (name(k), self.texts(&table, k.get_ref()))).collect();
        lists.sort_by_key(|(k, _)| k.place);
        lists
    }

    /// Reads a key that is one of several words.
    fn known<T>(&mut self, key: &At<String>, words: &'static [&'static str], parse: fn(&str) -> Option<T>) -> Option<At<T>> {
        let found = parse(&key.value).map(|value| At::new(value, key.place));
        if found.is_none() {
            self.checker.findings.push(
                Finding::new(Code::UnknownWord, format!("`{}` is not known here", visible(&key.value)))
                    .at(key.place, "unknown word")
                    .help(format!("write one of {}", words.join(", "))),
            );
        }
        found
    }

    fn on(&self, span: Range<usize>, fields: &Fields<'_, '_>) -> On {
        let mut on = On {
            place: Some(self.checker.place(span)),
            all: self.flag(fields, "all"),
            systems: self.texts(fields, "systems"),
            within: self.text(fields, "within"),
            labels: Vec::new(),
            at: self.text(fields, "at"),
        };
        if let Some((_, labels)) = self.table(fields, "labels") {
            for (key, value) in labels.0 {
                let values = match value.get_ref() {
                    DeValue::Array(items) => items.iter().filter_map(|v| self.as_text(v)).collect(),
                    _ => self.as_text(value).into_iter().collect(),
                };
                on.labels.push((self.at(key.get_ref().to_string(), key.span()), values));
            }
        }
        on
    }
}

fn worded<T>(texts: Vec<At<String>>, parse: fn(&str) -> Option<T>) -> Vec<At<T>> {
    texts.into_iter().filter_map(|t| parse(&t.value).map(|value| At::new(value, t.place))).collect()
}

fn as_whole(value: &DeValue<'_>) -> Option<i64> {
    match value {
        DeValue::Integer(number) => i64::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok(),
        _ => None,
    }
}
