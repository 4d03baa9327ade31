//! Sides of which one is a capture.

use cledger_core::address::{Address, Pattern};
use cledger_core::compare::{Named, NamedCompared, named};
use cledger_core::model::{LayerId, OutputFormat};
use cledger_core::resolve::Resolver;
use cledger_core::value::{Held, Value};
use cledger_store::CapturedUnit;
use std::path::Path;

use crate::compare::side::Side;
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::captured::Captured;
use crate::reality::making::make_alone;
use crate::reality::places;
use crate::trouble::Trouble;

/// Compares a capture with another one, or with what the ledger makes for its units.
pub(crate) fn compared(opened: &Opened, left: &Side, right: &Side) -> Result<Vec<NamedCompared>, Trouble> {
    match (left, right) {
        (Side::Capture(one), Side::Capture(other)) => {
            let (one, other) = (captured(opened, one)?, captured(opened, other)?);
            Ok(named(in_capture(&one, None)?, in_capture(&other, None)?, false))
        }
        (Side::Capture(path), Side::Ledger(address)) => {
            let (in_capture, in_ledger) = with_ledger(opened, path, address)?;
            Ok(named(in_capture, in_ledger, false))
        }
        (Side::Ledger(address), Side::Capture(path)) => {
            let (in_capture, in_ledger) = with_ledger(opened, path, address)?;
            Ok(named(in_ledger, in_capture, false))
        }
        _ => Err(Trouble::usage("neither side is a capture")),
    }
}

fn captured<'k>(opened: &'k Opened, path: &Path) -> Result<Captured<'k>, Trouble> {
    Captured::read(path, opened.keys())
}

fn with_ledger(opened: &Opened, path: &Path, address: &Address) -> Result<(Vec<Named>, Vec<Named>), Trouble> {
    let captured = captured(opened, path)?;
    let (resolver, around) = (opened.resolver(), Around::unreached(opened));
    let of_ledger = in_ledger(address, &captured, &resolver, &around)?;
    Ok((in_capture(&captured, Some(address))?, of_ledger))
}

/// A name in one of a unit's files, as it is shown.
fn name(owner: &str, path: &str, steps: &[String]) -> Vec<String> {
    let steps = steps.join(".");
    let whole = if steps.is_empty() { "(the text)" } else { &steps };
    vec![format!("{owner} {path} {whole}")]
}

fn is_of(wanted: Option<&Address>, owner: &str) -> bool {
    wanted.and_then(|address| address.owner.as_ref()).is_none_or(|wanted| wanted.to_string() == owner)
}

/// What a capture has, of one unit where one is asked for.
fn in_capture(captured: &Captured<'_>, wanted: Option<&Address>) -> Result<Vec<Named>, Trouble> {
    let mut all = Vec::new();
    for outlet in &captured.file.outlets {
        let units = outlet.units.iter().filter(|(owner, _)| is_of(wanted, owner));
        for (owner, unit) in units {
            let CapturedUnit::There { files, .. } = unit else { continue };
            for file in files {
                let read = captured.tree(owner, outlet.name.as_str(), file);
                let (tree, veiled) = read.map_err(Trouble::usage)?;
                let format = OutputFormat::ALL.iter().find(|(_, name)| *name == file.format);
                let is_bare = format.is_none_or(|(format, _)| format.knows_text_alone());
                let veiled =
                    veiled.into_iter().map(|(steps, print)| (steps, print.as_deref().map(Value::text)));
                let read = tree.leaves().into_iter().map(|(steps, value)| (steps, Some(value.clone())));
                for (steps, value) in read.chain(veiled) {
                    let is_secret = file.is_secret(&steps);
                    all.push(Named {
                        name: name(owner, &file.path, &steps),
                        value: value.map(|value| Held::new(value, is_secret)),
                        is_bare,
                    });
                }
            }
        }
    }
    Ok(all)
}

/// What the ledger makes for the units of a capture; secrets as their fingerprints where the capture has
/// those.
fn in_ledger<'l>(
    address: &Address,
    captured: &Captured<'_>,
    resolver: &Resolver<'l>,
    around: &Around<'l>,
) -> Result<Vec<Named>, Trouble> {
    let ledger = resolver.ledger();
    let stage = address.stage.as_ref().unwrap_or(&captured.file.stage);
    let id = known_stage(ledger, stage.as_str())?;
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
            let made = make_alone(&place, subject, resolver);
            for file in files {
                let (_, veiled) = captured.tree(&owner, &outlet, file).map_err(Trouble::usage)?;
                for (steps, value, secret) in made.values(&file.path) {
                    let print = veiled.iter().any(|(name, print)| *name == steps && print.is_some());
                    let value = match (value, print) {
                        (Some(value), true) => {
                            let key = captured.keys.key(&ledger.key_scope(LayerId::Stage(id)));
                            key.ok().map(|file| Value::text(&file.key.fingerprint(&value.to_text())))
                        }
                        (value, _) => value,
                    };
                    all.push(Named {
                        name: name(&owner, &file.path, &steps),
                        value: value.map(|value| Held::new(value, secret)),
                        is_bare: made.format_of(&file.path).knows_text_alone(),
                    });
                }
            }
        }
    }
    Ok(all)
}
