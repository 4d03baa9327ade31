//! `cledger replace`: the same search, and other values in place of what it finds.

use clap::Args;
use cledger_core::findings::{self, Finding};
use cledger_core::impact::Written as Place;
use cledger_core::model::{LayerId, Ledger, SettingValue};
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_core::search::{self, Found};
use cledger_core::types::Type;
use cledger_core::value::{Held, Value};
use cledger_store::{Edit, Target, What, literal, setting};
use regex::Regex;
use serde::{Deserialize, Serialize};

use super::recipe::{self, Recipe};
use super::set::{setting_literal, typed_value};
use crate::app::App;
use crate::change::{ChangeOptions, Changing, Planned};
use crate::conditions::{ConditionOptions, regex};
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
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

/// What takes the place of what is found.
#[derive(Debug, Clone, Default, Args, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct ChangesOptions {
    /// A whole new value
    #[arg(long, value_name = "VALUE", conflicts_with_all = ["swap", "lead", "regex"])]
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<String>,
    /// One text for another, wherever it stands in a value
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    swap: Vec<String>,
    /// One leading part for another
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    lead: Vec<String>,
    /// What matches for another text, in which $1 is the first group
    #[arg(long, num_args = 2, value_names = ["REGEX", "NEW"])]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    regex: Vec<String>,
}

impl ChangesOptions {
    fn is_empty(&self) -> bool {
        self.to.is_none() && self.swap.is_empty() && self.lead.is_empty() && self.regex.is_empty()
    }

    /// All texts in it, to be filled in.
    pub(crate) fn texts(&mut self) -> impl Iterator<Item = &mut String> {
        let lists = [&mut self.swap, &mut self.lead, &mut self.regex];
        self.to.iter_mut().chain(lists.into_iter().flatten())
    }
}

/// What was asked for, once a recipe is filled in.
struct Wanted<'a> {
    args: &'a ReplaceArgs,
    to: Option<String>,
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
    pub(crate) planned: Planned,
    /// Findings that are there only afterwards, and only before.
    pub(crate) caused: Vec<Finding>,
    pub(crate) cured: Vec<Finding>,
}

/// The changes of a value's texts, in the order in which they are made.
struct Changes<'a> {
    lead: Vec<(&'a str, &'a str)>,
    swap: Vec<(&'a str, &'a str)>,
    regex: Vec<(Regex, String)>,
}

impl<'a> Changes<'a> {
    fn read(args: &'a ChangesOptions) -> Result<Self, CliError> {
        let pairs = |list: &'a [String]| -> Vec<(&'a str, &'a str)> {
            list.chunks_exact(2).map(|pair| (pair[0].as_str(), pair[1].as_str())).collect()
        };
        // `$1v3` means the first group and `v3`, not a group that is called `1v3`.
        let group = regex(r"\$(\d+)")?;
        let compiled = pairs(&args.regex)
            .into_iter()
            .map(|(text, new)| Ok((regex(text)?, group.replace_all(new, "$${$1}").into_owned())));
        let changes = Self {
            lead: pairs(&args.lead),
            swap: pairs(&args.swap),
            regex: compiled.collect::<Result<_, CliError>>()?,
        };
        if args.is_empty() {
            let help = "add --to VALUE, --swap OLD NEW, --lead OLD NEW or --regex REGEX NEW";
            return Err(CliError::usage("nothing says what to put in place of what is found").help(help));
        }
        Ok(changes)
    }

    fn text(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (old, new) in &self.lead {
            if let Some(rest) = text.strip_prefix(old) {
                text = format!("{new}{rest}");
            }
        }
        for (old, new) in &self.swap {
            text = text.replace(old, new);
        }
        for (regex, new) in &self.regex {
            text = regex.replace_all(&text, new.as_str()).into_owned();
        }
        text
    }

    fn value(&self, value: &Value) -> Value {
        match value {
            Value::Text(text) => Value::text(&self.text(text)),
            Value::List(items) => Value::List(items.iter().map(|item| self.value(item)).collect()),
            Value::Map(map) => {
                Value::Map(map.iter().map(|(key, item)| (key.clone(), self.value(item))).collect())
            }
            other => other.clone(),
        }
    }
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
    let args = &Wanted { args, to: wanted.replace.to.clone() };
    let changes = Changes::read(&wanted.replace)?;
    let conditions = wanted.search.read()?;
    let ledger = &changing.ledger;
    let (mut replaced, mut edits, mut layers) = (Vec::new(), Vec::new(), Vec::new());
    for found in search::settings(ledger, &conditions) {
        let Some(edit) = edit(args, &changes, ledger, &found)? else { continue };
        let (edit, after) = edit;
        let at = found.place.map(|place| ledger.files.locate(place));
        replaced.push(Replaced {
            address: found.address(ledger).to_string(),
            file: edit.file.clone(),
            line: at.map_or(0, |at| at.line),
            before: text::search::says(&found),
            after: crate::output::values::held(&after),
        });
        edits.push(edit);
        if let Place::In(layer) = found.written {
            layers.push(layer);
        }
    }
    finish(args.args, &changing, replaced, &edits, &layers, app)
}

