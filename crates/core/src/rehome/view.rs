//! A stretch of a file as characters, each with the bytes that it stands in.

use std::borrow::Cow;
use std::ops::Range;

use percent_encoding::utf8_percent_encode;

use super::{Coding, Stretch};
use crate::uri::ENCODED;

/// How a value may be written within the characters of a stretch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Within {
    /// With `%` and two digits for what is reserved.
    Percent,
    /// With backslashes, as in a string of JSON or of a programming language.
    Backslash,
}

/// How many such ways may be inside one another.
const DEEPEST: usize = 2;

/// The characters of a stretch, read in one way.
pub(super) struct View<'s> {
    /// The characters.
    pub(super) text: String,
    /// For each byte of `text`, the bytes of the file that its character stands in, and which way makes more of it.
    raw: Vec<(Range<usize>, usize)>,
    stretch: &'s Stretch,
    /// The ways in which it is written, the outermost first.
    within: Vec<Within>,
}

/// A character, the bytes of the file that it stands in, and the how manyth of the ways in which the text is written
/// makes more than itself of it: 0 for none, or for that of the stretch.
type Placed = (char, Range<usize>, usize);

/// All ways of reading a stretch that make a difference.
pub(super) fn views<'s>(text: &str, stretch: &'s Stretch) -> Vec<View<'s>> {
    let Some(part) = text.get(stretch.range.clone()) else { return Vec::new() };
    let start = stretch.range.start;
    let chars: Vec<Placed> = match stretch.coding {
        Coding::Plain | Coding::Number => {
            part.char_indices().map(|(at, c)| (c, start + at..start + at + c.len_utf8(), 0)).collect()
        }
        Coding::Json => {
            unescaped(part.char_indices().map(|(at, c)| (c, start + at..start + at + c.len_utf8(), 0)), 0)
        }
        Coding::Xml => referred(part, start),
    };
    let mut views = Vec::new();
    let mut open = vec![(chars, Vec::new())];
    while let Some((chars, within)) = open.pop() {
        views.push(View::new(&chars, stretch, within.clone()));
        if within.len() == DEEPEST {
            continue;
        }
        for way in [Within::Percent, Within::Backslash] {
            let read = match way {
                Within::Percent if chars.iter().any(|(c, ..)| *c == '%') => {
                    percent_decoded(&chars, within.len() + 1)
                }
                Within::Backslash if chars.iter().any(|(c, ..)| *c == '\\') => {
                    unescaped(chars.iter().cloned(), within.len() + 1)
                }
                _ => continue,
            };
            if read.len() < chars.len() {
                open.push((read, within.iter().copied().chain([way]).collect()));
            }
        }
    }
    views
}

impl<'s> View<'s> {
    fn new(chars: &[Placed], stretch: &'s Stretch, within: Vec<Within>) -> Self {
        let mut view = Self { text: String::new(), raw: Vec::new(), stretch, within };
        for (c, range, way) in chars {
            view.text.push(*c);
            view.raw.extend(std::iter::repeat_n((range.clone(), *way), c.len_utf8()));
        }
        view
    }

    /// In how many ways, one inside the other, it is written.
    pub(super) fn depth(&self) -> usize {
        self.within.len()
    }

    /// The bytes of the file that a range of the text stands in.
    pub(super) fn raw(&self, range: Range<usize>) -> Range<usize> {
        let start = self.raw.get(range.start).map_or(0, |(raw, _)| raw.start);
        let last = range.end.checked_sub(1).and_then(|last| self.raw.get(last));
        let end = last.map_or(start, |(raw, _)| raw.end);
        start..end
    }

    /// How well this way of reading fits a range, the lowest best: one by which something in it, or next to it, is
    /// written; then the plain one.
    pub(super) fn fit(&self, range: &Range<usize>) -> usize {
        let before = self.text[..range.start].chars().next_back().map_or(0, char::len_utf8);
        let after = self.text[range.end..].chars().next().map_or(0, char::len_utf8);
        let around = &self.raw[range.start - before..range.end + after];
        let is_written = around.iter().any(|(_, way)| *way == self.within.len());
        match self.within.len() {
            0 => DEEPEST,
            deep if is_written => DEEPEST - deep,
            deep => DEEPEST + deep,
        }
    }

    /// A value as it is written in such a place.
    pub(super) fn coded(&self, value: &str) -> String {
        let inner = self.within.iter().rev().fold(Cow::Borrowed(value), |value, way| match way {
            Within::Percent => Cow::Owned(utf8_percent_encode(&value, ENCODED).to_string()),
            Within::Backslash => Cow::Owned(escaped(&value)),
        });
        match self.stretch.coding {
            Coding::Plain | Coding::Number => inner.into_owned(),
            Coding::Json => escaped(&inner),
            Coding::Xml => {
                let mut coded = String::new();
                for c in inner.chars() {
                    match c {
                        '&' => coded.push_str("&amp;"),
                        '<' => coded.push_str("&lt;"),
                        '>' => coded.push_str("&gt;"),
                        '"' => coded.push_str("&quot;"),
                        '\'' => coded.push_str("&apos;"),
                        '\r' | '\n' | '\t' => coded.push_str(&format!("&#{};", u32::from(c))),
                        _ => coded.push(c),
                    }
                }
                coded
            }
        }
    }
}

