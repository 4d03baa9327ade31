//! The keys of `ledger.toml`.

use cledger_core::findings::Code;
use cledger_core::model::{Class, DaybookStore, Naming, OutletKind, SecretsIn, Wake};

use super::{Form, Key, words};

/// What it says as a whole.
pub const LEDGER: [Key; 12] = [
    Key::new("format", Form::Whole(1), "The format of the ledger: 1"),
    Key::new("name", Form::Text, "What the ledger is called"),
    Key::new(
        "default_stage",
        Form::Name,
        "The stage that is meant where none is named; never of class production",
    ),
    Key::new("stage", Form::Things, ""),
    Key::new("group", Form::Things, ""),
    Key::new("aligned", Form::Things, ""),
    Key::new("check", Form::Some(&CHECK), ""),
    Key::new("rule", Form::Things, ""),
    Key::new("routine", Form::Things, ""),
    Key::new("outlet", Form::Things, ""),
    Key::new("bundle", Form::Things, ""),
    Key::new("daybook", Form::Some(&DAYBOOK), ""),
];

/// `[check]`.
pub const CHECK: [Key; 2] = [
    Key::new("expiring_days", Form::Whole(3650), "How many days ahead a last day is near"),
    Key::new("severity", Form::WordsByWord(codes, severities), "How bad findings of a code are"),
];

/// `[daybook]`.
pub const DAYBOOK: [Key; 2] = [
    Key::new("store", Form::Word(|| words(&DaybookStore::ALL)), "Where deliveries are recorded"),
    Key::new("anchors", Form::Boolean, "A line for each record in anchors.txt"),
];

/// `[[stage]]`.
pub const STAGE: [Key; 11] = [
    Key::new("name", Form::Name, "What it is called"),
    Key::new("formerly", Form::Names, "The names that it had before, the latest last"),
    Key::new("class", Form::Word(classes), "What the stage is for"),
    Key::new("groups", Form::Names, "Its groups, weakest first"),
    Key::new("after", Form::Names, "What must have been delivered there first"),
    Key::new(
        "as_tested",
        Form::Boolean,
        "What is not meant to differ must be as it was delivered to the stages before",
    ),
    Key::new("locked", Form::Boolean, "Settings change only by promotion or with a stated reason"),
    Key::new("own", Form::Patterns, "Patterns of what promotion never carries in"),
    Key::new("labels", Form::Labels, "What ${stage.label.NAME} stands for"),
    Key::new("follow", Form::Things, ""),
    Key::new("chore", Form::Things, ""),
];

/// One of the `follow` of a stage.
pub const FOLLOW: [Key; 3] = [
    Key::new("stage", Form::Name, "The stage that is followed"),
    Key::new("only", Form::Patterns, "What is followed, as patterns of addresses; all if not given"),
    Key::new("except", Form::Patterns, "What is not followed, as patterns of addresses"),
];

/// `[[chore]]` of a contract or a stage.
pub const CHORE: [Key; 2] = [
    Key::new("text", Form::Text, "What is to be done"),
    Key::new(
        "when",
        Form::When(&["each-delivery", "first-delivery", "after-first-delivery"]),
        "When it is to be done; at each delivery if not given",
    ),
];

/// `[[group]]`.
pub const GROUP: [Key; 2] =
    [Key::new("name", Form::Name, "What it is called"), Key::new("about", Form::Text, "What it is for")];

/// `[[aligned]]`.
pub const ALIGNED: [Key; 2] = [
    Key::new("stages", Form::Names, "The stages that must agree"),
    Key::new("except", Form::Patterns, "Where they may not, as patterns of addresses"),
];

