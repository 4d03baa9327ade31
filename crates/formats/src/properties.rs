//! Java properties, as `java.util.Properties` reads them from bytes or from characters: everything
//! beyond ASCII is written as `\uHHHH`, so that both see the same.

use std::fmt::Write as _;

use cledger_core::value::Value;
use compact_str::CompactString;

use crate::{Format, Found, Order, ReadError, Tree, WriteError, start};

pub(crate) struct Properties;

impl Format for Properties {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        let mut text = String::new();
        for (name, value) in order.sorted(&[], &tree.0) {
            escape(&mut text, name, true);
            text.push('=');
            escape(&mut text, &value.to_text(), false);
            text.push('\n');
        }
        Ok(text)
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let mut found = Found::default();
        for (line, logical) in logical_lines(start(text)?) {
            let (name, value) = split(&logical);
            let wrong = |reason: String| ReadError { line, reason };
            let name = unescape(name).map_err(wrong)?;
            let value = unescape(value).map_err(wrong)?;
            found.add(&name, Value::Text(value), line)?;
        }
        Ok(found)
    }
}

/// A text as a value of a properties file.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    escape(&mut out, text, false);
    out
}

fn escape(out: &mut String, text: &str, is_name: bool) {
    let mut leading = true;
    for c in text.chars() {
        match c {
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            '\u{c}' => out.push_str("\\f"),
            // A blank ends a name, and leading ones of a value are dropped by readers.
            ' ' if is_name || leading => out.push_str("\\ "),
            '=' | ':' | '#' | '!' if is_name || leading => {
                out.push('\\');
                out.push(c);
            }
            ' '..='~' => out.push(c),
            _ => {
                for unit in c.encode_utf16(&mut [0; 2]) {
                    // Writing to a string cannot fail.
                    let _ = write!(out, "\\u{unit:04x}");
                }
            }
        }
        leading &= c == ' ';
    }
}

/// Lines without comments and blank ones, continued ones joined, each with the number of its first.
fn logical_lines(text: &str) -> Vec<(usize, String)> {
    let mut lines: Vec<(usize, String)> = Vec::new();
    let mut continues = false;
    let text = text.replace("\r\n", "\n").replace('\r', "\n");
    for (at, raw) in text.split('\n').enumerate() {
        let line = raw.trim_start_matches([' ', '\t', '\u{c}']);
        let ends_open = line.bytes().rev().take_while(|&b| b == b'\\').count() % 2 == 1;
        let content = if ends_open { &line[..line.len() - 1] } else { line };
        match lines.last_mut() {
            Some((_, logical)) if continues => logical.push_str(content),
            _ if line.is_empty() || line.starts_with(['#', '!']) => continue,
            _ => lines.push((at + 1, content.to_owned())),
        }
        continues = ends_open;
    }
    lines
}

/// The name and value of a logical line, escapes still in them.
fn split(line: &str) -> (&str, &str) {
    let mut escaped = false;
    let end = line
        .char_indices()
        .find(|&(_, c)| {
            let ends = !escaped && matches!(c, '=' | ':' | ' ' | '\t' | '\u{c}');
            escaped = !escaped && c == '\\';
            ends
        })
        .map_or(line.len(), |(at, _)| at);
    let (name, rest) = line.split_at(end);
    let blank = [' ', '\t', '\u{c}'];
    let rest = rest.trim_start_matches(blank);
    let rest = rest.strip_prefix(['=', ':']).unwrap_or(rest);
    (name, rest.trim_start_matches(blank))
}

fn unescape(text: &str) -> Result<CompactString, String> {
    let mut units: Vec<u16> = Vec::with_capacity(text.len());
    let mut rest = text.chars();
    while let Some(c) = rest.next() {
        if c != '\\' {
            units.extend_from_slice(c.encode_utf16(&mut [0; 2]));
            continue;
        }
        match rest.next() {
            Some('u') => {
                let digits: String = rest.by_ref().take(4).collect();
                let whole = digits.len() == 4 && digits.bytes().all(|b| b.is_ascii_hexdigit());
                let unit = u16::from_str_radix(&digits, 16).ok().filter(|_| whole);
                units.push(unit.ok_or("`\\u` needs four hexadecimal digits")?);
            }
            Some('n') => units.push(0x0a),
            Some('r') => units.push(0x0d),
            Some('t') => units.push(0x09),
            Some('f') => units.push(0x0c),
            Some(other) => units.extend_from_slice(other.encode_utf16(&mut [0; 2])),
            None => {}
        }
    }
    let text = String::from_utf16(&units).map_err(|_| "half of a surrogate pair stands alone")?;
    Ok(text.into())
}