/// A text as the inside of a JSON string.
fn escaped(text: &str) -> String {
    let quoted = serde_json::Value::from(text).to_string();
    quoted.get(1..quoted.len() - 1).unwrap_or_default().to_owned()
}

/// Characters with the escapes of JSON strings taken for what they stand for.
fn unescaped(chars: impl Iterator<Item = Placed>, way: usize) -> Vec<Placed> {
    let mut chars = chars.peekable();
    let mut found: Vec<Placed> = Vec::new();
    let mut high: Option<(u32, Range<usize>)> = None;
    while let Some((c, range, before)) = chars.next() {
        if c != '\\' {
            found.push((c, range, before));
            continue;
        }
        let Some((kind, last, _)) = chars.next() else {
            found.push((c, range, before));
            break;
        };
        let mut whole = range.start..last.end;
        let plain = match kind {
            'n' => '\n',
            'r' => '\r',
            't' => '\t',
            'b' => '\u{8}',
            'f' => '\u{c}',
            'u' => {
                let mut unit = 0;
                for _ in 0..4 {
                    let Some((digit, at, _)) = chars.next_if(|(c, ..)| c.is_ascii_hexdigit()) else { break };
                    unit = unit * 16 + digit.to_digit(16).unwrap_or(0);
                    whole.end = at.end;
                }
                match (high.take(), unit) {
                    (None, 0xd800..=0xdbff) => {
                        high = Some((unit, whole));
                        continue;
                    }
                    (Some((first, before)), 0xdc00..=0xdfff) => {
                        whole.start = before.start;
                        let code = 0x1_0000 + ((first - 0xd800) << 10) + (unit - 0xdc00);
                        char::from_u32(code).unwrap_or(char::REPLACEMENT_CHARACTER)
                    }
                    _ => char::from_u32(unit).unwrap_or(char::REPLACEMENT_CHARACTER),
                }
            }
            other => other,
        };
        found.push((plain, whole, way));
    }
    found
}

/// Characters of XML with references taken for what they stand for; unknown ones stay.
fn referred(part: &str, start: usize) -> Vec<Placed> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(c) = part[at..].chars().next() {
        let known = (c == '&').then(|| reference(&part[at..])).flatten();
        let (c, length) = known.unwrap_or((c, c.len_utf8()));
        found.push((c, start + at..start + at + length, 0));
        at += length;
    }
    found
}

fn reference(text: &str) -> Option<(char, usize)> {
    let (name, _) = text.strip_prefix('&')?.split_once(';')?;
    let c = match name {
        "amp" => '&',
        "lt" => '<',
        "gt" => '>',
        "quot" => '"',
        "apos" => '\'',
        _ => {
            let number = name.strip_prefix('#')?;
            let code = match number.strip_prefix('x') {
                Some(digits) => u32::from_str_radix(digits, 16).ok()?,
                None => number.parse().ok()?,
            };
            char::from_u32(code)?
        }
    };
    Some((c, name.len() + 2))
}

/// Characters with percent-encoded ones (RFC 3986 section 2.1) decoded, where they are UTF-8.
fn percent_decoded(chars: &[Placed], way: usize) -> Vec<Placed> {
    let byte = |at: usize| -> Option<(u8, usize)> {
        let digit = |at: usize| chars.get(at).and_then(|(c, ..)| c.to_digit(16));
        let value =
            (chars.get(at)?.0 == '%').then(|| Some(digit(at + 1)? * 16 + digit(at + 2)?)).flatten()?;
        Some((u8::try_from(value).ok()?, chars[at + 2].1.end))
    };
    let mut found = Vec::new();
    let mut at = 0;
    while at < chars.len() {
        let mut bytes = Vec::new();
        let mut decoded = None;
        // A character of UTF-8 has four bytes at most.
        for length in 0..4 {
            let Some((value, end)) = byte(at + length * 3) else { break };
            bytes.push(value);
            if let Ok(text) = std::str::from_utf8(&bytes) {
                decoded = text.chars().next().map(|c| (c, chars[at].1.start..end, (length + 1) * 3));
                break;
            }
        }
        let (placed, length) =
            decoded.map_or_else(|| (chars[at].clone(), 1), |(c, range, length)| ((c, range, way), length));
        found.push(placed);
        at += length;
    }
    found
}