fn finish(
    args: &ReplaceArgs,
    changing: &Changing,
    replaced: Vec<Replaced>,
    edits: &[Edit],
    layers: &[LayerId],
    app: &mut App<'_>,
) -> Result<u8, CliError> {
    let planned = changing.plan(edits)?;
    let (caused, cured) = differing(&changing.ledger, &planned.after);
    let replacement = Replacement { replaced, planned, caused, cured };
    if args.write {
        changing.guard(layers, &replacement.planned, &args.change)?;
        changing.write(&replacement.planned)?;
    }
    if app.console.is_json() {
        app.console.document(&json::replace::document(&replacement, args.write));
    } else {
        text::replace::print(app.console, &replacement, args.write);
    }
    Ok(status::CLEAN)
}

/// The change of one value and the value after it; `None` if it stays as it is.
fn edit(
    args: &Wanted<'_>,
    changes: &Changes<'_>,
    ledger: &Ledger,
    found: &Found<'_>,
) -> Result<Option<(Edit, Held)>, CliError> {
    let (_, declaration) = ledger.field(found.subject, found.slot);
    if declaration.this_type == Type::Table {
        return Ok(None);
    }
    let address = found.address(ledger);
    let new = match (&args.to, found.held) {
        (Some(text), _) => {
            if declaration.secret {
                let message =
                    format!("`{address}` is a secret: an argument can be seen by others on this machine");
                return Err(CliError::refused(message).help("leave secrets out with --no-secret"));
            }
            typed_value(text, declaration).ok_or_else(|| {
                let wanted = declaration.this_type.describe();
                CliError::usage(format!("the value for `{address}` is not {wanted}"))
                    .help("narrow the search to fields of one type: --type TYPE")
            })?
        }
        (None, Some(held)) => changes.value(held.expose()),
        (None, None) => return Ok(None),
    };
    if found.held.is_some_and(|held| *held.expose() == new) {
        return Ok(None);
    }
    let held = Held::new(new, declaration.secret);
    let target = match found.written {
        Place::In(layer) => Target::Layer(layer),
        Place::Default => Target::Default,
    };
    let before = found.place.and_then(|place| {
        let text = ledger.files.get(place.file)?.text.as_str();
        text.get(place.start as usize..place.end as usize)
    });
    let note = found.setting.and_then(|setting| setting.note.as_deref()).cloned().unwrap_or_default();
    let text = match target {
        Target::Default => literal(held.expose(), before),
        Target::Layer(_) => setting_literal(&SettingValue::Value(held.clone()), &note, before),
    };
    Ok(Some((setting(ledger, target, found.subject, found.slot, What::Set(text)), held)))
}

/// The findings that one ledger has and the other has not.
pub(super) fn differing(before: &Ledger, after: &Ledger) -> (Vec<Finding>, Vec<Finding>) {
    let check = |ledger: &Ledger| findings::check(&Resolver::new(ledger, &Unfetched, &[]), None).findings;
    let (old, new) = (check(before), check(after));
    let not_in = |list: &[Finding], others: &[Finding]| -> Vec<Finding> {
        let known: std::collections::BTreeSet<_> =
            others.iter().map(|finding| (finding.code, finding.address.as_str())).collect();
        list.iter().filter(|one| !known.contains(&(one.code, one.address.as_str()))).cloned().collect()
    };
    (not_in(&new, &old), not_in(&old, &new))
}
