//! Mistakes and findings with the line that they are about.

use annotate_snippets::{AnnotationKind, Group, Level, Snippet};
use cledger_core::findings::{Finding, Severity};
use cledger_core::model::Mistake;
use cledger_core::source::{Files, Place};
use cledger_store::Unreadable;
use cledger_work::Trouble;
use textwrap::{Options, WordSplitter};
use unicode_width::UnicodeWidthStr as _;

use super::clean::{escape, is_hidden};
use super::fold::folded;
use super::style;

/// What stands in a shown line for what must not be shown.
const HIDDEN: &str = "…";

/// The most characters of a line that are shown.
const LONGEST_LINE: usize = 160;

/// The narrowest column that text is folded to.
const NARROWEST: usize = 24;

/// What of a line is hidden, since it may be a secret.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Hide {
    Nothing,
    /// What follows the first `=`.
    Value,
    /// What stands in quotes.
    Quoted,
}

/// The line that a place is in, ready to be shown.
struct Line {
    path: String,
    number: usize,
    text: String,
    /// The place in it, as byte offsets.
    start: usize,
    end: usize,
}

fn line(files: &Files, place: Place, hide: Hide) -> Option<Line> {
    let file = files.get(place.file)?;
    let text = file.text.as_str();
    let mut start = (place.start as usize).min(text.len());
    while !text.is_char_boundary(start) {
        start -= 1;
    }
    let from = text[..start].rfind('\n').map_or(0, |at| at + 1);
    let to = text[from..].find('\n').map_or(text.len(), |at| from + at);
    let bare = text[from..to].trim_end_matches('\r');
    let mark = bare.len() - bare.trim_start_matches('\u{feff}').len();
    let raw = &bare[mark..];
    let start = (start - from).saturating_sub(mark).min(raw.len());
    let end = (place.end as usize).saturating_sub(from + mark).clamp(start, raw.len());
    // Control characters and tabs would move what follows, so each becomes a blank.
    let clean: String = raw.chars().map(|c| if is_hidden(c) { ' ' } else { c }).collect();
    let (mut shown, mut start, mut end) =
        if clean.len() == raw.len() { (clean, start, end) } else { (escape(raw), 0, 0) };
    if hide != Hide::Nothing && is_within_text(&text[..from]) {
        HIDDEN.clone_into(&mut shown);
    } else {
        hide_in(&mut shown, hide);
    }
    if let Some((at, _)) = shown.char_indices().nth(LONGEST_LINE) {
        shown.truncate(at);
        shown.push_str(HIDDEN);
    }
    for offset in [&mut start, &mut end] {
        *offset = (*offset).min(shown.len());
        while !shown.is_char_boundary(*offset) {
            *offset -= 1;
        }
    }
    let number = files.locate(place).line;
    Some(Line { path: file.path.clone(), number, text: shown, start, end: end.max(start) })
}

/// Whether what follows continues a text of several lines.
fn is_within_text(before: &str) -> bool {
    ["\"\"\"", "'''"].iter().any(|quotes| before.matches(quotes).count() % 2 == 1)
}

/// Whether a line begins with a key and `=`: base64 may end in `=`, too.
fn begins_with_key(line: &str) -> Option<usize> {
    let at = line.find('=')?;
    let value = line[at + 1..].trim_start();
    (!value.is_empty() && !value.starts_with('=')).then_some(at)
}

