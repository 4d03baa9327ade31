//! What is live under names that have drifted, and of which fields these are.

use std::collections::BTreeMap;

use cledger_core::address::Address;
use cledger_core::adopt::loose;
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::model::{Ledger, OutputFormat, Slot, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::output::OutputName;
use cledger_core::source::Place;
use cledger_core::value::Held;

use crate::reality::looked::{Look, Looked};
use crate::reality::making::Made;
use crate::reality::standing::{State, UnitDrift};
use crate::trouble::Trouble;

/// A field of a unit or instance in a stage.
pub(crate) type Field = (Subject, StageId, Slot);

/// A name that has drifted somewhere.
pub(crate) struct Live<'d> {
    /// Of which unit or instance.
    pub(crate) subject: Subject,
    pub(crate) stage: StageId,
    /// The field, if one has the name.
    pub(crate) slot: Option<Slot>,
    /// At which outlet.
    pub(crate) outlet: String,
    /// In which format.
    pub(crate) format: OutputFormat,
    /// Where the output of the file stands in the contract, if it is in one.
    pub(crate) output: Option<Place>,
    /// How it has drifted.
    pub(crate) drifted: &'d Drifted,
}

impl Live<'_> {
    /// Whether something is there that nobody here can read.
    pub(crate) fn is_hidden(&self) -> bool {
        self.drifted.is_hidden()
    }
}

/// Everything that has drifted where one looked.
pub(crate) struct Lives<'d> {
    pub(crate) ledger: &'d Ledger,
    pub(crate) looked: &'d [Looked<'d>],
    all: Vec<Live<'d>>,
    by_field: BTreeMap<Field, Vec<usize>>,
    /// Names that no field has, by what spellings do not differ in.
    by_name: BTreeMap<(Subject, StageId, String), Vec<usize>>,
}

/// What was seen of a field that has not drifted.
pub(crate) enum Seen {
    /// It is there as the ledger says.
    AsLedger,
    /// Nobody can tell, for this reason.
    NotKnown(String),
    /// It is in nothing that was looked at.
    Nowhere,
}

impl<'d> Lives<'d> {
    /// All names that have drifted.
    pub(crate) fn of(ledger: &'d Ledger, looked: &'d [Looked<'d>]) -> Self {
        let mut lives =
            Self { ledger, looked, all: Vec::new(), by_field: BTreeMap::new(), by_name: BTreeMap::new() };
        for (place, look, unit) in units(looked) {
            let State::There(files) = &unit.state else { continue };
            for (path, drift) in files {
                if let FileDrift::Drifted(names) = drift {
                    lives.add((place, look, unit), path, names);
                }
            }
        }
        lives
    }

    fn add(
        &mut self,
        (place, look, unit): (&Looked<'_>, &Look<'_>, &UnitDrift),
        path: &str,
        names: &'d [Drifted],
    ) {
        let (subject, stage) = (look.subject, place.place.stage);
        let without_value = self.names_without_value(look, stage, path, names);
        let outlet = unit.outlet.as_ref().map_or_else(|| "the folder".to_owned(), |(name, _)| name.clone());
        let output = look.made.output(path);
        for drifted in names {
            let known = drifted.address.as_deref();
            let slot = known.map_or_else(
                || without_value.get(&drifted.steps).copied(),
                |address| slot_at(self.ledger, subject, address),
            );
            let list = match slot {
                Some(slot) => self.by_field.entry((subject, stage, slot)).or_default(),
                None => self.by_name.entry((subject, stage, loose(&drifted.steps))).or_default(),
            };
            list.push(self.all.len());
            self.all.push(Live {
                subject,
                stage,
                slot,
                outlet: outlet.clone(),
                format: look.made.format_of(path),
                output: output.map(|output| output.output.place),
                drifted,
            });
        }
    }

    /// The fields without a value by the names that they would have, where something is there that has no field.
    fn names_without_value(
        &self,
        look: &Look<'_>,
        stage: StageId,
        path: &str,
        names: &[Drifted],
    ) -> BTreeMap<OutputName, Slot> {
        let extra = || names.iter().filter(|drifted| drifted.what == NameDrift::ExtraThere);
        if extra().next().is_none() {
            return BTreeMap::new();
        }
        let (ledger, subject) = (self.ledger, look.subject);
        if let Some(output) = look.made.output(path) {
            return output.output.names_in(ledger, subject, stage).unwrap_or_default().into_iter().collect();
        }
        // The environment of a program has no file of its own.
        let called = |slot: Slot| {
            let (entry, field) = ledger.field(subject, slot);
            let steps = std::iter::once(&entry.name).chain(&field.name).map(ToString::to_string);
            (loose(&steps.collect::<Vec<_>>()), slot)
        };
        let slots: BTreeMap<String, Slot> = ledger.slots(subject).all().map(called).collect();
        let of = |drifted: &Drifted| Some((drifted.steps.clone(), *slots.get(&loose(&drifted.steps))?));
        extra().filter_map(of).collect()
    }

    /// All names that have drifted, in the order in which one looked.
    pub(crate) fn all(&self) -> &[Live<'d>] {
        &self.all
    }

    /// Where a field has drifted.
    pub(crate) fn of_field(&self, field: Field) -> impl Iterator<Item = &Live<'d>> {
        self.by_field.get(&field).into_iter().flatten().map(|&at| &self.all[at])
    }

