//! What a ledger says: stages and groups, units and their entries, and the settings.
//!
//! The store reads files into these types and binds every setting to the field that it is for;
//! what cannot be bound is kept as a [`Stray`], so that it can be reported. Nothing here resolves.

mod broken;
mod built_in;
mod bundle;
mod coverage;
mod declaration;
mod entry;
mod expectation;
mod field_patterns;
mod hanging;
mod judging;
mod ledger;
mod look_up;
mod outlet;
mod output;
mod part;
mod places;
mod rows_outlet;
mod rule;
mod setting;
mod stage;
mod stage_text;
mod texts;
mod unit;
mod waiver;

pub use broken::{BrokenFile, BrokenFiles, Missed, Mistake};
pub use built_in::{auth, credential_fields, endpoint_fields, protocol_fields, usual_port};
pub use bundle::Bundle;
pub use coverage::Idle;
pub use declaration::{Constraints, Declaration, Default, Distinct, OutputNames, Rejection, Required, Vary};
pub use entry::{Entry, Form, Kind, UrlShape};
pub use expectation::{Answer, Expectation, Expected, NotExpected};
pub use field_patterns::{FieldPatterns, NoFieldPattern};
pub use judging::{EXPIRING_DAYS, Judging};
pub use ledger::{Aligned, DaybookStore, Ledger, NoSlot, Subject};
pub use look_up::{ExactSpot, LookUp, LookUpError, LookUpSource, Spot, found_by, query_of};
pub use outlet::{
    ClientCertificate, DocumentPlace, Effecting, Given, HttpLogin, HttpOutlet, OAuth, Outlet, OutletKind,
    Ready, Wake,
};
pub use output::{
    Apart, Delimiters, Levels, Naming, NotAdopted, Output, OutputFormat, OutputOrder, OutputTable,
    OutputTemplate, SecretsIn,
};
pub use part::Part;
pub use rows_outlet::{Beside, Database, LookupRows, RowColumns, RowsOutlet, is_column_name, parts_of_table};
pub use rule::{Condition, Demand, Rule};
pub use setting::{
    LayerSettings, Note, Setting, SettingValue, Source, Stranger, Stray, StrayKind, TableFault, Verdict,
};
pub use stage::{Class, Follow, FollowOf, Group, SomeStages, Stage};
pub(crate) use stage_text::expand as expand_stage_text;
pub use stage_text::{NoLabel, StageText, StageTextError};
pub use unit::{
    Chore, Counting, EntryRef, FormerName, Instance, SettingsOfLayer, SlotEntry, Slots, UNITS_AT_ONCE, Unit,
    When,
};
pub use waiver::{Waived, Waiver};

/// A stage, by its position in the ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct StageId(pub u16);

/// A group, by its position in the ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct GroupId(pub u16);

/// A unit, by its position in the ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UnitId(pub u32);

/// An instance, by its position in its unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct InstanceId(pub u16);

/// A shared entry, by its position in the ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SharedId(pub u16);

/// A field, by its position among all fields that a unit has or sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Slot(pub u32);

/// Where settings stand: a stage or a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum LayerId {
    /// The settings of a stage.
    Stage(StageId),
    /// The settings of a group.
    Group(GroupId),
}

// There are as many of these as a ledger has settings, and as its contracts have fields.
const _: () = assert!(size_of::<Setting>() <= 64 && size_of::<Declaration>() <= 168);
