//! What outlets have of a unit, now or as a capture has it, as files that are adopted.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use cledger_core::address::Owner;
use cledger_core::model::{Outlet, OutletKind, OutputFormat, StageId};
use cledger_core::name::{Name, nearest};
use cledger_core::tree::Tree;
use cledger_core::value::Value;
use cledger_formats::{Particulars, format};
use cledger_outlets::file::FileError;
use cledger_outlets::held::{Held, Values};
use cledger_outlets::read_back::NOT_ALL;
use cledger_store::Keys;
use zeroize::Zeroizing;

use crate::adopt::not_read::NotRead;
use crate::adopt::tables::TableThere;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::captured::{CAPTURE, Captured};
use crate::reality::places;
use crate::reality::whole::{Beside, read_beside};
use crate::trouble::Trouble;

/// What begins the name of an outlet where something else could stand.
const OUTLET: &str = "outlet:";

/// Where something of the unit was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct FoundAt {
    pub(crate) outlet: String,
    pub(crate) place: FoundPlace,
}

/// What it is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum FoundPlace {
    /// A file with this path.
    File(String),
    /// A document.
    Document,
    /// Rows.
    Rows,
    /// What a running process has, which nothing is ever brought to.
    Environment,
}

/// What was found of the unit.
#[derive(Default)]
pub(super) struct FoundOfUnit {
    /// Where it was found, its path, its text.
    pub(super) texts: Vec<(FoundAt, String, Zeroizing<String>)>,
    /// The lookup tables that have a table of their own.
    pub(super) tables: Vec<TableThere>,
    pub(super) not_read: Vec<NotRead>,
}

/// Where outlets and captures are read, and for which unit.
pub(crate) struct There<'k> {
    pub(super) opened: &'k Opened,
    pub(super) keys: &'k Keys<'k>,
    pub(super) unit: &'k Name,
}

impl There<'_> {
    /// What an outlet or a capture has of the unit, if one is meant; of outlets without files one each.
    pub(super) fn texts(&self, source: &str, stage: StageId) -> Result<Option<FoundOfUnit>, Trouble> {
        if let Some(name) = source.strip_prefix(OUTLET) {
            return self.of_outlet(name, stage).map(Some);
        }
        source.strip_prefix(CAPTURE).map(|path| self.of_capture(Path::new(path))).transpose()
    }

    fn of_capture(&self, path: &Path) -> Result<FoundOfUnit, Trouble> {
        let captured = Captured::read(path, self.keys)?;
        let mut texts = FoundOfUnit::default();
        for outlet in &captured.file.outlets {
            let mut found = captured.of(outlet.name.as_str(), &BTreeMap::new());
            let veiled = |((owner, _), veiled): (&(String, String), &Vec<_>)| {
                owner == self.unit.as_str() && !veiled.is_empty()
            };
            if found.veiled.iter().any(veiled) {
                let message = format!("secrets of `{}` are not readable in `{}`", self.unit, path.display());
                return Err(Trouble::refused(message).help(captured.readers()));
            }
            if let Some(mut held) = found.back.units.remove(self.unit.as_str()) {
                let named = |known: &&Outlet| known.name.as_str() == outlet.name.as_str();
                if let Some(known) = self.opened.ledger.outlets.iter().find(named) {
                    texts.part(known, &mut held);
                }
                texts.add(self.unit, outlet.name.as_str(), &format!("{CAPTURE}{}", path.display()), held)?;
            }
        }
        if texts.texts.is_empty() && texts.tables.is_empty() && texts.not_read.is_empty() {
            let message = format!("there is nothing of `{}` in `{}`", self.unit, path.display());
            return Err(Trouble::usage(message).help("name the unit as it is called there"));
        }
        Ok(texts)
    }

    fn of_outlet(&self, name: &str, stage: StageId) -> Result<FoundOfUnit, Trouble> {
        let ledger = &self.opened.ledger;
        let stage_name = &ledger.stage(stage).name;
        let owner = Owner::Unit(self.unit.clone(), None);
        let Some(outlet) = ledger.outlets.iter().find(|outlet| outlet.name.as_str() == name) else {
            let names = ledger.outlets.iter().map(|outlet| outlet.name.as_str());
            let help = nearest(name, names).map_or_else(
                || "`cledger list outlets` shows them".to_owned(),
                |near| format!("do you mean `{near}`?"),
            );
            return Err(Trouble::usage(format!("there is no outlet `{name}`")).help(help));
        };
        let places = places::of_owner(ledger, &Around::of(self.opened), &owner, stage)?;
        let is_it = |place: &places::Place<'_>| place.outlet.is_some_and(|it| it.name == outlet.name);
        let Some(place) = places.into_iter().find(is_it) else {
            let message = format!("outlet `{name}` takes nothing of `{}` in `{stage_name}`", self.unit);
            return Err(Trouble::usage(message).help("see its `stages` and `units` in ledger.toml"));
        };
        let asked = [Beside { place, whole: BTreeSet::from([owner]), files: BTreeMap::new() }];
        let found = read_beside(&asked, ledger, &*self.opened.at.telling)?.into_iter().flatten().next();
        let source = format!("{OUTLET}{name}");
        let mut texts = FoundOfUnit::default();
        match found {
            Some((_, Held::NotKnown(reason))) => {
                let message = format!(
                    "nobody can tell what `{name}` has of `{}` in `{stage_name}`: {reason}",
                    self.unit
                );
                return Err(Trouble::outside(message));
            }
            Some((_, Held::NotThere)) | None => {
                let message = format!("outlet `{name}` has nothing of `{}` in `{stage_name}`", self.unit);
                return Err(Trouble::usage(message)
                    .help(format!("`cledger drift @{stage_name}` shows what is there")));
            }
            Some((_, mut held)) => {
                texts.part(outlet, &mut held);
                texts.add(self.unit, name, &source, held)?;
            }
        }
        Ok(texts)
    }
}

