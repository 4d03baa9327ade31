//! A daybook in which units and stages have their history from before they got the names that they have now.
//!
//! Records stay under the name that they were made under: their hashes cover it, and their secrets are bound to it.
//! What is asked of a unit and a stage by their names is answered with these records, too, as far as they are older than the first
//! one under the name after. Numbers go on where those of the former name ended, so that each names one delivery.

use std::collections::BTreeMap;

use cledger_core::model::{FormerName, Ledger};
use cledger_core::name::Name;
use cledger_store::daybook::{
    Daybook, DaybookError, Entry, Kind, Meta, Open, Packed, Record, Resealed, Wanted, WrappedKey,
};

/// The names that units and stages had before, by the name that they have now.
#[derive(Debug, Default)]
pub(crate) struct FormerNames {
    units: BTreeMap<String, Vec<String>>,
    stages: BTreeMap<String, Vec<String>>,
}

impl FormerNames {
    /// Those that the ledger tells.
    pub(crate) fn of(ledger: &Ledger) -> Self {
        let names = |name: &Name, formerly: &[FormerName]| {
            let former: Vec<String> = formerly.iter().map(|former| former.name.to_string()).collect();
            (!former.is_empty()).then(|| (name.to_string(), former))
        };
        Self {
            units: ledger.units.iter().filter_map(|unit| names(&unit.name, &unit.formerly)).collect(),
            stages: ledger.stages.iter().filter_map(|stage| names(&stage.name, &stage.formerly)).collect(),
        }
    }

    fn is_empty(&self) -> bool {
        self.units.is_empty() && self.stages.is_empty()
    }

    /// The names that a unit or instance had before, the latest first.
    pub(crate) fn before(&self, owner: &str) -> Vec<String> {
        let (unit, instance) = owner.split_once('+').map_or((owner, None), |(unit, it)| (unit, Some(it)));
        let former = self.units.get(unit).map(Vec::as_slice).unwrap_or_default().iter().rev();
        let named = |name: &String| instance.map_or(name.clone(), |instance| format!("{name}+{instance}"));
        former.map(named).collect()
    }

    /// The names that a stage had before, the latest first.
    fn stages_before(&self, stage: &str) -> impl Iterator<Item = &String> {
        self.stages.get(stage).map(Vec::as_slice).unwrap_or_default().iter().rev()
    }

    /// The names of a unit and its stage before, the latest first.
    fn pairs_before(&self, unit: &str, stage: &str) -> Vec<(String, String)> {
        let units = || std::iter::once(unit.to_owned()).chain(self.before(unit));
        let stages = || std::iter::once(stage.to_owned()).chain(self.stages_before(stage).cloned());
        let pairs = units().flat_map(|unit| stages().map(move |stage| (unit.clone(), stage)));
        pairs.skip(1).collect()
    }
}

/// A daybook that knows units and stages by their former names.
pub(crate) struct ConnectedBook {
    book: Box<dyn Daybook>,
    names: FormerNames,
}

impl ConnectedBook {
    /// The same daybook for a ledger; without anything that was renamed just as it is.
    pub(crate) fn of(ledger: &Ledger, book: Box<dyn Daybook>) -> Box<dyn Daybook> {
        let names = FormerNames::of(ledger);
        if names.is_empty() { book } else { Box::new(Self { book, names }) }
    }

    /// Adds to what was `found` of a unit in a stage what there is under their former names.
    fn connected<T>(
        &mut self,
        wanted: &Wanted,
        mut read: impl FnMut(&mut dyn Daybook, &Wanted) -> Result<Vec<T>, DaybookError>,
        meta: impl Fn(&T) -> &Meta,
    ) -> Result<Vec<T>, DaybookError> {
        let mut found = read(&mut *self.book, wanted)?;
        let (unit, stage) = match (&wanted.unit, &wanted.stage) {
            (Some(unit), Some(stage)) => (unit, stage),
            (None, Some(stage)) => return self.of_stage(wanted, stage, found, read, meta),
            _ => return Ok(found),
        };
        let is_one = wanted.last || wanted.number.is_some();
        let names = self.names.pairs_before(unit, stage);
        if names.is_empty() || is_one && !found.is_empty() {
            return Ok(found);
        }
        let first =
            |book: &mut dyn Daybook, (unit, stage): (&str, &str)| -> Result<Option<u64>, DaybookError> {
                Ok(book.entries(&Wanted::of(unit, stage), false)?.first().map(|entry| entry.meta.place))
            };
        let mut end = first(&mut *self.book, (unit, stage))?.unwrap_or(u64::MAX);
        for (unit, stage) in names {
            // Which is the last one of a former name depends on what came after it.
            let of_name = Wanted {
                unit: Some(unit.clone()),
                stage: Some(stage.clone()),
                last: false,
                ..wanted.clone()
            };
            let mut before = read(&mut *self.book, &of_name)?;
            before.retain(|it| meta(it).place < end);
            if wanted.last {
                before.retain(|it| meta(it).kind != Kind::Found);
                before.drain(..before.len().saturating_sub(1));
            }
            end = end.min(first(&mut *self.book, (&unit, &stage))?.unwrap_or(end));
            before.append(&mut found);
            found = before;
            if is_one && !found.is_empty() {
                break;
            }
        }
        Ok(found)
    }

