//! Cells of a CSV file (RFC 4180) in place.

use csv::{ReaderBuilder, StringRecord, Terminator, WriterBuilder};

/// The text of a CSV file with other cells; `change` gives the new text of a cell by the key of its row and its column.
/// Rows in
/// which none changes stay as they are, byte for byte; so does everything from a mistake on.
pub fn with_cells(text: &str, key: &str, change: &dyn Fn(&str, &str, &str) -> String) -> String {
    let start = text.len() - text.trim_start_matches('\u{feff}').len();
    let mut reader =
        ReaderBuilder::new().has_headers(false).flexible(true).from_reader(&text.as_bytes()[start..]);
    let (mut made, mut done) = (text[..start].to_owned(), start);
    let (mut heads, mut record) = (None::<StringRecord>, StringRecord::new());
    while reader.read_record(&mut record).is_ok_and(|more| more) {
        let offset = |at: &csv::Position| start + usize::try_from(at.byte()).unwrap_or_default();
        let Some(heads) = &heads else {
            heads = Some(record.clone());
            continue;
        };
        let row = heads.iter().position(|head| head == key).and_then(|at| record.get(at)).unwrap_or_default();
        let new: StringRecord = record
            .iter()
            .enumerate()
            .map(|(at, cell)| change(row, heads.get(at).unwrap_or_default(), cell))
            .collect();
        if new == record {
            continue;
        }
        let (from, to) = (record.position().map_or(done, offset), offset(reader.position()));
        let row = text[from..to].trim_matches(['\r', '\n']);
        let from = from + text[from..to].find(row).unwrap_or_default();
        made.push_str(&text[done..from]);
        made.push_str(&line(&new).unwrap_or_else(|| row.to_owned()));
        done = from + row.len();
    }
    made.push_str(&text[done..]);
    made
}

/// A row without its line end.
fn line(record: &StringRecord) -> Option<String> {
    let mut writer = WriterBuilder::new().terminator(Terminator::Any(b'\n')).from_writer(Vec::new());
    writer.write_record(record).ok()?;
    let mut line = String::from_utf8(writer.into_inner().ok()?).ok()?;
    line.pop();
    Some(line)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_rows_with_a_changed_cell_change() {
        let text = "\u{feff}a,b\r\n\"x\",one\r\n\r\ny,\"one, \"\"two\"\"\"\r\nz,\"q\nr\"";
        let swapped = |from: &'static str, to: &'static str| {
            with_cells(text, "a", &move |_, column, cell| {
                if column == "b" { cell.replace(from, to) } else { cell.to_owned() }
            })
        };
        assert_eq!(swapped("x", "w"), text);
        assert_eq!(swapped("one", "1"), "\u{feff}a,b\r\nx,1\r\n\r\ny,\"1, \"\"two\"\"\"\r\nz,\"q\nr\"");
        assert_eq!(swapped("\nr", ""), "\u{feff}a,b\r\n\"x\",one\r\n\r\ny,\"one, \"\"two\"\"\"\r\nz,q");
    }
}
