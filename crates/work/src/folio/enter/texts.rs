//! The files of a ledger with the pieces of a folio in them.

use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::value::Value;
use cledger_store::{
    Changed, Edit, Item, ListedWhat, MANIFEST, Memory, Overlay, Tree as _, What, append, apply, literal,
    shared_file,
};

use crate::change::Changing;
use crate::folio::fate::{Entering, Fate};
use crate::folio::piece::{OF_STAGES, Piece, Pieces, text_of};
use crate::folio::rename::placeless;
use crate::trouble::Trouble;

/// The files that change when pieces enter, and units come to these stages.
pub(super) fn changed(
    changing: &Changing,
    pieces: &Pieces,
    entering: &[Entering],
    stages: &[Name],
) -> Result<Changed, Trouble> {
    let ledger = changing.ledger();
    let mut changed = Changed::new();
    for Entering { piece, fate, .. } in entering {
        let text = &pieces.0[piece];
        match piece {
            Piece::Unit(name) => {
                let ours = text_of(ledger, piece);
                let text = if fate.enters() {
                    placed(text, ours.as_deref(), stages)?
                } else {
                    ours.unwrap_or_default()
                };
                let text = with_stages(text, stages)?;
                note(changing, &text, &format!("units/{name}.toml"), &mut changed)?;
            }
            _ if !fate.enters() => {}
            Piece::File(path) => note(changing, text, path, &mut changed)?,
            Piece::Shared(name) => {
                let file = shared_place(ledger, name);
                if *fate != Fate::New {
                    let id = ledger.shared_id(name.as_str());
                    let kind = id.map_or("", |id| ledger.shared_entry(id).kind.table());
                    let path = vec![kind.to_owned(), name.to_string()];
                    edit(
                        changing,
                        &mut changed,
                        Edit { file: file.clone(), path, header: 0, what: What::RemoveAll },
                    )?;
                }
                block(changing, &mut changed, &file, text)?;
            }
            Piece::Rule(name) => in_manifest(changing, &mut changed, ("rule", name), text, fate)?,
            Piece::Bundle(name) => in_manifest(changing, &mut changed, ("bundle", name), text, fate)?,
        }
    }
    Ok(changed)
}

/// Tells what of new units was for some stages only in their own ledger: here it is for all to which the unit comes.
pub(super) fn tell_unplaced(changing: &Changing, pieces: &Pieces, entering: &[Entering]) {
    let new = entering.iter().filter(|entering| entering.fate == Fate::New);
    for (piece, name) in
        new.filter_map(|it| if let Piece::Unit(name) = &it.piece { Some((&it.piece, name)) } else { None })
    {
        let table: toml::Table = pieces.0[piece].parse().unwrap_or_default();
        let instances = table.get("instances").and_then(toml::Value::as_table).into_iter().flatten();
        let instances = instances.filter(|(_, instance)| instance.get("stages").is_some());
        let instances = instances.map(|(instance, _)| format!("{name}+{instance}"));
        let listed = OF_STAGES.iter().flat_map(|&(list, key)| {
            let items = table.get(list).and_then(toml::Value::as_array).into_iter().flatten();
            let items = items.filter(|item| item.get("stages").is_some());
            items.filter_map(move |item| Some(format!("{list} {} of {name}", item.get(key)?.as_str()?)))
        });
        let all: Vec<String> = instances.chain(listed).collect();
        if !all.is_empty() {
            changing.opened.at.telling.notice(&format!(
                "Of some stages only there, and of all to which {name} comes here: {}. `cledger change --stages` narrows it.",
                all.join(", ")
            ));
        }
    }
}

/// Puts a text in place of that of a file, unless it says that already.
pub(super) fn note(
    changing: &Changing,
    text: &str,
    path: &str,
    changed: &mut Changed,
) -> Result<(), Trouble> {
    let unreadable = |error| Trouble::outside(format!("`{path}` cannot be read: {error}"));
    let before = changing.disk().text(path).map_err(unreadable)?;
    if before.as_deref() != Some(text) {
        changed.insert(path.to_owned(), Some(text.to_owned()));
    }
    Ok(())
}

fn edit(changing: &Changing, changed: &mut Changed, edit: Edit) -> Result<(), Trouble> {
    let more = apply(&Overlay::new(changing.disk(), changed), &[edit])?;
    changed.extend(more);
    Ok(())
}

/// Adds a block of lines to a file.
fn block(changing: &Changing, changed: &mut Changed, file: &str, block: &str) -> Result<(), Trouble> {
    let unreadable = |error| Trouble::outside(format!("`{file}` cannot be read: {error}"));
    let before = Overlay::new(changing.disk(), changed).text(file).map_err(unreadable)?;
    changed.insert(file.to_owned(), Some(append(before.as_deref(), block)));
    Ok(())
}