fn hide_in(line: &mut String, hide: Hide) {
    match hide {
        Hide::Nothing => {}
        Hide::Value => {
            if let Some(at) = begins_with_key(line) {
                line.truncate(at + 1);
                line.push(' ');
                line.push_str(HIDDEN);
            } else if !line.trim_start().starts_with('[') {
                HIDDEN.clone_into(line);
            }
        }
        Hide::Quoted => {
            // A line of its own within a longer text may be part of a key.
            if begins_with_key(line).is_none() && !line.trim_start().starts_with('[') {
                HIDDEN.clone_into(line);
                return;
            }
            let mut hidden = String::new();
            let mut rest = line.as_str();
            while let Some(at) = rest.find(['"', '\'']) {
                let quote = &rest[at..=at];
                hidden.push_str(&rest[..=at]);
                hidden.push_str(HIDDEN);
                match rest[at + 1..].find(quote) {
                    Some(end) => {
                        hidden.push_str(quote);
                        rest = &rest[at + 1 + end + 1..];
                    }
                    None => rest = "",
                }
            }
            hidden.push_str(rest);
            *line = hidden;
        }
    }
}

/// What is said of a change that would spoil the ledger.
pub(crate) fn spoiling(unreadable: &Unreadable) -> String {
    format!("nothing is written: the ledger could not be read after that, for {}", mistakes(unreadable))
}

/// What is said of a ledger that could not be read at an earlier revision.
pub(crate) fn before(revision: &str, unreadable: &Unreadable) -> String {
    format!("the ledger as it was at `{revision}` cannot be read, for {}", mistakes(unreadable))
}

fn mistakes(unreadable: &Unreadable) -> String {
    let count = unreadable.mistakes.len();
    if count == 1 { "1 mistake".to_owned() } else { format!("{count} mistakes") }
}

/// Everything that keeps a ledger from being read, and at last a line that sums it up.
pub(crate) fn unreadable(unreadable: &Unreadable, sum: &str, width: Option<usize>) -> String {
    let mut text = String::new();
    for mistake in &unreadable.mistakes {
        text.push_str(&of_mistake(&unreadable.files, mistake, width));
        text.push('\n');
    }
    text.push_str(&format!("{}: {sum}\n", style::bad("error")));
    text
}

fn of_mistake(files: &Files, mistake: &Mistake, width: Option<usize>) -> String {
    let shown = mistake.place.and_then(|place| {
        let path = files.get(place.file).map_or("", |file| file.path.as_str());
        let hide = if mistake.secret {
            Hide::Value
        } else if path.starts_with("stages/") || path.starts_with("groups/") {
            Hide::Quoted
        } else {
            Hide::Nothing
        };
        line(files, place, hide)
    });
    let message = match &mistake.path {
        Some(path) => format!("{path}: {}", mistake.message),
        None => mistake.message.clone(),
    };
    report(&Report {
        level: Level::ERROR,
        code: None,
        message: &message,
        shown: shown.as_ref(),
        label: None,
        help: mistake.help.as_deref(),
        notes: &[],
        width,
    })
}

/// A finding, with the label that stands below its text, and notes after it.
pub(crate) fn of_finding(
    files: &Files,
    finding: &Finding,
    label: &str,
    notes: &[String],
    width: Option<usize>,
) -> String {
    let hide = if finding.hides_value { Hide::Value } else { Hide::Nothing };
    let shown = finding.place.and_then(|place| line(files, place, hide));
    let kind = finding.kind();
    report(&Report {
        level: match finding.severity {
            Severity::Error => Level::ERROR,
            Severity::Warning => Level::WARNING,
        },
        code: Some(&kind),
        message: &finding.message,
        shown: shown.as_ref(),
        label: Some(label),
        help: Some(&finding.help),
        notes,
        width,
    })
}

struct Report<'r> {
    level: Level<'static>,
    code: Option<&'r str>,
    message: &'r str,
    shown: Option<&'r Line>,
    label: Option<&'r str>,
    help: Option<&'r str>,
    notes: &'r [String],
    /// The width that texts are folded to, if any.
    width: Option<usize>,
}

impl Report<'_> {
    /// A text without control characters, folded to what is left of the width after `before`.
    fn folded(&self, text: &str, before: usize) -> String {
        let text = escape(text);
        match self.width {
            None => text,
            Some(width) => {
                let width = width.saturating_sub(before).max(NARROWEST);
                // An address stays in one piece, hyphens and all.
                textwrap::fill(&text, Options::new(width).word_splitter(WordSplitter::NoHyphenation))
            }
        }
    }
}

