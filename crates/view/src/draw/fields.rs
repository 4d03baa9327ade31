//! The fields: units and entries down, stages across.

use std::ops::Range;

use cledger_work::browse::Rows;
use cledger_work::matrix::{Line as Field, Shown};
use cledger_work::shown::{SideBySide, Tone, cut};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span, Text};
use unicode_width::UnicodeWidthStr as _;

use super::plain;
use super::words::{FOUND, OTHERWISE};
use crate::look::Look;
use crate::screen::{Item, Screen};

/// The narrowest value that still says something, with its marks.
const NARROWEST: usize = 14;

/// Between two columns.
const GAP: usize = 2;

/// In front of entries, below their unit.
const INDENT: &str = "  ";

/// How the columns stand on the screen.
struct Columns {
    /// The width of the entries' names.
    first: usize,
    /// The stages that are shown.
    stages: Range<usize>,
    /// Their widths.
    widths: Vec<usize>,
    /// How much of these marks take.
    marks: Vec<usize>,
}

pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, screen: &mut Screen) {
    screen.list.fit(usize::from(area.height.saturating_sub(1)));
    let Some(rows) = &screen.rows else { return };
    if screen.list.items.is_empty() {
        let text = "No such field. Esc in the filter (/) shows all; m and d show all again, too.";
        frame.render_widget(Text::from(super::wrapped(text, usize::from(area.width), Style::new())), area);
        return;
    }
    let shown: Vec<Item> =
        screen.list.items.iter().skip(screen.list.top).take(screen.list.room).copied().collect();
    let columns = columns(screen, rows, &shown, usize::from(area.width));
    let mut lines = vec![heads(screen, rows, &columns)];
    for item in shown {
        lines.push(match item {
            Item::Owner(line) => {
                Line::styled(cut(&plain(&rows.lines[line].owner), usize::from(area.width)), Look::heading())
            }
            Item::Field(line) => field(screen, rows, line, &columns),
        });
    }
    screen.list.stages = columns.stages;
    frame.render_widget(Text::from(lines), area);
}

/// Gives each stage that fits a column; the one that is looked at is among them.
fn columns(screen: &Screen, rows: &Rows, shown: &[Item], width: usize) -> Columns {
    let fields = || {
        shown.iter().filter_map(|item| match item {
            Item::Field(line) => Some(&rows.lines[*line]),
            Item::Owner(_) => None,
        })
    };
    let first = fields().map(|field| INDENT.len() + field.entry.width()).max().unwrap_or_default();
    let first = first.min(width * 2 / 5);
    let room = width.saturating_sub(first);
    let fitting = (room / (NARROWEST + GAP)).clamp(1, rows.stages.len().max(1));
    let (at, before) = (screen.list.stage, screen.list.stages.start);
    let start = before.min(at).max((at + 1).saturating_sub(fitting)).min(rows.stages.len() - fitting);
    let stages = start..start + fitting;
    let share = (room / fitting).saturating_sub(GAP);
    let is_parted = |field: &&Field| one_for_all(screen, rows, field).is_none();
    let widest_marks = |stage: usize| {
        let marks = fields().filter(is_parted).map(|field| marks(screen, rows, field, stage).width());
        marks.max().map_or(0, |marks| if marks > 0 { marks + 1 } else { 0 })
    };
    let marks: Vec<usize> = (0..rows.stages.len()).map(widest_marks).collect();
    let wanted = |stage: usize| {
        let widest = fields().filter(is_parted).map(|field| field.cells[stage].text.width() + marks[stage]);
        let widest = widest.max().unwrap_or_default();
        widest.max(rows.stages[stage].name.width())
    };
    let mut widths: Vec<usize> = stages.clone().map(|stage| wanted(stage).min(share)).collect();
    // What is left goes to those that need it.
    let mut left = (room).saturating_sub(widths.iter().map(|width| width + GAP).sum());
    for (width, stage) in widths.iter_mut().zip(stages.clone()) {
        let more = wanted(stage).saturating_sub(*width).min(left);
        *width += more;
        left -= more;
    }
    let marks = marks[stages.clone()].to_vec();
    Columns { first, stages, widths, marks }
}

