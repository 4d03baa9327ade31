//! Pictures as SVG, drawn by hand: no library draws words in a grid, or events on lanes, without fonts of its own.
//! Colours stand behind words, and come from the page's style.

use cledger_work::shown::Tone;
use maud::{Markup, html};
use unicode_width::UnicodeWidthStr as _;

use crate::model::{Bars, Cell, Flow, Grid, Lanes};

/// The height of a row, and ten times the width of a letter, in the units of a picture.
const ROW: usize = 22;
const LETTER: usize = 74;

/// The most letters of a word that are shown.
const MOST: usize = 32;

/// The width of the lanes, and of the longest bar.
const LANE: usize = 640;
const BAR: usize = 360;

/// What a tone is called in the style.
pub(super) fn class(tone: Tone) -> &'static str {
    match tone {
        Tone::Plain => "plain",
        Tone::Bad => "bad",
        Tone::Doubtful => "doubtful",
        Tone::Good => "good",
        Tone::Quiet => "quiet",
    }
}

fn short(text: &str) -> String {
    if text.chars().count() <= MOST {
        return text.to_owned();
    }
    text.chars().take(MOST - 1).chain(['…']).collect()
}

fn width(text: &str) -> usize {
    short(text).width() * LETTER / 10
}

/// Words in rows and columns.
pub(super) fn grid(grid: &Grid) -> Markup {
    let first = grid.rows.iter().map(|(name, _)| width(name)).max().unwrap_or_default() + 16;
    let column = |at: usize| {
        let cells = grid.rows.iter().filter_map(|(_, cells)| cells.get(at)).map(|cell| width(&cell.text));
        cells.chain([width(&grid.heads[at])]).max().unwrap_or_default() + 16
    };
    let widths: Vec<usize> = (0..grid.heads.len()).map(column).collect();
    let starts: Vec<usize> = (0..widths.len()).map(|at| first + widths[..at].iter().sum::<usize>()).collect();
    let whole = first + widths.iter().sum::<usize>();
    let height = ROW * (grid.rows.len() + 1);
    html! {
        svg.grid role="img" aria-label=(grid.title) viewBox=(format!("0 0 {whole} {height}")) width=(whole) height=(height) {
            title { (grid.title) }
            @for (head, start) in grid.heads.iter().zip(&starts) {
                text.head x=(start + 8) y=(ROW - 7) { (short(head)) }
            }
            @for (at, (name, cells)) in grid.rows.iter().enumerate() {
                text x="4" y=(ROW * (at + 2) - 7) { (short(name)) }
                @for ((cell, start), width) in cells.iter().zip(&starts).zip(&widths) {
                    @if !cell.text.is_empty() {
                        g class=(class(cell.tone)) {
                            rect x=(start + 2) y=(ROW * (at + 1) + 2) width=(width - 4) height=(ROW - 4) rx="3" {}
                            text x=(start + 8) y=(ROW * (at + 2) - 7) { (short(&cell.text)) }
                            (told(name, cell))
                        }
                    }
                }
            }
        }
    }
}

fn told(name: &str, cell: &Cell) -> Markup {
    let note = cell.note.as_deref().map(|note| format!(": {note}")).unwrap_or_default();
    html! { title { (name) ": " (cell.text) (note) } }
}

/// Numbers, each with a bar that is as long.
pub(super) fn bars(bars: &Bars) -> Markup {
    let first = bars.bars.iter().map(|(name, ..)| width(name)).max().unwrap_or_default() + 16;
    let most = bars.bars.iter().map(|(_, count, _)| *count).max().unwrap_or_default().max(1);
    let (whole, height) = (first + BAR + 64, ROW * bars.bars.len());
    html! {
        svg.bars role="img" aria-label=(bars.title) viewBox=(format!("0 0 {whole} {height}")) width=(whole) height=(height) {
            title { (bars.title) }
            @for (at, (name, count, tone)) in bars.bars.iter().enumerate() {
                @let long = (count * BAR / most).max(2);
                g class=(class(*tone)) {
                    text x="4" y=(ROW * (at + 1) - 7) { (short(name)) }
                    rect x=(first) y=(ROW * at + 3) width=(long) height=(ROW - 6) rx="2" {}
                    text x=(first + long + 8) y=(ROW * (at + 1) - 7) { (count) }
                }
            }
        }
    }
}