fn in_manifest(
    changing: &Changing,
    changed: &mut Changed,
    (list, name): (&str, &Name),
    text: &str,
    fate: &Fate,
) -> Result<(), Trouble> {
    if *fate != Fate::New {
        let what = What::Listed(vec![Item::named(list, name.as_str())], ListedWhat::Remove);
        edit(changing, changed, Edit { file: MANIFEST.to_owned(), path: Vec::new(), header: 0, what })?;
    }
    block(changing, changed, MANIFEST, &format!("[[{list}]]\n{text}"))
}

/// The file of a shared entry, or the one where new ones come.
fn shared_place(ledger: &Ledger, name: &Name) -> String {
    let known = ledger.shared_id(name.as_str()).map(|id| ledger.shared_entry(id).place);
    known.map_or_else(|| shared_file(ledger), |place| ledger.files.locate(place).file.to_owned())
}

const CONTRACT: &str = "contract.toml";

/// A contract that says of stages, and of former names, what the one here says; a new one comes to these stages.
fn placed(text: &str, ours: Option<&str>, stages: &[Name]) -> Result<String, Trouble> {
    let text = placeless(text);
    let ours: Option<toml::Table> = ours.and_then(|text| text.parse().ok());
    let Some(ours) = ours else {
        return with(&text, vec![set(&["stages"], &list(stages.iter().map(Name::as_str)))]);
    };
    let theirs: toml::Table = text.parse().unwrap_or_default();
    let mut edits = Vec::new();
    for key in ["stages", "formerly"] {
        edits.extend(ours.get(key).map(|value| set(&[key], &value.to_string())));
    }
    let instances = |table: &toml::Table| {
        table.get("instances").and_then(toml::Value::as_table).cloned().unwrap_or_default()
    };
    let known = instances(&theirs);
    for (name, instance) in instances(&ours) {
        if let Some(value) = instance.get("stages").filter(|_| known.contains_key(&name)) {
            edits.push(set(&["instances", &name, "stages"], &value.to_string()));
        }
    }
    for (list, key) in OF_STAGES {
        let items = |table: &toml::Table| {
            table.get(list).and_then(toml::Value::as_array).cloned().unwrap_or_default()
        };
        let name_of = |item: &toml::Value| item.get(key).and_then(toml::Value::as_str).map(str::to_owned);
        let known: Vec<Option<String>> = items(&theirs).iter().map(name_of).collect();
        for said in items(&ours) {
            let name = name_of(&said);
            if let (Some(value), Some(text), true) = (said.get("stages"), &name, known.contains(&name)) {
                let item = Item { list: vec![list.to_owned()], has: vec![(key, Value::text(text))] };
                let stages = ListedWhat::Set(vec!["stages".to_owned()], value.to_string());
                let what = What::Listed(vec![item], stages);
                edits.push(Edit { file: CONTRACT.to_owned(), path: Vec::new(), header: 0, what });
            }
        }
    }
    with(&text, edits)
}

/// A contract whose unit belongs to these stages, too.
fn with_stages(text: String, stages: &[Name]) -> Result<String, Trouble> {
    let Ok(table) = text.parse::<toml::Table>() else { return Ok(text) };
    let Some(said) = table.get("stages").and_then(toml::Value::as_array) else { return Ok(text) };
    let said: Vec<&str> = said.iter().filter_map(toml::Value::as_str).collect();
    let covers =
        |stage: &Name| said.iter().any(|text| wildmatch::WildMatch::new(text).matches(stage.as_str()));
    let more: Vec<&str> = stages.iter().filter(|stage| !covers(stage)).map(Name::as_str).collect();
    if more.is_empty() {
        return Ok(text);
    }
    with(&text, vec![set(&["stages"], &list(said.into_iter().chain(more)))])
}

fn list<'t>(texts: impl Iterator<Item = &'t str>) -> String {
    literal(&Value::List(texts.map(Value::text).collect()), None)
}

fn set(path: &[&str], literal: &str) -> Edit {
    let path: Vec<String> = path.iter().map(|&step| step.to_owned()).collect();
    let header = path.len() - 1;
    Edit { file: CONTRACT.to_owned(), path, header, what: What::Set(literal.to_owned()) }
}

/// A contract after some edits.
fn with(text: &str, edits: Vec<Edit>) -> Result<String, Trouble> {
    let memory = Memory::from_iter([(CONTRACT, text)]);
    let mut changed = Changed::new();
    for edit in edits {
        let more = apply(&Overlay::new(&memory, &changed), &[edit])?;
        changed.extend(more);
    }
    Ok(changed.remove(CONTRACT).flatten().unwrap_or_else(|| text.to_owned()))
}
