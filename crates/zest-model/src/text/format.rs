//! The ledger format, version 1: every table and every key.

use crate::entry::{AFTER, WHEN};
use crate::entry::{
    Abbreviation, Apart, BareElevation, Channel, Credential, Does, IdentitySource, NameCase, Otherwise, Proof, RunsAs, Unrestricted,
    UserKind, WhenCentralDown,
};
use crate::shape::{Among, HOLDERS, Key, NETWORKS, PARTIES, RUNNERS, Shape, TableShape};

const LEVEL: Shape = Shape::Whole(0, 15);
const TEXTS: Shape = Shape::List(&Shape::Text);
const LEVELS: Shape = Shape::List(&LEVEL);

const REMARK: Key = Key::new("remark", Shape::Text, "a free remark");
const NAME: Key = Key::new("name", Shape::Text, "the name shown to people");
const BECAUSE: Key = Key::new("because", Shape::Text, "why the entry is there");

/// A whole document.
pub(crate) static DOCUMENT: TableShape = TableShape {
    noun: "a document",
    about: "One document of a ledger. A ledger is a folder of such documents; entries may be split over them in any way.",
    rules: &[],
    keys: &[
        Key::new("format", Shape::Whole(1, i64::MAX), "the version of the ledger format; 1"),
        Key::new("users", Shape::Map(&Shape::Table(&USER)), "people and programs, by id"),
        Key::new("groups", Shape::Map(&Shape::Table(&GROUP)), "sets of users and groups, by id"),
        Key::new("origins", Shape::Map(&Shape::Table(&ORIGIN)), "named networks that sessions come from, by id"),
        Key::new("systems", Shape::Map(&Shape::Table(&SYSTEM)), "managed targets, by id"),
        Key::new("vocabularies", Shape::Map(&Shape::Table(&VOCABULARY)), "the commands that a make of device knows, by id"),
        Key::new("command-sets", Shape::Map(&Shape::Table(&COMMAND_SET)), "ordered rules over command lines, by id"),
        Key::new("roles", Shape::Map(&Shape::Table(&ROLE)), "bundles of rights, by id"),
        Key::new("assignments", Shape::List(&Shape::Table(&ASSIGNMENT)), "who gets which roles on which systems, under which conditions"),
        Key::new("databases", Shape::Map(&Shape::Table(&DATABASE)), "what database servers hold, by the id of the system"),
        Key::new("credential-rules", Shape::Map(&Shape::Table(&CREDENTIAL_RULE)), "what credentials must be like, by id"),
        Key::new("separations", Shape::Map(&Shape::Table(&SEPARATION)), "roles of which nobody may have two, by id"),
        Key::new("hosts", Shape::Map(&Shape::Table(&HOST)), "what hosts hold, by the id of the system"),
        Key::new("clouds", Shape::Map(&Shape::Table(&CLOUD)), "what clouds hold, by the id of the system"),
        Key::new("applications", Shape::Map(&Shape::Table(&APPLICATION)), "what applications hold, by the id of the system"),
    ],
};

static GRANT_TABLE: Shape = Shape::Table(&GRANT);
static ACT_AS_TABLE: Shape = Shape::Table(&ACT_AS);

const GRANTS: Key = Key::new("grants", Shape::List(&GRANT_TABLE), "who may do what on which resources; a deny outweighs every allow");
const ACTING: Key = Key::new("acting", Shape::List(&ACT_AS_TABLE), "who may act as which user, with their own credential");
const PROOFS_COVER: Key = Key::new(
    "proofs-cover",
    Shape::Map(&Shape::List(&Shape::Words(Channel::WORDS))),
    "channels on which a proof given on a channel counts; on its own only unless stated",
);
const SESSION_ATTRIBUTES: Key = Key::new("session-attributes", TEXTS, "attributes that a session may state");
const GROUPS_OF_OPERATIONS: Key =
    Key::new("operation-groups", Shape::Map(&TEXTS), "names for several operations; `read`, `write` and `tag:NAME` are there already");

