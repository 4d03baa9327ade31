//! `cledger replace`: the same search, and other values or names in place of what it finds.

mod changes;
mod names;
mod rows;
mod values;

use clap::Args;
use cledger_core::findings::{self, Finding};
use cledger_core::impact::Written as Place;
use cledger_core::model::{Kind, LayerId, Ledger, SettingValue};
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_core::search;
use cledger_store::{Changed, Disk, Edit, EditError, Overlay, apply};

pub(crate) use changes::{ChangesOptions, Names};
pub(crate) use names::Renamed;

use super::recipe::{self, Recipe};
use crate::app::App;
use crate::change::{ChangeOptions, Changing, Planned};
use crate::conditions::ConditionOptions;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ReplaceArgs {
    #[command(flatten)]
    conditions: ConditionOptions,
    #[command(flatten)]
    changes: ChangesOptions,
    /// Keep search and changes under this name in ledger.toml; {NAME} in a text is left open
    #[arg(long, value_name = "NAME", conflicts_with_all = ["recipe", "write"])]
    save: Option<Name>,
    /// Use the search and changes that were kept under this name
    #[arg(long, value_name = "NAME")]
    recipe: Option<Name>,
    /// What a recipe leaves open
    #[arg(long, value_name = "NAME=VALUE", requires = "recipe")]
    with: Vec<String>,
    /// With --names entries: let their names in rendered files change with them
    #[arg(long)]
    outputs: bool,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

/// A value that is replaced, or that cannot be.
pub(crate) struct Replaced {
    pub(crate) address: String,
    pub(crate) file: String,
    pub(crate) line: usize,
    /// Masked for a secret.
    pub(crate) before: String,
    pub(crate) after: String,
}

/// What a replacement comes to, before it is made.
pub(crate) struct Replacement {
    pub(crate) replaced: Vec<Replaced>,
    pub(crate) renamed: Vec<Renamed>,
    pub(crate) planned: Planned,
    /// Findings that are there only afterwards, and only before.
    pub(crate) caused: Vec<Finding>,
    pub(crate) cured: Vec<Finding>,
}

/// A replacement in the making.
#[derive(Default)]
struct Replacing {
    replaced: Vec<Replaced>,
    edits: Vec<Edit>,
    /// New texts of CSV files.
    texts: Changed,
    /// How many encrypted secrets were found, which stay.
    encrypted: usize,
    layers: Vec<LayerId>,
}

pub(crate) fn run(args: &ReplaceArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let given = !args.conditions.is_empty() || !args.changes.is_empty();
    let wanted = match &args.recipe {
        Some(name) if given => {
            let message = format!("recipe `{name}` says what to search and what to change");
            return Err(CliError::usage(message).help("leave out the other conditions and changes"));
        }
        Some(name) => recipe::filled(&changing.ledger, name, &args.with)?,
        None => Recipe { search: args.conditions.clone(), replace: args.changes.clone() },
    };
    if wanted.search.is_empty() {
        let message = "nothing says what to replace";
        return Err(CliError::usage(message)
            .help("narrow it: a pattern of addresses, --contains TEXT, --kind KIND …"));
    }
    if let Some(name) = &args.save {
        return recipe::save(&changing, name, &wanted, app);
    }
    if wanted.replace.is_empty() {
        let help = "add --to VALUE, --swap OLD NEW, --lead OLD NEW or --regex REGEX NEW";
        return Err(CliError::usage("nothing says what to put in place of what is found").help(help));
    }
    if wanted.replace.changes_names() == wanted.replace.names.is_empty() {
        let help = "write --names units,entries,outputs and --name-swap OLD NEW, --name-lead OLD NEW or --name-regex REGEX NEW";
        return Err(CliError::usage("it takes both: which names change, and how").help(help));
    }
    let replacing = replacing(&changing.ledger, &wanted)?;
    if replacing.encrypted > 0 {
        let secrets = text::check::counted(replacing.encrypted, "encrypted secret");
        let stay = if replacing.encrypted == 1 { "stays as it is" } else { "stay as they are" };
        app.console.notice(&format!("{secrets} {stay}: `cledger set` changes one at a time."));
    }
    let disk = Disk::new(changing.root().to_owned());
    let wrong = |error: EditError| CliError::usage(error.to_string());
    let mut changed = replacing.texts;
    let edited = apply(&Overlay::new(&disk, &changed), &replacing.edits).map_err(wrong)?;
    changed.extend(edited);
    let values = changing.plan_texts(changed)?;
    let (mut caused, cured) = differing(&changing.ledger, &values.after);
    let (planned, renamed) = names::replace(&changing, values, &wanted, args.outputs)?;
    if !renamed.is_empty() {
        caused.extend(names::clashes(differing(&changing.ledger, &planned.after).0));
    }
    let replacement = Replacement { replaced: replacing.replaced, renamed, planned, caused, cured };
    if args.write {
        changing.guard(&replacing.layers, &replacement.planned, &args.change)?;
        changing.write(&replacement.planned)?;
    }
    if app.console.is_json() {
        app.console.document(&json::replace::document(&replacement, args.write));
    } else {
        text::replace::print(app.console, &replacement, args.write);
    }
    Ok(status::CLEAN)
}

/// Works out which values change, and how.
fn replacing(ledger: &Ledger, wanted: &Recipe) -> Result<Replacing, CliError> {
    let mut replacing = Replacing::default();
    if !wanted.replace.changes_values() {
        return Ok(replacing);
    }
    let (changes, conditions) = (wanted.replace.of_values()?, wanted.search.read()?);
    for found in search::settings(ledger, &Unfetched, &conditions) {
        let count = replacing.replaced.len();
        let said = found.setting.map(|setting| &setting.value);
        replacing.encrypted += usize::from(matches!(said, Some(SettingValue::Cipher(_))));
        if let Kind::Table { .. } = ledger.field(found.subject, found.slot).0.kind {
            rows::replace(&changes, ledger, &found, &mut replacing);
        } else if let Some((edit, after)) =
            values::edit(wanted.replace.to.as_deref(), &changes, ledger, &found)?
        {
            let at = found.place.map(|place| ledger.files.locate(place));
            replacing.replaced.push(Replaced {
                address: found.address(ledger).to_string(),
                file: edit.file.clone(),
                line: at.map_or(0, |at| at.line),
                before: text::search::says(&found),
                after: crate::output::values::held(&after),
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

/// The findings that one ledger has and the other has not.
pub(super) fn differing(before: &Ledger, after: &Ledger) -> (Vec<Finding>, Vec<Finding>) {
    let check =
        |ledger: &Ledger| findings::check(&Resolver::new(ledger, &Unfetched, &[]), None, None).findings;
    let (old, new) = (check(before), check(after));
    let not_in = |list: &[Finding], others: &[Finding]| -> Vec<Finding> {
        let known: std::collections::BTreeSet<_> =
            others.iter().map(|finding| (finding.code, finding.address.as_str())).collect();
        list.iter().filter(|one| !known.contains(&(one.code, one.address.as_str()))).cloned().collect()
    };
    (not_in(&new, &old), not_in(&old, &new))
}
