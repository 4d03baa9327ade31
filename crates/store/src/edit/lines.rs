//! Where the lines of a text begin and end.

/// The offset where the line begins that has this one; a byte order mark is no part of it.
pub(super) fn line_start(text: &str, at: usize) -> usize {
    text[..at]
        .rfind('\n')
        .map_or(text.len() - text.trim_start_matches('\u{feff}').len(), |newline| newline + 1)
}

/// The offset after the line's end.
pub(super) fn line_end(text: &str, at: usize) -> usize {
    text[at..].find('\n').map_or(text.len(), |newline| at + newline + 1)
}

/// The line end that the file uses.
pub(super) fn newline(text: &str) -> &'static str {
    match text.find('\n') {
        Some(at) if text[..at].ends_with('\r') => "\r\n",
        _ => "\n",
    }
}

/// The offset before the line end that stands before an offset, if one does.
pub(super) fn before_newline(text: &str, at: usize) -> usize {
    let before = &text[..at];
    let without = before.strip_suffix('\n').map(|text| text.strip_suffix('\r').unwrap_or(text));
    without.unwrap_or(before).len()
}

/// Where the first line of a file can stand: behind the comment at its start, if a blank line follows that.
pub(super) fn start_of_body(text: &str) -> usize {
    let start = line_start(text, 0);
    let mut at = start;
    while text[at..].starts_with('#') {
        at = line_end(text, at);
    }
    let ending = newline(text);
    if at > start && text[at..].starts_with(ending) { at + ending.len() } else { start }
}