/// What an outlet of one kind has beside what all have.
pub type KindOfOutlet = (&'static str, &'static [&'static str], &'static [&'static str]);

/// What else can be said of an outlet of each kind, and what must be.
pub const OUTLET_KINDS: [KindOfOutlet; 7] = [
    ("directory", &["path", "follow_links"], &["path"]),
    (
        "http",
        &[
            "url",
            "path",
            "find",
            "next",
            "at",
            "new",
            "token",
            "user",
            "password",
            "oauth",
            "certificate",
            "certificate_key",
            "proxy",
            "retries",
            "naming",
            "prefix",
            "only",
            "except",
            "secrets",
        ],
        &["url"],
    ),
    ("postgres", &OF_SERVER, &["url"]),
    ("mariadb", &OF_SERVER, &["url"]),
    (
        "sqlite",
        &[
            "path", "table", "columns", "scope", "where", "fixed", "who", "when", "tables", "naming",
            "prefix", "only", "except", "secrets",
        ],
        &["path"],
    ),
    ("process", &["pid_file"], &["pid_file"]),
    ("by-hand", &["chore"], &["chore"]),
];

/// What can be said of rows in a database that is a server.
const OF_SERVER: [&str; 15] = [
    "url", "password", "table", "columns", "scope", "where", "fixed", "who", "when", "tables", "naming",
    "prefix", "only", "except", "secrets",
];

/// `[[outlet]]`.
pub const OUTLET: [Key; 43] = [
    Key::new("name", Form::Name, "What it is called"),
    Key::new("kind", Form::Word(|| OutletKind::NAMES.to_vec()), "How it is reached"),
    Key::new("stages", Form::Patterns, "The stages that it is for, as patterns"),
    Key::new("units", Form::Patterns, "The units that it is for, as patterns; all if not given"),
    Key::new("keep", Form::Patterns, "Names and folders there that are never ours"),
    Key::new("timeout", Form::Text, "How long it may take to answer; 10s if not given"),
    Key::new("reload", Form::Texts, "The program that makes a delivery count, and its arguments"),
    Key::new(
        "signal",
        Form::Parts(&SIGNAL),
        "The process that gets a signal after a delivery: its file with the number, and HUP, USR1 or USR2",
    ),
    Key::new("touch", Form::Text, "The file that is written anew, as it is, after a delivery"),
    Key::new("call", Form::Text, "The address that is called with POST after a delivery"),
    Key::new(
        "ready",
        Form::Text,
        "What tells that a delivery counts: an address, file:PATH, or `probe`, what the contract expects",
    ),
    Key::new("within", Form::Text, "How long a delivery may take to count; 30s if not given"),
    Key::new(
        "pass",
        Form::Names,
        "Variables that the program gets although secrets of outlets come from them",
    ),
    Key::new(
        "path",
        Form::Text,
        "The folder, from the ledger's, or what follows the url; may refer to the stage and the unit",
    ),
    Key::new("follow_links", Form::Boolean, "Links below the folder are followed"),
    Key::new("url", Form::Given, "The address of the service or the database"),
    Key::new("token", Form::From, "The bearer token"),
    Key::new("user", Form::Text, "Who logs in with a password"),
    Key::new(
        "oauth",
        Form::TableOf(&OAUTH, &["url", "client", "secret"]),
        "url, client, secret and scope: the credentials that a token is given for",
    ),
    Key::new("proxy", Form::Text, "The proxy between"),
    Key::new(
        "find",
        Form::Text,
        "The query (JSONPath) that leads from the list at the address to that of the unit's document",
    ),
    Key::new("next", Form::Text, "Where a page of that list has the address of the next one (JSON Pointer)"),
    Key::new(
        "at",
        Form::Text,
        "Where in its document the unit's values are (JSON Pointer); nothing else is ours",
    ),
    Key::new("new", Form::Labels, "What a new document holds beside them"),
    Key::new(
        "certificate",
        Form::From,
        "Where the certificate comes from that is shown to the service (PEM)",
    ),
    Key::new("certificate_key", Form::From, "Where its private key comes from (PEM)"),
    Key::new("retries", Form::Whole(10), "How often it is tried again"),
    Key::new("naming", Form::Word(|| words(&Naming::ALL)), "How names are made"),
    Key::new("prefix", Form::Text, "What stands in front of all names"),
    Key::new("secrets", Form::Word(|| words(&SecretsIn::ALL)), "Which values it holds"),
    Key::new("password", Form::From, "The password of the database"),
    Key::new("table", Form::Text, "The table, as TABLE or SCHEMA.TABLE"),
    Key::new("columns", Form::Parts(&COLUMNS), "The table's columns"),
    Key::new("scope", Form::Text, "The scope of a unit; may refer to the stage and the unit"),
    Key::new("where", Form::Labels, "Columns and what they hold in rows that are ours"),
    Key::new("fixed", Form::Labels, "Columns and what they hold in each row that is written"),
    Key::new("who", Form::Text, "The column that gets the name of who writes a row"),
    Key::new("when", Form::Text, "The column that gets the time when a row is written"),
    Key::new(
        "tables",
        Form::ListOf(&LOOKUP_ROWS, &["entry", "table", "key", "columns"]),
        "Lookup tables whose rows are rows of a table of their own",
    ),
    Key::new("only", Form::Patterns, "The fields that stand there, ENTRY or ENTRY.FIELD, as patterns"),
    Key::new("except", Form::Patterns, "The fields that do not, as patterns"),
    Key::new(
        "pid_file",
        Form::Text,
        "The file with the number of a process; may refer to the stage and the unit",
    ),
    Key::new("chore", Form::Text, "What a person has to do who brings it there by hand"),
];

/// Client credentials.
pub const OAUTH: [Key; 4] = [
    Key::new("url", Form::Text, "The address that gives tokens"),
    Key::new("client", Form::Text, "The client"),
    Key::new("secret", Form::From, "Its secret"),
    Key::new("scope", Form::Text, "What the token is for"),
];

/// A signal.
pub const SIGNAL: [Key; 2] = [
    Key::new("pid_file", Form::Text, "The file with the number of the process"),
    Key::new("send", Form::Word(|| Wake::SIGNALS.to_vec()), "The signal"),
];

/// The rows of a lookup table.
pub const LOOKUP_ROWS: [Key; 8] = [
    Key::new("entry", Form::Name, "The lookup table, as contracts call it"),
    Key::new("table", Form::Text, "The table, as TABLE or SCHEMA.TABLE; may refer to the stage and the unit"),
    Key::new("key", Form::Text, "The column that tells rows apart"),
    Key::new("columns", Form::Labels, "Columns of the lookup table, and how they are called there"),
    Key::new("where", Form::Labels, "Columns and what they hold in rows that are ours"),
    Key::new("fixed", Form::Labels, "Columns and what they hold in each row that is written"),
    Key::new("who", Form::Text, "The column that gets the name of who writes a row"),
    Key::new("when", Form::Text, "The column that gets the time when a row is written"),
];

/// The columns of a table of values.
pub const COLUMNS: [Key; 3] = [
    Key::new("scope", Form::Text, "Whose row it is"),
    Key::new("name", Form::Text, "The name"),
    Key::new("value", Form::Text, "The value"),
];

/// `[[bundle]]`.
pub const BUNDLE: [Key; 4] = [
    Key::new("name", Form::Name, "What it is called"),
    Key::new("units", Form::Patterns, "Its units and instances, as patterns"),
    Key::new("version", Form::Text, "Its version; recorded with its deliveries"),
    Key::new("about", Form::Text, "What it is for"),
];

/// `[[rule]]`, but for what it demands.
pub const RULE: [Key; 10] = [
    Key::new("name", Form::Name, "What it is called"),
    Key::new("fields", Form::OneOrMore, "The fields that it covers, as patterns"),
    Key::new("types", Form::OneOrMore, "The types of the fields that it covers"),
    Key::new("kinds", Form::OneOrMore, "The kinds of the entries that it covers"),
    Key::new(
        "when",
        Form::Parts(&CONDITION),
        "Only where this field of the same unit, ENTRY or ENTRY.FIELD, has this value",
    ),
    Key::new("classes", Form::Words(classes), "The classes of stages where it counts"),
    Key::new("stages", Form::OneOrMore, "The stages where it counts, as patterns"),
    Key::new("severity", Form::Word(severities), "How bad it is where it is broken"),
    Key::new("why", Form::Text, "Why the rule is there"),
    Key::new("help", Form::Text, "What to do where it is broken"),
];

/// What a rule demands.
pub const RULE_DEMANDS: [Key; 13] = [
    Key::new("one_of", Form::Values, "The value is one of these"),
    Key::new("not_one_of", Form::Values, "The value is none of these"),
    Key::new("pattern", Form::Text, "The text matches this regular expression somewhere"),
    Key::new("not_pattern", Form::Text, "The text matches this regular expression nowhere"),
    Key::new("min", Form::Bound, "The least"),
    Key::new("max", Form::Bound, "The greatest"),
    Key::new("max_length", Form::Whole(u32::MAX), "So many characters at most"),
    Key::new("equal_in", Form::OneOrMore, "The value is the same in all of these stages"),
    Key::new("distinct_in", Form::OneOrMore, "The value is the same in no two of these stages"),
    Key::new("unique_in_stage", Form::OnlyTrue, "No other field that it covers has the value in that stage"),
    Key::new("present_with", Form::Text, "There is a value wherever this field of the same unit has one"),
    Key::new("absent_in", Form::OneOrMore, "There is no value in these stages"),
    Key::new("stated", Form::OnlyTrue, "The stage states the value itself"),
];

/// The condition of a rule.
pub const CONDITION: [Key; 2] = [
    Key::new("field", Form::Text, "ENTRY or ENTRY.FIELD of the same unit"),
    Key::new("is", Form::Value, "What it is"),
];

fn classes() -> Vec<&'static str> {
    words(&Class::ALL)
}

fn severities() -> Vec<&'static str> {
    vec!["error", "warning"]
}

fn codes() -> Vec<&'static str> {
    Code::ALL.iter().map(|code| code.name()).collect()
}
