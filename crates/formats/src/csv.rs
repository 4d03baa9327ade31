//! The rows of a lookup table as CSV (RFC 4180): a line of columns, then the rows in the order of
//! their keys. Lines end with a line feed alone, as most readers prefer.

use cledger_core::model::OutputTable;
use cledger_core::value::Value;
use csv::{ReaderBuilder, StringRecord, WriterBuilder};

use crate::{Branch, Format, Found, Order, ReadError, Tree, WriteError, start};

pub(crate) struct Csv<'t> {
    /// The table; without one, a file has no rows.
    pub(crate) table: Option<&'t OutputTable>,
}

impl Format for Csv<'_> {
    fn write_in(&self, _: &Order, tree: &Tree) -> Result<String, WriteError> {
        let Some(table) = self.table else { return Ok(String::new()) };
        let wrong = |reason: String| WriteError { name: table.entry.to_string(), reason };
        let mut writer = WriterBuilder::new().from_writer(Vec::new());
        writer.write_record(&table.columns).map_err(|error| wrong(error.to_string()))?;
        let rows = match tree.0.get(table.entry.as_str()) {
            Some(Value::Map(rows)) => Some(rows.values()),
            _ => None,
        };
        for row in rows.into_iter().flatten() {
            let Value::Map(cells) = row else { continue };
            let cell = |column: &String| cells.get(column.as_str()).map(Value::to_text).unwrap_or_default();
            let record: Vec<_> = table.columns.iter().map(cell).collect();
            writer
                .write_record(record.iter().map(compact_str::CompactString::as_bytes))
                .map_err(|error| wrong(error.to_string()))?;
        }
        let bytes = writer.into_inner().map_err(|error| wrong(error.to_string()))?;
        String::from_utf8(bytes).map_err(|error| wrong(error.to_string()))
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let Some(table) = self.table else { return Ok(Found::default()) };
        let text = start(text)?;
        let mut reader = ReaderBuilder::new().has_headers(false).flexible(true).from_reader(text.as_bytes());
        let (mut rows, mut heads) = (Branch::new(), None::<StringRecord>);
        for record in reader.records() {
            let record = record.map_err(|error| ReadError { line: 1, reason: error.to_string() })?;
            let line = record.position().map_or(1, |at| usize::try_from(at.line()).unwrap_or(1));
            let wrong = |reason: String| ReadError { line, reason };
            let Some(heads) = &heads else {
                if !record.iter().any(|head| head == table.key) {
                    return Err(wrong(format!("there is no column `{}`", table.key)));
                }
                heads = Some(record);
                continue;
            };
            if record.len() != heads.len() {
                let reason = format!("this row has {} of {} cells", record.len(), heads.len());
                return Err(wrong(reason));
            }
            let cells: Branch =
                heads.iter().zip(&record).map(|(head, cell)| (head.into(), Value::text(cell))).collect();
            let key = cells.get(table.key.as_str()).map(Value::to_text).unwrap_or_default();
            if rows.insert(key, Value::Map(cells)).is_some() {
                return Err(wrong("the key of this row is another's, too".to_owned()));
            }
        }
        // No rows are no table: the file of one that is absent looks like that.
        let mut found = Found::default();
        if !rows.is_empty() {
            found.add(table.entry.as_str(), Value::Map(rows), 1)?;
        }
        Ok(found)
    }
}
