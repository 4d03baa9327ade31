//! The names of units, of entries, and of fields in rendered files, changed.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::sync::Arc;

use cledger_core::address::{Address, Owner};
use cledger_core::findings::{Code, Finding};
use cledger_core::model::{Ledger, Output, OutputFormat, OutputNames, Slot, Subject, Unit};
use cledger_core::name::Name;
use cledger_core::output::{NameMaker, as_text};
use cledger_core::resolve::Unfetched;
use cledger_core::search;
use cledger_core::value::Value;
use cledger_store::{Edit, Named, Overlay, Renaming, apply};

use crate::change::{Changing, Concerns, Planned};
use crate::rename::{RenderedName, as_edit, renamed};
use crate::replace::changes::{Changes, Names};
use crate::routine::Routine;
use crate::trouble::Trouble;

/// A name that is replaced.
#[derive(Debug, Clone)]
pub struct Renamed {
    /// Of what it is the name.
    pub which: Names,
    /// What has the name, as it was called before; for a name in rendered files, the field.
    pub address: String,
    /// For a name in rendered files, the format; all if there is none.
    pub format: Option<&'static str>,
    /// The name so far.
    pub before: String,
    /// The new name.
    pub after: String,
}

/// Changes names after all values are changed. Each new name is proven to change no effective value.
pub(crate) fn replace(
    changing: &Changing,
    values: Planned,
    wanted: &Routine,
    outputs: bool,
) -> Result<(Planned, Vec<Renamed>, Vec<RenderedName>), Trouble> {
    if wanted.replace.names.is_empty() || !wanted.replace.changes_names() {
        return Ok((values, Vec::new(), Vec::new()));
    }
    let Planned { mut changed, after: mut ledger, mut effects, .. } = values;
    let mut rendered = Vec::new();
    let changes = wanted.replace.of_names()?;
    let conditions = wanted.search.read(&changing.opened.at, changing.ledger())?;
    let found = search::fields(changing.ledger(), &Unfetched, &conditions);
    let is_wanted = |which| wanted.replace.names.contains(&which);
    let mut names = Vec::new();
    if is_wanted(Names::Outputs) {
        let edits = outputs_of(&ledger, &found, &changes, &mut names)?;
        let more = apply(&Overlay::new(changing.disk(), &changed), &edits)?;
        changed.extend(more);
        ledger = changing.read_after(&changed)?;
    }
    let mut renamings = Vec::new();
    if is_wanted(Names::Entries) {
        let entries: BTreeSet<(Option<Name>, Name)> = found
            .iter()
            .map(|&(subject, slot)| {
                let entry = ledger.field(subject, slot).0.name.clone();
                (unit_of(&ledger, subject).map(|unit| unit.name.clone()), entry)
            })
            .collect();
        for (unit, entry) in entries {
            let owner = unit.map_or(Owner::Shared, |unit| Owner::Unit(unit, None));
            renamings.extend(renaming(&changes, &entry, Named::Entry(owner.clone(), entry.clone()))?);
        }
    }
    if is_wanted(Names::Units) {
        let units: BTreeSet<&Name> =
            found.iter().filter_map(|&(subject, _)| Some(&unit_of(&ledger, subject)?.name)).collect();
        for unit in units {
            renamings.extend(renaming(&changes, unit, Named::Unit(unit.clone()))?);
        }
    }
    for renaming in renamings {
        let outcome = self::renamed(changing, &ledger, &changed, &renaming, outputs)?;
        (changed, ledger) = (outcome.changed, outcome.after);
        effects.extend(outcome.effects);
        rendered.extend(outcome.rendered);
        names.push(of_renaming(&renaming));
    }
    Ok((Planned { changed, after: ledger, effects, concerns: Concerns::All, stages: None }, names, rendered))
}

fn unit_of(ledger: &Ledger, subject: Subject) -> Option<&Unit> {
    match subject {
        Subject::Shared => None,
        Subject::Unit(unit, _) => Some(ledger.unit(unit)),
    }
}

