//! dotenv: `NAME=value` lines, quoted as a POSIX shell reads them (`set -a; . ./file`).
//!
//! Text is written bare where no reader could misread it, else in single quotes, within which a
//! shell changes nothing; where the text has a single quote itself, in double quotes.

use cledger_core::value::Value;
use compact_str::CompactString;

use crate::{Branch, Format, ReadError, Tree, WriteError};

pub(crate) struct Dotenv;

impl Format for Dotenv {
    fn is_flat(&self) -> bool {
        true
    }

    fn write(&self, tree: &Tree) -> Result<String, WriteError> {
        let mut text = String::new();
        for (name, value) in &tree.0 {
            let wrong = |reason: &str| WriteError { name: name.to_string(), reason: reason.to_owned() };
            if !is_variable(name) {
                return Err(wrong("is no name that a shell can read: letters, digits and `_` make one"));
            }
            let value = value.to_text();
            if value.contains('\0') {
                return Err(wrong("has a NUL in its value, which no environment variable can hold"));
            }
            text.push_str(name);
            text.push('=');
            quote(&mut text, &value);
            text.push('\n');
        }
        Ok(text)
    }

    fn read(&self, text: &str) -> Result<Tree, ReadError> {
        let mut branch = Branch::new();
        let text = text.trim_start_matches('\u{feff}');
        let mut lines = Lines { rest: text, line: 1 };
        while let Some((line, name, value)) = lines.next_pair()? {
            if branch.insert(name.clone(), Value::Text(value)).is_some() {
                return Err(ReadError { line, reason: format!("the name `{name}` is there twice") });
            }
        }
        Ok(Tree(branch))
    }
}

fn is_variable(name: &str) -> bool {
    !name.starts_with(|c: char| c.is_ascii_digit())
        && !name.is_empty()
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}

fn quote(out: &mut String, value: &str) {
    let bare = |c: char| c.is_ascii_alphanumeric() || "_-.,:/@%+".contains(c);
    if !value.is_empty() && value.chars().all(bare) {
        out.push_str(value);
    } else if value.contains('\'') {
        out.push('"');
        for c in value.chars() {
            if matches!(c, '"' | '\\' | '$' | '`') {
                out.push('\\');
            }
            out.push(c);
        }
        out.push('"');
    } else {
        out.push('\'');
        out.push_str(value);
        out.push('\'');
    }
}

struct Lines<'t> {
    rest: &'t str,
    line: usize,
}

impl Lines<'_> {
    fn wrong(&self, reason: &str) -> ReadError {
        ReadError { line: self.line, reason: reason.to_owned() }
    }

    fn take(&mut self) -> Option<char> {
        let c = self.rest.chars().next()?;
        self.rest = &self.rest[c.len_utf8()..];
        self.line += usize::from(c == '\n');
        Some(c)
    }

    fn skip_line(&mut self) {
        while let Some(c) = self.take() {
            if c == '\n' {
                break;
            }
        }
    }

    /// The next name and value, and the line that the name is in.
    fn next_pair(&mut self) -> Result<Option<(usize, CompactString, CompactString)>, ReadError> {
        loop {
            self.rest = self.rest.trim_start_matches([' ', '\t', '\r']);
            match self.rest.chars().next() {
                None => return Ok(None),
                Some('\n' | '#') => self.skip_line(),
                Some(_) => break,
            }
        }
        let line = self.line;
        if let Some(after) = self.rest.strip_prefix("export ") {
            self.rest = after.trim_start();
        }
        let end = self.rest.find(['=', '\n']).unwrap_or(self.rest.len());
        let (name, after) = self.rest.split_at(end);
        let Some(after) = after.strip_prefix('=').filter(|_| is_variable(name)) else {
            return Err(self.wrong("this is not NAME=value"));
        };
        self.rest = after;
        let value = self.value()?;
        Ok(Some((line, name.into(), value)))
    }

    fn value(&mut self) -> Result<CompactString, ReadError> {
        let mut value = CompactString::default();
        loop {
            match self.take() {
                None | Some('\n') => return Ok(value),
                Some('\r') if self.rest.is_empty() || self.rest.starts_with('\n') => {}
                Some(' ' | '\t') => {
                    self.rest = self.rest.trim_start_matches([' ', '\t', '\r']);
                    if self.rest.is_empty() || self.rest.starts_with(['\n', '#']) {
                        self.skip_line();
                        return Ok(value);
                    }
                    return Err(self.wrong("a value with blanks needs quotes"));
                }
                Some('\'') => self.until_quote('\'', &mut value)?,
                Some('"') => self.until_quote('"', &mut value)?,
                Some('\\') => match self.take() {
                    Some('\n') | None => {}
                    Some(c) => value.push(c),
                },
                Some(c) => value.push(c),
            }
        }
    }

    fn until_quote(&mut self, quote: char, value: &mut CompactString) -> Result<(), ReadError> {
        let opened = self.line;
        loop {
            match self.take() {
                None => {
                    let reason = format!("a {quote} is opened here and never closed");
                    return Err(ReadError { line: opened, reason });
                }
                Some(c) if c == quote => return Ok(()),
                Some('\\') if quote == '"' => match self.take() {
                    Some(c @ ('"' | '\\' | '$' | '`')) => value.push(c),
                    Some('\n') | None => {}
                    Some(c) => {
                        value.push('\\');
                        value.push(c);
                    }
                },
                Some(c) => value.push(c),
            }
        }
    }
}
