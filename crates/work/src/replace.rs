//! A search, and other values or names in place of what it finds.

pub mod changes;
mod names;
pub mod replacing;
mod rows;
mod values;

use cledger_core::effects::Effect;
use cledger_core::findings::Finding;
use cledger_core::impact::Written as Place;
use cledger_core::model::{Kind, Ledger, SettingValue};
use cledger_core::name::Name;
use cledger_core::resolve::Unfetched;
use cledger_core::search;
use cledger_store::{Overlay, apply};

use self::names::Renamed;
use self::replacing::{Replaced, Replacing};
use crate::change::{Changing, Consent, Planned};
use crate::rename::{RenderedName, refuse_rendered};
use crate::routine::{self, Routine};
use crate::shown::{self, counted};
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// What is to be replaced.
#[derive(Debug, Clone, Default)]
pub struct ToReplace {
    /// The search and the changes; nothing of both where `routine` says it.
    pub texts: Routine,
    /// Use the search and changes that were kept under this name.
    pub routine: Option<Name>,
    /// What the routine leaves open, as `NAME=VALUE`.
    pub with: Vec<String>,
    /// Whether names in rendered files change with the names of entries.
    pub outputs: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What a replacement comes to.
#[derive(Debug)]
pub struct Replacement {
    /// The values that are replaced.
    pub replaced: Vec<Replaced>,
    /// The names that are replaced.
    pub renamed: Vec<Renamed>,
    /// The names of rendered files, and in them, that change with these.
    pub rendered: Vec<RenderedName>,
    /// The ledger as it is afterwards.
    pub after: Ledger,
    /// The effective values that change.
    pub effects: Vec<Effect>,
    /// Findings that are there only afterwards.
    pub caused: Vec<Finding>,
    /// Findings that were there only before.
    pub cured: Vec<Finding>,
    /// Settings that hold it inside of references, where it stays.
    pub in_references: Vec<String>,
    /// Whether it is done.
    pub written: bool,
}

/// Keeps a search and changes under a name, to be used again.
pub fn keep(changing: &Changing, name: &Name, texts: &Routine) -> Result<(), Trouble> {
    refuse_all(texts)?;
    routine::save(changing, name, texts)
}

/// Puts other values and names in place of what a search finds.
pub fn replace(changing: &Changing, asked: &ToReplace) -> Result<Replacement, Trouble> {
    let given = !asked.texts.search.is_empty() || !asked.texts.replace.is_empty();
    let wanted = match &asked.routine {
        Some(name) if given => {
            let message = format!("routine `{name}` says what to search and what to change");
            return Err(Trouble::usage(message).help("leave out the other conditions and changes"));
        }
        Some(name) => routine::filled(changing.ledger(), name, &asked.with)?,
        None => asked.texts.clone(),
    };
    refuse_all(&wanted)?;
    refuse_nothing(&wanted)?;
    let at = &changing.opened.at;
    let replacing = replacing(at, changing.ledger(), &wanted)?;
    if replacing.encrypted > 0 {
        let secrets = counted(replacing.encrypted, "encrypted secret");
        let stay = if replacing.encrypted == 1 { "stays as it is" } else { "stay as they are" };
        at.telling.notice(&format!("{secrets} {stay}: `cledger set` changes one at a time."));
    }
    let mut changed = replacing.texts;
    let edited = apply(&Overlay::new(changing.disk(), &changed), &replacing.edits)?;
    changed.extend(edited);
    let values = changing.plan_texts(changed)?;
    changing.refuse_bad_rows(&values)?;
    let (mut caused, cured) = changing.differing(&values);
    let (planned, renamed, rendered) = names::replace(changing, values, &wanted, asked.outputs)?;
    if !renamed.is_empty() {
        caused.extend(names::clashes(changing.differing(&planned).0));
    }
    if asked.write {
        refuse_rendered(&rendered, asked.outputs)?;
        changing.guard(&replacing.layers, &planned, &asked.consent)?;
        changing.write(&planned)?;
    }
    let Planned { after, effects, .. } = planned;
    let (replaced, in_references, written) = (replacing.replaced, replacing.in_references, asked.write);
    Ok(Replacement { replaced, renamed, rendered, after, effects, caused, cured, in_references, written })
}

/// Refuses a search that nothing narrows.
fn refuse_all(wanted: &Routine) -> Result<(), Trouble> {
    if wanted.search.is_empty() {
        return Err(Trouble::usage("nothing says what to replace")
            .help("narrow it: a pattern of addresses, --contains TEXT, --kind KIND …"));
    }
    Ok(())
}

/// Refuses changes that say nothing, or half of it.
fn refuse_nothing(wanted: &Routine) -> Result<(), Trouble> {
    if wanted.replace.is_empty() {
        let help = "add --to VALUE, --swap OLD NEW, --lead OLD NEW or --regex REGEX NEW";
        return Err(Trouble::usage("nothing says what to put in place of what is found").help(help));
    }
    if wanted.replace.changes_names() == wanted.replace.names.is_empty() {
        let help = "write --names units,entries,outputs and --name-swap OLD NEW, --name-lead OLD NEW or --name-regex REGEX NEW";
        return Err(Trouble::usage("it takes both: which names change, and how").help(help));
    }
    Ok(())
}

/// Works out which values change, and how.
fn replacing(at: &Workplace, ledger: &Ledger, wanted: &Routine) -> Result<Replacing, Trouble> {
    let mut replacing = Replacing::default();
    if !wanted.replace.changes_values() {
        return Ok(replacing);
    }
    let (changes, conditions) = (wanted.replace.of_values()?, wanted.search.read(at, ledger)?);
    for found in search::settings(ledger, &Unfetched, &conditions) {
        let count = replacing.replaced.len();
        let said = found.setting.map(|setting| &setting.value);
        replacing.encrypted += usize::from(matches!(said, Some(SettingValue::Cipher(_))));
        if found.held.is_some_and(|held| changes.leaves_references(held.expose())) {
            replacing.in_references.push(found.address(ledger).to_string());
        }
        if let Kind::Table { .. } = ledger.field(found.subject, found.slot).0.kind {
            let meant = (wanted.replace.to.as_deref(), &changes, &conditions);
            rows::replace(meant, ledger, &found, &mut replacing)?;
        } else if let Some((edit, after)) =
            values::edit(wanted.replace.to.as_deref(), &changes, ledger, &found)?
        {
            let at = found.place.map(|place| ledger.files.locate(place));
            replacing.replaced.push(Replaced {
                address: found.address(ledger).to_string(),
                file: edit.file.clone(),
                line: at.map_or(0, |at| at.line),
                before: shown::found(&found),
                after: shown::held(&after),
            });
            replacing.edits.push(edit);
        }
        if let Place::In(layer) = found.written
            && replacing.replaced.len() > count
        {
            replacing.layers.push(layer);
        }
    }
    Ok(replacing)
}
