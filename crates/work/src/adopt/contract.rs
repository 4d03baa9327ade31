//! The contract to be: declarations behind those that are there, and outputs that hold what their files do.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::adopt::{NotPlaced, Proposed, ProposedField};
use cledger_core::model::{Ledger, Output, OutputOrder, SecretsIn, Slot, Subject, Unit, UnitId};
use cledger_core::name::Name;
use cledger_core::output::{NameMaker, OutputName};
use cledger_core::source::Place;
use cledger_store::{
    Changed, LeftOut, OutputList, ProposedOutput, added_to_list, append, entry_block, field_pattern,
    not_adopted_list, output_block, patterns, put,
};

use crate::adopt::adoption::Work;
use crate::adopt::files::Seen;
use crate::trouble::Trouble;

/// Which fields an output holds, as patterns.
#[derive(Debug, Clone, Default)]
struct Lists {
    /// Those that it would hold and is not to.
    except: Vec<String>,
    /// Those that it is to hold and would not.
    lacking: Vec<String>,
}

/// The chosen fields of a unit as patterns: an entry's name where all its fields are.
fn covering(ledger: &Ledger, subject: Subject, chosen: &dyn Fn(&Slot) -> bool) -> Vec<String> {
    let mut by_entry: BTreeMap<&Name, Vec<(Slot, String)>> = BTreeMap::new();
    for slot in ledger.slots(subject).all() {
        let (entry, field) = ledger.field(subject, slot);
        by_entry
            .entry(&entry.name)
            .or_default()
            .push((slot, field_pattern(&entry.name, field.name.as_ref())));
    }
    let mut patterns = Vec::new();
    for (entry, fields) in by_entry {
        if fields.iter().all(|(slot, _)| chosen(slot)) {
            patterns.push(entry.to_string());
        } else {
            patterns.extend(fields.into_iter().filter(|(slot, _)| chosen(slot)).map(|(_, pattern)| pattern));
        }
    }
    patterns
}

