//! Outputs: the names that fields have in rendered files.

use std::collections::BTreeMap;

use crate::model::{Declaration, Entry, Ledger, Output, OutputFormat, Slot, Subject};
use crate::name::Name;

/// The name of a field in an output: its steps from the root, more than one where it is nested.
pub type OutputName = Vec<String>;

impl OutputFormat {
    /// The name of a field in files of this format: `BOOKINGS_DB_HOST` in dotenv,
    /// `bookings-db.host` in properties, `host` below `bookings-db` in JSON and YAML. An `as` of
    /// the declaration is taken as it is.
    pub fn name_of(self, entry: &Entry, field: &Declaration) -> OutputName {
        let names = &field.output_names;
        let by_format = names.by_format.iter().find(|(format, _)| format == self.name());
        if let Some(name) = by_format.map(|(_, name)| name).or(names.all.as_ref()) {
            return vec![name.clone()];
        }
        let steps = || std::iter::once(&entry.name).chain(&field.name).map(Name::as_str);
        match self {
            OutputFormat::Dotenv => {
                let joined = steps().collect::<Vec<_>>().join("_");
                let mut name = joined.replace('-', "_").to_ascii_uppercase();
                if name.starts_with(|first: char| first.is_ascii_digit()) {
                    name.insert(0, '_');
                }
                vec![name]
            }
            OutputFormat::Properties => vec![steps().collect::<Vec<_>>().join(".")],
            OutputFormat::Json | OutputFormat::Yaml => steps().map(str::to_owned).collect(),
        }
    }
}

/// The names of all fields of a subject in one of its outputs.
pub fn names(ledger: &Ledger, subject: Subject, output: &Output) -> BTreeMap<OutputName, Vec<Slot>> {
    let mut names: BTreeMap<OutputName, Vec<Slot>> = BTreeMap::new();
    for slot in ledger.slots(subject).all() {
        let (entry, field) = ledger.field(subject, slot);
        names.entry(output.format.name_of(entry, field)).or_default().push(slot);
    }
    names
}

/// A name that is another's too, or lies inside another's value: the two fields that have them.
pub fn clash(names: &BTreeMap<OutputName, Vec<Slot>>) -> Option<(&OutputName, Slot, Slot)> {
    if let Some((name, slots)) = names.iter().find(|(_, slots)| slots.len() > 1) {
        return Some((name, slots[0], slots[1]));
    }
    let pairs = names.iter().zip(names.iter().skip(1));
    let mut inside = pairs.filter(|((outer, _), (inner, _))| inner.starts_with(outer));
    inside.next().map(|((name, outer), (_, inner))| (name, outer[0], inner[0]))
}
