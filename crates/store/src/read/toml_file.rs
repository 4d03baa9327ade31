//! Files of a ledger that are TOML.

use std::ops::Range;

use toml::de::DeTable;

use super::documents::{Document, Documents};
use super::frame::In;
use super::toml_events;
use super::toml_table::TomlTable;
use super::twice::first_of;
use cledger_core::model::Mistake;

/// How lines begin that version control writes where two changes of one text met: seven of a kind, and a blank or
/// nothing behind them.
const MARKERS: [char; 3] = ['<', '=', '>'];

/// What the parser says of a key or table that stands twice.
const TWICE: &str = "duplicate key";

impl Document {
    /// The file's root table; `None` if it is not TOML, with a mistake for each error in it.
    pub(super) fn table(&self, documents: &Documents<'_>) -> Option<TomlTable<'_>> {
        if let Some(table) = toml_events::usual(self.text()) {
            return Some(table);
        }
        let (table, errors) = DeTable::parse_recoverable(self.text());
        if errors.is_empty() {
            return Some(table.into_inner().into());
        }
        let read = In { file: self.file, mistakes: documents.mistakes, documents };
        let merges = unfinished_merges(self.text());
        for marker in &merges {
            let message = "two versions of this text stand here: a merge is not finished";
            let help =
                "keep the one that is meant, or parts of both, and take out the lines of `<`, `=` and `>`";
            documents.mistakes.push(Mistake::at(read.place(marker.clone()), message).help(help));
        }
        // Elsewhere what is wrong may be how deep it is nested.
        let is_well_formed = errors.iter().all(|error| error.message() == TWICE);
        for error in errors.iter().filter(|_| merges.is_empty()) {
            documents.mistakes.push(self.not_toml(read, error, is_well_formed));
        }
        None
    }

    fn not_toml(&self, read: In<'_>, error: &toml::de::Error, is_well_formed: bool) -> Mistake {
        let span = error.span().unwrap_or(0..0);
        // What a file that is not understood holds may be a secret, wherever it stands.
        let mistake = |message: String| Mistake::at(read.place(span.clone()), message).secret();
        if error.message() != TWICE {
            return mistake(format!("this is not TOML: {}", error.message()));
        }
        let help = "write each key and each table once";
        match is_well_formed.then(|| first_of(self.text(), &span)).flatten() {
            Some(first) => {
                let line = self.text()[..first.start].matches('\n').count() + 1;
                mistake(format!("this stands twice: it is in line {line} already")).help(help)
            }
            None => mistake("this stands twice".to_owned()).help(help),
        }
    }
}

/// The lines with which the texts begin that a merge could not decide between.
fn unfinished_merges(text: &str) -> Vec<Range<usize>> {
    let is_marker = |line: &str, mark: char| {
        let rest = line.trim_start_matches(mark);
        line.len() - rest.len() == 7 && (rest.trim_end().is_empty() || rest.starts_with(' '))
    };
    let mut begins = Vec::new();
    let (mut at, mut next) = (0, 0);
    for line in text.split_inclusive('\n') {
        if is_marker(line, MARKERS[0]) {
            begins.push(at..at + line.trim_end().len());
            next = 1;
        } else if next > 0 && is_marker(line, MARKERS[next]) {
            next = (next + 1) % MARKERS.len();
        }
        at += line.len();
    }
    // A line of this kind alone is no merge.
    if next == 0 { begins } else { Vec::new() }
}

impl Documents<'_> {
    /// Reads a file's root table, if there is such a file and it can be read.
    pub(super) fn with<R>(&self, path: &str, read: impl FnOnce(In<'_>, &TomlTable<'_>) -> R) -> Option<R> {
        let document = self.text(path)?;
        let place = In { file: document.file, mistakes: self.mistakes, documents: self };
        let result = document.table(self).map(|table| read(place, &table));
        self.keep(document);
        result
    }
}