static CLOUD: TableShape = TableShape {
    noun: "a cloud",
    about: "What one cloud holds. May be spread over documents.",
    rules: &[],
    keys: &[
        Key::new(
            "interface",
            Shape::Text,
            "the OpenAPI document that describes its operations: a file `*.openapi.json` or `*.openapi.yaml` of the ledger",
        ),
        Key::new("operations", Shape::Map(&Shape::Table(&OPERATION)), "operations that no interface describes, by name"),
        GROUPS_OF_OPERATIONS,
        Key::new(
            "addresses",
            Shape::Map(&Shape::Text),
            "the resource that a path of the interface speaks of: \"/records/{r}\" = \"records/{r}\"",
        ),
        Key::new(
            "resources",
            Shape::Map(&Shape::Table(&RESOURCE)),
            "containers and resources, by path; what is not named below a container is there too",
        ),
        GRANTS,
        Key::new("ceilings", Shape::List(&Shape::Table(&CEILING)), "what grants can give at most"),
        ACTING,
        PROOFS_COVER,
        Key::new("obtains", Shape::Map(&TEXTS), "the operations by which a proof is given during a session, by proof"),
        SESSION_ATTRIBUTES,
    ],
};

static APPLICATION: TableShape = TableShape {
    noun: "an application",
    about: "What one application holds. May be spread over documents.",
    rules: &[],
    keys: &[
        Key::new("types", Shape::Map(&Shape::Table(&OBJECT_TYPE)), "types of objects, by name"),
        Key::new("objects", Shape::Map(&Shape::Table(&RESOURCE)), "objects, by type and name: \"ramp/selkie-1\""),
        GROUPS_OF_OPERATIONS,
        GRANTS,
        ACTING,
        PROOFS_COVER,
        SESSION_ATTRIBUTES,
        Key::new("identity-checks", Shape::Flag, "whether identity is checked where an obligation says so; true unless stated"),
    ],
};

static OPERATION: TableShape = TableShape {
    noun: "an operation",
    about: "An operation of a cloud.",
    rules: &[],
    keys: &[Key::new("reads", Shape::Flag, "whether it only looks; false unless stated"), Key::new("about", Shape::Text, "what it is for")],
};

static RESOURCE: TableShape = TableShape {
    noun: "a resource",
    about: "A container, a resource or an object.",
    rules: &[],
    keys: &[
        REMARK,
        Key::new("attributes", Shape::Map(&Shape::Text), "attributes that conditions compare"),
        Key::new("after", Shape::Table(&AFTER), "what must be done before a right on it that does more than look takes effect"),
    ],
};

static OBJECT_TYPE: TableShape = TableShape {
    noun: "a type of objects",
    about: "A type of objects of an application.",
    rules: &[],
    keys: &[
        Key::required("rights", TEXTS, "rights on objects of the type"),
        Key::new("looks", TEXTS, "those of them that only look: obligations of type and object do not concern them"),
        Key::new("after", Shape::Table(&AFTER), "what must be done before a right on one of its objects takes effect"),
        Key::new("rights-after", Shape::Map(&Shape::Table(&AFTER)), "what must be done before one of its rights takes effect"),
        Key::new("second-person-right", Shape::Text, "the right a second person must hold; the one that is asked for unless stated"),
    ],
};

static GRANT: TableShape = TableShape {
    noun: "a grant",
    about: "A grant of a cloud or an application, or a deny.",
    rules: &[Among::One(&["allow", "deny"])],
    keys: &[
        Key::new("allow", TEXTS, "operations or groups of operations that are given; \"all\" for every one"),
        Key::new("deny", TEXTS, "operations or groups of operations that are refused (clouds)"),
        Key::new("except", TEXTS, "all but these operations"),
        Key::new("on", Shape::Either(&[Shape::Text, TEXTS]), "resources: a path; `*` is one part of it, `**` at the end all that is below"),
        Key::new("except-on", Shape::Either(&[Shape::Text, TEXTS]), "all but these resources"),
        Key::new("to", HOLDERS, "who: \"user:ID\", \"group:ID\" or \"role:ID\"; not in a role's own grants"),
        Key::new("when", Shape::Table(&WHEN), "conditions; all that are given must hold"),
        Key::new("lifted-by", Shape::Table(&WHEN), "conditions that lift it: it does not apply while all of them hold"),
        Key::new("after", Shape::Table(&AFTER), "what must be done before it takes effect"),
        Key::new("from", Shape::Moment, "first moment of validity"),
        Key::new("until", Shape::Moment, "end of validity: a date is good through its last moment, UTC"),
        BECAUSE,
    ],
};

