//! What was brought to outlets and may still be there, as the daybook has it, whatever the ledger says by now.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Ledger, StageId};
use cledger_store::daybook::{Daybook, Kind, Meta, Wanted};

use crate::bringing::baseline::counting;
use crate::trouble::Trouble;

/// A record, with the paths of its files.
type WithFiles = (Meta, BTreeSet<String>);

/// The records of all units and stages, without their contents.
#[derive(Default)]
pub(crate) struct Remains {
    /// By unit and stage as it is called now, the latest first.
    records: BTreeMap<(String, String), Vec<WithFiles>>,
}

impl Remains {
    /// Reads them.
    pub(crate) fn read(book: &mut dyn Daybook, ledger: &Ledger) -> Result<Self, Trouble> {
        let mut remains = Self::default();
        let wanted = Wanted { beside: Some(false), ..Wanted::default() };
        for entry in book.entries(&wanted, true)? {
            let Meta { unit, stage, number, .. } = &entry.meta;
            let files = if let Some(digests) = entry.digests()? {
                digests.files().map(str::to_owned).collect()
            } else {
                // Records of before there were digests tell it themselves.
                let record = book.records(&Wanted::numbered(unit, stage, *number))?.pop();
                let content = record.map(|record| record.packed.unpack(None, |_| None)).transpose()?;
                content.map(|content| content.files.into_keys().collect()).unwrap_or_default()
            };
            let key = (unit.clone(), ledger.stage_name_now(stage).to_owned());
            remains.records.entry(key).or_default().insert(0, (entry.meta, files));
        }
        Ok(remains)
    }

    /// The paths of the files that may have been brought to an outlet last.
    pub(crate) fn paths(&self, owner: &str, stage: &str, outlet: &str) -> BTreeSet<String> {
        let Some(records) = self.records.get(&(owner.to_owned(), stage.to_owned())) else {
            return BTreeSet::new();
        };
        let metas: Vec<&Meta> = records.iter().map(|(meta, _)| meta).collect();
        counting(&metas, outlet).into_iter().flat_map(|at| records[at].1.iter().cloned()).collect()
    }

    /// The units that a stage has something of at an outlet, and that do not belong to it any more.
    pub(crate) fn gone(&self, ledger: &Ledger, stage: StageId, outlet: &str) -> Vec<Owner> {
        let name = ledger.stage(stage).name.as_str();
        let belonging: BTreeSet<String> =
            ledger.subjects_in(stage).map(|subject| ledger.owner(subject).to_string()).collect();
        let has_something = |records: &[WithFiles]| {
            let metas: Vec<&Meta> = records.iter().map(|(meta, _)| meta).collect();
            counting(&metas, outlet).into_iter().any(|at| metas[at].kind != Kind::Found)
        };
        let gone = self.records.iter().filter(|((owner, stage), records)| {
            stage == name && !belonging.contains(owner) && has_something(records)
        });
        // What cannot be read is not gone.
        let is_known = |owner: &Owner| ledger.broken.of_unit(owner.names().0).next().is_none();
        gone.filter_map(|((owner, _), _)| Address::parse(owner).ok()?.owner).filter(is_known).collect()
    }
}