impl Work<'_> {
    fn path(&self) -> String {
        format!("units/{}.toml", self.asked.unit)
    }

    /// The new contract, and which of the unit's outputs each of the files' is.
    pub(crate) fn contract(&self) -> Result<(Changed, Vec<usize>), Trouble> {
        // First with all fields in all outputs, to see which those are.
        let whole = self.contract_with(&BTreeMap::new())?;
        let after = self.changing.read_after(&whole)?;
        let id = after.unit_id(self.asked.unit.as_str()).unwrap_or(UnitId(0));
        let mut next = self.unit.map_or(0, |id| self.changing.ledger().unit(id).outputs.len());
        let outputs: Vec<usize> = self
            .files
            .outputs
            .iter()
            .map(|seen| {
                seen.known.unwrap_or_else(|| {
                    next += 1;
                    next - 1
                })
            })
            .collect();
        let mut lists = BTreeMap::new();
        for (at, &output) in outputs.iter().enumerate() {
            lists.insert(at, self.lists(&after, id, at, output));
        }
        Ok((self.contract_with(&lists)?, outputs))
    }

    /// The fields that an output would hold and its files do not have, and those that it should hold and would not.
    /// What is declared later comes into every output: none gets a list of all that it holds.
    fn lists(&self, after: &Ledger, unit: UnitId, at: usize, output: usize) -> Lists {
        let subject = Subject::Unit(unit, None);
        let output = &after.unit(unit).outputs[output];
        let is_known = self.files.outputs[at].known.is_some();
        let mut wanted: BTreeSet<Slot> = BTreeSet::new();
        for entry in self.proposed {
            for field in entry.fields.iter().filter(|field| field.names.contains_key(&at)) {
                let name = field.name.as_ref().map(Name::as_str);
                wanted.extend(after.find_slot(subject, entry.name.as_str(), name).ok());
            }
        }
        let old = self.unit.map(|id| Subject::Unit(id, None));
        for slot in self.known.wanted.get(&at).into_iter().flatten() {
            let Some((entry, field)) = old.map(|old| self.changing.ledger().field(old, *slot)) else {
                continue;
            };
            let name = field.name.as_ref().map(Name::as_str);
            wanted.extend(after.find_slot(subject, entry.name.as_str(), name).ok());
        }
        let new = self.proposed.iter().map(|entry| &entry.name);
        let new: BTreeSet<&Name> = new.chain(self.tables.iter().map(|table| &table.entry)).collect();
        let is_new = |slot: Slot| new.contains(&after.field(subject, slot).0.name);
        let held = |slot: Slot| {
            let (entry, field) = after.field(subject, slot);
            output.holds(after.unit(unit), entry, field)
        };
        // What a known output has beside the files is the unit's own matter.
        let except = |slot: &Slot| held(*slot) && !wanted.contains(slot) && (!is_known || is_new(*slot));
        let covering = |chosen: &dyn Fn(&Slot) -> bool| covering(after, subject, chosen);
        Lists { lacking: covering(&|slot| wanted.contains(slot) && !held(*slot)), except: covering(&except) }
    }

    /// The contract with lists for outputs.
    fn contract_with(&self, lists: &BTreeMap<usize, Lists>) -> Result<Changed, Trouble> {
        let ledger = self.changing.ledger();
        let path = self.path();
        let unit = self.unit.map(|id| ledger.unit(id));
        let before = unit.and_then(|unit| Some(ledger.files.get(unit.place.file)?.text.clone()));
        let mut text = match (&before, unit) {
            (Some(text), Some(unit)) => self.listed(text, unit, lists)?,
            _ => self.head(),
        };
        let known = |seen: &Seen| unit.zip(seen.known).map(|(unit, at)| &unit.outputs[at]);
        let makers: BTreeMap<usize, NameMaker<'_>> = (0..)
            .zip(&self.files.outputs)
            .filter_map(|(at, seen)| Some((at, NameMaker::as_written(known(seen)?))))
            .collect();
        let mut blocks: Vec<String> = Vec::new();
        let about = self.unit.map(|_| "proposed: found by adopt");
        for entry in self.proposed {
            blocks.push(entry_block(entry, &makers, about));
        }
        blocks.extend(self.tables.iter().map(|table| table.block(about)));
        for (at, seen) in self.files.outputs.iter().enumerate().filter(|(_, seen)| seen.known.is_none()) {
            let fields =
                self.proposed.iter().flat_map(|entry| entry.fields.iter().map(move |field| (entry, field)));
            let mut held = fields.filter(|(_, field)| field.names.contains_key(&at));
            let usual = seen.format.usual_secrets();
            // What is made of others is a secret in those stages only where one of them is.
            let is_left = |(entry, field): (&Proposed, &ProposedField)| {
                !usual.takes(field.secret) || entry.may_give_secret(field) && !usual.takes(true)
            };
            let secrets = held.any(is_left).then_some(SecretsIn::With);
            let Lists { except, .. } = lists.get(&at).cloned().unwrap_or_default();
            let manifest_name = seen.manifest_name.clone().filter(|name| *name != self.asked.unit.as_str());
            let output = ProposedOutput {
                path: seen.path.clone(),
                format: seen.format,
                manifest_name,
                beside: seen.beside.clone(),
                order: self.order(at),
                secrets,
                except,
                not_adopted: self.left_out(at),
            };
            blocks.push(output_block(&output));
        }
        if !blocks.is_empty() {
            text = append(Some(&text), &blocks.join("\n"));
        }
        if before.as_deref() == Some(text.as_str()) {
            return Ok(Changed::new());
        }
        Ok(Changed::from([(path, Some(text))]))
    }

    /// The order of an output: by name where that is the order of its first file, else as its entries are declared.
    fn order(&self, at: usize) -> OutputOrder {
        let file = self.files.old.iter().find(|file| file.output == at);
        let mut by_line: Vec<(usize, &OutputName)> =
            file.iter().flat_map(|file| &file.lines).map(|(name, line)| (*line, name)).collect();
        by_line.sort_by_key(|(line, _)| *line);
        let is_by_name = by_line.windows(2).all(|pair| pair[0].1 <= pair[1].1);
        if is_by_name { OutputOrder::ByName } else { OutputOrder::Declared }
    }

    /// What has no place of the files that become an output.
    fn left_out(&self, at: usize) -> Vec<LeftOut> {
        let of_output = |it: &NotPlaced| {
            let name = it.names.get(&at)?;
            let path = &self.files.paths[it.place.file];
            Some((name.join("."), format!("{path}:{}", it.place.line), it.reason.clone()))
        };
        let mut all: Vec<LeftOut> = self.not_placed.iter().filter_map(of_output).collect();
        all.sort();
        all
    }

    /// The same of an output that is there: what was said of files that are not read again stays.
    fn left_out_there(&self, at: usize, output: &Output) -> Vec<LeftOut> {
        let is_read = |at: &str| {
            at.rsplit_once(':').is_some_and(|(path, _)| self.files.paths.iter().any(|read| read == path))
        };
        let staying = output.not_adopted.iter().filter(|it| !is_read(&it.at));
        let staying = staying.map(|it| (it.name.clone(), it.at.clone(), it.why.clone()));
        let mut all: Vec<LeftOut> = self.left_out(at);
        all.extend(staying);
        all.sort();
        all
    }

    /// The start of a new contract: the stages, if they are not all.
    fn head(&self) -> String {
        let ledger = self.changing.ledger();
        if self.files.stages.len() == ledger.stages.len() {
            return String::new();
        }
        let names: Vec<String> =
            self.files.stages.iter().map(|stage| ledger.stage(*stage).name.to_string()).collect();
        format!("stages = {}\n", patterns(&names))
    }

    /// A contract's text with fields added to the lists of its outputs.
    fn listed(&self, text: &str, unit: &Unit, lists: &BTreeMap<usize, Lists>) -> Result<String, Trouble> {
        let (mut values, files) = (Vec::new(), &self.changing.ledger().files);
        for (at, Lists { except, lacking, .. }) in lists {
            let Some(output) = self.files.outputs[*at].known.map(|known| &unit.outputs[known]) else {
                continue;
            };
            for (added, list) in [(lacking, OutputList::Only), (except, OutputList::Except)] {
                if added.is_empty() {
                    continue;
                }
                let Some(value) = added_to_list(files, output, list, added) else {
                    let message =
                        format!("`{}` leaves out `{}`, which its files have", output.path, added[0]);
                    return Err(Trouble::usage(message).help("take it out of `except` in the contract"));
                };
                values.push(value);
            }
        }
        for (at, seen) in self.files.outputs.iter().enumerate() {
            let Some(output) = seen.known.map(|known| &unit.outputs[known]) else { continue };
            // Both take the place of the path where they are new.
            let is_taken = |place: &Place| values.iter().any(|(taken, _)| taken == place);
            match not_adopted_list(files, output, &self.left_out_there(at, output)) {
                Some((place, text)) if is_taken(&place) => {
                    let behind = text.split_once('\n').map_or("", |(_, list)| list);
                    if let Some((_, other)) = values.iter_mut().find(|(taken, _)| *taken == place) {
                        *other = format!("{other}\n{behind}");
                    }
                }
                list => values.extend(list),
            }
        }
        let changed = put(files, values);
        Ok(changed.into_values().next().flatten().unwrap_or_else(|| text.to_owned()))
    }
}