static CEILING: TableShape = TableShape {
    noun: "a ceiling",
    about: "What grants can give at most. Where several apply, each must let an operation through.",
    rules: &[],
    keys: &[
        Key::required("allow", TEXTS, "operations or groups of operations that may be given"),
        Key::new("except", TEXTS, "all but these"),
        Key::new("of", HOLDERS, "whose rights it limits: \"user:ID\", \"group:ID\" or \"role:ID\"; everybody's unless stated"),
        Key::new("within", Shape::Text, "the container in which it limits rights; everywhere unless stated"),
        Key::new("when", Shape::Table(&WHEN), "conditions under which they may be given"),
        BECAUSE,
    ],
};

static ACT_AS: TableShape = TableShape {
    noun: "a rule of acting as another",
    about: "Who may act as a user. It is not passed on: whoever acts as B may not act as C because B may.",
    rules: &[],
    keys: &[
        Key::required("as", Shape::Form("^user:."), "as whom: \"user:ID\""),
        Key::required("by", PARTIES, "who: \"user:ID\" or \"group:ID\""),
        Key::new("when", Shape::Table(&WHEN), "conditions; all that are given must hold"),
        BECAUSE,
    ],
};

static HOST: TableShape = TableShape {
    noun: "a host",
    about: "What one host holds. May be spread over documents.",
    rules: &[],
    keys: &[
        Key::new("accounts", Shape::Map(&Shape::Table(&HOST_ACCOUNT)), "accounts, by login"),
        Key::new(
            "run-as",
            Shape::List(&Shape::Table(&RUN_AS)),
            "who may run what as which account; the first rule that matches a line decides",
        ),
        Key::new("jobs", Shape::Map(&Shape::Table(&JOB)), "jobs that run by themselves, by name"),
        Key::new("links", Shape::Map(&Shape::Text), "directories that lead to others: \"/bin\" = \"/usr/bin\""),
        Key::new("keep-environment", TEXTS, "variables that may be handed over to whatever runs as another account"),
        Key::new(
            "proof-lasts",
            Shape::Length,
            "how long a proof is good for running as another account, in whole minutes; for one line unless stated",
        ),
    ],
};

static HOST_ACCOUNT: TableShape = TableShape {
    noun: "an account of a host",
    about: "An account of a host.",
    rules: &[],
    keys: &[
        REMARK,
        Key::new("shell", Shape::Text, "the login shell; /bin/bash unless stated"),
        Key::new("used-by", PARTIES, "who may use it besides the user of the same name: \"user:ID\" or \"group:ID\""),
        Key::new("origin", NETWORKS, "where it is admitted from: addresses, networks, \"origin:ID\"; anywhere unless stated"),
        Key::new("locked", Shape::Flag, "whether it is locked"),
        Key::new("until", Shape::Moment, "end of validity: a date is good through its last moment, UTC"),
        Key::new(
            "commands",
            TEXTS,
            "command sets: only their lines may be run as the account, by whoever uses it, and nobody signs in with it",
        ),
        Key::new("commands-of", Shape::Map(&TEXTS), "command sets of one user or group on this account; they come before `commands`"),
        Key::new("proof", Shape::Flag, "whether identity must be proven to run those lines; true unless stated"),
    ],
};

