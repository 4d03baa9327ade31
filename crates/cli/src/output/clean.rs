//! What reaches a terminal: nothing that moves the cursor, changes colours or order, or hides text, wherever it
//! comes from. All output goes through here.
//!
//! A ledger's texts, file names, what outlets and programs say: any of it may hold control characters. They are
//! shown as what they are, `\u{1b}`. Only line ends and the few colours of our own pass.

use std::borrow::Cow;

pub(crate) use cledger_work::shown::{escape, is_hidden};

/// How a colour begins.
const BEGIN: &str = "\u{1b}[";

/// The last character of ASCII, a control character.
const DELETE: u8 = 0x7f;

/// The colours that we use, as they stand between `ESC [` and `m` (ECMA-48, 8.3.117).
const COLORS: [&str; 16] = [
    "", "0", "1", "31", "32", "33", "34", "36", "38;5;1", "38;5;136", "38;5;2", "38;5;8", "39", "90", "92",
    "94",
];

/// Output of several lines with everything escaped that is neither a line end nor one of our colours.
pub(crate) fn clean(text: &str) -> Cow<'_, str> {
    let is_plain = |byte: u8| matches!(byte, b' '..=b'~' | b'\n');
    let mut cleaned = String::new();
    // From the first of these on nothing is in `cleaned` yet; up to the second everything was looked at.
    let (mut from, mut at) = (0, 0);
    while let Some(next) = text.as_bytes()[at..].iter().position(|&byte| !is_plain(byte)) {
        at += next;
        let rest = &text[at..];
        let Some(c) = rest.chars().next() else { break };
        if !is_hidden(c) {
            at += c.len_utf8();
        } else if let Some(length) = our_color(rest) {
            at += length;
        } else {
            cleaned.push_str(&text[from..at]);
            cleaned.extend(c.escape_default());
            at += c.len_utf8();
            from = at;
        }
    }
    if from == 0 {
        return Cow::Borrowed(text);
    }
    cleaned.push_str(&text[from..]);
    Cow::Owned(cleaned)
}

/// The length of the colour of ours that a text begins with.
fn our_color(text: &str) -> Option<usize> {
    let behind = text.strip_prefix(BEGIN)?;
    let is_it = |color: &&&str| behind.strip_prefix(**color).is_some_and(|behind| behind.starts_with('m'));
    COLORS.iter().find(is_it).map(|color| BEGIN.len() + color.len() + 1)
}

/// What stands between the colours in clean output.
pub(crate) fn without_colors(text: &str) -> impl Iterator<Item = &str> {
    let mut rest = text;
    std::iter::from_fn(move || {
        let Some(at) = memchr::memchr(BEGIN.as_bytes()[0], rest.as_bytes()) else {
            return Some(std::mem::take(&mut rest)).filter(|last| !last.is_empty());
        };
        let (plain, behind) = rest.split_at(at);
        rest = &behind[our_color(behind).unwrap_or(1)..];
        Some(plain)
    })
}

/// Output that is clean already, made beside other output.
pub(crate) struct Cleaned(String);

impl Cleaned {
    /// Cleans a text.
    pub(crate) fn of(text: &str) -> Self {
        Self(clean(text).into_owned())
    }

    /// The text.
    pub(crate) fn into_string(self) -> String {
        self.0
    }
}

/// A JSON document in which such characters are escaped as JSON has it (RFC 8259, section 7): they can only
/// stand inside its texts.
pub(crate) fn json(document: String) -> String {
    // The other control characters of ASCII are escaped already.
    let is_plain = document.is_ascii() && memchr::memchr(DELETE, document.as_bytes()).is_none();
    if is_plain || !document.contains(is_hidden) {
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
            let plain = anstream::adapter::strip_str(expected).to_string();
            assert_eq!(without_colors(&clean(text)).collect::<String>(), plain);
        }
        for plain in ["{\"a\":\"b\"}", "{\"a\":\"水\"}"] {
            assert_eq!(json(plain.to_owned()), plain);
        }
        assert_eq!(json("{\"a\":\"\u{7f}\"}".to_owned()), "{\"a\":\"\\u007f\"}");
        assert_eq!(escape("a\n\u{1b}[31m"), "a\\n\\u{1b}[31m");
        assert_eq!(
            json("{\"a\":\"\u{202e}\u{7f}\u{e0041}\"}".to_owned()),
            r#"{"a":"\u202e\u007f\udb40\udc41"}"#
        );
    }
}
