//! Findings: every code is raised by a small ledger here, documented, and unique.

use std::collections::BTreeSet;

use zest_ledger::finding::{Code, Finding, Severity};
use zest_ledger::review::hygiene;
use zest_ledger::{Engine, Ledger};

use crate::support::codes;

const MAKE: &str = r#"
[vocabularies.make]
modes = { deck = {}, settings = { configuration = true } }
commands = [
  { line = "leave", level = 0, does = "leave-session" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "show level", level = 0, does = "show-level" },
  { line = "show release" },
  { line = "show log", level = 7 },
  { line = "edit settings", enters = "settings" },
  { line = "back", in = ["settings"], level = 0, does = "leave-mode" },
]
[command-sets.everything]
rules = ["allow ..."]
[roles.lead]
band = { start = 15, ceiling = 15 }
commands = ["everything"]
[users.lead-1]
proofs = ["password"]
[groups.leads]
members = ["user:lead-1"]
owners = ["user:lead-1"]
[[assignments]]
to = ["group:leads"]
roles = ["lead"]
on = { all = true }
"#;

/// A cloud, and more about it.
fn cloud(more: &str) -> String {
    format!(
        "[systems.sky]\nkind = \"cloud\"\n[clouds.sky]\nresources.line = {{}}\n\
         [clouds.sky.operations]\n\"records.read\" = {{ reads = true }}\n\"codes.confirm\" = {{}}\n{more}"
    )
}

/// A grant of a cloud, with more in it.
fn grant(more: &str) -> String {
    format!("[[clouds.sky.grants]]\nallow = [\"records.read\"]\non = \"line\"\nto = [\"group:leads\"]\n{more}")
}

/// A deny of a cloud, with more in it.
fn deny(more: &str) -> String {
    format!("[[clouds.sky.grants]]\ndeny = [\"all\"]\non = \"**\"\nto = [\"group:leads\"]\n{more}")
}

/// A host with an account for jobs, and more about it.
fn host(more: &str) -> String {
    format!("[systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n[hosts.box]\naccounts.batch = {{}}\n{more}")
}

/// An application with ramps, and more about it.
fn application(more: &str) -> String {
    format!(
        "[systems.ramps]\nkind = \"application\"\n[applications.ramps]\nobjects.\"ramp/north\" = {{}}\ntypes.ramp.rights = [\"lower\"]\n{more}"
    )
}

const SWITCH: &str = r#"
[systems.switch]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = { levels = "all", configuration = true }
accounts.rescue = { band = { start = 15, ceiling = 15 }, used-by = ["group:leads"], origin = ["192.0.2.0/24"] }
"#;

/// A PostgreSQL server with one account and one role, and more.
fn postgresql(more: &str) -> String {
    format!(
        "[systems.db]\nkind = \"postgresql\"\n[databases.db.accounts.lead-1]\nmember-of = [\"reader\"]\n[databases.db.roles.reader]\nmember-of = [\"pg_monitor\"]\n{more}\n"
    )
}

const TABLE: &str = "[databases.db.objects]\n\"table public.price\" = { columns = { id = \"integer\", amount = \"integer\" } }\n";

/// A MariaDB server with one account and one role, and more.
fn mariadb(more: &str) -> String {
    format!(
        "[systems.db]\nkind = \"mariadb\"\n[databases.db.accounts.\"lead-1@192.0.2.%\"]\nmember-of = [\"reader\"]\ndefault-role = \"reader\"\n[databases.db.roles.reader]\n[[databases.db.grants]]\nallow = [\"select\"]\non = \"database club\"\nto = [\"reader\"]\n{more}\n"
    )
}

/// All findings of a document: errors, or what a review finds.
fn all(text: &str) -> Vec<Finding> {
    let validated = Ledger::new().document("ledger.toml", text).validate();
    let findings = match validated.estate.map(Engine::compile) {
        None => validated.findings,
        Some(Err(findings)) => findings,
        Some(Ok(engine)) => {
            let at = Some("2026-11-25T08:00:00Z".parse().expect("a moment"));
            validated.findings.merged(hygiene(&engine, at)).merged(zest_ledger::ways::unmeant(&engine, at))
        }
    };
    findings.list().to_vec()
}

