//! The tokens of a JSON text with their places: where each value stands, and under which steps.
//!
//! The text must be known to be JSON (RFC 8259): this only finds where things are.

use std::ops::Range;

/// A key or a value that holds no others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Token {
    /// The steps from the root: keys, and positions in lists from 0.
    pub(crate) steps: Vec<String>,
    /// The bytes of its text, quotes included. For an empty object or list, those of its first bracket.
    pub(crate) range: Range<usize>,
    /// Whether it is the key of what stands under these steps.
    pub(crate) is_key: bool,
    /// Whether a list is among the levels around it.
    pub(crate) in_list: bool,
}

/// A level that is open.
enum Level {
    Object,
    /// A list, and the position in it.
    List(usize),
}

/// All tokens in their order.
pub(crate) fn tokens(text: &str) -> Vec<Token> {
    let bytes = text.as_bytes();
    let mut tokens: Vec<Token> = Vec::new();
    let mut levels: Vec<Level> = Vec::new();
    let mut steps: Vec<String> = Vec::new();
    let mut expects_key = false;
    let mut lists = 0;
    let mut at = 0;
    while let Some(&byte) = bytes.get(at) {
        let start = at;
        at += 1;
        match byte {
            b'{' | b'[' => {
                let is_empty = bytes[at..].iter().find(|byte| !byte.is_ascii_whitespace());
                if is_empty.is_some_and(|byte| matches!(byte, b'}' | b']')) {
                    let range = start..at;
                    tokens.push(Token { steps: steps.clone(), range, is_key: false, in_list: lists > 0 });
                }
                expects_key = byte == b'{';
                steps.push(if expects_key { String::new() } else { "0".to_owned() });
                // A list as a whole is the value of its name.
                if !expects_key {
                    let range = start..at;
                    let steps = steps[..steps.len() - 1].to_vec();
                    if is_empty.is_none_or(|byte| *byte != b']') {
                        tokens.push(Token { steps, range, is_key: false, in_list: lists > 0 });
                    }
                    lists += 1;
                }
                levels.push(if expects_key { Level::Object } else { Level::List(0) });
            }
            b'}' | b']' => {
                lists -= usize::from(byte == b']' && lists > 0);
                levels.pop();
                steps.pop();
            }
            b',' => match (levels.last_mut(), steps.last_mut()) {
                (Some(Level::List(position)), Some(step)) => {
                    *position += 1;
                    *step = position.to_string();
                }
                _ => expects_key = true,
            },
            b'"' => {
                at = end_of_string(bytes, at);
                let range = start..at;
                let is_key = expects_key && matches!(levels.last(), Some(Level::Object));
                if is_key {
                    expects_key = false;
                    if let Some(step) = steps.last_mut() {
                        *step = serde_json::from_str(&text[range.clone()]).unwrap_or_default();
                    }
                }
                tokens.push(Token { steps: steps.clone(), range, is_key, in_list: lists > 0 });
            }
            b'-' | b'0'..=b'9' | b'a'..=b'z' => {
                let rest = &bytes[at..];
                let length = rest
                    .iter()
                    .take_while(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'+' | b'-' | b'.'));
                at += length.count();
                let range = start..at;
                tokens.push(Token { steps: steps.clone(), range, is_key: false, in_list: lists > 0 });
            }
            _ => {}
        }
    }
    tokens
}

/// The position behind the closing quote of a string whose first character is at `at`.
fn end_of_string(bytes: &[u8], mut at: usize) -> usize {
    while let Some(&byte) = bytes.get(at) {
        at += 1;
        match byte {
            b'"' => break,
            b'\\' => at += 1,
            _ => {}
        }
    }
    at.min(bytes.len())
}