static RUN_AS: TableShape = TableShape {
    noun: "a rule of running as another account",
    about: "Who may run what as which account.",
    rules: &[],
    keys: &[
        Key::required("by", RUNNERS, "who, from their own account: \"user:ID\", \"group:ID\" or \"account:LOGIN\""),
        Key::required("as", TEXTS, "as which accounts"),
        Key::required("commands", TEXTS, "command sets whose lines may be run; a line begins with the full path of a program"),
        Key::new("proof", Shape::Flag, "whether identity must be proven first; true unless stated"),
        Key::new("any-environment", Shape::Flag, "whether any variable may be handed over; false unless stated"),
        BECAUSE,
    ],
};

static JOB: TableShape = TableShape {
    noun: "a job",
    about: "A job that runs by itself.",
    rules: &[],
    keys: &[
        Key::required("runs-as", Shape::Text, "the account it runs as"),
        Key::new("line", Shape::Text, "the line it runs"),
        Key::new("edited-by", PARTIES, "who may edit what it runs: \"user:ID\" or \"group:ID\""),
    ],
};

static CREDENTIAL_RULE: TableShape = TableShape {
    noun: "a rule for credentials",
    about: "What the credentials of some people must be like. The strictest of all rules that are for somebody counts.",
    rules: &[],
    keys: &[
        Key::required("of", PARTIES, "whose: \"user:ID\" or \"group:ID\""),
        Key::new("shortest", Shape::Whole(0, 1_000), "how many characters it has at least"),
        Key::new("oldest-days", Shape::Whole(1, 36_500), "for how many days it is good"),
    ],
};

static SEPARATION: TableShape = TableShape {
    noun: "a separation of duties",
    about: "Roles of which nobody may have two.",
    rules: &[],
    keys: &[
        Key::required("roles", TEXTS, "role ids"),
        Key::new("never", Shape::Words(Apart::WORDS), "never held together, or never active in one session together; held unless stated"),
        BECAUSE,
    ],
};

static ASSUMABLE: TableShape = TableShape {
    noun: "an assumption",
    about: "Who may assume a role. Its rights then replace their own for the session.",
    rules: &[],
    keys: &[
        Key::required("by", HOLDERS, "whom the role admits: \"user:ID\", \"group:ID\" or \"role:ID\""),
        Key::new("when", Shape::Table(&WHEN), "conditions under which it may be assumed"),
        Key::new("longest", Shape::Length, "the longest session"),
        Key::new("may-state", TEXTS, "attributes that whoever assumes it may state for the session"),
    ],
};

static DATABASE: TableShape = TableShape {
    noun: "a database",
    about: "What one database server holds. May be spread over documents.",
    rules: &[],
    keys: &[
        Key::new("owner", Shape::Text, "the owner of the database; the first superuser unless stated"),
        Key::new(
            "accounts",
            Shape::Map(&Shape::Table(&DATABASE_ROLE)),
            "roles that may open sessions, by name; on MariaDB \"name@origin\"",
        ),
        Key::new("roles", Shape::Map(&Shape::Table(&DATABASE_ROLE)), "roles that may not, by name"),
        Key::new("objects", Shape::Map(&Shape::Table(&DATABASE_OBJECT)), "objects by class and name: \"table fares.price\""),
        Key::new(
            "grants",
            Shape::List(&Shape::Table(&DATABASE_GRANT)),
            "grants and their corrections; later ones act on what earlier ones left",
        ),
        Key::new("default-grants", Shape::List(&Shape::Table(&DATABASE_GRANT)), "privileges of objects that are yet to be made"),
        NOT_MODELLED,
    ],
};