/// A ledger that raises each code, next to the sound one that it differs from by the text.
fn raising(code: Code) -> String {
    let base = format!("{MAKE}{SWITCH}");
    let with = |more: &str| format!("{base}\n{more}");
    let instead = |from: &str, to: &str| {
        assert!(base.contains(from), "`{from}` is not in the base ledger");
        base.replace(from, to)
    };
    let role = |rules: &str, ceiling: u8| {
        with(&format!(
            "[command-sets.tested]\nrules = [{rules}]\n[roles.tested]\nband = {{ start = 1, ceiling = {ceiling} }}\ncommands = [\"tested\"]\n[users.tester]\nproofs = [\"password\"]\n[groups.testers]\nmembers = [\"user:tester\"]\nowners = [\"user:lead-1\"]\n[[assignments]]\nto = [\"group:testers\"]\nroles = [\"tested\"]\non = {{ all = true }}\n"
        ))
    };
    match code {
        Code::Syntax => with("[users.watch-1"),
        Code::UnknownKey => with("[users.watch-1]\npath = \"a\"\nproof = [\"password\"]"),
        Code::WrongType => with("[users.watch-1]\nname = 7"),
        Code::MissingKey => with("[origins.room]\nremark = \"no networks\""),
        Code::UnknownWord => with("[users.watch-1]\nproofs = [\"pasword\"]"),
        Code::OutOfRange => with("[roles.wide]\nband = { start = 1, ceiling = 16 }"),
        Code::BadName => with("[users.\"\"]\nproofs = [\"password\"]"),
        Code::SecretInLedger => with("[users.watch-1]\npassword = \"correct horse\""),
        Code::BadValue => with("[origins.room]\nnetworks = [\"192.0.2.7/24\"]"),
        Code::RenamedKey => with("[[clouds.sky.grants]]\nunless = {}"),
        Code::UnknownVersion => format!("format = 2\n{base}"),
        Code::EmptyLedger => String::new(),
        Code::NoSystem => MAKE.to_owned(),
        Code::UnknownReference => with("[groups.watch]\nmembers = [\"user:lead-2\"]"),
        Code::BadReference => with("[groups.watch]\nmembers = [\"lead-1\"]"),
        Code::GroupCycle => with("[groups.a]\nmembers = [\"group:b\"]\n[groups.b]\nmembers = [\"group:a\"]"),
        Code::RoleCycle => with("[roles.a]\nincludes = [\"b\"]\n[roles.b]\nincludes = [\"a\"]"),
        Code::CommandSetCycle => with("[command-sets.a]\nrules = [\"include b\"]\n[command-sets.b]\nrules = [\"include a\"]"),
        Code::BadPattern => with("[command-sets.a]\nrules = [\"allow show *\"]"),
        Code::BadBand => with("[roles.a]\nband = { start = 7, ceiling = 1 }"),
        Code::CommandSetTooLarge => {
            let rules: Vec<String> =
                (0..40).map(|i| format!("'allow {}a {} b{i}'", "{word} ".repeat(i), "{word} ".repeat(40 - i))).collect();
            role(&rules.join(", "), 7)
        }
        Code::BadCommand => instead("{ line = \"show release\" },", "{ line = \"show release\" },\n  { line = \"show release\" },"),
        Code::IncompleteSystem => instead("no-command-set = \"nothing\"\n", ""),
        Code::EmptyWindow => with("[users.watch-1]\nfrom = 2026-02-01\nuntil = 2026-01-01"),
        Code::UserWithoutProof => with("[users.watch-1]"),
        Code::UserWithoutAssignment => with("[users.watch-1]\nproofs = [\"password\"]"),
        Code::PersonalAssignment => with("[[assignments]]\nto = [\"user:lead-1\"]\nroles = [\"lead\"]\non = { all = true }"),
        Code::GroupWithoutOwner => with("[groups.watch]\nmembers = [\"user:lead-1\"]"),
        Code::GroupOwnersInactive => {
            with("[users.gone]\ndisabled = true\n[groups.watch]\nmembers = [\"user:lead-1\"]\nowners = [\"user:gone\"]")
        }
        Code::EmptyGroup => with("[groups.watch]\nowners = [\"user:lead-1\"]"),
        Code::DisabledUserKept => {
            with("[users.gone]\ndisabled = true\n[groups.watch]\nmembers = [\"user:gone\"]\nowners = [\"user:lead-1\"]")
        }
        Code::IdsDifferInCase => with("[users.Lead-1]\nproofs = [\"password\"]"),
        Code::RoleUnassigned => with("[roles.spare]\nband = { start = 1, ceiling = 1 }"),
        Code::EmptyRole => with("[roles.spare]"),
        Code::AssignmentCoversNothing => with("[[assignments]]\nto = [\"group:leads\"]\nroles = [\"lead\"]\non = { within = \"nowhere\" }"),
        Code::AssignmentHidden => with("[[assignments]]\nto = [\"group:leads\"]\nroles = [\"lead\"]\non = { systems = [\"switch\"] }"),
        Code::AssignmentWithoutBand => with(
            "[roles.half]\ncommands = [\"everything\"]\n[[assignments]]\nto = [\"group:leads\"]\nroles = [\"half\"]\non = { all = true }",
        ),
        Code::Expired => with("[users.watch-1]\nproofs = [\"password\"]\nuntil = 2026-01-01"),
        Code::RuleHidden => role("\"allow show ...\", \"deny show release\", \"allow leave\"", 1),
        Code::RuleMatchesNoCommand => role("\"allow shwo release\"", 1),
        Code::RuleLevelUnreachable => role("\"allow show log\"", 7),
        Code::CannotLeave => role("\"allow show ...\"", 1),
        Code::CannotShowLevel => role("\"allow leave\"", 1),
        Code::ElevationAboveCeiling => role("\"allow elevate {1-15}\"", 7),
        Code::CeilingUnreachable => role("\"allow leave\"", 7),
        Code::CommandSetUnused => with("[command-sets.spare]\nrules = [\"allow leave\"]"),
        Code::CannotLeaveMode => role("\"allow edit settings\", \"allow leave\"", 1),
        Code::NoEmergencyAccount => instead("accounts.rescue", "# accounts.rescue"),
        Code::AccountFromAnywhere => instead(", origin = [\"192.0.2.0/24\"]", ""),
        Code::AccountWithoutCredential => instead("origin = [\"192.0.2.0/24\"]", "origin = [\"192.0.2.0/24\"], credential = \"missing\""),
        Code::ConfigurationUnauthorised => instead("configuration = true }\naccounts", "configuration = false }\naccounts"),
        Code::LevelUnauthorised => instead("levels = \"all\"", "levels = [1]"),
        Code::NobodyReachesTop => instead("band = { start = 15, ceiling = 15 }\ncommands", "band = { start = 1, ceiling = 7 }\ncommands"),
        Code::OutageLocksOut => instead("accounts.rescue", "when-central-down = \"nothing\"\naccounts.rescue"),
        Code::AccountNeverUsed => instead("accounts.rescue", "identity-sources = [\"central\"]\naccounts.rescue"),
        Code::SystemUncovered => instead("on = { all = true }", "on = { within = \"nowhere\" }"),
        Code::AccountForNobody => instead("used-by = [\"group:leads\"], ", ""),
        Code::BadObject => with(&postgresql("[databases.db.objects]\n\"tabel a.b\" = {}")),
        Code::PrivilegeMisapplied => {
            with(&postgresql("[[databases.db.grants]]\nallow = [\"execute\"]\non = \"database\"\nto = [\"reader\"]"))
        }
        Code::DenyNotKnown => with(&postgresql("[[databases.db.grants]]\ndeny = [\"connect\"]\non = \"database\"\nto = [\"reader\"]")),
        Code::GrantRefused => {
            with(&postgresql("[[databases.db.grants]]\nallow = [\"connect\"]\non = \"database\"\nto = [\"reader\"]\ngrantor = \"reader\""))
        }
        Code::RevokeWithoutEffect => {
            with(&postgresql("[[databases.db.grants]]\nrevoke = [\"create\"]\non = \"database\"\nfrom = [\"reader\"]"))
        }
        Code::DatabaseWithoutServer => with("[databases.switch]"),
        Code::PublicGrant => with(&postgresql("[[databases.db.grants]]\nallow = [\"create\"]\non = \"database\"\nto = [\"public\"]")),
        Code::GrantToAccount => with(&postgresql("[[databases.db.grants]]\nallow = [\"create\"]\non = \"database\"\nto = [\"lead-1\"]")),
        Code::BroadBesideNarrow => with(&postgresql(&format!(
            "{TABLE}[[databases.db.grants]]\nallow = [\"select\"]\non = \"table public.price\"\nto = [\"reader\"]\n\
             [[databases.db.grants]]\nallow = [\"select\"]\non = \"table public.price\"\ncolumns = [\"id\"]\nto = [\"reader\"]"
        ))),
        Code::CannotConnect => with(&postgresql("[[databases.db.grants]]\nrevoke = [\"connect\"]\non = \"database\"\nfrom = [\"public\"]")),
        Code::SchemaShut => with(&postgresql(
            "[databases.db.objects]\n\"schema fares\" = { owner = \"postgres\" }\n\"table fares.price\" = { owner = \"postgres\", columns = { id = \"integer\" } }\n\
             [[databases.db.grants]]\nallow = [\"select\"]\non = \"table fares.price\"\nto = [\"reader\"]",
        )),
        Code::AccountWithoutUser => with(&postgresql("[databases.db.accounts.stray]")),
        Code::StrongAccount => {
            with(&postgresql("").replace("[databases.db.accounts.lead-1]\n", "[databases.db.accounts.lead-1]\nmay = [\"superuser\"]\n"))
        }
        Code::EmptyDatabaseRole | Code::DatabaseRoleUnused => with(&postgresql("[databases.db.roles.spare]")),
        Code::AnyOrigin => with(&mariadb("[databases.db.accounts.\"lead-1@%\"]")),
        Code::AnonymousAccount => with(&mariadb("[databases.db.accounts.\"@192.0.2.7\"]")),
        Code::NoDefaultRole => with(&mariadb("[databases.db.accounts.\"lead-1@198.51.100.%\"]\nmember-of = [\"reader\"]")),
        Code::DefaultRoleNotGranted => with(&mariadb("[databases.db.accounts.\"lead-1@198.51.100.%\"]\ndefault-role = \"reader\"")),
        Code::HostWithoutSystem => with("[hosts.switch]"),
        Code::HostCannotSay => with(&host(
            "run-as = [{ by = [\"group:leads\"], as = [\"batch\"], commands = [\"everything\", \"short\"] }]\n[command-sets.short]\nrules = [\"allow nightly\"]",
        )),
        Code::JobEditorBecomes => with(&host("jobs.nightly = { runs-as = \"batch\", edited-by = [\"group:leads\"] }")),
        Code::RunAnything => with(&host("run-as = [{ by = [\"group:leads\"], as = [\"batch\"], commands = [\"everything\"] }]")),
        Code::BadInterface | Code::InterfaceReference => base, // These need an interface.
        Code::ServiceWithoutSystem => with("[clouds.switch]"),
        Code::UnknownOperation => with(&cloud("[[clouds.sky.grants]]\nallow = [\"records.raed\"]\non = \"**\"\nto = [\"group:leads\"]")),
        Code::BadPath => with(&cloud("[[clouds.sky.grants]]\nallow = [\"records.read\"]\non = \"lime\"\nto = [\"group:leads\"]")),
        Code::BadComparison => with(&cloud(&grant("when = { compare = [\"user.pier is resource.pier\"] }"))),
        Code::UnknownAttribute => with(&cloud(&grant("when = { compare = [\"user.peir = 'selkie'\"] }"))),
        Code::ImpossibleCondition => with(&cloud(&grant("when = { compare = [\"user.id = 'a'\", \"user.id = 'b'\"] }"))),
        Code::IncompleteGrant => with(&cloud("[[clouds.sky.grants]]\nallow = [\"records.read\"]\non = \"line\"")),
        Code::NaiveProofDeny => with(&cloud(&deny("when = { proof = [\"one-time-code\"], proof-older = \"1h\" }"))),
        Code::ProofUnobtainable => with(&cloud(&deny(
            "lifted-by = { proof = [\"one-time-code\"], proof-age = \"1h\" }\n[clouds.sky.obtains]\none-time-code = [\"codes.confirm\"]",
        ))),
        Code::AssumptionCycle => with(&cloud(
            "[roles.a]\nassumable = { by = [\"role:b\"] }\ngrants = [{ allow = [\"assume\"], on = \"role/b\" }]\n\
             [roles.b]\nassumable = { by = [\"role:a\"] }\ngrants = [{ allow = [\"assume\"], on = \"role/a\" }]",
        )),
        Code::AssumptionHalf => with(&cloud("[roles.a]\nassumable = { by = [\"group:leads\"] }")),
        Code::ProtectionInoperative => with(&application("identity-checks = false\ntypes.ramp.after = { second-person = [\"anyone\"] }")),
        Code::NoSecondPerson => with(&application("types.ramp.after = { second-person = [\"group:leads\"] }")),
        Code::DutiesNotSeparated => with(
            "[roles.other]\nband = { start = 1, ceiling = 1 }\n[separations.two]\nroles = [\"lead\", \"other\"]\n\
             [[assignments]]\nto = [\"group:leads\"]\nroles = [\"other\"]\non = { all = true }\nrank = 1",
        ),
        Code::GrantOfEverything => with(&cloud("[[clouds.sky.grants]]\nallow = [\"all\"]\non = \"**\"\nto = [\"group:leads\"]")),
        Code::ResetUpwards => with(&cloud(&format!(
            "[users.desk-1]\nproofs = [\"password\"]\n[[clouds.sky.grants]]\nallow = [\"reset-credential\"]\non = \"user/*\"\nto = [\"user:desk-1\"]\n{}",
            grant("")
        ))),
        Code::Repeated => with(
            "[[assignments]]\nto = [\"group:leads\"]\nroles = [\"lead\"]\non = { all = true }\n[[assignments]]\nto = [\"group:leads\"]\nroles = [\"lead\"]\non = { all = true }\nbecause = \"copied\"",
        ),
        Code::SameContent => with("[roles.one]\nband = { start = 1, ceiling = 3 }\n[roles.other]\nband = { start = 1, ceiling = 3 }"),
        Code::ConditionPassedBy => with(&cloud(&format!("{}\n{}", grant(""), grant("when = { origin = [\"192.0.2.0/24\"] }")))),
        Code::NotAsked => with("[[expectations]]\nwho = [\"user:lead-9\"]\non = [\"sw-1\"]\nlines = [\"leave\"]\nanswer = \"allowed\""),
        Code::IdsLookAlike => with("[users.\"l\u{435}ad-1\"]\nproofs = [\"password\"]"),
        Code::NightOfDay => with(
            "[[assignments]]\nto = [\"group:leads\"]\nroles = [\"lead\"]\non = { all = true }\nwhen = { days = [\"fri\"], hours = \"22:00-06:00\" }",
        ),
        Code::DenyTooNarrow => format!(
            "{}\n",
            role("\"deny name {number}\", \"allow ...\"", 1)
                .replace("  { line = \"show release\" },", "  { line = \"show release\" },\n  { line = \"name {word}\" },")
        ),
        Code::CommandSetsNotAsked => instead("authorisation = { levels = \"all\", configuration = true }\n", ""),
        Code::NoSuperuser => with(&postgresql("[databases.db.accounts.postgres]\nmay = [\"superuser\"]\nuntil = 2026-01-01")),
        Code::UnknownNotModelled => with(&postgresql("[databases.db]\nnot-modelled = [\"chek tide\"]")),
        Code::PathNotDeclared => with(&cloud(&grant("").replace("\"line\"", "\"line/a\""))),
        Code::NobodySignsIn => with(&host("accounts.lead-1 = { locked = true }")),
        Code::WayToRoot => with(&host(
            "accounts.root = {}\njobs.night = { runs-as = \"batch\", edited-by = [\"group:leads\"] }\n\
             run-as = [{ by = [\"account:batch\"], as = [\"root\"], commands = [\"shells\"] }]\n\
             [command-sets.shells]\nrules = [\"allow /bin/bash\"]",
        )),
        Code::WayToTop => with(
            "[users.helper-9]\nproofs = [\"password\"]\n[systems.sky-9]\nkind = \"cloud\"\n[clouds.sky-9]\noperations.look = {}\nresources.yard = {}\n\
             grants = [{ allow = [\"grant-on\"], on = \"yard\", to = [\"user:lead-1\"] }, \
             { allow = [\"reset-credential\"], on = \"user/lead-1\", to = [\"user:helper-9\"] }]",
        ),
        Code::OwnerlessStep => with(
            "[users.helper-9]\nproofs = [\"password\"]\n[groups.open-9]\nmembers = [\"user:lead-1\"]\n[systems.sky-9]\nkind = \"cloud\"\n\
             [clouds.sky-9]\noperations.look = {}\nresources.yard = {}\n\
             grants = [{ allow = [\"grant-on\"], on = \"yard\", to = [\"group:open-9\"] }, \
             { allow = [\"change-members\"], on = \"group/open-9\", to = [\"user:helper-9\"] }]",
        ),
        Code::WaysNotLookedFor => {
            let users: String = (0..302).map(|user| format!("[users.many-{user}]\nproofs = [\"password\"]\n")).collect();
            let names: Vec<String> = (0..302).map(|user| format!("\"user:many-{user}\"")).collect();
            with(&format!(
                "{users}[groups.many]\nmembers = [{}]\nowners = [\"user:lead-1\"]\n[systems.sky-9]\nkind = \"cloud\"\n[clouds.sky-9]\n\
                 operations.look = {{}}\nresources.yard = {{}}\n\
                 grants = [{{ allow = [\"reset-credential\"], on = \"user/lead-1\", to = [\"group:many\"] }}]",
                names.join(", ")
            ))
        }
        Code::DenyPassed => with(&host(
            "accounts.lead-1 = {}\nrun-as = [{ by = [\"user:lead-1\"], as = [\"batch\"], commands = [\"most\"] }]\n\
             [command-sets.most]\nrules = [\"deny /opt/b {word}\", \"allow /opt/b ...\"]",
        )),
        Code::VariableRunsAnything => with(&host("keep-environment = [\"LD_PRELOAD\"]")),
        Code::NotRead | Code::DuplicateId | Code::NotText | Code::Unreadable => base, // These need more than one text document.
        _ => panic!("no ledger raises {code:?}"),
    }
}

