//! Tables: aligned columns without lines, folded to the console's width at the breaks that values have by nature.

use comfy_table::{Attribute, Cell, ColumnConstraint, ContentArrangement, Table as Inner, Width, presets};
use rayon::prelude::*;
use textwrap::core::display_width;

use cledger_work::shown::{folded, parted};

use super::clean::escape;
use super::style::{Tone, color};

/// The widest column that is folded only where there is no room at all without.
const WIDEST_WHOLE: usize = 36;

/// The narrowest column that still says something.
const NARROWEST: usize = 10;

/// Between two columns.
const GAP: u16 = 2;

/// As how many lines it counts where something is parted that has no break.
const TORN: usize = 3;

/// How many folds of columns that are to stay whole a line is worth.
const WHOLE: usize = 3;

/// How many rows are laid out at once, each lot beside others.
const LOT: usize = 256;

/// How many rows are looked at to find out how wide the columns should be.
const LOOKED_AT: usize = 200;

/// A table in the making.
pub(crate) struct Table {
    width: Option<usize>,
    /// By column, whether it is to be folded last.
    whole: Vec<bool>,
    heads: Vec<String>,
    rows: Vec<Row>,
}

/// The cells of a row.
type Row = Vec<(String, Tone)>;

impl Table {
    /// A table with these column heads, folded to the width if there is one.
    pub(crate) fn new(heads: &[&str], width: Option<usize>) -> Self {
        let whole = vec![false; heads.len()];
        let heads = heads.iter().map(|&head| head.to_owned()).collect();
        Self { width, whole, heads, rows: Vec::new() }
    }

    /// Keeps a column from being folded as long as there is room: names and words are of no use in pieces.
    pub(crate) fn keep_whole(&mut self, column: usize) {
        self.whole[column] = true;
    }

    /// Adds a row.
    pub(crate) fn row(&mut self, cells: Vec<(String, Tone)>) {
        // A cell holds no colours but its tone: whatever else it holds is shown as what it is.
        let clean = |text: &str| text.split('\n').map(escape).collect::<Vec<_>>().join("\n");
        self.rows.push(cells.into_iter().map(|(text, tone)| (clean(&text), tone)).collect());
    }

    /// The lines, without blanks at their ends.
    pub(crate) fn lines(&self) -> Vec<String> {
        let widths = self.widths();
        let folded = |(at, text): (usize, &str)| match &widths {
            Some(widths) => folded(text, widths[at]),
            None => text.to_owned(),
        };
        if self.rows.len() <= LOT {
            return self.laid_out((&self.rows, true), &folded, None);
        }
        let widest = self.widest(&folded);
        let lots = self.rows.par_chunks(LOT).enumerate();
        let laid_out = |(at, lot): (usize, &[Row])| self.laid_out((lot, at == 0), &folded, Some(&widest));
        lots.flat_map_iter(laid_out).collect()
    }

    /// Whether nothing has to be folded or cut to fit into a width.
    pub(crate) fn fits(&self, width: usize) -> bool {
        let gaps = usize::from(GAP) * self.heads.len().saturating_sub(1);
        self.widest(&|(_, text)| text.to_owned()).iter().sum::<usize>() + gaps <= width
    }

    /// The lines of some rows, and of the heads, in columns of these widths, or of those that these rows need.
    fn laid_out(
        &self,
        (rows, with_heads): (&[Row], bool),
        folded: &dyn Fn((usize, &str)) -> String,
        widths: Option<&[usize]>,
    ) -> Vec<String> {
        let mut table = Inner::new();
        table.load_style(presets::NOTHING).enforce_styling();
        table.set_content_arrangement(ContentArrangement::Disabled);
        if with_heads {
            table.set_header(self.heads.iter().enumerate().map(|(at, head)| {
                let cell = Cell::new(folded((at, head)));
                if head.is_empty() { cell } else { cell.add_attribute(Attribute::Bold) }
            }));
        }
        for row in rows {
            table.add_row(row.iter().enumerate().map(|(at, (text, tone))| {
                let cell = Cell::new(folded((at, text)));
                // A coloured nothing would keep the blanks before it at the line's end.
                match color(*tone).filter(|_| !text.is_empty()) {
                    Some(color) => cell.fg(color),
                    None => cell,
                }
            }));
        }
        for (at, column) in table.column_iter_mut().enumerate() {
            column.set_padding((0, GAP));
            if let Some(widths) = widths {
                let width = u16::try_from(widths[at]).unwrap_or(u16::MAX).saturating_add(GAP);
                column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(width)));
            }
        }
        table.lines().map(|line| trim_end_colored(&line)).collect()
    }

    /// For each column the width of its widest line, each text folded so.
    fn widest(&self, folded: &(dyn Fn((usize, &str)) -> String + Sync)) -> Vec<usize> {
        let widest = |at: usize| {
            let texts = self.rows.iter().filter_map(|row| row.get(at)).map(|(text, _)| text.as_str());
            let of_text = |text| folded((at, text)).lines().map(display_width).max().unwrap_or_default();
            texts.chain([self.heads[at].as_str()]).map(of_text).max().unwrap_or_default()
        };
        (0..self.heads.len()).into_par_iter().map(widest).collect()
    }

    /// How wide each column is to be; `None` where nothing needs to be folded.
    fn widths(&self) -> Option<Vec<usize>> {
        let columns = self.heads.len();
        let width = self.width?;
        let content = self.widest(&|(_, text)| text.to_owned());
        let room = width.saturating_sub(usize::from(GAP) * columns.saturating_sub(1));
        if content.iter().sum::<usize>() <= room {
            return None;
        }
        let stays = |at: &usize| self.whole[*at] && content[*at] <= WIDEST_WHOLE;
        let (fixed, mut free): (Vec<usize>, Vec<usize>) = (0..columns).partition(stays);
        let mut widths = content.clone();
        let mut left = room.saturating_sub(fixed.iter().map(|&at| content[at]).sum());
        if left < NARROWEST * free.len() || free.is_empty() {
            (free, left) = ((0..columns).collect(), room);
        }
        share(&mut widths, &free, left);
        self.even_out(&mut widths, &content);
        Some(widths)
    }

    /// Moves room from column to column as long as that saves lines; a column that is to stay whole is folded only where
    /// that saves more than it costs.
    fn even_out(&self, widths: &mut [usize], content: &[usize]) {
        let rows: Vec<Vec<Vec<Piece>>> = (self.rows.iter().take(LOOKED_AT))
            .map(|row| row.iter().map(|(text, _)| pieces(text)).collect())
            .collect();
        let cost = |widths: &[usize]| -> usize {
            let of_row = |row: &Vec<Vec<Piece>>| {
                let lines = || row.iter().zip(widths).map(|(cell, &width)| count(cell, width));
                let folded =
                    lines().zip(&self.whole).filter(|(_, whole)| **whole).map(|(lines, _)| lines - 1);
                WHOLE * lines().max().unwrap_or_default() + folded.sum::<usize>()
            };
            rows.iter().map(of_row).sum()
        };
        let columns = widths.len();
        let mut best = cost(widths);
        for step in [16, 8, 4, 2, 1] {
            let mut is_better = true;
            while is_better {
                is_better = false;
                for (from, to) in (0..columns).flat_map(|from| (0..columns).map(move |to| (from, to))) {
                    let has_room = widths[from] >= NARROWEST.min(content[from]) + step;
                    if from == to || !has_room || widths[to] >= content[to] {
                        continue;
                    }
                    widths[from] -= step;
                    widths[to] += step;
                    let now = cost(widths);
                    if now < best {
                        (best, is_better) = (now, true);
                    } else {
                        widths[from] += step;
                        widths[to] -= step;
                    }
                }
            }
        }
    }
}

