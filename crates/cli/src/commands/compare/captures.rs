//! `compare` where a side is a capture: `capture:PATH`.

use std::path::Path;

use cledger_core::address::{Address, Pattern};
use cledger_core::compare::{Difference, Named, NamedCompared, named};
use cledger_core::model::{Ledger, OutputFormat, StageId};
use cledger_core::resolve::Resolver;
use cledger_core::trust::Granted;
use cledger_core::value::Value;
use cledger_outlets::Trust;
use cledger_store::{CapturedUnit, Keys, Scope};

use super::CompareArgs;
use crate::app::{App, known_stage};
use crate::commands::without_delivery;
use crate::error::{CliError, status};
use crate::existing;
use crate::output::{json, text};
use crate::reality::captured::{CAPTURE, Captured};
use crate::reality::{Around, look, places};

/// A side with its values.
enum Side<'s> {
    Capture(Captured<'s>),
    /// What the ledger makes for these units.
    Ledger(Address),
}

pub(super) fn run(args: &CompareArgs, sides: (&str, &str), app: &mut App<'_>) -> Result<u8, CliError> {
    let (root, ledger) = app.open(&Scope::Whole)?;
    let keys = app.keys(&root);
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let around = Around {
        ledger_folder: &root,
        outside: &outside,
        trust: Trust::of_system(),
        // In place of outlets a capture is read, and nothing is reached.
        granted: Granted::All,
    };
    let (left, right) = (side(sides.0, &keys)?, side(sides.1, &keys)?);
    let units: Vec<&Address> = [&left, &right]
        .into_iter()
        .filter_map(|side| match side {
            Side::Ledger(address) => Some(address),
            Side::Capture(_) => None,
        })
        .collect();
    let of = |side: &Side<'_>, other: &Side<'_>| match (side, other) {
        (Side::Capture(captured), _) => in_capture(captured, &ledger, units.first().copied()),
        (Side::Ledger(address), Side::Capture(captured)) => in_ledger(address, captured, &resolver, &around),
        (Side::Ledger(_), Side::Ledger(_)) => Err(CliError::usage("neither side is a capture")),
    };
    let compared = named(of(&left, &right)?, of(&right, &left)?, false);
    if app.console.is_json() {
        app.console.document(&json::compare::files(&compared, sides));
    } else {
        text::compare::files(app.console, &compared, sides, args.all);
    }
    app.tell_unreadable(&keys);
    let differs = |one: &NamedCompared| !matches!(one.difference, Difference::Same | Difference::Unknown);
    Ok(if compared.iter().any(differs) { status::FOUND } else { status::CLEAN })
}

fn side<'s>(text: &str, keys: &'s Keys<'s>) -> Result<Side<'s>, CliError> {
    if let Some(path) = text.strip_prefix(CAPTURE) {
        return Ok(Side::Capture(Captured { file: existing::capture(Path::new(path))?, keys }));
    }
    let address = without_delivery(Address::parse(text)?)?;
    if address.entry.is_some() {
        let message = format!("`{text}` names an entry, and whole units are compared");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    Ok(Side::Ledger(address))
}

/// A name in one of a unit's files, as it is shown.
fn name(owner: &str, path: &str, steps: &[String]) -> Vec<String> {
    vec![format!("{owner} {path} {}", steps.join("."))]
}

fn is_of(wanted: Option<&Address>, owner: &str) -> bool {
    wanted.and_then(|address| address.owner.as_ref()).is_none_or(|wanted| wanted.to_string() == owner)
}

/// What a capture has, of one unit where one is asked for.
fn in_capture(
    captured: &Captured<'_>,
    ledger: &Ledger,
    wanted: Option<&Address>,
) -> Result<Vec<Named>, CliError> {
    let mut all = Vec::new();
    for outlet in &captured.file.outlets {
        let units = outlet.units.iter().filter(|(owner, _)| is_of(wanted, owner));
        for (owner, unit) in units {
            let CapturedUnit::There { files, .. } = unit else { continue };
            for file in files {
                let read = captured.tree(ledger, owner, outlet.name.as_str(), file);
                let (tree, veiled) = read.map_err(CliError::usage)?;
                let format = OutputFormat::ALL.iter().find(|(_, name)| *name == file.format);
                let is_bare = format.is_none_or(|(format, _)| format.knows_text_alone());
                for value in &file.values {
                    let print = veiled.iter().find(|(name, _)| *name == value.name);
                    all.push(Named {
                        name: name(owner, &file.path, &value.name),
                        value: match print {
                            Some((_, print)) => print.as_deref().map(Value::text),
                            None => tree.get(&value.name).cloned(),
                        },
                        is_bare,
                        secret: !matches!(value.content, cledger_store::CapturedContent::Open(_)),
                    });
                }
            }
        }
    }
    Ok(all)
}

/// What the ledger makes for the units of a capture; secrets as their fingerprints where the capture has
/// those.
fn in_ledger(
    address: &Address,
    captured: &Captured<'_>,
    resolver: &Resolver<'_>,
    around: &Around<'_>,
) -> Result<Vec<Named>, CliError> {
    let ledger = resolver.ledger();
    let stage = address.stage.as_ref().unwrap_or(&captured.file.stage);
    let id: StageId = known_stage(ledger, stage.as_str())?;
    let owner = address.owner.as_ref().map(ToString::to_string);
    let pattern = Pattern::parse(&format!("{}@{stage}", owner.clone().unwrap_or_default()))?;
    let mut all = Vec::new();
    for place in places::outlets(&[pattern], ledger, around)? {
        let Some((outlet, _)) = place.outlet_name() else { continue };
        let known = captured.file.outlets.iter().find(|known| known.name.as_str() == outlet);
        let Some(known) = known else { continue };
        for &subject in &place.subjects {
            let owner = ledger.owner(subject).to_string();
            let Some(CapturedUnit::There { files, .. }) = known.units.get(&owner) else { continue };
            if !is_of(Some(address), &owner) {
                continue;
            }
            let made = look::make_alone(&place, subject, resolver);
            for file in files {
                let (_, veiled) = captured.tree(ledger, &owner, &outlet, file).map_err(CliError::usage)?;
                for (steps, value, secret) in made.values(&file.path) {
                    let print = veiled.iter().any(|(name, print)| *name == steps && print.is_some());
                    let value = match (value, print) {
                        (Some(value), true) => {
                            let key =
                                captured.keys.key(&ledger.key_scope(cledger_core::model::LayerId::Stage(id)));
                            key.ok().map(|file| Value::text(&file.key.fingerprint(&value.to_text())))
                        }
                        (value, _) => value.cloned(),
                    };
                    all.push(Named {
                        name: name(&owner, &file.path, &steps),
                        value,
                        is_bare: made.format_of(&file.path).knows_text_alone(),
                        secret,
                    });
                }
            }
        }
    }
    Ok(all)
}
