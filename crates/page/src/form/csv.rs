//! Pages as comma-separated values (RFC 4180): one table.

use crate::model::{Block, Page, Table};

/// A page cannot be one table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NotOneTable {
    /// How many it has.
    pub tables: usize,
}

/// The one table of a page.
pub fn csv(page: &Page) -> Result<String, NotOneTable> {
    let blocks = page.sections.iter().flat_map(|section| &section.blocks);
    let tables: Vec<&Table> = blocks
        .filter_map(|block| match block {
            Block::Table(table) => Some(table),
            _ => None,
        })
        .collect();
    let [table] = tables[..] else { return Err(NotOneTable { tables: tables.len() }) };
    let mut writer = csv::Writer::from_writer(Vec::new());
    // It writes to memory, and all records have one length.
    let mut write = |cells: Vec<&str>| writer.write_record(cells).is_ok();
    write(table.heads.iter().map(String::as_str).collect());
    for row in &table.rows {
        write(row.cells.iter().map(|cell| cell.text.as_str()).collect());
    }
    Ok(String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default())
}
