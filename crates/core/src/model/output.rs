//! Outputs: the files that are rendered for a unit.

use std::sync::Arc;

use super::{FieldPatterns, SomeStages, StageId, StageText, Unit};
use crate::model::{Declaration, Entry};
use crate::name::Name;
use crate::source::Place;
use crate::tree::Branch;

/// The formats of outputs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum OutputFormat {
    /// `NAME=value` lines that a POSIX shell, Node and Python read alike.
    Dotenv,
    /// `NAME=value` lines without quotes, for container engines and systemd units.
    EnvPlain,
    /// `export NAME='value'` lines for a POSIX shell.
    Shell,
    /// Java's properties.
    Properties,
    /// JSON (RFC 8259).
    Json,
    /// YAML 1.2.
    Yaml,
    /// TOML 1.0.
    Toml,
    /// `name = value` lines in sections.
    Ini,
    /// Elements within each other (XML 1.0).
    Xml,
    /// A Kubernetes `ConfigMap`.
    K8sConfig,
    /// A Kubernetes `Secret`.
    K8sSecret,
    /// The rows of one lookup table as CSV (RFC 4180).
    Csv,
    /// What a template makes of the values.
    Template,
}

/// How many steps a name has in files of a format.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Levels {
    /// Names stand beside each other.
    One,
    /// Names stand in sections.
    Two,
    /// Names stand below each other.
    Many,
}

impl OutputFormat {
    /// The formats that contracts can name, with their names there.
    pub const ALL: [(OutputFormat, &'static str); 12] = [
        (OutputFormat::Dotenv, "dotenv"),
        (OutputFormat::EnvPlain, "env-plain"),
        (OutputFormat::Shell, "shell"),
        (OutputFormat::Properties, "properties"),
        (OutputFormat::Json, "json"),
        (OutputFormat::Yaml, "yaml"),
        (OutputFormat::Toml, "toml"),
        (OutputFormat::Ini, "ini"),
        (OutputFormat::Xml, "xml"),
        (OutputFormat::K8sConfig, "k8s-config"),
        (OutputFormat::K8sSecret, "k8s-secret"),
        (OutputFormat::Csv, "csv"),
    ];

    /// The name in contracts.
    pub fn name(self) -> &'static str {
        let known = Self::ALL.iter().find(|(format, _)| *format == self);
        known.map_or("template", |(_, name)| name)
    }

    /// How many steps its names have.
    pub fn levels(self) -> Levels {
        match self {
            OutputFormat::Json
            | OutputFormat::Yaml
            | OutputFormat::Toml
            | OutputFormat::Xml
            | OutputFormat::Csv
            | OutputFormat::Template => Levels::Many,
            OutputFormat::Ini => Levels::Two,
            OutputFormat::Dotenv
            | OutputFormat::EnvPlain
            | OutputFormat::Shell
            | OutputFormat::Properties
            | OutputFormat::K8sConfig
            | OutputFormat::K8sSecret => Levels::One,
        }
    }

    /// Whether its files know no numbers, lists and maps, and hold their text forms instead.
    pub fn knows_text_alone(self) -> bool {
        self.levels() != Levels::Many || self == OutputFormat::Xml
    }

    /// Whether its files become environment variables.
    pub fn is_environment(self) -> bool {
        matches!(self, OutputFormat::Dotenv | OutputFormat::EnvPlain | OutputFormat::Shell)
    }

    /// Whether its files are Kubernetes manifests.
    pub fn is_manifest(self) -> bool {
        matches!(self, OutputFormat::K8sConfig | OutputFormat::K8sSecret)
    }

