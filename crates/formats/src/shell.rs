//! `export NAME='value'` lines for a POSIX shell (`. ./file`): every text can be held.

use compact_str::CompactString;

use crate::assignments::{self, Reader};
use crate::{Format, Found, Order, ReadError, Tree, WriteError};

pub(crate) struct Shell;

impl Format for Shell {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        assignments::write((order, tree), |line, name, value| {
            line.extend(["export ", name, "=", &quoted(value)]);
            Ok(())
        })
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        assignments::read(text, value)
    }
}

/// A text as one word of a shell, within which nothing is expanded.
pub(crate) fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// The word that follows, up to the end of its line.
fn value(reader: &mut Reader<'_>) -> Result<CompactString, ReadError> {
    let mut value = CompactString::default();
    let wrong = |line: usize, reason: &str| Err(ReadError { line, reason: reason.to_owned() });
    loop {
        match reader.take() {
            None | Some('\n') => return Ok(value),
            Some('\r') if reader.rest.is_empty() || reader.rest.starts_with('\n') => {}
            Some(' ' | '\t') => {
                reader.skip_blanks();
                if reader.rest.is_empty() || reader.rest.starts_with(['\n', '#']) {
                    reader.skip_line();
                    return Ok(value);
                }
                return wrong(reader.line, "a value with blanks needs quotes");
            }
            Some('\'') => until_quote(reader, '\'', &mut value)?,
            Some('"') => until_quote(reader, '"', &mut value)?,
            Some('\\') => match reader.take() {
                Some('\n') | None => {}
                Some(c) => value.push(c),
            },
            Some(c @ ('$' | '`')) => return computed(reader.line, c),
            Some(';' | '&' | '|' | '<' | '>' | '(' | ')') => {
                return wrong(reader.line, "this is more than NAME=value, and only that is read");
            }
            Some(c) => value.push(c),
        }
    }
}

fn computed<T>(line: usize, c: char) -> Result<T, ReadError> {
    let reason = format!("a value with {c} is worked out by the shell, and only plain ones are read");
    Err(ReadError { line, reason })
}

fn until_quote(reader: &mut Reader<'_>, quote: char, value: &mut CompactString) -> Result<(), ReadError> {
    let opened = reader.line;
    loop {
        match reader.take() {
            None => {
                let reason = format!("a {quote} is opened here and never closed");
                return Err(ReadError { line: opened, reason });
            }
            Some(c) if c == quote => return Ok(()),
            Some(c @ ('$' | '`')) if quote == '"' => return computed(reader.line, c),
            Some('\\') if quote == '"' => match reader.take() {
                Some(c @ ('"' | '\\' | '$' | '`')) => value.push(c),
                Some('\n') | None => {}
                Some(c) => value.extend(['\\', c]),
            },
            Some(c) => value.push(c),
        }
    }
}