#[test]
fn every_code_is_raised_by_a_ledger() {
    for &code in Code::ALL {
        let raised: Vec<Code> = match code {
            Code::DuplicateId => {
                let ledger = Ledger::new().document("a.toml", &format!("{MAKE}{SWITCH}")).document("b.toml", "[users.lead-1]\n");
                codes(&ledger.validate().findings)
            }
            Code::BadInterface => codes(&Ledger::new().interface("sky.openapi.json", "{\"openapi\": \"2.0\"}").validate().findings),
            Code::InterfaceReference => {
                let broken = r##"{"openapi": "3.0.3", "paths": {"/a": {"get": {"parameters": [{"$ref": "#/components/parameters/b"}]}}}}"##;
                codes(&Ledger::new().interface("sky.openapi.json", broken).validate().findings)
            }
            Code::NotText => codes(&Ledger::new().document_bytes("a.toml", b"name = \"\xff\"").validate().findings),
            Code::NotRead => codes(&Ledger::new().finding(Finding::not_read(".a.toml", "its name begins with a dot")).validate().findings),
            Code::Unreadable => codes(&Ledger::new().finding(Finding::unreadable("a.toml", "permission denied")).validate().findings),
            _ => all(&raising(code)).iter().map(|f| f.code).collect(),
        };
        assert!(raised.contains(&code), "{} {} is not raised, but {raised:?} are", code.number(), code.slug());
    }
}