static DATABASE_ROLE: TableShape = TableShape {
    noun: "an account or role of a database",
    about: "An account or a role of a database server.",
    rules: &[],
    keys: &[
        REMARK,
        Key::new("used-by", PARTIES, "who may use it besides the user of the same name: \"user:ID\" or \"group:ID\""),
        Key::new("may", Shape::List(&Shape::Words(SWITCHES)), "switches that are on (PostgreSQL)"),
        Key::new(
            "inherit",
            Shape::Flag,
            "whether it uses the privileges of its roles without activating them; true unless stated (PostgreSQL)",
        ),
        Key::new("member-of", TEXTS, "roles it is a member of"),
        Key::new("administers", TEXTS, "roles whose membership it may pass on"),
        Key::new("default-role", Shape::Text, "the role that is active at sign-in (MariaDB)"),
        Key::new("connection-limit", Shape::Whole(0, 1_000_000), "the most sessions at once"),
        Key::new("until", Shape::Moment, "end of validity of its credential: a date is good through its last moment, UTC"),
        Key::new("locked", Shape::Flag, "whether it is locked (MariaDB)"),
        Key::new("credential", Shape::Words(Credential::WORDS), "the state of its credential; set unless stated"),
        Key::new("limits", Shape::Map(&Shape::Whole(0, 4_294_967_295)), "limits by the hour, such as queries or connections (MariaDB)"),
        NOT_MODELLED,
    ],
};

/// What a PostgreSQL role may be.
pub(crate) const SWITCHES: &[&str] = &["superuser", "create-role", "create-database", "replication", "bypass-row-security"];

const NOT_MODELLED: Key = Key::new(
    "not-modelled",
    TEXTS,
    "what the server looks at and the ledger only names, such as \"check tide\" or \"trigger log on insert\": acts that look at it are not decided",
);

static DATABASE_OBJECT: TableShape = TableShape {
    noun: "an object of a database",
    about: "An object of a database, with as much of its definition as permissions depend on.",
    rules: &[],
    keys: &[
        REMARK,
        Key::new("owner", Shape::Text, "the role that owns it; on MariaDB the definer of a view or routine"),
        Key::new(
            "columns",
            Shape::Either(&[TEXTS, Shape::Map(&Shape::Text)]),
            "columns in order: a list of names, or a table of types by name",
        ),
        Key::new("defaults", Shape::Map(&Shape::Text), "defaults that are no constants, by column"),
        Key::new("query", Shape::Text, "the query of a view"),
        Key::new("runs-as", Shape::Words(RunsAs::WORDS), "with whose rights a view or routine runs"),
        Key::new("row-security", Shape::Flag, "whether row security is on for the table"),
        Key::new("parameters", Shape::Text, "the parameters of a routine (MariaDB)"),
        Key::new("returns", Shape::Text, "what a function returns"),
        Key::new("language", Shape::Text, "the language of a routine"),
        Key::new("body", Shape::Text, "the body of a routine"),
        Key::new("values", TEXTS, "the values of an enumerated type"),
        Key::new("wrapper", Shape::Text, "the wrapper of a foreign server"),
        NOT_MODELLED,
    ],
};

static DATABASE_GRANT: TableShape = TableShape {
    noun: "a grant",
    about: "A grant, or a correction of earlier ones.",
    rules: &[Among::One(&["allow", "revoke"])],
    keys: &[
        Key::new("allow", TEXTS, "privileges that are given; \"all\" for every one that applies"),
        Key::new("revoke", TEXTS, "privileges that are taken back"),
        Key::new("deny", TEXTS, "not known by any database server here: a finding says what to write instead"),
        Key::new("except", TEXTS, "all but these"),
        Key::new(
            "on",
            Shape::Either(&[Shape::Text, TEXTS]),
            "objects: \"table fares.price\", \"all tables in fares\", \"database\", \"everything\"",
        ),
        Key::new("columns", TEXTS, "only these columns"),
        Key::new("to", TEXTS, "roles that get it; \"public\" is everybody"),
        Key::new("from", TEXTS, "roles that lose it"),
        Key::new("regrant", Shape::Flag, "with the right to pass it on; for a revoke: that right only"),
        Key::new("cascade", Shape::Flag, "for a revoke: also what others hold through it"),
        Key::new("grantor", Shape::Text, "who gives; the owner unless stated"),
        Key::new("creator", Shape::Text, "for a default grant: whose new objects"),
        BECAUSE,
        Key::new("until", Shape::Moment, "end of validity: a date is good through its last moment, UTC"),
    ],
};

