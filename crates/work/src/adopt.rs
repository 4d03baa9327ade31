//! A unit and its settings from files that exist.
//!
//! The files are read and put together (`files`), names that the unit has already are told from new ones
//! (`known`), the core proposes declarations for the new ones, which make a contract (`contract`) and
//! settings, and before anything is written, rendering proves that each file comes back (`proof`).

pub mod adoption;
mod base;
mod contract;
pub mod differing;
mod digits;
pub mod files;
pub mod found;
mod known;
pub mod not_read;
pub mod proof;
mod settings;
pub mod tables;
mod there;
mod values;

use cledger_core::adopt::{
    NotPlaced, Proposed, ProposedField, Spelling, gather, naming_the_stage, propose, repeats, spellings,
};
use cledger_core::model::{LayerId, Ledger, StageId, Subject, UnitId};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_core::types::Type;
use cledger_store::field_pattern;

use self::adoption::{Adoption, SpelledOtherwise, ToAdopt, Work};
use self::base::Base;
use self::differing::Takes;
use self::files::Files;
use self::found::{Found, FoundThere, Recording};
use self::known::Known;
use self::proof::{Claim, Proof, prove};
use self::tables::put_together;
use self::there::There;
use crate::change::{Changing, NO_CHANGE, Planned};
use crate::trouble::Trouble;

/// Makes a unit and its settings of files that exist, or brings it up to date.
pub fn adopt(changing: &Changing, asked: &ToAdopt) -> Result<Adoption, Trouble> {
    let ledger = changing.ledger();
    if asked.unit.is_taken() {
        let message = format!("`{}` has a meaning of its own in addresses", asked.unit);
        return Err(Trouble::usage(message).help("choose another name"));
    }
    let unit = ledger.unit_id(asked.unit.as_str());
    let has = unit.map(|id| (Subject::Unit(id, None), ledger.unit(id)));
    let keys = changing.keys(&NO_CHANGE);
    let there = There { opened: &changing.opened, keys: &keys, unit: &asked.unit };
    let (bases, sources) = base::parted(&asked.sources);
    let mut files = files::read(ledger, has, &sources, asked.format, &there)?;
    let bases: Vec<Base> =
        bases.into_iter().map(|path| Base::read(path, asked.format)).collect::<Result<_, _>>()?;
    files.lay_over(&bases)?;
    refuse_stages(ledger, unit, &files)?;
    let gathered = gather(&files.old);
    let mut not_placed = files.not_placed.clone();
    not_placed.extend(gathered.not_placed);
    let takes = Takes::read(&asked.take, &asked.unit);
    let outside = changing.outside(&NO_CHANGE);
    let resolver = Resolver::new(ledger, &outside, &[]);
    let known = match unit {
        None => Known::of_nothing(gathered.fields),
        Some(id) => known::compare(&resolver, id, gathered.fields, &files, &gathered.names, &takes),
    };
    if unit.is_some() {
        takes.refuse_unmet(&asked.unit)?;
    }
    let found = std::mem::take(&mut files.tables);
    let stages = (files.stages.as_slice(), asked.no_defaults);
    let tables = put_together(found, &resolver, (&asked.unit, unit), stages, &mut files.not_read);
    let in_use = |name: &str| {
        let entries = |id| ledger.entry_names(Subject::Unit(id, None)).any(|known| known == name);
        unit.is_some_and(entries) || tables.iter().any(|table| table.entry.as_str() == name)
    };
    let (proposed, refused) = propose(&known.new, &files.stages, in_use, !asked.no_defaults);
    not_placed.extend(refused);
    let not_placed_here = not_placed.clone();
    let work = Work {
        asked,
        changing,
        unit,
        files: &files,
        known: &known,
        proposed: &proposed,
        tables: &tables,
        not_placed: &not_placed_here,
    };
    let (contract, outputs) = work.contract()?;
    let planned = work.settings(&contract)?;
    let proof = {
        let outside = changing.outside(&planned.changed);
        let id = planned.after.unit_id(asked.unit.as_str()).unwrap_or(UnitId(0));
        let claim = Claim {
            files: &files,
            names: &gathered.names,
            outputs: &outputs,
            left_out: &not_placed,
            gone: &known.gone,
            kept: &known.kept,
            tables: &tables,
        };
        prove(&planned.after, &outside, id, &claim)
    };
    refuse_unproven(&proof, &files)?;
    let found = found::there(&planned.after, (&files, &tables), &not_placed, &known.kept)?;
    let (written, found) = work.write(&planned, &found)?;
    let mut adoption = work.adoption(not_placed, &proof);
    (adoption.changes_something, adoption.written) = (!planned.changed.is_empty(), written);
    adoption.found = found;
    Ok(adoption)
}