    /// The kind of a manifest.
    pub fn manifest_kind(self) -> Option<&'static str> {
        match self {
            OutputFormat::K8sConfig => Some("ConfigMap"),
            OutputFormat::K8sSecret => Some("Secret"),
            _ => None,
        }
    }

    /// Whether its files can hold comments.
    pub fn has_comments(self) -> bool {
        !matches!(self, OutputFormat::Json | OutputFormat::Csv | OutputFormat::Template)
    }

    /// How names are made where the contract does not say.
    pub fn usual_naming(self) -> Naming {
        match self {
            OutputFormat::Properties => Naming::Dotted,
            _ if self.levels() == Levels::One => Naming::UpperSnake,
            _ => Naming::Nested,
        }
    }

    /// Which values it holds where the contract does not say.
    pub fn usual_secrets(self) -> SecretsIn {
        match self {
            OutputFormat::K8sConfig => SecretsIn::Without,
            OutputFormat::K8sSecret => SecretsIn::Alone,
            _ => SecretsIn::With,
        }
    }
}

/// How the names of fields are made for a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Naming {
    /// `BOOKINGS_DB_HOST`.
    UpperSnake,
    /// `bookings-db.host`.
    Dotted,
    /// `host` below `bookings-db`.
    Nested,
    /// `bookingsDbHost`.
    CamelCase,
    /// `bookings-db_host`: the names as they are declared, joined with `_`.
    Declared,
}

impl Naming {
    /// The ways of naming with their words in contracts.
    pub const ALL: [(Naming, &'static str); 5] = [
        (Naming::UpperSnake, "UPPER_SNAKE"),
        (Naming::Dotted, "dotted"),
        (Naming::Nested, "nested"),
        (Naming::CamelCase, "camelCase"),
        (Naming::Declared, "declared"),
    ];
}

/// Whether secrets stand in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SecretsIn {
    /// Among the other values.
    With,
    /// Not at all.
    Without,
    /// And nothing else.
    Alone,
}

