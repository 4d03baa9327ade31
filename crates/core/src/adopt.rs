//! Adopting: what a unit's contract and settings would be, given the files that exist.
//!
//! [`gather`] finds the names that belong together across files, formats and stages. [`propose`] makes
//! declarations and values of them: it recognises connections and endpoints, infers types from all
//! stages together, tells secrets from the rest, and keeps the names that the files have. What has
//! no place is said with its reason. Nothing here reads files or writes them.
//!
//! Names are kept as contracts have them: a `${` in one is escaped, and where a name carries that of the
//! stage in every stage, it refers to the stage.

mod gather;
mod infer;
mod order;
mod propose;
mod recognise;
mod repeats;
mod secrecy;
mod spellings;
mod words;

use std::collections::{BTreeMap, BTreeSet};

pub use gather::{Gathered, flattened, gather, with_stage};
pub use infer::inferred;
pub use propose::propose;
pub use repeats::{Repeat, naming_the_stage, repeats};
pub use secrecy::looks_secret;
pub use spellings::{Spelled, Spelling, spellings};
pub use words::{entry_name, loose};

use crate::model::{OutputFormat, StageId};
use crate::name::Name;
use crate::output::OutputName;
use crate::tree::Tree;
use crate::types::Type;
use crate::value::Value;

/// A file that exists.
#[derive(Debug, Clone)]
pub struct OldFile {
    /// The stage that it is of.
    pub stage: StageId,
    /// The name of that stage.
    pub stage_name: Name,
    /// The output that it becomes, by its position among all.
    pub output: usize,
    /// Its format.
    pub format: OutputFormat,
    /// What is in it.
    pub tree: Tree,
    /// The lines of its values.
    pub lines: BTreeMap<OutputName, usize>,
    /// What comments say of its values.
    pub comments: BTreeMap<OutputName, String>,
    /// The names whose values are those of the base file that it is laid over.
    pub base: BTreeSet<OutputName>,
}

/// A place in one of the files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct OldPlace {
    /// The file, by its position.
    pub file: usize,
    /// The line, from 1.
    pub line: usize,
}

/// A value in one of the files.
#[derive(Debug, Clone)]
pub struct OldValue {
    /// The value.
    pub value: Value,
    /// Whether its file knows text alone, so that `8080` may be a number.
    pub is_bare: bool,
    /// Whether numbers of its file are read with all their digits.
    pub is_exact: bool,
    /// Where it stands.
    pub place: OldPlace,
}

impl OldValue {
    /// A value in a file of this format.
    pub fn new(value: Value, format: OutputFormat, place: OldPlace) -> Self {
        let (is_bare, is_exact) = (format.knows_text_alone(), format == OutputFormat::Json);
        Self { value, is_bare, is_exact, place }
    }
}

/// What becomes one field: a name in each output, and a value in each stage that has one.
#[derive(Debug, Clone, Default)]
pub struct OldField {
    /// Its names, by output.
    pub names: BTreeMap<usize, (OutputFormat, OutputName)>,
    /// What a comment says of it.
    pub about: Option<String>,
    /// The stages whose value is that of the base file.
    pub from_base: BTreeSet<StageId>,
    /// Its values, by stage; if two files of a stage have it, the first.
    pub values: BTreeMap<StageId, OldValue>,
}

impl OldField {
    /// Its first name.
    pub fn name(&self) -> &[String] {
        self.names.values().next().map_or(&[], |(_, name)| name.as_slice())
    }
}

/// Something in a file that no field can be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotPlaced {
    /// Its names, by output; one at least.
    pub names: BTreeMap<usize, OutputName>,
    /// Where it stands first.
    pub place: OldPlace,
    /// Why it has no place. Never the value.
    pub reason: String,
}

impl NotPlaced {
    /// A field with all its names.
    pub fn of_field(field: &OldField, place: OldPlace, reason: String) -> Self {
        let names = field.names.iter().map(|(output, (_, name))| (*output, name.clone()));
        Self { names: names.collect(), place, reason }
    }

    /// Its first name.
    pub fn name(&self) -> &[String] {
        self.names.values().next().map_or(&[], Vec::as_slice)
    }
}

/// A declaration that is proposed.
#[derive(Debug, Clone)]
pub struct Proposed {
    /// The entry's name.
    pub name: Name,
    /// What it is.
    pub kind: ProposedKind,
    /// Its fields, as far as something is to be said of them.
    pub fields: Vec<ProposedField>,
}

impl Proposed {
    /// Whether one of its fields can come out as a secret: it is one, or is made of others of which one is.
    pub fn may_give_secret(&self, field: &ProposedField) -> bool {
        let is_made = field.settings.is_empty() && field.default.is_none();
        field.secret || is_made && self.fields.iter().any(|other| other.secret)
    }
}

/// The kinds of entries that are recognised.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ProposedKind {
    /// A connection with this protocol.
    Connection(&'static str),
    /// An endpoint.
    Endpoint,
    /// A variable.
    Variable,
}

/// A field that is proposed.
#[derive(Debug, Clone)]
pub struct ProposedField {
    /// Its name; `None` for a variable's.
    pub name: Option<Name>,
    /// Its type.
    pub this_type: Type,
    /// Whether it is a secret.
    pub secret: bool,
    /// What it is for, in the words of a comment.
    pub about: Option<String>,
    /// Whether the declaration has to say that it need not have a value.
    pub optional: bool,
    /// The value that it has everywhere, where a default may stand.
    pub default: Option<Value>,
    /// Its names in outputs, by output; none for a field that no file has.
    pub names: BTreeMap<usize, (OutputFormat, OutputName)>,
    /// Its values where no default stands for them.
    pub settings: BTreeMap<StageId, Value>,
    /// The stages of which no file has it.
    pub missing: Vec<StageId>,
}
