//! Tables that go from a text with what belongs to them.

use super::lines::{before_newline, line_end, line_start};
use super::outline::Body;

/// Where a table starts, with the comments right above it.
pub(super) fn start_with_comments(text: &str, body: &Body) -> usize {
    let mut start = line_start(text, body.header.start);
    while start > 0 && text[line_start(text, start - 1)..start].starts_with('#') {
        start = line_start(text, start - 1);
    }
    start
}

/// The text without a table and the comments right above it.
pub(super) fn without_body(text: &str, bodies: &[Body], at: usize) -> String {
    let from = start_with_comments(text, &bodies[at]);
    let next = bodies.get(at + 1).map(|body| start_with_comments(text, body));
    let mut shorter = text.to_owned();
    let to = next.unwrap_or(text.len());
    let blank = before_newline(text, from);
    let at_end = next.is_none() && blank < from && text[..blank].ends_with('\n');
    shorter.replace_range(if at_end { blank } else { from }..to, "");
    shorter
}

/// Takes out the header of a table that has nothing left, with the blank line before it, unless a
/// comment stands where the table was. Nothing before the header has changed.
pub(super) fn remove_empty(text: &mut String, body: &Body) {
    if body.path.is_empty() {
        return;
    }
    let (start, end) = (line_start(text, body.header.start), line_end(text, body.header.end));
    let rest = &text[end..];
    let next = rest.find(|c: char| !c.is_whitespace());
    if text[body.header.end..end].contains('#') || next.is_some_and(|at| rest[at..].starts_with('#')) {
        return;
    }
    let (from, to) = if let Some(at) = next {
        (start, end + line_start(rest, at))
    } else {
        let blank = before_newline(text, start);
        let is_blank = blank < start && text[..blank].ends_with('\n');
        let from = if is_blank { blank } else { start };
        (if text.ends_with('\n') { from } else { before_newline(text, from) }, text.len())
    };
    text.replace_range(from..to, "");
}