static USER: TableShape = TableShape {
    noun: "a user",
    about: "A person or a program that signs in.",
    rules: &[],
    keys: &[
        NAME,
        REMARK,
        Key::new("path", Shape::Text, "place in the organisation, such as \"shore/network\""),
        Key::new("kind", Shape::Words(UserKind::WORDS), "person or service; person unless stated"),
        Key::new("proofs", Shape::List(&Shape::Words(Proof::WORDS)), "ways to prove identity; never the secret itself"),
        Key::new("channels", Shape::List(&Shape::Words(Channel::WORDS)), "channels the user may come through; all unless stated"),
        Key::new("disabled", Shape::Flag, "whether the user is switched off"),
        Key::new("from", Shape::Moment, "first moment of validity"),
        Key::new("until", Shape::Moment, "end of validity: a date is good through its last moment, UTC"),
        Key::new("must-change-credential", Shape::Flag, "whether the credential must be changed before anything else"),
        Key::new("attributes", Shape::Map(&Shape::Text), "attributes that conditions compare"),
        Key::new("credential-set", Shape::Moment, "when the credential was set"),
        Key::new("credential-length", Shape::Whole(0, 1_000), "how many characters the credential has; never the credential itself"),
    ],
};

static GROUP: TableShape = TableShape {
    noun: "a group",
    about: "A set of users and groups, with owners who answer for it.",
    rules: &[],
    keys: &[
        NAME,
        REMARK,
        Key::new("members", PARTIES, "\"user:ID\" or \"group:ID\""),
        Key::new("owners", PARTIES, "\"user:ID\" or \"group:ID\"; owners need not be members"),
        Key::new("directory", Shape::Text, "distinguished name of the directory group it mirrors"),
    ],
};

static ORIGIN: TableShape = TableShape {
    noun: "an origin",
    about: "Named networks that sessions come from, such as a watch room.",
    rules: &[],
    keys: &[REMARK, Key::required("networks", NETWORKS, "addresses and networks in CIDR form")],
};

static SYSTEM: TableShape = TableShape {
    noun: "a system",
    about: "A managed target.",
    rules: &[Among::Where("kind", "network-device", &["vocabulary", "no-command-set"]), Among::Where("kind", "host", &["no-command-set"])],
    keys: &[
        Key::required("kind", Shape::Kind, "the rules the system plays by"),
        NAME,
        REMARK,
        Key::new("address", Shape::Text, "host name or address"),
        Key::new("labels", Shape::Map(&Shape::Text), "labels that assignments select by"),
        Key::new("within", Shape::Text, "place in the tree of containers, such as \"piers/selkie\""),
        Key::new("vocabulary", Shape::Text, "the vocabulary its make speaks"),
        Key::new(
            "no-command-set",
            Shape::Words(Unrestricted::WORDS),
            "what holds where no command set is attached; every device states it",
        ),
        Key::new("authorisation", Shape::Table(&AUTHORISATION), "where commands are authorised centrally; nowhere unless stated"),
        Key::new(
            "identity-sources",
            Shape::List(&Shape::Words(IdentitySource::WORDS)),
            "who is asked, in order; central, then local, unless stated",
        ),
        Key::new("name-case", Shape::Words(NameCase::WORDS), "whether upper and lower case make two names; sensitive unless stated"),
        Key::new(
            "when-central-down",
            Shape::Words(WhenCentralDown::WORDS),
            "what holds for commands while the central source is down; own-levels unless stated",
        ),
        Key::new("privileged-at-sign-in", Shape::Flag, "whether sessions get the privileged prompt at sign-in, whatever their level"),
        Key::new("own-levels", Shape::List(&Shape::Table(&OWN_LEVEL)), "the device's own levels, over those of the vocabulary"),
        Key::new("notices", Shape::Table(&NOTICES), "texts shown around sign-in"),
        Key::new("accounts", Shape::Map(&Shape::Table(&ACCOUNT)), "accounts kept on the system itself, by login"),
        Key::new("database", Shape::Text, "for a PostgreSQL server: the database that is modelled; the id of the system unless stated"),
        Key::new(
            "accepts",
            Shape::Map(&Shape::List(&Shape::Words(Proof::WORDS))),
            "proofs that a channel accepts, by channel; any unless stated",
        ),
    ],
};

