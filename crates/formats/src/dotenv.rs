//! dotenv: `NAME=value` lines, quoted so that a POSIX shell (`set -a; . ./file`), Node
//! (`--env-file`) and Python's dotenv readers agree on every value.
//!
//! Text is written bare where no reader could misread it, else in single quotes; where it has a
//! single quote itself, in double quotes. The readers share no way to escape anything, so that some
//! values cannot be held: they are refused, and the `shell` format holds them for shells.

use compact_str::CompactString;

use crate::assignments::{self, Reader};
use crate::{Format, Found, Order, ReadError, Tree, WriteError};

pub(crate) struct Dotenv;

impl Format for Dotenv {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        assignments::write((order, tree), |line, name, value| {
            refuse(value)?;
            line.push_str(name);
            line.push('=');
            let bare = |c: char| c.is_ascii_alphanumeric() || "_-.,:/@%+".contains(c);
            let quote = match () {
                () if !value.is_empty() && value.chars().all(bare) => "",
                () if value.contains('\'') => "\"",
                () => "'",
            };
            line.extend([quote, value, quote]);
            Ok(())
        })
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        assignments::read(text, value)
    }
}

/// Refuses what one of the readers would get otherwise than the others.
fn refuse(value: &str) -> Result<(), &'static str> {
    if value.contains('\r') {
        Err("has a carriage return in its value, which some readers of dotenv files drop")
    } else if value.contains("${") {
        Err("has `${` in its value, which some readers of dotenv files replace; format = \"shell\" holds it")
    } else if value.contains('\'') && value.contains(['"', '\\', '$', '`']) {
        Err(
            "has a single quote beside one of \" \\ $ ` in its value, which readers of dotenv files unquote in different ways; format = \"shell\" holds it",
        )
    } else if value.contains("\\\\") || value.ends_with('\\') {
        Err(
            "has two backslashes or one at its end, which readers of dotenv files unquote in different ways; format = \"shell\" holds it",
        )
    } else {
        Ok(())
    }
}

/// The value that follows, up to the end of its line. Without quotes, it ends before ` #`.
fn value(reader: &mut Reader<'_>) -> Result<CompactString, ReadError> {
    let mut value = CompactString::default();
    let mut quoted = false;
    reader.rest = reader.rest.trim_start_matches([' ', '\t']);
    loop {
        match reader.rest.chars().next() {
            None | Some('\n') => {
                reader.take();
                break;
            }
            Some('#') if value.is_empty() && !quoted || value.ends_with([' ', '\t']) => {
                reader.skip_line();
                break;
            }
            Some(quote @ ('\'' | '"')) if value.is_empty() || quoted => {
                reader.take();
                quoted = true;
                until_quote(reader, quote, &mut value)?;
                let after = reader.rest.trim_start_matches([' ', '\t', '\r']);
                if after.is_empty() || after.starts_with(['\n', '#']) {
                    reader.skip_line();
                    return Ok(value);
                }
            }
            Some('\\') => {
                let reason = "readers differ about a backslash outside of quotes: put the value in '…'";
                return Err(ReadError { line: reader.line, reason: reason.to_owned() });
            }
            Some(_) => value.extend(reader.take()),
        }
    }
    Ok(value.trim_end_matches([' ', '\t', '\r']).into())
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
            Some('\\') if quote == '"' => match reader.take() {
                Some('n') => value.push('\n'),
                Some(c @ ('"' | '\\' | '$' | '`')) => value.push(c),
                Some('\n') | None => {}
                Some(c) => value.extend(['\\', c]),
            },
            Some(c) => value.push(c),
        }
    }
}
