//! Lists in brackets, on one line or over several.

use std::ops::Range;

use super::lines::{line_end, line_start, newline};
use super::outline::{Holds, Node};

/// The elements of a list.
pub(super) fn elements(list: &Node) -> &[Node] {
    match &list.holds {
        Holds::List(elements) => elements,
        Holds::One | Holds::Table(_) => &[],
    }
}

/// The text with one more element at the end of a list.
pub(super) fn with_element(text: &str, list: &Node, element: &str) -> Result<String, String> {
    with_element_at(text, list, elements(list).len(), element)
}

/// The text with one more element at some place of a list.
pub(super) fn with_element_at(text: &str, list: &Node, at: usize, element: &str) -> Result<String, String> {
    let all = elements(list);
    let mut text = text.to_owned();
    if all.is_empty() {
        let inside = list.span.start + 1..list.span.end - 1;
        if text[inside.clone()].contains('#') {
            return Err("a comment stands in the empty list: write something into it first".to_owned());
        }
        text.replace_range(inside, element);
        return Ok(text);
    }
    if let Some(next) = all.get(at) {
        let start = line_start(&text, next.span.start);
        let indent = text[start..next.span.start].to_owned();
        if indent.trim().is_empty() {
            text.insert_str(start, &format!("{indent}{element},{}", newline(&text)));
        } else {
            text.insert_str(next.span.start, &format!("{element}, "));
        }
        return Ok(text);
    }
    let final_one = &all[all.len() - 1];
    let start = line_start(&text, final_one.span.start);
    let indent = text[start..final_one.span.start].to_owned();
    let is_own_line = indent.trim().is_empty() && start > list.span.start;
    let comma = comma_behind(&text, final_one.span.end, list.span.end);
    if is_own_line {
        let ending = newline(&text);
        let end = comma.map_or(final_one.span.end, |comma| comma + 1);
        let after = if comma.is_some() { "," } else { "" };
        let line = before_end(&text, end, list.span.end);
        text.insert_str(line, &format!("{ending}{indent}{element}{after}"));
        if comma.is_none() {
            text.insert(final_one.span.end, ',');
        }
    } else {
        text.insert_str(final_one.span.end, &format!(", {element}"));
    }
    Ok(text)
}

/// The text without one of several elements of a list.
pub(super) fn without_element(text: &str, list: &Node, at: usize) -> String {
    let all = elements(list);
    let mut text = text.to_owned();
    let this = &all[at].span;
    let start = line_start(&text, this.start);
    let comma = comma_behind(&text, this.end, list.span.end);
    let end = line_end(&text, comma.map_or(this.end, |comma| comma + 1));
    let is_alone = |range: Range<usize>| {
        let rest = text[range].trim_start_matches(',').trim_start();
        rest.is_empty() || rest.starts_with('#')
    };
    if text[start..this.start].trim().is_empty() && start > list.span.start && is_alone(this.end..end) {
        text.replace_range(start..end, "");
        // The one before is the last now; it has a comma only if this one had.
        if at + 1 == all.len() && comma.is_none() && at > 0 {
            let before = all[at - 1].span.end;
            if let Some(comma) = comma_behind(&text, before, text.len()) {
                text.replace_range(comma..=comma, "");
            }
        }
    } else if at + 1 < all.len() {
        text.replace_range(this.start..all[at + 1].span.start, "");
    } else {
        text.replace_range(all[at - 1].span.end..this.end, "");
    }
    text
}

/// The comma behind an element, if one stands there.
fn comma_behind(text: &str, from: usize, to: usize) -> Option<usize> {
    let mut is_comment = false;
    for (at, c) in text[from..to].char_indices() {
        match c {
            '\n' => is_comment = false,
            '#' => is_comment = true,
            ',' if !is_comment => return Some(from + at),
            c if is_comment || c.is_whitespace() => {}
            _ => return None,
        }
    }
    None
}

/// Where a line ends behind an element, with the comment that stands there; where the list ends, if that is sooner.
fn before_end(text: &str, from: usize, end: usize) -> usize {
    let rest = &text[from..end];
    let line = rest.find('\n').map_or(rest, |at| rest[..at].trim_end_matches('\r'));
    let is_comment = line.trim_start().is_empty() || line.trim_start().starts_with('#');
    if is_comment && line.len() < rest.len() { from + line.trim_end().len() } else { from }
}
