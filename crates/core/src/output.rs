//! Outputs: the names that fields have in rendered files.

use crate::model::{Declaration, Entry, Ledger, Output, OutputFormat, Slot, Subject, Unit, UnitId};
use crate::name::Name;

/// The name of a field in an output: its steps from the root, more than one where it is nested.
pub type OutputName = Vec<String>;

impl OutputFormat {
    /// The name of a field in files of this format: `BOOKINGS_DB_HOST` in dotenv,
    /// `bookings-db.host` in properties, `host` below `bookings-db` in JSON and YAML. An `as` of
    /// the declaration is taken as it is.
    pub fn name_of(self, entry: &Entry, field: &Declaration) -> OutputName {
        if self == OutputFormat::Csv {
            return vec![entry.name.to_string()];
        }
        let names = &field.output_names;
        let by_format = names.by_format.iter().find(|(format, _)| format == self.name());
        if let Some(name) = by_format.map(|(_, name)| name).or(names.all.as_ref()) {
            return vec![name.clone()];
        }
        let steps = || std::iter::once(&entry.name).chain(&field.name).map(Name::as_str);
        match self {
            OutputFormat::Dotenv => {
                let mut name = joined(steps(), '_').replace('-', "_");
                name.make_ascii_uppercase();
                if name.starts_with(|first: char| first.is_ascii_digit()) {
                    name.insert(0, '_');
                }
                vec![name]
            }
            OutputFormat::Properties => vec![joined(steps(), '.')],
            OutputFormat::Json | OutputFormat::Yaml | OutputFormat::Csv => {
                steps().map(str::to_owned).collect()
            }
        }
    }
}

fn joined<'s>(steps: impl Iterator<Item = &'s str>, between: char) -> String {
    let mut name = String::new();
    for step in steps {
        if !name.is_empty() {
            name.push(between);
        }
        name.push_str(step);
    }
    name
}

impl Output {
    /// Whether an entry of the unit stands in this one of its outputs: a lookup table that has a
    /// file of its own in that alone, and every other entry in all other files.
    pub fn holds(&self, unit: &Unit, entry: &Entry) -> bool {
        let is_of = |output: &Output| output.table.as_ref().is_some_and(|table| table.entry == entry.name);
        is_of(self) || (self.table.is_none() && !unit.outputs.iter().any(is_of))
    }
}

/// The names of all fields of a unit in one of its outputs, sorted.
pub fn names(ledger: &Ledger, unit: UnitId, output: &Output) -> Vec<(OutputName, Slot)> {
    let subject = Subject::Unit(unit, None);
    let pairs = ledger.slots(subject).all().filter_map(|slot| {
        let (entry, field) = ledger.field(subject, slot);
        let name = || (output.format.name_of(entry, field), slot);
        output.holds(ledger.unit(unit), entry).then(name)
    });
    let mut names: Vec<_> = pairs.collect();
    names.sort_unstable();
    names
}

/// A name that is another's too, or that lies on the way to another: the two fields that have them.
pub fn clash(names: &[(OutputName, Slot)]) -> Option<(&OutputName, Slot, Slot)> {
    let mut pairs = names.windows(2).filter(|pair| pair[1].0.starts_with(&pair[0].0));
    pairs.next().map(|pair| (&pair[0].0, pair[0].1, pair[1].1))
}
