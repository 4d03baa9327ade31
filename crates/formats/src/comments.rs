//! Comments in files that are written: a header, and a note above each value.

use std::collections::BTreeMap;

use cledger_core::model::OutputFormat;

use crate::{Particulars, ReadError, format};

/// A text as comment lines of a format that has comments.
fn comment(this: OutputFormat, indent: &str, text: &str) -> String {
    let line = |line: &str| match this {
        // A comment of XML holds no `--`.
        OutputFormat::Xml => format!("{indent}<!-- {} -->\n", line.replace("--", "- -").replace("--", "- -")),
        _ => format!("{indent}{}\n", format!("# {line}").trim_end()),
    };
    text.lines().map(line).collect()
}

/// A file's text with a header above it, as a comment.
pub fn with_header(this: OutputFormat, header: &str, text: &str) -> String {
    let header = comment(this, "", header);
    // The declaration of an XML file must come first.
    match text.strip_prefix("<?xml").and_then(|rest| rest.split_once('\n')) {
        Some((declaration, rest)) => format!("<?xml{declaration}\n{header}{rest}"),
        None => format!("{header}{text}"),
    }
}

/// A file's text with a note above the line of each value that has one, by the steps of its name;
/// `None` where the format has no comments.
pub fn annotate(
    this: OutputFormat,
    particulars: Particulars<'_>,
    text: &str,
    notes: &BTreeMap<Vec<String>, String>,
) -> Result<Option<String>, ReadError> {
    let Some(reader) = format(this, particulars).filter(|_| this.has_comments()) else { return Ok(None) };
    let found = reader.read(text)?;
    let mut by_line: BTreeMap<usize, Vec<&str>> = BTreeMap::new();
    for (name, note) in notes {
        if let Some(line) = found.line_of(name) {
            by_line.entry(line).or_default().push(note);
        }
    }
    let mut annotated = String::with_capacity(text.len() * 2);
    for (number, line) in (1..).zip(text.split_inclusive('\n')) {
        let indent = &line[..line.len() - line.trim_start_matches(' ').len()];
        for note in by_line.get(&number).into_iter().flatten() {
            annotated.push_str(&comment(this, indent, note));
        }
        annotated.push_str(line);
    }
    Ok(Some(annotated))
}