/// Refuses stages in which the unit does not belong.
fn refuse_stages(ledger: &Ledger, unit: Option<UnitId>, files: &Files) -> Result<(), Trouble> {
    let Some(unit) = unit.map(|id| ledger.unit(id)) else { return Ok(()) };
    match files.stages.iter().find(|stage| !unit.belongs_to(**stage, None)) {
        None => Ok(()),
        Some(stage) => {
            let stage = &ledger.stage(*stage).name;
            let message = format!("`{}` does not belong to stage `{stage}`", unit.name);
            Err(Trouble::usage(message).help(format!("add it to `stages` in units/{}.toml", unit.name)))
        }
    }
}

/// Refuses to go on if something would be lost that was not said to be.
fn refuse_unproven(proof: &Proof, files: &Files) -> Result<(), Trouble> {
    if let Some((file, reason)) = proof.broken.first() {
        let message = format!("`{}` would not come back: {reason}", files.paths[*file]);
        return Err(Trouble::usage(message).help("adopt the other files first, and declare the rest by hand"));
    }
    if let Some((entry, outlet)) = proof.failed_tables.first() {
        let message = format!("the rows of `{entry}` would not come back as they are at `{outlet}`");
        return Err(Trouble::usage(message).help("declare the table by hand, and adopt the rest"));
    }
    let Some((name, file)) = proof.failed.first() else { return Ok(()) };
    let message = format!("`{}` would not come back as it is in `{}`", name.join("."), files.paths[*file]);
    Err(Trouble::usage(message).help("adopt the other files first, and declare the rest by hand"))
}

