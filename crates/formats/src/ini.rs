//! INI: `name = value` lines in sections, as Python's `configparser` reads them without interpolation
//! and with names kept as they are. Nothing is quoted or escaped: every text stands for itself.
//!
//! Names without a section come first. Most readers take them; Python's needs
//! `allow_unnamed_section` (3.13), or the output a `prefix`.

use cledger_core::value::Value;

use crate::{Format, Found, Order, ReadError, Tree, WriteError, start};

pub(crate) struct Ini;

impl Format for Ini {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        let (mut text, mut sections) = (String::new(), String::new());
        for (name, value) in order.sorted(&[], &tree.0) {
            match value {
                Value::Map(level) => {
                    let unfit = |c: char| c == ']' || c.is_control();
                    if name.is_empty() || name.contains(unfit) || name == "DEFAULT" || is_padded(name) {
                        let reason = "cannot be the name of a section".to_owned();
                        return Err(WriteError { name: name.to_string(), reason });
                    }
                    let between = if sections.is_empty() { "" } else { "\n" };
                    sections.push_str(&format!("{between}[{name}]\n"));
                    for (below, value) in order.sorted(&[name], level) {
                        line(&mut sections, &format!("{name}.{below}"), below, value)?;
                    }
                }
                _ => line(&mut text, name, name, value)?,
            }
        }
        if !text.is_empty() && !sections.is_empty() {
            text.push('\n');
        }
        Ok(text + &sections)
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let mut found = Found::default();
        let mut section: Option<&str> = None;
        // The name, line and value that are being read: lines that are indented go on with it.
        let mut open: Option<(&str, usize, String)> = None;
        let mut close = |open: &mut Option<(&str, usize, String)>, section: Option<&str>| match open.take() {
            None => Ok(()),
            Some((name, line, value)) => {
                let value = Value::text(value.trim_end());
                match section {
                    None => found.add(name, value, line),
                    Some(section) => found.add_below(section, name, value, line),
                }
            }
        };
        for (at, content) in (1..).zip(start(text)?.lines()) {
            let wrong = |reason: &str| Err(ReadError { line: at, reason: reason.to_owned() });
            let bare = content.trim();
            if bare.is_empty() || bare.starts_with(['#', ';']) {
                continue;
            }
            if content.starts_with([' ', '\t'])
                && let Some((_, _, value)) = &mut open
            {
                value.push('\n');
                value.push_str(bare);
                continue;
            }
            close(&mut open, section)?;
            if let Some(rest) = bare.strip_prefix('[') {
                let Some(name) = rest.strip_suffix(']').filter(|name| !name.is_empty()) else {
                    return wrong("a section is [NAME], alone in its line");
                };
                section = Some(name);
                continue;
            }
            let Some((name, value)) = bare.split_once(['=', ':']).filter(|(name, _)| !name.trim().is_empty())
            else {
                return wrong("this is neither [SECTION] nor name = value");
            };
            open = Some((name.trim_end(), at, value.trim().to_owned()));
        }
        close(&mut open, section)?;
        Ok(found)
    }
}

/// What readers take for blanks, Python's own among them.
fn is_blank(c: char) -> bool {
    c.is_whitespace() || ('\u{1c}'..='\u{1f}').contains(&c)
}

fn is_padded(text: &str) -> bool {
    text.starts_with(is_blank) || text.ends_with(is_blank)
}

fn line(out: &mut String, whole: &str, name: &str, value: &Value) -> Result<(), WriteError> {
    let value = value.to_text();
    let wrong = |reason: &str| Err(WriteError { name: whole.to_owned(), reason: reason.to_owned() });
    let unfit = |c: char| matches!(c, '=' | ':') || c.is_control();
    if name.is_empty()
        || name.starts_with(['[', '#', ';', '\u{feff}'])
        || name.contains(unfit)
        || is_padded(name)
    {
        return wrong("cannot be a name in an INI file");
    }
    if value.contains(['\n', '\r', '\0']) {
        return wrong("has a line end or NUL in its value, which an INI file cannot hold");
    }
    if is_padded(&value) {
        return wrong("begins or ends with a blank, which readers of INI files drop");
    }
    out.push_str(&format!("{name} = {value}"));
    let written = out.trim_end_matches(' ').len();
    out.truncate(written);
    out.push('\n');
    Ok(())
}