fn report(report: &Report<'_>) -> String {
    // `warning[CODE]: `, and `   = help: ` behind the column of line numbers.
    let before_title = report.code.map_or("error: ".len(), |code| "warning[]: ".len() + code.len());
    let digits = report.shown.map_or(0, |shown| shown.number.to_string().len());
    let before_note = digits + " = help: ".len();
    let message = report.folded(report.message, before_title);
    let label = report.label.map(escape);
    // Behind the line's number and ` | `, its text up to the end of the carets, and a blank.
    let before_label = report.shown.map_or(0, |shown| {
        let carets = shown.text[shown.start..shown.end].width().max(1);
        digits + " | ".len() + shown.text[..shown.start].width() + carets + 1
    });
    let fits = |label: &String| report.width.is_none_or(|width| before_label + label.width() <= width);
    let (beside, below) = match label {
        Some(label) if report.shown.is_some() && !fits(&label) => (None, Some(label)),
        label => (label, None),
    };
    let path = report.shown.map(|shown| escape(&shown.path)).unwrap_or_default();
    let mut title = report.level.clone().primary_title(message);
    if let Some(code) = report.code {
        title = title.id(code);
    }
    let mut group = Group::with_title(title);
    if let Some(shown) = report.shown {
        let mut annotation = AnnotationKind::Primary.span(shown.start..shown.end);
        if let Some(label) = &beside {
            annotation = annotation.label(label);
        }
        let snippet = Snippet::source(shown.text.as_str())
            .path(path.as_str())
            .line_start(shown.number)
            .annotation(annotation);
        group = group.element(snippet);
    }
    for note in below.iter().chain(report.notes) {
        group = group.element(Level::NOTE.message(report.folded(note, before_note)));
    }
    if let Some(help) = report.help {
        group = group.element(Level::HELP.message(report.folded(help, before_note)));
    }
    let mut text = style::diagnostics().render(&[group]);
    text.push('\n');
    text
}

/// What went wrong: what, where, and what to type.
pub(crate) fn of_trouble(trouble: &Trouble, width: Option<usize>) -> String {
    match trouble {
        Trouble::Unreadable(unreadable) => self::unreadable(unreadable, &unreadable.to_string(), width),
        Trouble::Before(revision, unreadable) => {
            self::unreadable(unreadable, &before(revision, unreadable), width)
        }
        Trouble::Spoiling(unreadable) => self::unreadable(unreadable, &spoiling(unreadable), width),
        Trouble::Plain { message, pointed, help, .. } => {
            let folded = |text: &str| folded(text, width, "  ").into_owned();
            let mut text = format!("{}\n", folded(&format!("{}: {message}", style::bad("error"))));
            for line in pointed.iter().flat_map(|pointed| pointed.lines()) {
                text.push_str(&format!("  {line}\n"));
            }
            if let Some(help) = help {
                text.push_str(&folded(&format!("help: {help}")));
                text.push('\n');
            }
            text
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_hide_what_may_be_a_secret() {
        for (hide, line, shown) in [
            (Hide::Value, "password = \"plover\"", "password = …"),
            (Hide::Value, "  MIIEplover==", "…"),
            (Hide::Value, "[units.a.db]", "[units.a.db]"),
            (Hide::Quoted, "a = { b = \"plover\", c = 'x' } 3", "a = { b = \"…\", c = '…' } 3"),
            (Hide::Quoted, "password = \"plover", "password = \"…"),
            (Hide::Quoted, "plover", "…"),
            (Hide::Nothing, "class = \"tset\"", "class = \"tset\""),
        ] {
            let mut text = line.to_owned();
            hide_in(&mut text, hide);
            assert_eq!(text, shown);
        }
    }
}