/// The gap between two columns of boxes, over which lines lead.
const LEAD: usize = 72;

/// Boxes that lead to one in the middle, and on from it.
pub(super) fn flow(flow: &Flow) -> Markup {
    let widest = |texts: &[String]| texts.iter().map(|text| width(text)).max().unwrap_or_default() + 16;
    let (left, middle, right) = (widest(&flow.comes), width(&flow.center) + 24, widest(&flow.goes));
    let (at_middle, at_right) = (left + LEAD, left + LEAD + middle + LEAD);
    let rows = flow.comes.len().max(flow.goes.len()).max(1);
    let (whole, height) = (at_right + right, ROW * rows + 4);
    let center = height / 2;
    // The boxes of a side stand around the middle.
    let top = |count: usize, at: usize| (rows - count) * ROW / 2 + ROW * at + 2;
    html! {
        svg.flow role="img" aria-label=(flow.title) viewBox=(format!("0 0 {whole} {height}")) width=(whole) height=(height) {
            title { (flow.title) }
            @for (side, x, texts) in [(0, 0, &flow.comes), (1, at_right, &flow.goes)] {
                @for (at, text) in texts.iter().enumerate() {
                    @let y = top(texts.len(), at);
                    @let wide = if side == 0 { left } else { right };
                    @let (from, to) = if side == 0 { (left, at_middle) } else { (at_right, at_middle + middle) };
                    line x1=(from) y1=(y + ROW / 2 - 2) x2=(to) y2=(center) {}
                    g.plain {
                        rect x=(x + 1) y=(y) width=(wide - 2) height=(ROW - 4) rx="3" {}
                        text x=(x + 8) y=(y + ROW - 9) { (short(text)) title { (text) } }
                    }
                }
            }
            g.good {
                rect x=(at_middle) y=(center - ROW / 2 + 1) width=(middle) height=(ROW - 2) rx="3" {}
                text x=(at_middle + 12) y=(center + 5) { (short(&flow.center)) title { (flow.center) } }
            }
        }
    }
}

/// Events on lanes over time.
pub(super) fn lanes(lanes: &Lanes) -> Markup {
    let first = lanes.lanes.iter().map(|lane| width(&lane.name)).max().unwrap_or_default() + 24;
    let (whole, height) = (first + LANE + 24, ROW * (lanes.lanes.len() + 1));
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        clippy::cast_precision_loss,
        reason = "from 0 to 1"
    )]
    let place = |at: f64| first + (at.clamp(0.0, 1.0) * LANE as f64) as usize;
    html! {
        svg.lanes role="img" aria-label=(lanes.title) viewBox=(format!("0 0 {whole} {height}")) width=(whole) height=(height) {
            title { (lanes.title) }
            @for (at, lane) in lanes.lanes.iter().enumerate() {
                text x="4" y=(ROW * (at + 1) - 7) { (short(&lane.name)) }
                line x1=(first) x2=(first + LANE) y1=(ROW * at + ROW / 2) y2=(ROW * at + ROW / 2) {}
                @for (when, cell) in &lane.events {
                    g class=(class(cell.tone)) {
                        circle cx=(place(*when)) cy=(ROW * at + ROW / 2) r="6" {}
                        (told(&lane.name, cell))
                    }
                }
            }
            text.head x=(first) y=(height - 7) { (lanes.ends.0) }
            text.head x=(first + LANE) y=(height - 7) text-anchor="end" { (lanes.ends.1) }
        }
    }
}