static AUTHORISATION: TableShape = TableShape {
    noun: "an authorisation",
    about: "Where a device asks the command sets.",
    rules: &[],
    keys: &[
        Key::required(
            "levels",
            Shape::Either(&[Shape::Words(&["all", "none"]), LEVELS]),
            "levels at which commands are authorised centrally",
        ),
        Key::required("configuration", Shape::Flag, "whether commands in configuration modes are; a switch of its own"),
    ],
};

static OWN_LEVEL: TableShape = TableShape {
    noun: "an own level",
    about: "A device's own level for one command.",
    rules: &[],
    keys: &[
        Key::required("command", Shape::Text, "the command's line exactly as the vocabulary writes it"),
        Key::required("level", LEVEL, "the level it takes on this device"),
    ],
};

static NOTICES: TableShape = TableShape {
    noun: "a notice",
    about: "Texts shown around sign-in.",
    rules: &[],
    keys: &[Key::new("before", Shape::Text, "shown before sign-in"), Key::new("after", Shape::Text, "shown after sign-in")],
};

static ACCOUNT: TableShape = TableShape {
    noun: "an account",
    about: "A login kept on a system itself.",
    rules: &[],
    keys: &[
        REMARK,
        Key::new("band", Shape::Table(&BAND), "start level and ceiling"),
        Key::new("used-by", PARTIES, "who may use it besides the user of the same name: \"user:ID\" or \"group:ID\""),
        Key::new("origin", NETWORKS, "where it is admitted from: addresses, networks, \"origin:ID\"; anywhere unless stated"),
        Key::new("locked", Shape::Flag, "whether it is locked"),
        Key::new("credential", Shape::Words(Credential::WORDS), "the state of its credential; set unless stated"),
        Key::new("emergency", Shape::Flag, "whether it is kept for outages of the central source"),
        Key::new(
            "commands",
            TEXTS,
            "command sets of its own, which the device asks itself; without any, the levels of the commands decide",
        ),
    ],
};

static BAND: TableShape = TableShape {
    noun: "a band",
    about: "The privilege level at which a session starts and the highest it may reach.",
    rules: &[],
    keys: &[Key::required("start", LEVEL, "where a session starts"), Key::required("ceiling", LEVEL, "the highest level it may reach")],
};

static VOCABULARY: TableShape = TableShape {
    noun: "a vocabulary",
    about: "The commands that a make of device knows.",
    rules: &[],
    keys: &[
        NAME,
        REMARK,
        Key::new("modes", Shape::Map(&Shape::Table(&MODE)), "modes of the command line; one named \"deck\" unless stated"),
        Key::new("start-mode", Shape::Text, "the mode in which sessions start; \"deck\" unless stated"),
        Key::new("bare-elevation", Shape::Words(BareElevation::WORDS), "what an elevation without a number means; level-15 unless stated"),
        Key::new("abbreviation", Shape::Words(Abbreviation::WORDS), "whether words may be shortened; unique-prefix unless stated"),
        Key::required("commands", Shape::List(&Shape::Table(&COMMAND)), "the commands, in the order in which they are listed"),
    ],
};

static MODE: TableShape = TableShape {
    noun: "a mode",
    about: "A mode of a device's command line.",
    rules: &[],
    keys: &[
        Key::new("prompt", Shape::Text, "the prompt after the host name"),
        Key::new("raised-prompt", Shape::Text, "the prompt of a privileged session"),
        Key::new("configuration", Shape::Flag, "whether the device's configuration is changed here"),
    ],
};