impl FoundOfUnit {
    /// Takes the lookup tables out that have a table of their own there.
    fn part(&mut self, outlet: &Outlet, held: &mut Held) {
        let (OutletKind::Rows(rows), Held::Rows(values)) = (&outlet.kind, held) else { return };
        for table in &rows.tables {
            if let Some(text) = values.remove(table.entry.as_str()) {
                self.tables.push(TableThere::new(table, outlet.name.as_str(), text));
            }
        }
    }

    /// Adds what an outlet holds, each thing as the text of a file.
    fn add(&mut self, unit: &Name, outlet: &str, source: &str, held: Held) -> Result<(), Trouble> {
        let at = |place| FoundAt { outlet: outlet.to_owned(), place };
        match held {
            Held::Files(there) => {
                if there.has_more {
                    self.not_read.push(NotRead { path: source.to_owned(), reason: NOT_ALL.to_owned() });
                }
                for (path, file) in there.files {
                    match file {
                        Ok(file) => self.texts.push((at(FoundPlace::File(path.clone())), path, file.text)),
                        Err(FileError::NotThere) => {}
                        Err(error) => {
                            let (path, reason) = (format!("{source} {path}"), error.to_string());
                            self.not_read.push(NotRead { path, reason });
                        }
                    }
                }
            }
            Held::Document(text, _) => {
                let path = self.unused(unit, OutputFormat::Json);
                self.texts.push((at(FoundPlace::Document), path, text));
            }
            // All of it may be lookup tables.
            Held::Rows(values) if values.is_empty() => {}
            Held::Rows(values) => {
                let text = written(values, OutputFormat::Properties)?;
                let path = self.unused(unit, OutputFormat::Properties);
                self.texts.push((at(FoundPlace::Rows), path, text));
            }
            Held::Environment(values) => {
                let values = values.into_iter().map(|(name, text)| (name, Zeroizing::new(text)));
                let text = written(values.collect(), OutputFormat::Shell)?;
                let path = self.unused(unit, OutputFormat::Shell);
                self.texts.push((at(FoundPlace::Environment), path, text));
            }
            Held::NotThere | Held::NotKnown(_) => {}
        }
        Ok(())
    }

    /// The path of what is no file: the unit's name, so that outlets of other stages have the same.
    fn unused(&self, unit: &Name, format: OutputFormat) -> String {
        let ending = match format {
            OutputFormat::Json => "json",
            OutputFormat::Shell => "sh",
            _ => "properties",
        };
        let is_taken = |path: &String| self.texts.iter().any(|(_, taken, _)| taken == path);
        let numbered = (2..).map(|number| format!("{unit}-{number}.{ending}"));
        let mut all = std::iter::once(format!("{unit}.{ending}")).chain(numbered);
        // There are more numbers than texts.
        all.find(|path| !is_taken(path)).unwrap_or_default()
    }
}

fn written(values: Values, this: OutputFormat) -> Result<Zeroizing<String>, Trouble> {
    let tree = Tree(values.into_iter().map(|(name, text)| (name.into(), Value::text(&text))).collect());
    let text = format(this, Particulars::default()).map(|form| form.write(&tree));
    let text = text.transpose().map_err(|error| Trouble::usage(error.to_string()))?;
    Ok(Zeroizing::new(text.unwrap_or_default()))
}
