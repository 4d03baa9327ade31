//! `matrix` for people: a cell for each field and stage, cut where stages are alike, and one for all where they are the
//! same.

use std::ops::Range;

use cledger_work::matrix::{DIFFERS, ELSEWHERE, Line, MARKS, Matrix, Shown};
use cledger_work::shown::{SideBySide, counted, cut};
use textwrap::core::display_width;
use unicode_width::UnicodeWidthStr as _;

use crate::output::console::Console;
use crate::output::style::{self, Tone};
use crate::output::table::{Table, share};

/// The narrowest value that still says something.
const NARROWEST: usize = 9;

/// In front of entries, below their unit, and of what stands below an entry.
const INDENT: &str = "  ";

/// Between two columns.
const GAP: usize = 2;

/// Up to so many fields, stages that do not fit side by side are shown one below the other.
const TURNED: usize = 3;

/// From so many fields on, it is said how many of them differ.
const MANY: usize = 30;

pub(crate) fn print(console: &mut Console, matrix: &Matrix<'_>, wide: bool) {
    let Matrix { ledger, stages, rows } = matrix;
    if rows.is_empty() {
        console.line("No such field.");
        return;
    }
    let lines: Vec<Line> = rows.iter().map(Line::of).collect();
    let names: Vec<&str> = stages.iter().map(|&stage| ledger.stage(stage).name.as_str()).collect();
    let first = lines.iter().map(|line| INDENT.len() + line.entry.width()).max().unwrap_or_default();
    let room = console.width().filter(|_| !wide).map(|width| width.saturating_sub(first + GAP));
    let parts = room.map_or(1, |room| {
        let fitting = (room + GAP) / (NARROWEST + GAP + 2);
        names.len().div_ceil(fitting.max(1))
    });
    if parts > 1 && lines.len() <= TURNED {
        turned(console, &lines, &names);
    } else {
        let size = names.len().div_ceil(parts);
        for (at, from) in (0..names.len()).step_by(size).enumerate() {
            if at > 0 {
                console.line("");
            }
            part(console, &lines, (&names, from..names.len().min(from + size)), (first, room));
        }
    }
    legend(console, &lines);
    let differing = rows.iter().filter(|row| row.differs()).count();
    if rows.count() >= MANY && differing < rows.count() {
        let all = counted(rows.count(), "field");
        console.line(format!("{differing} of {all} differ: --differing shows these alone."));
    }
}

