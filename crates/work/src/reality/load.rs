//! What has to be brought to a place, so that a unit has there what it should.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::delivery::{merged, row_changes};
use cledger_core::kept::Kept;
use cledger_core::model::{Ledger, OutletKind, OutputFormat, Subject};
use cledger_core::tree::Tree;
use cledger_formats::{Particulars, format};
use cledger_outlets::bring::{Content as Load, NewFile};
use cledger_outlets::held::Held;
use cledger_outlets::held::Values;
use cledger_store::daybook::Content;
use zeroize::Zeroizing;

use crate::existing;
use crate::reality::places::Place;

/// What one unit is to have at the outlets of its stage.
pub(crate) struct Bringing<'c> {
    pub(crate) content: &'c Content,
    /// What was delivered before: what is in that alone goes.
    pub(crate) before: Option<&'c Content>,
    /// Whether outlets that are as the ledger says already hold it, however they write it.
    pub(crate) is_of_ledger: bool,
}

impl Bringing<'_> {
    /// Whether nothing is to be there any more.
    pub(crate) fn is_withdrawal(&self) -> bool {
        *self.content == Content::default()
    }
}

/// What has to be brought to a place where this was seen: nothing if it is there. An error says why it
/// cannot be told or brought.
pub(crate) fn load(
    ledger: &Ledger,
    place: &Place<'_>,
    subject: Subject,
    bringing: &Bringing<'_>,
    seen: Held,
) -> Result<(Held, Option<Load>), String> {
    if let Held::NotKnown(reason) = seen {
        return Err(reason);
    }
    let Some(outlet) = place.outlet else { return Err("a folder is only looked at".to_owned()) };
    let name = outlet.name.as_str();
    let content = match &outlet.kind {
        OutletKind::Directory { .. } => files(bringing, &seen)?,
        OutletKind::Http(_) => {
            let text = bringing.content.documents.get(name).map(text_of).transpose()?;
            document(place, text, &seen)?
        }
        OutletKind::Postgres(postgres) => {
            let ours = values(bringing.content.rows.get(name))?;
            let before = bringing.before.map(|before| values(before.rows.get(name))).transpose()?;
            // In a table of somebody else's only what the contract names is ours, or was brought before.
            let mut known: BTreeSet<String> = before.into_iter().flat_map(BTreeMap::into_keys).collect();
            let names = postgres.rows.names_in(ledger, subject, place.stage).unwrap_or_default();
            known.extend(names.iter().map(|(name, _)| name.join(".")));
            let is_ours =
                |name: &str| !place.keeps(name) && (!postgres.columns.are_given || known.contains(name));
            let nothing = Values::new();
            let there = if let Held::Rows(rows) = &seen { rows } else { &nothing };
            let changes = row_changes(there, &ours, is_ours);
            (!changes.is_empty()).then_some(Load::Rows(changes))
        }
        OutletKind::Process { .. } => return Err("a process is only looked at".to_owned()),
    };
    Ok((seen, content))
}

fn text_of(kept: &Kept) -> Result<&Zeroizing<String>, String> {
    kept.expose().ok_or_else(|| "its secrets are not readable here".to_owned())
}

/// The files that are to be written, and those that go.
fn files(bringing: &Bringing<'_>, seen: &Held) -> Result<Option<Load>, String> {
    let there = |path: &String| match seen {
        Held::Files(files) => files.get(path).and_then(|text| text.as_ref().ok()),
        _ => None,
    };
    let (mut files, mut differs) = (Vec::new(), false);
    for (path, kept) in &bringing.content.files {
        let text = text_of(kept)?;
        differs |= there(path) != Some(text);
        files.push(NewFile { path: path.clone(), text: text.clone(), secret: kept.is_secret() });
    }
    let before = bringing.before.into_iter().flat_map(|before| before.files.keys());
    let gone: Vec<String> =
        before.filter(|path| !bringing.content.files.contains_key(*path)).cloned().collect();
    differs |= gone.iter().any(|path| there(path).is_some());
    Ok(differs.then_some(Load::Files(files, gone)))
}

/// The document that is to be there, if another one is; none at all where `text` is none.
fn document(
    place: &Place<'_>,
    text: Option<&Zeroizing<String>>,
    seen: &Held,
) -> Result<Option<Load>, String> {
    let read = |text: &str| existing::read(text, OutputFormat::Json, Particulars::default());
    let ours = text.map(|text| read(text).map(|found| found.tree)).transpose();
    let ours = ours.map_err(|error| error.to_string())?.unwrap_or_default();
    let (there, is_there) = match seen {
        Held::Document(text, _) => (read(text).map(|found| found.tree), true),
        _ => (Ok(Tree::default()), false),
    };
    let keeps_something = place.outlet.is_some_and(|outlet| !outlet.keep.is_empty());
    let tree = match &there {
        Ok(there) => merged(there, ours, |name| place.keeps(name)),
        Err(error) if keeps_something => {
            return Err(format!("what is there cannot be read, and names in it are to be kept: {error}"));
        }
        Err(_) => ours,
    };
    // Without anything of ours and of theirs there is to be none at all.
    if text.is_none() && tree.0.is_empty() {
        return Ok(is_there.then_some(Load::NoDocument));
    }
    if is_there && there.is_ok_and(|there| there == tree) {
        return Ok(None);
    }
    let json = format(OutputFormat::Json, Particulars::default());
    let made = json.map(|json| json.write(&tree)).transpose().map_err(|error| error.to_string())?;
    Ok(Some(Load::Document(Zeroizing::new(made.unwrap_or_default()))))
}

/// Rows as they are stored: a JSON object of texts.
fn values(rows: Option<&Kept>) -> Result<Values, String> {
    let Some(rows) = rows else { return Ok(Values::new()) };
    let rows: BTreeMap<String, String> =
        serde_json::from_str(text_of(rows)?).map_err(|error| error.to_string())?;
    Ok(rows.into_iter().map(|(name, text)| (name, Zeroizing::new(text))).collect())
}
