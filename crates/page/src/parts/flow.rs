//! How values flow into a unit in a stage, and on from it: layers, references, and who refers to it.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::Address;
use cledger_core::model::Subject;
use cledger_core::resolve::{FieldId, Layer, Resolver, Session};
use cledger_work::shown::{Tone, counted};
use cledger_work::{Opened, Trouble};

use crate::model::{Block, Cell, Flow, Row, Section, Table};

/// Fields by what they come from, or go to.
type ByEnd = BTreeMap<(u8, String), BTreeSet<String>>;

/// What flows into a unit or instance in a stage, and on from it.
pub(super) fn section(opened: &Opened, address: &Address) -> Result<Section, Trouble> {
    let Some(owner) = address.owner.as_ref().filter(|_| address.entry.is_none()) else {
        let message = format!("`{address}` is no unit in a stage");
        return Err(Trouble::usage(message).help("write flow UNIT@STAGE"));
    };
    let stage = opened.stage(address.stage.as_ref())?.stage;
    let subject = opened.subject_in(owner, stage)?;
    let (ledger, outside) = (&opened.ledger, opened.unfetched());
    let resolver = Resolver::new(ledger, &outside, &[]);
    let name = format!("{owner}@{}", ledger.stage(stage).name);
    let (mut comes, mut goes) = (ByEnd::new(), ByEnd::new());
    for other in ledger.subjects_in(stage) {
        let unit = match other {
            Subject::Unit(unit, _) => Some(unit),
            Subject::Shared => None,
        };
        let mut session = resolver.session(unit);
        for slot in ledger.slots(other).all() {
            let field = FieldId { subject: other, stage, slot };
            if other == subject {
                let said = ledger.field_name(other, slot);
                for end in ends(&mut session, field) {
                    comes.entry(end).or_default().insert(said.clone());
                }
            } else if let Some(effective) = session.outcome(field).value() {
                let through = effective.through.iter().flat_map(|through| through.iter());
                for of in through.filter(|of| (of.subject, of.stage) == (subject, stage)) {
                    let said = ledger.field_name(of.subject, of.slot);
                    goes.entry((0, ledger.owner(other).to_string())).or_default().insert(said);
                }
            }
        }
    }
    let labels = |ends: &ByEnd| -> Vec<String> {
        ends.iter().map(|((_, end), fields)| format!("{end}: {}", counted(fields.len(), "field"))).collect()
    };
    let picture = Flow {
        title: format!("What flows into {name}, and on from it"),
        comes: labels(&comes),
        center: name.clone(),
        goes: labels(&goes),
    };
    let rows = [(comes, "comes from"), (goes, "goes to")].into_iter().flat_map(|(ends, word)| {
        ends.into_iter().map(move |((_, end), fields)| {
            let fields = Vec::from_iter(fields).join(", ");
            let cells = vec![Cell::plain(&end), Cell::toned(word, Tone::Quiet), Cell::plain(fields)];
            Row { id: format!("{word}-{end}"), cells, differs: false, lacks: false }
        })
    });
    let heads = ["what", "", "fields"].map(str::to_owned).into();
    let table = Table { title: None, heads, rows: rows.collect(), folded: false };
    let blocks = vec![Block::Flow(picture), Block::Table(table)];
    Ok(Section { id: "flow".to_owned(), title: format!("How values flow: {name}"), blocks })
}

/// What a field of a unit has its value from: a layer, and what its text refers to.
fn ends(session: &mut Session<'_, '_>, field: FieldId) -> Vec<(u8, String)> {
    let ledger = session.ledger();
    let outcome = session.outcome(field);
    let Some(effective) = outcome.value() else { return Vec::new() };
    let layer = match effective.origin.layer {
        Layer::Stage(stage) => (0, format!("stage {}", ledger.stage(stage).name)),
        Layer::Group(group) => (1, format!("group {}", ledger.group(group).name)),
        Layer::Follow(stage) => (2, format!("followed {}", ledger.stage(stage).name)),
        Layer::Default => (3, "defaults".to_owned()),
        Layer::Derived => (4, "its own fields".to_owned()),
        Layer::Run => (0, "--assume".to_owned()),
    };
    let through = effective.through.iter().flat_map(|through| through.iter());
    let others = through.filter(|of| (of.subject, of.stage) != (field.subject, field.stage)).map(|of| {
        let stage =
            if of.stage == field.stage { String::new() } else { format!("@{}", ledger.stage(of.stage).name) };
        (5, format!("{}{stage}", ledger.owner(of.subject)))
    });
    std::iter::once(layer).chain(others).collect()
}