/// Some of the stages side by side. Fields of which they have nothing at all are left out.
fn part(
    console: &mut Console,
    lines: &[Line],
    (names, stages): (&[&str], Range<usize>),
    (first, room): (usize, Option<usize>),
) {
    let is_there = |line: &&Line| line.cells[stages.clone()].iter().any(|cell| !cell.is_elsewhere());
    let shown: Vec<&Line> = lines.iter().filter(is_there).collect();
    let apart = || shown.iter().filter(|line| line.one.is_none());
    let widest = |of: fn(&Shown) -> usize| {
        let of_stage = |at: usize| apart().map(|line| of(&line.cells[at])).max().unwrap_or_default();
        stages.clone().map(of_stage).collect::<Vec<usize>>()
    };
    let marks = widest(|cell| cell.marks().width());
    // A blank stands between a value and its marks.
    let behind = |marks: usize| if marks > 0 { marks + 1 } else { 0 };
    let heads = &names[stages.clone()];
    let mut widths = widest(|cell| cell.text.width());
    for ((width, head), &marks) in widths.iter_mut().zip(heads).zip(&marks) {
        *width = (*width).max(head.width().saturating_sub(behind(marks)));
    }
    if let Some(room) = room {
        let taken: usize = marks.iter().map(|&marks| behind(marks) + GAP).sum::<usize>() - GAP;
        // What is wrong is told in whole words.
        let is_bad =
            |at: usize| apart().map(move |line| &line.cells[at]).filter(|cell| cell.tone == Tone::Bad);
        let words: Vec<usize> = stages
            .clone()
            .map(|at| is_bad(at).map(|cell| cell.text.width()).max().unwrap_or_default())
            .collect();
        let even = room.saturating_sub(taken) / widths.len();
        let (kept, others): (Vec<usize>, Vec<usize>) = (0..widths.len()).partition(|&at| words[at] > even);
        for &at in &kept {
            widths[at] = words[at];
        }
        let left = room.saturating_sub(taken + kept.iter().map(|&at| words[at]).sum::<usize>());
        share(&mut widths, &others, left);
    }
    let head = |((head, &width), &marks): ((&&str, &usize), &usize)| {
        let width = width + behind(marks);
        padded(&cut(head, width), width)
    };
    let heads: Vec<String> = heads.iter().zip(&widths).zip(&marks).map(head).collect();
    console.line(format!("{:first$}  {}", "", style::heading(heads.join("  ").trim_end())));
    let whole =
        widths.iter().zip(&marks).map(|(width, &marks)| width + behind(marks) + GAP).sum::<usize>() - GAP;
    let mut owner = "";
    for line in shown {
        if line.owner != owner {
            owner = &line.owner;
            console.line(style::heading(owner));
        }
        let entry = padded(&format!("{INDENT}{}", line.entry), first);
        if let Some(one) = &line.one {
            let note = one.everywhere();
            let fits = room.map_or(usize::MAX, |room| room.max(whole).saturating_sub(note.width() + GAP));
            let text = style::toned(one.tone, &cut(&one.text, fits));
            console.line(format!("{entry}  {text}  {}", style::toned(Tone::Quiet, &note)));
            continue;
        }
        let cells = &line.cells[stages.clone()];
        let all = SideBySide::of(line.cells.iter().map(|cell| cell.text.as_str()));
        let texts: Vec<String> =
            cells.iter().zip(&widths).map(|(cell, width)| all.cut(&cell.text, *width)).collect();
        let column = |at: usize| {
            let (cell, mark) =
                (padded(&style::toned(cells[at].tone, &texts[at]), widths[at]), cells[at].marks());
            match marks[at] {
                0 => cell,
                marks => {
                    let tone = if cells[at].differs { Tone::Doubtful } else { Tone::Quiet };
                    format!("{cell} {}", padded(&style::toned(tone, &mark), marks))
                }
            }
        };
        let columns: Vec<String> = (0..cells.len()).map(column).collect();
        console.line(format!("{entry}  {}", columns.join("  ")).trim_end());
    }
}

/// Each field with the stages one below the other.
fn turned(console: &mut Console, lines: &[Line], names: &[&str]) {
    for (at, line) in lines.iter().enumerate() {
        if at > 0 {
            console.line("");
        }
        console.line(style::heading(&format!("{}/{}", line.owner, line.entry)));
        if let Some(one) = &line.one {
            console.line(format!(
                "{INDENT}{}  {}",
                style::toned(one.tone, &one.text),
                style::toned(Tone::Quiet, &one.everywhere())
            ));
            continue;
        }
        let mut table = Table::new(&["  stage", "value", ""], console.width());
        for (name, cell) in names.iter().zip(&line.cells).filter(|(_, cell)| !cell.is_elsewhere()) {
            let mark = (cell.marks(), if cell.differs { Tone::Doubtful } else { Tone::Quiet });
            table.row(vec![(format!("{INDENT}{name}"), Tone::Plain), (cell.text.clone(), cell.tone), mark]);
        }
        table.keep_whole(0);
        table.keep_whole(2);
        table.lines().iter().for_each(|line| console.line(line));
    }
}

/// What the marks say that are shown.
fn legend(console: &mut Console, lines: &[Line]) {
    let cells = || lines.iter().filter(|line| line.one.is_none()).flat_map(|line| &line.cells);
    let is_shown = |mark: &str| cells().any(|cell| cell.mark == mark || (mark == DIFFERS && cell.differs));
    let mut said: Vec<String> = MARKS
        .iter()
        .filter(|(mark, _)| is_shown(mark))
        .map(|(mark, what)| format!("{mark} {what}"))
        .collect();
    if cells().any(Shown::is_elsewhere) {
        said.push(format!("{ELSEWHERE} not in this stage"));
    }
    console.line("");
    let mut line = String::new();
    for said in said {
        let more = if line.is_empty() { said } else { format!("{line}, {said}") };
        let fits = console.width().is_none_or(|width| display_width(&more) < width);
        if line.is_empty() || fits {
            line = more;
        } else {
            let said = more[line.len() + 2..].to_owned();
            console.line(format!("{line},"));
            line = said;
        }
    }
    if !line.is_empty() {
        console.line(line);
    }
}

/// A text with blanks behind it; colours have no width.
fn padded(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(display_width(text))))
}
