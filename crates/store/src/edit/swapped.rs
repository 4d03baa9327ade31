//! Texts replaced in a file's values, and in nothing else of it.

use std::ops::Range;

use cledger_core::value::Value;

use super::literal::{literal, parse_value};
use super::outline::{Holds, Node, Pair, outline};

/// A TOML text with parts of the texts among its values replaced, in the order of the pairs; keys, comments and what is
/// no text stay. [`None`] if it is not TOML.
pub fn swapped(text: &str, pairs: &[(String, String)]) -> Option<String> {
    let mut spans: Vec<Range<usize>> = Vec::new();
    for body in outline(text)? {
        of_pairs(&body.pairs, &mut spans);
    }
    let mut made = String::with_capacity(text.len());
    let mut from = 0;
    for span in spans {
        let said = &text[span.clone()];
        if let Some(Value::Text(value)) = parse_value(said) {
            let new = pairs.iter().fold(value.to_string(), |value, (old, new)| value.replace(old, new));
            if new != value {
                made.push_str(&text[from..span.start]);
                made.push_str(&literal(&Value::text(&new), Some(said)));
                from = span.end;
            }
        }
    }
    made.push_str(&text[from..]);
    Some(made)
}

/// The places of all values that hold no others, in their order.
fn of_pairs(pairs: &[Pair], spans: &mut Vec<Range<usize>>) {
    for pair in pairs {
        of_node(&pair.value, spans);
    }
}

fn of_node(node: &Node, spans: &mut Vec<Range<usize>>) {
    match &node.holds {
        Holds::One => spans.push(node.span.clone()),
        Holds::List(items) => {
            for item in items {
                of_node(item, spans);
            }
        }
        Holds::Table(pairs) => of_pairs(pairs, spans),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_alone_are_replaced() {
        let text =
            "# north\n[units.north]\nnorth = 'north-1' # north\nx = { north = [\"a north\", 1], y = true }\n";
        let pairs = [("north".to_owned(), "south".to_owned()), ("-1".to_owned(), "-2".to_owned())];
        let made =
            "# north\n[units.north]\nnorth = 'south-2' # north\nx = { north = [\"a south\", 1], y = true }\n";
        assert_eq!(swapped(text, &pairs).as_deref(), Some(made));
        assert_eq!(swapped("x = [", &pairs), None);
    }
}
