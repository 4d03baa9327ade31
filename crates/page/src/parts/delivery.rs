//! One delivery, with what came.

use cledger_core::address::Address;
use cledger_core::kept::Kept;
use cledger_work::deliver::history::recorded;
use cledger_work::shown::{MASK, Tone, UNREADABLE, minute, one_line};
use cledger_work::{Opened, Trouble};

use crate::model::{Block, Cell, Row, Section, Table};

/// The delivery of an address, as it was recorded.
pub(super) fn section(opened: &Opened, address: &Address) -> Result<Section, Trouble> {
    let recorded = recorded(opened, address)?;
    let meta = &recorded.record.meta;
    let name = format!("{}@{}:{}", meta.unit, meta.stage, meta.number);
    let said = format!("{} of {} by {}: {}", meta.kind.words(), minute(&meta.time), meta.who, meta.why);
    let row = |(field, kept): (&String, &Kept)| {
        let value = if !kept.is_readable() {
            Cell::toned(UNREADABLE, Tone::Quiet)
        } else if kept.is_secret() {
            Cell::plain(MASK)
        } else {
            Cell::plain(kept.value().map(|value| one_line(value.expose())).unwrap_or_default())
        };
        Row { id: field.clone(), cells: vec![Cell::plain(field), value], differs: false, lacks: false }
    };
    let heads = vec!["field".to_owned(), "value".to_owned()];
    let rows = recorded.content.values.iter().map(row).collect();
    let blocks =
        vec![Block::Text(said, Tone::Plain), Block::Table(Table { title: None, heads, rows, folded: false })];
    Ok(Section { id: "delivery".to_owned(), title: name, blocks })
}