#[test]
fn the_sound_ledger_has_no_finding() {
    assert_eq!(all(&format!("{MAKE}{SWITCH}")), []);
}

#[test]
fn codes_are_unique_and_the_page_lists_them_all() {
    let numbers: BTreeSet<&str> = Code::ALL.iter().map(|c| c.number()).collect();
    let slugs: BTreeSet<&str> = Code::ALL.iter().map(|c| c.slug()).collect();
    assert_eq!((numbers.len(), slugs.len()), (Code::ALL.len(), Code::ALL.len()));
    let mut page = String::from(
        "# Findings\n\nEvery finding has a stable code. Errors stop answers; warnings and notes do not.\n`zest findings --about CODE` prints a row of this page. A test writes it (`ZEST_REWRITE=1`).\n\n| code | name | severity | meaning |\n|---|---|---|---|\n",
    );
    for code in Code::ALL {
        page.push_str(&format!("| {} | `{}` | {} | {} |\n", code.number(), code.slug(), code.severity().word(), code.description()));
    }
    zest_testkit::pages::same_as_file("docs/findings.md", &page);
}

#[test]
fn every_finding_has_a_place_or_says_that_it_is_about_the_whole_and_most_say_how_to_mend_it() {
    let without_place = [
        Code::EmptyLedger,
        Code::NoSystem,
        Code::NotText,
        Code::NotRead,
        Code::Unreadable,
        Code::CommandSetTooLarge,
        Code::WaysNotLookedFor,
    ];
    for &code in Code::ALL.iter().filter(|c| !matches!(c, Code::DuplicateId | Code::NotText | Code::NotRead | Code::Unreadable)) {
        for finding in all(&raising(code)).iter().filter(|f| f.code == code) {
            assert!(finding.primary.is_some() || without_place.contains(&code), "{code:?} has no place");
            assert!(!finding.message.ends_with('.'), "{}", finding.message);
        }
    }
}

