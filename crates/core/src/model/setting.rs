//! Settings: values written for a field in a group, in a stage, or for an instance.

use compact_str::CompactString;
use jiff::civil::Date;

use super::{InstanceId, LayerId, LookUp, Slot};
use crate::cipher::Cipher;
use crate::name::Name;
use crate::source::Place;
use crate::value::Held;

/// How a value stands to its field's declaration, as far as it can be told where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It has the right type and satisfies the constraints.
    Fits,
    /// Its type is wrong: it gives no value.
    WrongType,
    /// Its type is right, but a constraint is broken.
    NotAllowed,
    /// It depends on references, or is fetched when it is used.
    Open,
}

/// Where a fetched value comes from, before references in it are expanded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source(pub CompactString);

/// What a setting says.
#[derive(Debug, Clone)]
pub enum SettingValue {
    /// This value.
    Value(Held),
    /// None, on purpose.
    Absent,
    /// What is found there when it is used.
    From(Source),
    /// The secret that this opens to.
    Cipher(Box<Cipher>),
}

/// What a setting says beside its value.
#[derive(Debug, Clone, Default)]
pub struct Note {
    /// Why it is as it is.
    pub why: Option<String>,
    /// The last day on which it is meant to count.
    pub until: Option<Date>,
    /// Where its value can be looked up.
    pub looked_up: Option<LookUp>,
    /// For a lookup table, where each row stands, by key.
    pub rows: Vec<(CompactString, Place)>,
}

/// A value written for a field.
#[derive(Debug, Clone)]
pub struct Setting {
    /// The field, in the numbering of whoever owns the list that this setting is in.
    pub slot: Slot,
    /// What it says.
    pub value: SettingValue,
    /// How the value stands to the declaration.
    pub verdict: Verdict,
    /// The value, with all that stands around it after the key.
    pub place: Place,
    /// Reason, last day and look-up, where any is given.
    pub note: Option<Box<Note>>,
}

/// The shared settings of one layer.
#[derive(Debug, Clone, Default)]
pub struct LayerSettings {
    /// For each shared entry, its settings; slots count within the entry.
    pub shared: Vec<Vec<Setting>>,
    /// Settings under `[shared]` that are for nothing that exists.
    pub strays: Vec<Stray>,
    /// Whether the layer's settings stand in a folder, with a file for each unit.
    pub in_folder: bool,
}

/// What a stray setting is for, and why there is no such thing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StrayKind {
    /// No entry has this name.
    UnknownEntry,
    /// A shared entry has this name, but the unit does not use it.
    NotUsed,
    /// The entry has no field of this name.
    UnknownField {
        /// The entry.
        entry: Name,
    },
    /// The entry has fields, and the setting names none of them.
    NotFields {
        /// The entry.
        entry: Name,
    },
}

/// A setting for something that the contract does not have. It has no effect.
#[derive(Debug, Clone)]
pub struct Stray {
    /// Where it was written.
    pub layer: LayerId,
    /// The instance that it was written for.
    pub instance: Option<InstanceId>,
    /// What is wrong with it.
    pub kind: StrayKind,
    /// The name that was not found, as written.
    pub name: String,
    /// The name in the file.
    pub place: Place,
}

/// Something wrong with the rows of a lookup table; the row does not count.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableFault {
    /// Whose table.
    pub owner: crate::address::Owner,
    /// The table.
    pub entry: Name,
    /// Where the rows are given; `None` for the declaration.
    pub layer: Option<LayerId>,
    /// The text that is wrong.
    pub place: Place,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub help: String,
}

/// Settings for a unit or instance that does not exist.
#[derive(Debug, Clone)]
pub struct Stranger {
    /// Where they were written.
    pub layer: LayerId,
    /// The unit's name, as written.
    pub unit: String,
    /// The instance's name, as written.
    pub instance: Option<String>,
    /// The name in the file, or the start of the file that has it.
    pub place: Place,
}
