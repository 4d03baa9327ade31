//! What reaches a terminal: nothing that moves the cursor, changes colours or order, or hides text, wherever it
//! comes from. All output goes through here.
//!
//! A ledger's texts, file names, what outlets and programs say: any of it may hold control characters. They are
//! shown as what they are, `\u{1b}`. Only line ends and the few colours of our own pass.

use std::borrow::Cow;

pub(crate) use cledger_work::shown::{escape, is_hidden};

/// The colours that we use, as they stand between `ESC [` and `m` (ECMA-48, 8.3.117).
const COLORS: [&str; 16] = [
    "", "0", "1", "31", "32", "33", "34", "36", "38;5;1", "38;5;136", "38;5;2", "38;5;8", "39", "90", "92",
    "94",
];

/// Output of several lines with everything escaped that is neither a line end nor one of our colours.
pub(crate) fn clean(text: &str) -> Cow<'_, str> {
    let is_plain = |byte: u8| matches!(byte, b' '..=b'~' | b'\n');
    if text.bytes().all(is_plain) || !text.contains(|c| is_hidden(c) && c != '\n') {
        return Cow::Borrowed(text);
    }
    let mut cleaned = String::with_capacity(text.len() + 16);
    let mut rest = text;
    while let Some((at, c)) = rest.char_indices().find(|&(_, c)| is_hidden(c) && c != '\n') {
        cleaned.push_str(&rest[..at]);
        rest = &rest[at..];
        let color = rest.strip_prefix("\u{1b}[").and_then(|behind| {
            let color = COLORS
                .iter()
                .find(|color| behind.strip_prefix(**color).is_some_and(|behind| behind.starts_with('m')));
            color.map(|color| "\u{1b}[".len() + color.len() + 1)
        });
        match color {
            Some(length) => cleaned.push_str(&rest[..length]),
            None => cleaned.extend(c.escape_default()),
        }
        rest = &rest[color.unwrap_or(c.len_utf8())..];
    }
    cleaned.push_str(rest);
    Cow::Owned(cleaned)
}

/// Output that is clean already, made beside other output.
pub(crate) struct Cleaned(String);

impl Cleaned {
    /// Cleans a text.
    pub(crate) fn of(text: &str) -> Self {
        Self(clean(text).into_owned())
    }

    /// The text.
    pub(crate) fn as_str(&self) -> &str {
        &self.0
    }
}

/// A JSON document in which such characters are escaped as JSON has it (RFC 8259, section 7): they can only
/// stand inside its texts.
pub(crate) fn json(document: String) -> String {
    if !document.contains(is_hidden) {
        return document;
    }
    let mut escaped = String::with_capacity(document.len() + 16);
    for c in document.chars() {
        if is_hidden(c) {
            let mut pair = [0; 2];
            for unit in c.encode_utf16(&mut pair) {
                escaped.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            escaped.push(c);
        }
    }
    escaped
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_but_line_ends_and_our_colours_passes() {
        for (text, expected) in [
            ("plain\nü 水", "plain\nü 水"),
            ("\u{1b}[31mbad\u{1b}[0m", "\u{1b}[31mbad\u{1b}[0m"),
            ("\u{1b}[7mx", "\\u{1b}[7mx"),
            ("\u{1b}[2J\u{1b}]0;title\u{7}", "\\u{1b}[2J\\u{1b}]0;title\\u{7}"),
            ("a\rb\tc\u{8}", "a\\rb\\tc\\u{8}"),
            ("\u{9b}31m", "\\u{9b}31m"),
            ("adm\u{202e}nimda", "adm\\u{202e}nimda"),
            ("a\u{200b}b\u{2066}c", "a\\u{200b}b\\u{2066}c"),
        ] {
            assert_eq!(clean(text), expected);
        }
        assert_eq!(escape("a\n\u{1b}[31m"), "a\\n\\u{1b}[31m");
        assert_eq!(
            json("{\"a\":\"\u{202e}\u{7f}\u{e0041}\"}".to_owned()),
            r#"{"a":"\u202e\u007f\udb40\udc41"}"#
        );
    }
}