    /// Adds to what was `found` of all units of a stage what there is under its former names; of a unit that has
    /// something under both, what came last alone where only that is wanted.
    fn of_stage<T>(
        &mut self,
        wanted: &Wanted,
        stage: &str,
        mut found: Vec<T>,
        mut read: impl FnMut(&mut dyn Daybook, &Wanted) -> Result<Vec<T>, DaybookError>,
        meta: impl Fn(&T) -> &Meta,
    ) -> Result<Vec<T>, DaybookError> {
        let former: Vec<String> = self.names.stages_before(stage).cloned().collect();
        for name in former {
            let mut before = read(&mut *self.book, &Wanted { stage: Some(name), ..wanted.clone() })?;
            if wanted.last {
                before.retain(|it| !found.iter().any(|known| meta(known).unit == meta(it).unit));
            }
            found.append(&mut before);
        }
        found.sort_by_key(|it| meta(it).place);
        Ok(found)
    }
}

impl Daybook for ConnectedBook {
    fn record(
        &mut self,
        mut meta: Meta,
        packed: &Packed,
        open: Option<&str>,
    ) -> Result<Record, DaybookError> {
        if meta.kind.is_standing() {
            let last = self.entries(&Wanted::last_of(&meta.unit, &meta.stage), false)?.pop();
            meta.number = last.map_or(0, |last| last.meta.number);
        } else if meta.kind.is_of_bundle() {
            let wanted = Wanted { beside: Some(true), ..Wanted::of(&meta.unit, &meta.stage) };
            meta.number = self.entries(&wanted, false)?.pop().map_or(0, |last| last.meta.number);
        }
        self.book.record(meta, packed, open)
    }

    fn as_they_are(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        self.connected(wanted, |book, wanted| book.as_they_are(wanted), |record| &record.meta)
    }

    fn entries(&mut self, wanted: &Wanted, digests: bool) -> Result<Vec<Entry>, DaybookError> {
        self.connected(wanted, |book, wanted| book.entries(wanted, digests), |entry| &entry.meta)
    }

    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        self.book.hold(unit, stage)
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        self.book.let_go(unit, stage)
    }

    fn hold_stage(&mut self, stage: &str) -> Result<(), DaybookError> {
        self.book.hold_stage(stage)
    }

    fn let_stage_go(&mut self, stage: &str) -> Result<(), DaybookError> {
        self.book.let_stage_go(stage)
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<String, DaybookError> {
        self.book.open(meta, packed)
    }

    fn opened(&mut self, of: Option<(&str, &str)>) -> Result<Vec<Open>, DaybookError> {
        self.book.opened(of)
    }

    fn take_up(&mut self, open: &Open) -> Result<String, DaybookError> {
        self.book.take_up(open)
    }

    fn close(&mut self, unit: &str, stage: &str, token: &str) -> Result<(), DaybookError> {
        self.book.close(unit, stage, token)
    }

    fn take_over(&mut self, records: &[Record], keys: &[WrappedKey]) -> Result<(), DaybookError> {
        self.book.take_over(records, keys)
    }

    fn reseal(&mut self, resealed: &[Resealed]) -> Result<(), DaybookError> {
        self.book.reseal(resealed)
    }

    fn keep_key(&mut self, key: &WrappedKey) -> Result<(), DaybookError> {
        self.book.keep_key(key)
    }

    fn forget_key(&mut self, id: &str) -> Result<(), DaybookError> {
        self.book.forget_key(id)
    }

    fn link(&mut self, place: Option<u64>) -> Result<Option<(u64, String)>, DaybookError> {
        self.book.link(place)
    }

    fn kept_keys(&mut self) -> Result<Vec<WrappedKey>, DaybookError> {
        self.book.kept_keys()
    }
}
