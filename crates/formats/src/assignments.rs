//! What all forms of `NAME=value` lines share.

use cledger_core::tree::{Order, Tree};
use cledger_core::value::Value;
use compact_str::CompactString;

use crate::{Found, ReadError, WriteError, start};

/// Whether every shell takes this as the name of a variable (POSIX.1-2017, 3.235).
pub(crate) fn is_variable(name: &str) -> bool {
    !name.starts_with(|c: char| c.is_ascii_digit())
        && !name.is_empty()
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}

/// A line for each name, as `line` writes it, or says why it cannot.
pub(crate) fn write(
    (order, tree): (&Order, &Tree),
    line: impl Fn(&mut String, &str, &CompactString) -> Result<(), &'static str>,
) -> Result<String, WriteError> {
    let mut text = String::new();
    for (name, value) in order.sorted(&[], &tree.0) {
        let wrong = |reason: &str| WriteError { name: name.to_string(), reason: reason.to_owned() };
        if !is_variable(name) {
            return Err(wrong("is no name of a variable: letters, digits and `_` make one"));
        }
        let value = value.to_text();
        if value.contains('\0') {
            return Err(wrong("has a NUL in its value, which no environment variable can hold"));
        }
        line(&mut text, name, &value).map_err(wrong)?;
        text.push('\n');
    }
    Ok(text)
}

/// What is in a text of such lines, where `value` reads what stands behind each `=`.
pub(crate) fn read(
    text: &str,
    value: impl Fn(&mut Reader<'_>) -> Result<CompactString, ReadError>,
) -> Result<Found, ReadError> {
    let mut found = Found::default();
    let mut reader = Reader::new(start(text)?);
    while let Some(name) = reader.name() {
        let (line, name) = name?;
        let value = value(&mut reader)?;
        found.add(name, Value::Text(value), line)?;
    }
    Ok(found)
}

/// Reads a text from left to right, and knows the line.
pub(crate) struct Reader<'t> {
    pub(crate) rest: &'t str,
    pub(crate) line: usize,
}

impl<'t> Reader<'t> {
    fn new(text: &'t str) -> Self {
        Self { rest: text, line: 1 }
    }

    pub(crate) fn take(&mut self) -> Option<char> {
        let c = self.rest.chars().next()?;
        self.rest = &self.rest[c.len_utf8()..];
        self.line += usize::from(c == '\n');
        Some(c)
    }

    pub(crate) fn skip_blanks(&mut self) {
        self.rest = self.rest.trim_start_matches([' ', '\t', '\r']);
    }

    pub(crate) fn skip_line(&mut self) {
        while self.take().is_some_and(|c| c != '\n') {}
    }

    /// The next name, and the line that it is in: what stands in front of `=`, after `export` if it
    /// is there. Blank lines and comments are skipped; `None` at the end.
    fn name(&mut self) -> Option<Result<(usize, &'t str), ReadError>> {
        loop {
            self.skip_blanks();
            match self.rest.chars().next()? {
                '\n' | '#' => self.skip_line(),
                _ => break,
            }
        }
        let line = self.line;
        if let Some(after) = self.rest.strip_prefix("export ") {
            self.rest = after.trim_start_matches([' ', '\t']);
        }
        let end = self.rest.find(['=', '\n']).unwrap_or(self.rest.len());
        let (name, after) = self.rest.split_at(end);
        let Some(after) = after.strip_prefix('=').filter(|_| is_variable(name)) else {
            let reason = "this is not NAME=value".to_owned();
            return Some(Err(ReadError { line, reason }));
        };
        self.rest = after;
        Some(Ok((line, name)))
    }
}
