//! The keys of contracts and of shared entries.

use cledger_core::model::{Form as CredentialForm, Naming, OutputFormat, OutputOrder, SecretsIn};
use cledger_core::types::Type;

use super::{Form, Key, words};

/// A contract.
pub const UNIT: [Key; 15] = [
    Key::new("about", Form::Text, "What the unit is"),
    Key::new("owner", Form::Text, "Who looks after it"),
    Key::new("version", Form::Text, "The version of what is deployed"),
    Key::new("formerly", Form::Names, "The names that it had before, the latest last"),
    Key::new("stages", Form::Patterns, "The stages where it belongs, as patterns; all if not given"),
    Key::new("uses", Form::Names, "The shared entries that it uses"),
    Key::new("instances", Form::Things, ""),
    Key::new("output", Form::Things, ""),
    Key::new("chore", Form::Things, ""),
    Key::new("probe", Form::Things, ""),
    Key::new("variables", Form::Things, ""),
    Key::new("connections", Form::Things, ""),
    Key::new("endpoints", Form::Things, ""),
    Key::new("credentials", Form::Things, ""),
    Key::new("tables", Form::Things, ""),
];

/// `[instances.NAME]`.
pub const INSTANCE: [Key; 2] = [
    Key::new(
        "stages",
        Form::Patterns,
        "The stages where it exists, as patterns; all of the unit's if not given",
    ),
    Key::new("about", Form::Text, "What it is for"),
];

/// A variable, or a field of an entry.
pub const FIELD: [Key; 13] = [
    Key::new("type", Form::Word(|| Type::names().collect()), "Its type; text if not given"),
    Key::new("default", Form::Value, "Its default; text may hold references"),
    Key::new("required", Form::Boolean, "It must have a value"),
    Key::new(
        "vary",
        Form::Word(|| vec!["never", "may", "must"]),
        "Where it may differ: never, may, or must, where each stage states its own",
    ),
    Key::new(
        "distinct",
        Form::BooleanOr("class"),
        "No two stages have the same value; with class no two of different class",
    ),
    Key::new("secret", Form::Boolean, "It is a secret"),
    Key::new("one_of", Form::Values, "The only values allowed"),
    Key::new("min", Form::Bound, "The least number, duration, size or day"),
    Key::new("max", Form::Bound, "The greatest"),
    Key::new("pattern", Form::Text, "A regular expression that matches somewhere in the text"),
    Key::new("max_length", Form::Whole(u32::MAX), "So many characters at most"),
    Key::new("about", Form::Text, "What it is for"),
    Key::new("as", Form::OutputName, "Its name in rendered files, NAME or FORMAT=NAME"),
];

/// `[connections.NAME]`.
pub const CONNECTION: [Key; 3] = [
    Key::new(
        "protocol",
        Form::Name,
        "Its protocol: postgresql, mysql, redis, amqp, sftp, ldap, smtp, kafka, tcp or another",
    ),
    ABOUT,
    FIELDS,
];

/// `[endpoints.NAME]`.
pub const ENDPOINT: [Key; 2] = [ABOUT, FIELDS];

/// `[credentials.NAME]`.
pub const CREDENTIAL: [Key; 3] =
    [Key::new("form", Form::Word(|| words(&CredentialForm::ALL)), "Its form"), ABOUT, FIELDS];

/// `[tables.NAME]`.
pub const TABLE: [Key; 6] = [
    Key::new("columns", Form::Patterns, "Its columns"),
    Key::new("key", Form::Text, "The column that tells its rows apart"),
    Key::new("rows", Form::Rows, "The CSV file of its rows, from the ledger's folder, or rows by their keys"),
    Key::new("required", Form::Boolean, "It must have rows"),
    ABOUT,
    Key::new("as", Form::OutputName, "Its name in rendered files, NAME or FORMAT=NAME"),
];

const ABOUT: Key = Key::new("about", Form::Text, "What it is for");
const FIELDS: Key = Key::new("fields", Form::Things, "");

/// `[[probe]]`.
pub const PROBE: [Key; 7] = [
    Key::new("name", Form::Name, "What it is called"),
    Key::new("entry", Form::Name, "The connection or endpoint that is tried"),
    Key::new(
        "path",
        Form::Text,
        "A page below an endpoint's address, in place of that; may refer to the stage and the unit",
    ),
    Key::new("stages", Form::Patterns, "The stages where that is so, as patterns; all if not given"),
    Key::new(
        "expect",
        Form::OneOrMoreTexts,
        "What is to come back, one of several: answers, refused, no-answer, access-denied or a status such as 404; \
         answers if not given",
    ),
    Key::new("text", Form::Text, "What the page holds"),
    Key::new("login", Form::Boolean, "Show the endpoint's login; true if not given"),
];

/// `[[output]]`.
pub const OUTPUT: [Key; 17] = [
    Key::new("path", Form::Text, "Below the unit's folder; may refer to the stage and the unit"),
    Key::new("format", Form::Word(|| words(&OutputFormat::ALL)), "The file's format"),
    Key::new("table", Form::Name, "The lookup table that a CSV file holds"),
    Key::new("template", Form::Text, "The file in the ledger that makes it, in place of a format"),
    Key::new("delimiters", Form::Some(&DELIMITERS), "What stands around the marks of a template"),
    Key::new("stages", Form::Patterns, "The stages where it is, as patterns; all if not given"),
    Key::new("naming", Form::Word(|| words(&Naming::ALL)), "How names are made"),
    Key::new(
        "prefix",
        Form::Text,
        "What stands in front of all names; for nested ones levels, joined with dots",
    ),
    Key::new("only", Form::Patterns, "The fields that it holds, ENTRY or ENTRY.FIELD, as patterns"),
    Key::new("except", Form::Patterns, "The fields that it does not hold, as patterns"),
    Key::new("secrets", Form::Word(|| words(&SecretsIn::ALL)), "Which values it holds"),
    Key::new("header", Form::Text, "A comment at the start"),
    Key::new("name", Form::Text, "The name of a manifest; may refer to the stage and the unit"),
    Key::new(
        "manifest",
        Form::Table,
        "What a manifest says beside its name and data; texts may refer to the stage and the unit",
    ),
    Key::new("element", Form::Text, "How the outermost element of an XML file is called, if not `settings`"),
    Key::new("order", Form::Word(|| words(&OutputOrder::ALL)), "The order of names"),
    Key::new(
        "not_adopted",
        Form::ListOf(&LEFT_OUT, &["name", "at", "why"]),
        "What had no place when files were taken over",
    ),
];

/// What stands around the marks of a template.
pub const DELIMITERS: [Key; 3] = [
    Key::new("value", Form::Ends, "Around a value"),
    Key::new("block", Form::Ends, "Around a block"),
    Key::new("comment", Form::Ends, "Around a comment"),
];

/// What had no place when files were taken over.
pub const LEFT_OUT: [Key; 3] = [
    Key::new("name", Form::Text, "Its name there"),
    Key::new("at", Form::Text, "FILE:LINE"),
    Key::new("why", Form::Text, "Why it has no place"),
];