static COMMAND: TableShape = TableShape {
    noun: "a command",
    about: "A command of a vocabulary.",
    rules: &[],
    keys: &[
        Key::required("line", Shape::Text, "the line as a pattern"),
        Key::new("in", TEXTS, "modes in which it is known; the start mode unless stated"),
        Key::new("level", LEVEL, "the level it takes; 1 unless stated"),
        Key::new("does", Shape::Words(Does::WORDS), "what it does to the session"),
        Key::new("enters", Shape::Text, "the mode it enters"),
        Key::new("about", Shape::Text, "what it is for, in a few words"),
    ],
};

static COMMAND_SET: TableShape = TableShape {
    noun: "a command set",
    about: "Ordered rules over command lines; the first that matches a line decides.",
    rules: &[],
    keys: &[
        REMARK,
        Key::required(
            "rules",
            Shape::List(&Shape::Either(&[Shape::Form("^\\s*(allow|deny|include)\\s+\\S"), Shape::Table(&RULE)])),
            "\"allow PATTERN\", \"deny PATTERN\", \"include SET\", or a table",
        ),
        Key::new("otherwise", Shape::Words(Otherwise::WORDS), "what holds for all other lines; deny unless stated"),
    ],
};

static RULE: TableShape = TableShape {
    noun: "a rule",
    about: "One rule of a command set, with what must be done before it takes effect.",
    rules: &[Among::One(&["allow", "deny", "include"])],
    keys: &[
        Key::new("allow", Shape::Text, "a pattern whose lines are permitted"),
        Key::new("deny", Shape::Text, "a pattern whose lines are refused"),
        Key::new("include", Shape::Text, "a command set whose rules stand here"),
        Key::new("after", Shape::Table(&AFTER), "what must be done before an allowed line takes effect"),
        BECAUSE,
    ],
};

static ROLE: TableShape = TableShape {
    noun: "a role",
    about: "A bundle of rights that assignments hand out.",
    rules: &[],
    keys: &[
        NAME,
        REMARK,
        Key::new("includes", TEXTS, "roles whose rights this one has as well"),
        Key::new("band", Shape::Table(&BAND), "start level and ceiling; those of the included roles unless stated"),
        Key::new("commands", TEXTS, "command sets"),
        GRANTS,
        Key::new("assumable", Shape::Table(&ASSUMABLE), "who may assume it; nobody unless stated"),
    ],
};

static ASSIGNMENT: TableShape = TableShape {
    noun: "an assignment",
    about: "Who gets which roles on which systems, under which conditions. On network devices the first that applies decides alone; on clouds, in applications and on hosts all that apply are added up.",
    rules: &[],
    keys: &[
        Key::required("to", PARTIES, "who: \"user:ID\" or \"group:ID\""),
        Key::required("roles", TEXTS, "role ids"),
        Key::required("on", Shape::Table(&ON), "which systems; all parts that are given must fit"),
        Key::new("when", Shape::Table(&WHEN), "conditions; all that are given must hold"),
        Key::new("rank", Shape::Whole(0, 1_000_000), "a lower rank comes first; 100 unless stated"),
        Key::new("from", Shape::Moment, "first moment of validity"),
        Key::new("until", Shape::Moment, "end of validity: a date is good through its last moment, UTC"),
        BECAUSE,
    ],
};

static ON: TableShape = TableShape {
    noun: "a selection of systems",
    about: "Which systems an assignment covers.",
    rules: &[Among::Some(&["all", "systems", "within", "labels"])],
    keys: &[
        Key::new("all", Shape::Flag, "every system of the ledger"),
        Key::new("systems", TEXTS, "systems by id"),
        Key::new("within", Shape::Text, "systems at or below this place in the tree"),
        Key::new("labels", Shape::Map(&Shape::Either(&[Shape::Text, TEXTS])), "systems that carry each of these labels"),
        Key::new("at", Shape::Text, "on a cloud: the container at and below which the roles count; everywhere unless stated"),
    ],
};
