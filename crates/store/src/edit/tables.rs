//! Tables that go from a text with what belongs to them.

use std::ops::Range;

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

/// Where what a table says ends: behind its last line, and the comments right below that.
pub(super) fn end_of_content(text: &str, body: &Body) -> usize {
    let mut end = line_end(text, body.pairs.last().map_or(body.header.end, |pair| pair.span.end));
    while text[end..].starts_with('#') {
        let next = line_end(text, end);
        // A comment right above a table is that table's.
        if text[next..].starts_with('[') {
            break;
        }
        end = next;
    }
    end
}

/// The text without a table and the comments right above it.
pub(super) fn without_body(text: &str, bodies: &[Body], at: usize) -> String {
    without_bodies(text, bodies, at..at + 1)
}

/// The text without tables that follow each other, with the comments right above the first, and the blank line before
/// it, or behind the last where nothing stands before.
pub(super) fn without_bodies(text: &str, bodies: &[Body], range: Range<usize>) -> String {
    let from = start_with_comments(text, &bodies[range.start]);
    let to = end_of_content(text, &bodies[range.end - 1]);
    let blank = before_newline(text, from);
    let is_behind_blank = blank < from && (text[..blank].ends_with('\n') || blank == 0);
    let mut shorter = text.to_owned();
    if is_behind_blank {
        // The last line may have no end; then it is the line before that loses its own.
        let from = if text[..to].ends_with('\n') { blank } else { before_newline(text, blank) };
        shorter.replace_range(from..to, "");
    } else {
        let rest = &text[to..];
        let next = rest.find(|c: char| !c.is_whitespace());
        let blanks = next.map_or(rest.len(), |at| line_start(rest, at));
        let from =
            if next.is_some() || text[..to].ends_with('\n') { from } else { before_newline(text, from) };
        shorter.replace_range(from..to + blanks, "");
    }
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
