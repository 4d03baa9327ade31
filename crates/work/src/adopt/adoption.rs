//! What adopting comes to, and what is being worked out for it.

use cledger_core::adopt::{NotPlaced, Proposed, Repeat, Spelled};
use cledger_core::model::{OutputFormat, UnitId};
use cledger_core::name::Name;

use crate::adopt::differing::Differing;
use crate::adopt::files::Files;
use crate::adopt::found::FoundThere;
use crate::adopt::known::Known;
use crate::adopt::not_read::NotRead;
use crate::adopt::proof::TextDifference;
use crate::adopt::tables::FoundTable;
use crate::change::{Changing, Consent};
use crate::trouble::Kind;

/// What is to be adopted.
#[derive(Debug, Clone)]
pub struct ToAdopt {
    /// The unit to make, or to bring up to date.
    pub unit: Name,
    /// Files and folders with the stage of each: `STAGE=FILE`, or `STAGE=capture:FILE`.
    pub sources: Vec<String>,
    /// The format of files whose names do not tell it.
    pub format: Option<OutputFormat>,
    /// Of a unit that is there already: fields, patterns of them, or names in the files, whose values are taken from
    /// there in place of the ledger's.
    pub take: Vec<String>,
    /// Whether no value becomes a default.
    pub no_defaults: bool,
    /// Whether secrets may stand in plain text where a stage has no key.
    pub plain_secrets: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What adopting comes to.
#[derive(Debug)]
pub struct Adoption {
    /// The unit.
    pub unit: Name,
    /// Whether it is new.
    pub is_new: bool,
    /// Each file with its stage and format.
    pub files: Vec<(String, Name, OutputFormat)>,
    /// Each output with its format and the stages that have a file of it.
    pub outputs: Vec<(String, OutputFormat, Vec<Name>)>,
    /// The stages.
    pub stages: Vec<Name>,
    /// What is declared for new names.
    pub proposed: Vec<Proposed>,
    /// What is declared for lookup tables that have a table of their own at an outlet.
    pub tables: Vec<FoundTable>,
    /// Where one stage alone is adopted: the hosts, URLs and logins that became defaults, as `ENTRY[.FIELD]`.
    pub inherited: Vec<String>,
    /// How many new fields have a default.
    pub defaults: usize,
    /// How many settings there are.
    pub settings: usize,
    /// How many of them are secrets.
    pub secrets: usize,
    /// Of a unit that was there: how many values are the same in the ledger and in the files.
    pub same: usize,
    /// Those that are not, with what becomes of them.
    pub differing: Vec<Differing>,
    /// Fields whose values are spelled otherwise in one stage than in another.
    pub spellings: Vec<SpelledOtherwise>,
    /// Fields that only some stages have: `ENTRY[.FIELD]`, and the stages that lack it.
    pub missing: Vec<(String, Vec<Name>)>,
    /// Name, file, line and reason.
    pub not_placed: Vec<(String, String, usize, String)>,
    /// Files in folders that are not read.
    pub not_read: Vec<NotRead>,
    /// Texts of YAML that readers of its version 1.1 take for something else: name, file and line.
    pub other_in_old_yaml: Vec<(String, String, usize)>,
    /// Addresses of fields whose file has them no more, and that file.
    pub gone: Vec<(String, String)>,
    /// Names that come in addition, since the stage follows another or has groups, and the file.
    pub added: Vec<(String, String)>,
    /// Values that stand in several fields, and could be references.
    pub repeats: Vec<Repeat>,
    /// Fields whose values differ by the stage's name alone.
    pub by_stage: Vec<String>,
    /// How many values the proof has seen come back.
    pub proven: usize,
    /// How many cells of lookup tables it has.
    pub proven_cells: usize,
    /// How the rendered texts differ from those of the files.
    pub text: TextDifference,
    /// What was found at outlets, as it is recorded for the first delivery: each stage of them.
    pub found: Vec<(Name, FoundThere)>,
    /// Whether the ledger does not say all of it already.
    pub changes_something: bool,
    /// Whether it is done.
    pub written: bool,
}

/// What is being worked out.
pub(crate) struct Work<'w> {
    pub(crate) asked: &'w ToAdopt,
    pub(crate) changing: &'w Changing,
    pub(crate) unit: Option<UnitId>,
    pub(crate) files: &'w Files,
    pub(crate) known: &'w Known,
    pub(crate) proposed: &'w [Proposed],
    pub(crate) tables: &'w [FoundTable],
    /// What has no place.
    pub(crate) not_placed: &'w [NotPlaced],
}

impl Adoption {
    /// What kind of trouble there is, if any: something has no place.
    pub fn kind(&self) -> Option<Kind> {
        let keeps_own = self.differing.iter().any(|it| it.fate.is_kept());
        (!self.not_placed.is_empty() || keeps_own).then_some(Kind::Found)
    }
}

/// A field whose values are spelled otherwise in one stage than in another.
#[derive(Debug, Clone)]
pub struct SpelledOtherwise {
    /// The field, as `ENTRY` or `ENTRY.FIELD`.
    pub field: String,
    /// In what they differ.
    pub what: Spelled,
    /// The values, by stage.
    pub values: Vec<(Name, String)>,
    /// The settings that would align them: addresses with values.
    pub aligned: Vec<(String, String)>,
}
