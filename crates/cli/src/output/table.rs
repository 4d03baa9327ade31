//! Tables: aligned columns without lines, folded to the console's width.

use comfy_table::{Cell, Color, ColumnConstraint, ContentArrangement, Table as Inner, presets};

use super::clean::escape;

/// The widest column that is never folded.
const WIDEST_WHOLE: u16 = 36;

/// What a cell says, for its colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    /// Nothing in particular.
    Plain,
    /// Something that must be mended.
    Bad,
    /// Something that somebody should look at.
    Doubtful,
    /// Something beside the point.
    Quiet,
}

/// A table in the making.
pub(crate) struct Table(Inner);

impl Table {
    /// A table with these column heads, folded to the width if there is one.
    pub(crate) fn new(heads: &[&str], width: Option<usize>) -> Self {
        let mut table = Inner::new();
        table.load_style(presets::NOTHING).enforce_styling().set_header(heads.iter().copied());
        match width.and_then(|width| u16::try_from(width).ok()) {
            Some(width) => {
                // The last column's padding sticks out, and is cut off again.
                table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width + 2);
            }
            None => {
                table.set_content_arrangement(ContentArrangement::Disabled);
            }
        }
        for column in table.column_iter_mut() {
            column.set_padding((0, 2));
        }
        Self(table)
    }

    /// Keeps a column from being folded: names and words are of no use in pieces.
    pub(crate) fn keep_whole(&mut self, column: usize) {
        let widest = self.0.column_max_content_widths().get(column).copied().unwrap_or_default();
        if let Some(column) = self.0.column_mut(column)
            && widest <= WIDEST_WHOLE
        {
            column.set_constraint(ColumnConstraint::ContentWidth);
        }
    }

    /// Adds a row.
    pub(crate) fn row(&mut self, cells: Vec<(String, Tone)>) {
        self.0.add_row(cells.into_iter().map(|(text, tone)| {
            // A coloured nothing would keep the blanks before it at the line's end.
            let tone = if text.is_empty() { Tone::Plain } else { tone };
            // A cell holds no colours but its tone: whatever else it holds is shown as what it is.
            let lines: Vec<String> = text.split('\n').map(escape).collect();
            let cell = Cell::new(lines.join("\n"));
            match tone {
                Tone::Plain => cell,
                Tone::Bad => cell.fg(Color::DarkRed),
                Tone::Doubtful => cell.fg(Color::DarkMagenta),
                Tone::Quiet => cell.fg(Color::DarkGrey),
            }
        }));
    }

    /// The lines, without blanks at their ends.
    pub(crate) fn lines(&self) -> Vec<String> {
        self.0.lines().map(|line| trim_end_colored(&line)).collect()
    }
}

/// Cuts blanks at the end of a line, also from within a last colour.
fn trim_end_colored(line: &str) -> String {
    let trimmed = line.trim_end();
    match trimmed.rfind("\u{1b}[") {
        Some(at) if trimmed.ends_with('m') && !trimmed[at..].contains(' ') => {
            format!("{}{}", trimmed[..at].trim_end(), &trimmed[at..])
        }
        _ => trimmed.to_owned(),
    }
}