impl Work<'_> {
    /// Writes the change, if there is one and it was asked for, and records what was found. Gives whether something
    /// was written, and what is or will be recorded.
    fn write(&self, planned: &Planned, found: &[Found]) -> Result<(bool, Vec<(Name, FoundThere)>), Trouble> {
        let Self { asked, changing, .. } = self;
        let owner = asked.unit.as_str();
        let start = || Recording::start(&changing.opened, owner, asked.write);
        let mut recording = (!found.is_empty()).then(start).transpose()?;
        let plan = match &mut recording {
            Some(recording) => recording.plan(found, &planned.after, &changing.keys(&planned.changed))?,
            None => Vec::new(),
        };
        let records = plan.iter().any(|(_, there)| *there == FoundThere::ToRecord);
        let changes_something = !planned.changed.is_empty();
        if !asked.write || !changes_something && !records {
            return Ok((false, plan));
        }
        let touched: Vec<LayerId> = self.stages().into_iter().map(LayerId::Stage).collect();
        changing.guard(&touched, planned, &asked.consent)?;
        if changes_something {
            changing.write(planned)?;
        }
        let why = asked.consent.why.as_deref().unwrap_or_default();
        let Some(recording) = recording.as_mut().filter(|_| records) else {
            return Ok((changes_something, plan));
        };
        let recorded = recording.record(found, &planned.after, why).map_err(|error| {
            let message = format!("the ledger has it, and what was found there is not recorded: {error}");
            Trouble::new(error.kind(), message).help("run the same again, which records it")
        })?;
        Ok((changes_something, recorded))
    }

    /// Where one stage alone is adopted: hosts, URLs and logins that became defaults, so that every new stage has them.
    fn inherited(&self) -> Vec<String> {
        if self.files.stages.len() != 1 {
            return Vec::new();
        }
        let is_of_place = |field: &ProposedField| {
            let is_login = field.name.as_ref().is_some_and(|name| name.as_str() == "user");
            is_login || matches!(field.this_type, Type::Host | Type::Url)
        };
        let of_entry = |entry: &Proposed| {
            let fields = entry.fields.iter().filter(|field| field.default.is_some() && is_of_place(field));
            let patterns = fields.map(|field| field_pattern(&entry.name, field.name.as_ref()));
            patterns.collect::<Vec<_>>()
        };
        self.proposed.iter().flat_map(of_entry).collect()
    }

    /// Values that are spelled otherwise in one stage than in another, with what aligns them.
    fn spellings(&self) -> Vec<SpelledOtherwise> {
        let name = |stage: StageId| self.changing.ledger().stage(stage).name.clone();
        let found = spellings(self.proposed, &self.files.stages);
        let of = |spelling: Spelling| {
            let address = |stage| format!("{}/{}@{}", self.asked.unit, spelling.field, name(stage));
            SpelledOtherwise {
                what: spelling.what,
                values: spelling.values.iter().map(|(stage, text)| (name(*stage), text.clone())).collect(),
                aligned: spelling
                    .aligned
                    .iter()
                    .map(|(stage, text)| (address(*stage), text.clone()))
                    .collect(),
                field: spelling.field.clone(),
            }
        };
        found.into_iter().map(of).collect()
    }

    fn adoption(&self, not_placed: Vec<NotPlaced>, proof: &Proof) -> Adoption {
        let ledger = self.changing.ledger();
        let fields = || self.proposed.iter().flat_map(|entry| &entry.fields);
        let name = |stage: &StageId| ledger.stage(*stage).name.clone();
        let stages: Vec<(StageId, &Name)> =
            self.files.stages.iter().map(|stage| (*stage, &ledger.stage(*stage).name)).collect();
        let paths = &self.files.paths;
        let mut missing = Vec::new();
        for entry in self.proposed {
            for field in entry.fields.iter().filter(|field| !field.missing.is_empty()) {
                let pattern = field_pattern(&entry.name, field.name.as_ref());
                missing.push((pattern, field.missing.iter().map(name).collect()));
            }
        }
        for table in self.tables.iter().filter(|table| table.is_optional) {
            let without = self.files.stages.iter().filter(|stage| !table.is_in(**stage));
            missing.push((table.entry.to_string(), without.map(name).collect()));
        }
        let mut not_placed: Vec<(String, String, usize, String)> = not_placed
            .into_iter()
            .map(|it| (shown(it.name()), paths[it.place.file].clone(), it.place.line, it.reason))
            .collect();
        not_placed.sort_by(|one, other| (&one.1, one.2, &one.0).cmp(&(&other.1, other.2, &other.0)));
        Adoption {
            unit: self.asked.unit.clone(),
            is_new: self.unit.is_none(),
            files: paths
                .iter()
                .zip(&self.files.old)
                .map(|(path, old)| (path.clone(), old.stage_name.clone(), old.format))
                .collect(),
            outputs: self
                .files
                .outputs
                .iter()
                .map(|seen| (seen.path.clone(), seen.format, seen.stages.iter().map(name).collect()))
                .collect(),
            stages: self.files.stages.iter().map(name).collect(),
            proposed: self.proposed.to_vec(),
            tables: self.tables.to_vec(),
            inherited: self.inherited(),
            defaults: fields().filter(|field| field.default.is_some()).count(),
            settings: fields().map(|field| field.settings.len()).sum(),
            secrets: fields().filter(|field| field.secret).map(|field| field.settings.len()).sum(),
            same: self.known.same,
            differing: self.known.differing.clone(),
            spellings: self.spellings(),
            missing,
            not_placed,
            not_read: self.files.not_read.clone(),
            other_in_old_yaml: self
                .files
                .other_in_old_yaml
                .iter()
                .map(|(name, place)| (shown(name), paths[place.file].clone(), place.line))
                .collect(),
            gone: self.known.gone.iter().map(|(it, file)| (it.clone(), paths[*file].clone())).collect(),
            added: proof.added.iter().map(|(name, file)| (shown(name), paths[*file].clone())).collect(),
            by_stage: naming_the_stage(self.proposed, &stages),
            repeats: repeats(self.proposed, &self.files.stages),
            proven: proof.values,
            proven_cells: proof.cells,
            text: proof.text,
            found: Vec::new(),
            changes_something: false,
            written: false,
        }
    }
}

fn shown(name: &[String]) -> String {
    name.join(".")
}