fn heads(screen: &Screen, rows: &Rows, columns: &Columns) -> Line<'static> {
    let mut spans = vec![Span::raw(" ".repeat(columns.first))];
    for (stage, &width) in columns.stages.clone().zip(&columns.widths) {
        let style = if stage == screen.list.stage { Look::chosen() } else { Look::heading() };
        let name = cut(&plain(&rows.stages[stage].name), width);
        let behind = width.saturating_sub(name.width());
        spans.extend([Span::raw(" ".repeat(GAP)), Span::styled(name, style), Span::raw(" ".repeat(behind))]);
    }
    Line::from(spans)
}

fn field(screen: &Screen, rows: &Rows, line: usize, columns: &Columns) -> Line<'static> {
    let field = &rows.lines[line];
    let is_chosen = screen.list.line() == Some(line);
    let name = cut(&plain(&format!("{INDENT}{}", field.entry)), columns.first);
    let behind = columns.first.saturating_sub(name.width()) + GAP;
    let name_style = if is_chosen { Look::heading() } else { Style::new() };
    let mut spans = vec![Span::styled(name, name_style), Span::raw(" ".repeat(behind))];
    if let Some(one) = one_for_all(screen, rows, field) {
        let width = columns.widths.iter().map(|width| width + GAP).sum::<usize>() - GAP;
        let note = one.everywhere();
        let text = cut(&plain(&one.text), width.saturating_sub(note.width() + GAP));
        let style = if is_chosen { Look::chosen() } else { screen.look.tone(one.tone) };
        spans.push(Span::styled(text, style));
        spans.push(Span::styled(format!("{:GAP$}{note}", ""), screen.look.tone(Tone::Quiet)));
        return Line::from(spans);
    }
    let all = SideBySide::of(field.cells.iter().map(|cell| cell.text.as_str()));
    for ((stage, &width), &room) in columns.stages.clone().zip(&columns.widths).zip(&columns.marks) {
        let cell = &field.cells[stage];
        let marks = marks(screen, rows, field, stage);
        let is_here = is_chosen && stage == screen.list.stage;
        let style = if is_here { Look::chosen() } else { screen.look.tone(tone(cell, &marks)) };
        let text = plain(&all.cut(&cell.text, width.saturating_sub(room).max(2)));
        let before = (width + usize::from(room > 0)).saturating_sub(text.width() + room);
        let behind = (GAP + room).saturating_sub(marks.width() + usize::from(room > 0));
        let beside = screen.look.tone(if cell.differs { Tone::Doubtful } else { Tone::Quiet });
        spans.extend([
            Span::styled(text, style),
            Span::raw(" ".repeat(before)),
            Span::styled(marks, beside),
            Span::raw(" ".repeat(behind)),
        ]);
    }
    Line::from(spans)
}

/// One cell for all stages, where they are the same and nothing more is said of any.
fn one_for_all<'r>(screen: &Screen, rows: &Rows, field: &'r Field) -> Option<&'r Shown> {
    let is_marked = |stage| !beside(screen, rows, field, stage).is_empty();
    field.one.as_ref().filter(|_| !(0..field.cells.len()).any(is_marked))
}

/// All marks of a cell.
fn marks(screen: &Screen, rows: &Rows, field: &Field, stage: usize) -> String {
    format!("{}{}", field.cells[stage].marks(), beside(screen, rows, field, stage))
}

/// The marks that a cell has beside those of its layer.
fn beside(screen: &Screen, rows: &Rows, field: &Field, stage: usize) -> String {
    let name = &rows.stages[stage].name;
    if field.cells[stage].is_elsewhere() {
        return String::new();
    }
    let findings = screen.findings.as_ref();
    let found = findings.is_some_and(|it| it.is_any_at(&field.owner, &field.entry, name));
    let told = screen.looked.get(&format!("{}@{name}", field.owner));
    let otherwise = told.is_some_and(|told| {
        let address = format!("{}/{}@{name}", field.owner, field.entry);
        told.iter().any(|told| told.address.as_ref() == Some(&address))
    });
    [(found, FOUND.0), (otherwise, OTHERWISE.0)]
        .iter()
        .filter(|(is_so, _)| *is_so)
        .map(|(_, mark)| *mark)
        .collect()
}

/// What a cell says: what an outlet has otherwise must be mended, what has a finding is to be looked at.
fn tone(cell: &Shown, marks: &str) -> Tone {
    match cell.tone {
        Tone::Plain if marks.contains(OTHERWISE.0) => Tone::Bad,
        Tone::Plain if marks.contains(FOUND.0) => Tone::Doubtful,
        tone => tone,
    }
}
