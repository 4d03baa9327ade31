//! Other names for the units and shared entries of a folio, in all of its pieces.

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Class, Ledger};
use cledger_core::name::Name;
use cledger_store::{
    Edit, MANIFEST, Memory, Named, Renaming, Scope, Unreadable, What, append, apply, literal, read,
};

use super::piece::{Piece, Pieces, Texts, without_stages};
use crate::trouble::Trouble;

/// The pieces as a ledger in memory, with the stages of the one that they come into, and nothing said of these.
pub(super) fn as_ledger(texts: &Texts, into: &Ledger) -> Memory {
    let mut manifest = format!("format = 1\nname = {}\n", quoted(&into.name));
    for stage in &into.stages {
        // What they are for is of no account here.
        let class = Class::Development.name();
        manifest += &format!("[[stage]]\nname = \"{}\"\nclass = \"{class}\"\n", stage.name);
    }
    let mut memory = Memory::default();
    for (piece, text) in texts {
        match piece {
            Piece::Unit(_) | Piece::Shared(_) => {
                let text = if matches!(piece, Piece::Unit(_)) { placeless(text) } else { text.clone() };
                memory.0.insert(piece.member(), text);
            }
            Piece::File(path) => drop(memory.0.insert(path.clone(), text.clone())),
            Piece::Rule(_) => manifest = append(Some(&manifest), &format!("[[rule]]\n{text}")),
            Piece::Bundle(_) => manifest = append(Some(&manifest), &format!("[[bundle]]\n{text}")),
        }
    }
    memory.0.insert(MANIFEST.to_owned(), manifest);
    memory
}

fn quoted(text: &str) -> String {
    literal(&cledger_core::value::Value::text(text), None)
}

/// A contract's text without what it says of stages.
pub(super) fn placeless(text: &str) -> String {
    let Ok(table) = text.parse::<toml::Table>() else { return text.to_owned() };
    let mut without = table.clone();
    without_stages(&mut without);
    if without == table {
        return text.to_owned();
    }
    let memory = Memory::from_iter([("contract.toml", text)]);
    let remove =
        |path: Vec<String>| Edit { file: "contract.toml".to_owned(), path, header: 0, what: What::RemoveAll };
    let mut edits: Vec<Edit> =
        ["stages", "formerly"].into_iter().map(|key| remove(vec![key.to_owned()])).collect();
    let instances = table.get("instances").and_then(toml::Value::as_table).into_iter().flatten();
    for (name, _) in instances {
        let what = What::RemoveInside(2);
        let path = vec!["instances".to_owned(), name.clone(), "stages".to_owned()];
        edits.push(Edit { what, ..remove(path) });
    }
    let edited = apply(&memory, &edits).ok().and_then(|changed| changed.get("contract.toml").cloned());
    let text = edited.flatten().unwrap_or_else(|| text.to_owned());
    // Outputs that are for some stages only have no names to be known by: they are written anew where there are any.
    let is_left = text.parse::<toml::Table>().is_ok_and(|left| left == without);
    if is_left { text } else { toml::to_string(&without).unwrap_or(text) }
}

/// Gives units and shared entries other names; `OLD=NEW` each, OLD as `UNIT` or `shared/ENTRY`.
pub(super) fn renamed(mut pieces: Pieces, renamings: &[String], into: &Ledger) -> Result<Pieces, Trouble> {
    for renaming in renamings {
        let wrong = |reason: &str| {
            Trouble::usage(format!("--rename `{renaming}` {reason}"))
                .help("write UNIT=NEW or shared/ENTRY=NEW")
        };
        let (old, new) = renaming.split_once('=').ok_or_else(|| wrong("gives no new name"))?;
        let to = Name::parse(new.strip_prefix("shared/").unwrap_or(new))
            .map_err(|error| wrong(&error.to_string()))?;
        let address = Address::parse(old)?;
        let (piece, what) = match (&address.owner, &address.entry) {
            (Some(Owner::Unit(unit, None)), None) => (Piece::Unit(unit.clone()), Named::Unit(unit.clone())),
            (Some(Owner::Shared), Some(entry)) => {
                (Piece::Shared(entry.clone()), Named::Entry(Owner::Shared, entry.clone()))
            }
            _ => return Err(wrong("names no unit and no shared entry")),
        };
        if !pieces.0.contains_key(&piece) {
            return Err(wrong("names nothing that is in the folio"));
        }
        let new_piece =
            if matches!(piece, Piece::Unit(_)) { Piece::Unit(to.clone()) } else { Piece::Shared(to.clone()) };
        if pieces.0.contains_key(&new_piece) {
            return Err(wrong("takes a name that the folio has already"));
        }
        pieces = with_name(pieces, &piece, (&Renaming { what, to }, new_piece), into)?;
    }
    Ok(pieces)
}