#[test]
fn all_problems_of_all_documents_come_in_one_run() {
    let found = Ledger::new()
        .document("a.toml", "[users.watch-1]\nproof = 1\nname = 2\n[users.watch-2\nx")
        .document("b.toml", "[groups.g]\nmembers = [\"user:watch-9\", \"watch-1\"]\nowner = []\n")
        .document_bytes("c.toml", b"\xff")
        .validate()
        .findings;
    let list = codes(&found);
    for code in [Code::UnknownKey, Code::WrongType, Code::Syntax, Code::UnknownReference, Code::BadReference, Code::NotText, Code::NoSystem]
    {
        assert!(list.contains(&code), "{code:?} is missing in\n{found}");
    }
    for key in ["`proof`", "`owner`"] {
        assert!(found.list().iter().any(|f| f.code == Code::UnknownKey && f.message.contains(key)), "{key} is not reported\n{found}");
    }
}

#[test]
fn near_names_are_offered_and_never_assumed() {
    for (text, offer) in [
        ("[users.lead-2]\nprofs = []", "did you mean `proofs`?"),
        ("[users.lead-2]\nproofs = [\"onetime-code\"]", "did you mean \"one-time-code\"?"),
        ("[groups.watch]\nmembers = [\"user:Lead-1\"]", "did you mean `lead-1`?"),
        ("[groups.watch]\nmembers = [\"leads\"]", "did you mean `group:leads`?"),
        ("[roles.a]\ncommands = [\"everthing\"]", "did you mean `everything`?"),
    ] {
        let found = all(&format!("{MAKE}{SWITCH}{text}"));
        let error = found.iter().find(|f| f.severity() == Severity::Error).expect(text);
        assert_eq!(error.primary.as_ref().map(|l| l.text.as_str()), Some(offer), "{text}");
    }
}

#[test]
fn a_secret_in_a_ledger_is_never_shown() {
    for text in [
        "[users.watch-1]\npassword = \"correct horse\"",
        "[systems.x]\nkind = \"network-device\"\naccounts.a.credential = \"correct horse\"",
    ] {
        let validated = Ledger::new().document("ledger.toml", text).validate();
        let found = validated.findings;
        assert!(codes(&found).contains(&Code::SecretInLedger), "{found}");
        let shown: String = found.list().iter().map(|f| format!("{} {:?} {:?}", f.message, f.primary, f.help)).collect();
        assert!(!shown.contains("horse"), "{shown}");
        let zest_ledger::source::Place::Text(span) = found.list()[0].primary.as_ref().expect("a place").place else {
            panic!("a text place")
        };
        assert!(!found.shown(span.source, 0..text.len()).contains("horse"), "the snippet shows it");
    }
}