/// The renaming of something, if its name changes.
fn renaming(changes: &Changes, name: &Name, what: Named) -> Result<Option<Renaming>, Trouble> {
    let new = changes.text(name.as_str());
    if new == name.as_str() {
        return Ok(None);
    }
    let to = Name::parse(&new).map_err(|error| {
        Trouble::usage(format!("`{name}` would become `{new}`, which is no name")).help(error.to_string())
    })?;
    Ok(Some(Renaming { what, to }))
}

fn of_renaming(renaming: &Renaming) -> Renamed {
    let (which, address, before) = match &renaming.what {
        Named::Entry(owner, entry) => {
            (Names::Entries, Address::of_field(owner.clone(), entry, None, None).to_string(), entry)
        }
        Named::Unit(name)
        | Named::Instance(_, name)
        | Named::Field(_, _, name)
        | Named::Stage(name)
        | Named::Group(name)
        | Named::Outlet(name)
        | Named::Rule(name) => (Names::Units, name.to_string(), name),
    };
    let (before, after) = (before.to_string(), renaming.to.to_string());
    Renamed { which, address, format: None, before, after }
}

/// The `as` of all fields whose names in rendered files change.
fn outputs_of(
    ledger: &Ledger,
    found: &[(Subject, Slot)],
    changes: &Changes,
    names: &mut Vec<Renamed>,
) -> Result<Vec<Edit>, Trouble> {
    let mut edits = Vec::new();
    for &(subject, slot) in found {
        let (entry, declaration) = ledger.field(subject, slot);
        let field = declaration.name.as_ref();
        let address = Address::of_field(ledger.owner(subject), &entry.name, field, None);
        let mut renamed = |format, before: &str, after: &str| {
            let (before, after) = (before.to_owned(), after.to_owned());
            names.push(Renamed {
                which: Names::Outputs,
                address: address.to_string(),
                format,
                before,
                after,
            });
        };
        let OutputNames { all, by_format } = declaration.output_names();
        if let Some(name) = all {
            let new = changes.text(name);
            if new != *name {
                renamed(None, name, &new);
                edits.push(as_edit(ledger, entry, &entry.name, field, &Value::text(&new)));
            }
            continue;
        }
        let mut new_names: Vec<(String, String)> = by_format.clone();
        let mut done: BTreeMap<OutputFormat, String> = BTreeMap::new();
        for output in outputs(ledger, subject, slot) {
            let format = output.format;
            let name = NameMaker::as_written(output).name_of(entry, declaration).unwrap_or_default();
            let steps: Vec<String> = name.iter().map(|step| changes.text(step)).collect();
            if steps == name {
                continue;
            }
            let (before, after) = (name.join("."), as_text(format, &steps));
            let same = done.insert(format, after.clone()).is_none_or(|known| known == after);
            if output.template.is_some() || !same {
                let message = format!("`{address}` is `{before}` in `{}`, by its place there", output.path);
                return Err(Trouble::refused(message)
                    .help("change the entry's name instead: --names entries --outputs"));
            }
            renamed(Some(format.name()), &before, &steps.join("."));
            new_names.retain(|(known, _)| known != format.name());
            new_names.push((format.name().to_owned(), after));
        }
        if new_names != *by_format {
            let said = new_names.iter().map(|(format, name)| (format.as_str().into(), Value::text(name)));
            edits.push(as_edit(ledger, entry, &entry.name, field, &Value::Map(said.collect())));
        }
    }
    Ok(edits)
}

/// The outputs that hold a field, of its unit or of the units that use it.
fn outputs(ledger: &Ledger, subject: Subject, slot: Slot) -> Vec<&Output> {
    let (entry, field) = ledger.field(subject, slot);
    let has = |unit: &&Arc<Unit>| match subject {
        Subject::Unit(id, _) => unit.name == ledger.unit(id).name,
        Subject::Shared => ledger.shared_id(entry.name.as_str()).is_some_and(|id| unit.uses.contains(&id)),
    };
    let units = ledger.units.iter().filter(has);
    let outputs = units.flat_map(|unit| {
        unit.outputs.iter().filter(move |output| output.table.is_none() && output.holds(unit, entry, field))
    });
    outputs.collect()
}

/// The names that clash once names are changed, and did not before.
pub(crate) fn clashes(findings: Vec<Finding>) -> impl Iterator<Item = Finding> {
    findings.into_iter().filter(|finding| finding.code == Code::NameClash)
}