fn with_name(
    pieces: Pieces,
    old: &Piece,
    (renaming, new): (&Renaming, Piece),
    into: &Ledger,
) -> Result<Pieces, Trouble> {
    // Rules that name stages of their own ledger are left out in any case.
    let readable: Texts = pieces
        .0
        .iter()
        .filter(|(piece, _)| !matches!(piece, Piece::Rule(_)))
        .map(|(piece, text)| (piece.clone(), text.clone()))
        .collect();
    let memory = as_ledger(&readable, into);
    let ledger = read(&memory, &Scope::Whole).map_err(|unreadable: Unreadable| Trouble::from(unreadable))?;
    let mut changed = cledger_store::rename(&ledger, renaming)?;
    let mut texts = Texts::new();
    for (piece, text) in pieces.0 {
        let piece = if piece == *old { new.clone() } else { piece };
        let path = match &piece {
            Piece::File(path) => path.clone(),
            other => other.member(),
        };
        let text = match &piece {
            Piece::Rule(_) => with_owner(&text, renaming),
            Piece::Bundle(_) => with_member(&with_owner(&text, renaming), &text, renaming),
            // Shared entries stay in the files of their old names.
            Piece::Shared(_) if piece == new => changed.remove(&old.member()).flatten().unwrap_or(text),
            _ => changed.remove(&path).flatten().unwrap_or(text),
        };
        texts.insert(piece, text);
    }
    Ok(Pieces(texts))
}

/// A rule or bundle whose patterns mean a unit or shared entry by its new name.
fn with_owner(text: &str, renaming: &Renaming) -> String {
    let Ok(mut table) = text.parse::<toml::Table>() else { return text.to_owned() };
    let lead = |of: &Named| match of {
        Named::Unit(name) => Some((name.to_string(), renaming.to.to_string())),
        Named::Entry(_, name) => Some((format!("shared/{name}"), format!("shared/{}", renaming.to))),
        _ => None,
    };
    let Some((old, new)) = lead(&renaming.what) else { return text.to_owned() };
    let swap = |pattern: &str| {
        let rest = pattern.strip_prefix(&old)?;
        (rest.is_empty() || rest.starts_with(['/', '.', '+', '@'])).then(|| format!("{new}{rest}"))
    };
    for key in ["fields", "units", "present_with"] {
        match table.get_mut(key) {
            Some(toml::Value::Array(items)) => {
                for item in items {
                    if let Some(new) = item.as_str().and_then(swap) {
                        *item = toml::Value::String(new);
                    }
                }
            }
            Some(toml::Value::String(text)) => *text = swap(text).unwrap_or_else(|| text.clone()),
            _ => {}
        }
    }
    toml::to_string(&table).unwrap_or_else(|_| text.to_owned())
}

/// A bundle that has a unit under its new name, if it had it under the old one by a pattern.
fn with_member(text: &str, before: &str, renaming: &Renaming) -> String {
    let Named::Unit(old) = &renaming.what else { return text.to_owned() };
    let covers = |text: &str, name: &Name| {
        let table: toml::Table = text.parse().unwrap_or_default();
        let units = table.get("units").and_then(toml::Value::as_array).into_iter().flatten();
        units
            .filter_map(toml::Value::as_str)
            .any(|unit| wildmatch::WildMatch::new(unit).matches(name.as_str()))
    };
    if !covers(before, old) || covers(text, &renaming.to) {
        return text.to_owned();
    }
    let Ok(mut table) = text.parse::<toml::Table>() else { return text.to_owned() };
    if let Some(toml::Value::Array(units)) = table.get_mut("units") {
        units.push(toml::Value::String(renaming.to.to_string()));
    }
    toml::to_string(&table).unwrap_or_else(|_| text.to_owned())
}