    /// Where a name is that no field has, however it is spelled.
    pub(crate) fn called(
        &self,
        subject: Subject,
        stage: &Name,
        name: &Name,
    ) -> impl Iterator<Item = &Live<'d>> {
        let stage = self.ledger.stage_id(stage.as_str());
        let key = stage.map(|stage| (subject, stage, loose(&[name.to_string()])));
        key.and_then(|key| self.by_name.get(&key)).into_iter().flatten().map(|&at| &self.all[at])
    }

    /// What was seen of a field that has not drifted.
    pub(crate) fn seen(&self, (subject, stage, slot): Field) -> Seen {
        let mut seen = Seen::Nowhere;
        let of_it = units(self.looked)
            .filter(|(place, look, _)| (look.subject, place.place.stage) == (subject, stage));
        for (_, look, unit) in of_it {
            if let Some(reason) = unit.reason() {
                return Seen::NotKnown(reason.to_owned());
            }
            let State::There(files) = &unit.state else { continue };
            for (path, drift) in files.iter().filter(|(path, _)| look.made.holds(path, slot)) {
                match drift {
                    FileDrift::AsLedger | FileDrift::Drifted(_) => seen = Seen::AsLedger,
                    FileDrift::Unreadable(reason) => return Seen::NotKnown(format!("{path}: {reason}")),
                    FileDrift::TextDiffers { .. } => {
                        return Seen::NotKnown(format!("{path} is made by a template, and its text differs"));
                    }
                    FileDrift::NotThere | FileDrift::LeftOver | FileDrift::Theirs => {}
                }
            }
        }
        seen
    }

    /// Why a unit or instance could not be looked at, if that is so.
    pub(crate) fn not_known(&self) -> impl Iterator<Item = (Subject, StageId, &str)> {
        units(self.looked)
            .filter_map(|(place, look, unit)| Some((look.subject, place.place.stage, unit.reason()?)))
    }
}

/// All units and instances that were looked at, with where.
fn units<'d>(
    looked: &'d [Looked<'d>],
) -> impl Iterator<Item = (&'d Looked<'d>, &'d Look<'d>, &'d UnitDrift)> {
    looked
        .iter()
        .flat_map(|place| place.looks.iter().zip(&place.units).map(move |(look, unit)| (place, look, unit)))
}

fn slot_at(ledger: &Ledger, subject: Subject, address: &str) -> Option<Slot> {
    let address = Address::parse(address).ok()?;
    ledger.find_slot(subject, address.entry?.as_str(), address.field.as_ref().map(Name::as_str)).ok()
}

impl Made<'_> {
    /// Whether a field has its place in one of the files, or in what else there is.
    fn holds(&self, path: &str, slot: Slot) -> bool {
        match self {
            Made::Environment(made) => made.variables.values().any(|(field, _)| field.slot == slot),
            Made::Fields(fields) => fields.values().any(|(field, _)| field.slot == slot),
            _ => self.output(path).is_some_and(|output| {
                output.values.values().any(|(field, _)| field.slot == slot)
                    || output.lacking.values().any(|lacking| lacking.field.slot == slot)
            }),
        }
    }
}

/// The one value that all these places have for a field; `None` if none of them has one. What is there and cannot be
/// read is refused.
pub(crate) fn agreed<'d>(
    ledger: &Ledger,
    what: &str,
    found: &[&Live<'d>],
) -> Result<Option<&'d Held>, Trouble> {
    if let Some(hidden) = found.iter().find(|live| live.is_hidden()) {
        let owner = ledger.owner(hidden.subject);
        let message = format!("what `{owner}` has of `{what}` at {} is hidden here", hidden.outlet);
        return Err(Trouble::refused(message)
            .help("let somebody take it who has the key, or set the value yourself: cledger set"));
    }
    let there = |live: &Live<'d>| live.drifted.there.as_ref();
    let mut all = found.iter();
    let Some(first) = all.next() else { return Ok(None) };
    if let Some(other) = all.find(|other| !is_same(there(first), there(other))) {
        let message = format!(
            "`{what}` is not the same everywhere: {} at {} and {} at {} have different values",
            ledger.owner(first.subject),
            first.outlet,
            ledger.owner(other.subject),
            other.outlet
        );
        return Err(
            Trouble::usage(message).help("bring one of them into line first, or set the value yourself")
        );
    }
    Ok(there(first))
}

/// Whether two places have the same.
pub(crate) fn is_same(one: Option<&Held>, other: Option<&Held>) -> bool {
    match (one, other) {
        (Some(one), Some(other)) => one.expose().to_text() == other.expose().to_text(),
        (one, other) => one.is_some() == other.is_some(),
    }
}