impl SecretsIn {
    /// The choices with their words in contracts.
    pub const ALL: [(SecretsIn, &'static str); 3] =
        [(SecretsIn::With, "with"), (SecretsIn::Without, "without"), (SecretsIn::Alone, "alone")];

    /// Whether a value has its place there.
    pub fn takes(self, secret: bool) -> bool {
        match self {
            SecretsIn::With => true,
            SecretsIn::Without => !secret,
            SecretsIn::Alone => secret,
        }
    }
}

/// In which order names stand in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OutputOrder {
    /// By name.
    ByName,
    /// As their entries are declared in the contract, what is shared after the unit's own.
    Declared,
}

impl OutputOrder {
    /// The orders with their words in contracts.
    pub const ALL: [(OutputOrder, &'static str); 2] =
        [(OutputOrder::ByName, "by-name"), (OutputOrder::Declared, "declared")];
}

/// A file that is rendered for the unit.
#[derive(Debug, Clone)]
pub struct Output {
    /// Its path below the unit's folder: relative, with `/`, without `..`.
    pub path: StageText,
    /// Its format.
    pub format: OutputFormat,
    /// The lookup table that it holds; of CSV files alone.
    pub table: Option<OutputTable>,
    /// What makes it, where no format does.
    pub template: Option<OutputTemplate>,
    /// The stages where it is; all if nothing is said.
    pub stages: Option<SomeStages>,
    /// How names are made.
    pub naming: Naming,
    /// What stands in front of all names but those given with `as`.
    pub prefix: Option<StageText>,
    /// What its fields are, of all where this is empty.
    pub only: FieldPatterns,
    /// What its fields are not.
    pub except: FieldPatterns,
    /// Where these two lists stand, if they do.
    pub lists: [Option<Place>; 2],
    /// Whether secrets stand in it.
    pub secrets: SecretsIn,
    /// What stands at its start, as a comment.
    pub header: Option<String>,
    /// The name of the manifest that it is.
    pub manifest_name: Option<StageText>,
    /// In which order names stand.
    pub order: OutputOrder,
    /// What a file says beside its values: a manifest beside its name and data, an XML file by the name of its
    /// outermost element. Texts in it may refer to the stage and the unit.
    pub beside: Branch,
    /// What its files held when they were taken over, and the ledger has no place for.
    pub not_adopted: Vec<NotAdopted>,
    /// The list of these, if there is one.
    pub not_adopted_list: Option<Place>,
    /// Whether it also holds the lookup tables that have a file of their own: what is no file does.
    pub holds_tables: bool,
    /// Lookup tables whose rows an outlet keeps as rows of a table of their own.
    pub apart: Vec<Apart>,
    /// The path in the contract.
    pub place: Place,
}

impl Output {
    /// A file of this format with nothing else said of it.
    pub fn plain(path: StageText, format: OutputFormat, place: Place) -> Self {
        Self {
            path,
            format,
            table: None,
            template: None,
            stages: None,
            naming: format.usual_naming(),
            prefix: None,
            only: FieldPatterns::default(),
            except: FieldPatterns::default(),
            lists: [None; 2],
            secrets: format.usual_secrets(),
            header: None,
            manifest_name: None,
            order: OutputOrder::ByName,
            beside: Branch::new(),
            not_adopted: Vec::new(),
            not_adopted_list: None,
            holds_tables: false,
            apart: Vec::new(),
            place,
        }
    }

    /// Whether a field of the unit has its place in this one of its outputs. A lookup table that has a
    /// file of its own stands in that alone, and one that is kept apart always where it is.
    pub fn holds(&self, unit: &Unit, entry: &Entry, field: &Declaration) -> bool {
        let is_of = |output: &Output| output.table.as_ref().is_some_and(|table| table.entry == entry.name);
        if self.table.is_some() {
            return is_of(self);
        }
        if self.apart.iter().any(|apart| apart.entry == entry.name) {
            return true;
        }
        let name = field.name.as_ref().map(Name::as_str);
        let covers = |patterns: &FieldPatterns| patterns.covers(entry.name.as_str(), name);
        (self.holds_tables || !unit.outputs.iter().any(is_of))
            && (self.only.is_empty() || covers(&self.only))
            && !covers(&self.except)
    }

    /// Whether it is made in a stage.
    pub fn is_in(&self, stage: StageId) -> bool {
        self.stages.as_ref().is_none_or(|stages| stages.is_in(stage))
    }

    /// Whether this and another one are made in one and the same stage.
    pub fn meets(&self, other: &Output) -> bool {
        match (&self.stages, &other.stages) {
            (Some(one), Some(other)) => one.meets(other),
            _ => true,
        }
    }

    /// Whether anything about its names depends on the stage or the instance, apart from `as`.
    pub fn varies(&self) -> bool {
        let mut texts = [Some(&self.path), self.prefix.as_ref(), self.manifest_name.as_ref()].into_iter();
        texts.any(|text| text.is_some_and(StageText::varies))
    }
}

/// A lookup table whose rows an outlet keeps apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Apart {
    /// The table, which has its own name there.
    pub entry: Name,
    /// Its columns without the key's.
    pub columns: Vec<String>,
}

/// Something that a file held when it was taken over, and that the ledger has no place for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotAdopted {
    /// Its name there.
    pub name: String,
    /// The file and the line: `legacy/app.yaml:3`.
    pub at: String,
    /// Why it has no place.
    pub why: String,
    /// Where that is said.
    pub place: Place,
}

/// A lookup table that has a file of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutputTable {
    /// The table.
    pub entry: Name,
    /// Its columns, in the file's order.
    pub columns: Vec<String>,
    /// The column that tells its rows apart.
    pub key: String,
}

/// A template in the ledger.
#[derive(Debug, Clone)]
pub struct OutputTemplate {
    /// Its file, from the ledger's folder.
    pub path: String,
    /// What stands in it.
    pub text: Arc<str>,
    /// What its marks stand between.
    pub delimiters: Delimiters,
}

/// What stands around the marks of a template, where it is not the usual: each a start and an end.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Delimiters {
    /// Around values: `{{` and `}}`.
    pub value: Option<[String; 2]>,
    /// Around what is done: `{%` and `%}`.
    pub block: Option<[String; 2]>,
    /// Around comments: `{#` and `#}`.
    pub comment: Option<[String; 2]>,
}