/// Gives each of these columns what it needs, and those that need more than their part the rest in equal parts.
pub(super) fn share(widths: &mut [usize], columns: &[usize], mut left: usize) {
    let mut wanting = columns.to_vec();
    wanting.sort_by_key(|&at| widths[at]);
    for (done, &at) in wanting.iter().enumerate() {
        widths[at] = widths[at].min(left / (wanting.len() - done)).max(1);
        left = left.saturating_sub(widths[at]);
    }
}

/// The width of a piece of text that is not parted, without and with the blanks behind it.
type Piece = (usize, usize);

fn pieces(text: &str) -> Vec<Piece> {
    let words = text.lines().flat_map(parted);
    words.map(|word| (display_width(word.word), display_width(word.word) + word.whitespace.len())).collect()
}

/// How many lines these pieces take.
fn count(pieces: &[Piece], width: usize) -> usize {
    let (mut lines, mut used) = (1, 0);
    for &(alone, with_blanks) in pieces {
        if used > 0 && used + alone > width {
            lines += 1;
            used = 0;
        }
        lines += alone.saturating_sub(1) / width.max(1) * TORN;
        used += with_blanks;
    }
    lines
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn long_tables_are_laid_out_as_one() {
        let row = |at: usize| {
            let name = if at == 2 * LOT { "the-longest-name".to_owned() } else { format!("n{at}") };
            let value = if at == 3 { "two\nlines 水" } else { "v" };
            vec![(name, Tone::Plain), (value.to_owned(), Tone::Bad), ("end".to_owned(), Tone::Plain)]
        };
        let mut long = Table::new(&["name", "value", ""], None);
        (0..=2 * LOT).for_each(|at| long.row(row(at)));
        let lines = long.lines();
        assert_eq!(lines.len(), 1 + 2 * LOT + 1 + 1);
        // Of the same rows in one lot: what stands in the columns is as wide.
        let mut short = Table::new(&["name", "value", ""], None);
        for at in [0, 1, 2, 3, 2 * LOT] {
            short.row(row(at));
        }
        let of_short = short.lines();
        assert_eq!(lines[..6], of_short[..6]);
        assert_eq!(lines.last(), of_short.last());
        assert!(long.fits(display_width("the-longest-name  lines 水  end")));
        assert!(!long.fits(display_width("the-longest-name  lines 水  en")));
    }

    proptest! {
        /// No line is wider than the console, and nothing but blanks gets lost.
        #[test]
        fn tables_fit_and_lose_nothing(
            cells in prop::collection::vec(prop::collection::vec("[a-z/.@ ,é本-]{0,60}", 3), 1..6),
            width in 40_usize..120,
        ) {
            let mut table = Table::new(&["one", "two", "three"], Some(width));
            for row in &cells {
                table.row(row.iter().map(|cell| (cell.clone(), Tone::Plain)).collect());
            }
            table.keep_whole(0);
            let plain = |line: &String| anstream::adapter::strip_str(line).to_string();
            let lines: Vec<String> = table.lines().iter().map(plain).collect();
            prop_assert!(lines.iter().all(|line| display_width(line) <= width), "{lines:#?}");
            let sorted = |texts: String| {
                let mut all: Vec<char> = texts.chars().filter(|c| *c != ' ').collect();
                all.sort_unstable();
                all
            };
            let all = cells.concat().concat() + "onetwothree";
            prop_assert_eq!(sorted(lines.concat()), sorted(all));
        }
    }
}
