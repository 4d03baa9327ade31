//! `status` for people: one line a unit, a cell a stage, and below it what is to be done first.

use std::ops::Range;

use cledger_core::delivery::InStage;
use rayon::prelude::*;
use unicode_width::UnicodeWidthStr as _;

use crate::output::console::Console;
use crate::output::style::{self, Tone};
use crate::output::table::Table;
use cledger_work::deliver::status::{Status, There};
use cledger_work::deliver::to_do::to_do;
use cledger_work::deliver::words;
use cledger_work::shown::counted;

/// Between two columns.
const GAP: usize = 2;

/// A unit or bundle, and how it stands in each stage.
struct Line<'s> {
    name: &'s str,
    cells: Vec<(String, Tone)>,
}

/// Prints how units stand and what is to be done, or that alone.
pub(crate) fn print(console: &mut Console, status: &Status, only_to_do: bool) {
    if !only_to_do {
        let all = 0..status.ledger.stages.len();
        let mut lines = lines_of(status, true);
        // Where there is no room, what is to be done stands alone.
        if console.width().is_some_and(|width| widths(status, &lines, all).1 > width) {
            lines = lines_of(status, false);
        }
        for (at, stages) in parts(status, &lines, console.width()).into_iter().enumerate() {
            if at > 0 {
                console.line("");
            }
            part(console, status, &lines, stages);
        }
    }
    let all = to_do(status);
    if all.is_empty() {
        nothing(console, status, only_to_do);
        return;
    }
    if !only_to_do {
        console.line("");
    }
    let mut table = Table::new(&["to do first", ""], console.width());
    for one in &all {
        let tone = if one.is_trouble { Tone::Bad } else { Tone::Plain };
        table.row(vec![(one.command.clone(), Tone::Plain), (one.because.clone(), tone)]);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
}

/// Says that nothing is to be done, as far as one looked.
fn nothing(console: &mut Console, status: &Status, only_to_do: bool) {
    let looked = if status.is_live { "" } else { ", by the records alone: --live looks at the outlets" };
    let units = counted(status.standings.len(), "unit");
    if only_to_do {
        console.line(format!("Nothing is to be done about {units}{looked}."));
    }
}

fn lines_of(status: &Status, is_long: bool) -> Vec<Line<'_>> {
    let cells = |stages: &[Option<There>], none: &str, tone: Tone| {
        let none = || (none.to_owned(), tone);
        stages.iter().map(|there| there.as_ref().map_or_else(none, |it| cell(it, is_long))).collect()
    };
    let bundles = status
        .bundles
        .par_iter()
        .map(|bundle| Line { name: &bundle.name, cells: cells(&bundle.stages, "none", Tone::Quiet) });
    let units = status
        .standings
        .par_iter()
        .map(|standing| Line { name: &standing.owner, cells: cells(&standing.stages, "", Tone::Plain) });
    bundles.chain(units).collect()
}

/// The widths of the columns of these stages, and of the whole.
fn widths(status: &Status, lines: &[Line<'_>], stages: Range<usize>) -> (Vec<usize>, usize) {
    let names = lines.iter().map(|line| line.name.width()).chain(["unit".len()]);
    let widest = |at: usize| {
        let cells = lines.iter().map(|line| line.cells[at].0.width());
        cells.chain([status.ledger.stages[at].name.as_str().width()]).max().unwrap_or_default()
    };
    let widths: Vec<usize> = names.max().into_iter().chain(stages.map(widest)).collect();
    let whole = widths.iter().map(|width| width + GAP).sum::<usize>() - GAP;
    (widths, whole)
}

/// The stages that stand side by side; those for which there is no room follow below.
fn parts(status: &Status, lines: &[Line<'_>], width: Option<usize>) -> Vec<Range<usize>> {
    let all = status.ledger.stages.len();
    let fits = |stages: Range<usize>| width.is_none_or(|width| widths(status, lines, stages).1 <= width);
    let mut parts = Vec::new();
    let mut from = 0;
    while from < all {
        let fitting = (from + 1..=all).rev().find(|&to| fits(from..to));
        let to = fitting.unwrap_or(from + 1);
        parts.push(from..to);
        from = to;
    }
    parts
}

fn part(console: &mut Console, status: &Status, lines: &[Line<'_>], stages: Range<usize>) {
    let (widths, _) = widths(status, lines, stages.clone());
    let row = |cells: Vec<(&str, Tone)>| {
        let padded = |((text, tone), &width): ((&str, Tone), &usize)| {
            format!("{}{}", style::toned(tone, text), " ".repeat(width.saturating_sub(text.width())))
        };
        let cells: Vec<String> = cells.into_iter().zip(&widths).map(padded).collect();
        cells.join("  ").trim_end().to_owned()
    };
    let names = status.ledger.stages[stages.clone()].iter().map(|stage| stage.name.as_str());
    let heads = ["unit"].into_iter().chain(names).map(|name| (name, Tone::Plain));
    console.line(style::heading(&row(heads.collect())));
    for line in lines {
        let cells = line.cells[stages.clone()].iter().map(|(text, tone)| (text.as_str(), *tone));
        console.line(row([(line.name, Tone::Plain)].into_iter().chain(cells).collect()));
    }
}

/// What is there, since when, and what waits; in short what waits alone, if anything does.
fn cell(there: &There, is_long: bool) -> (String, Tone) {
    let state = words::state(there);
    let tone = match there.what {
        InStage::Nothing | InStage::Withdrawn => Tone::Quiet,
        InStage::Delivered(_) => Tone::Plain,
        InStage::ByHand(_) => Tone::Doubtful,
        InStage::InPart(_) | InStage::NotKnown(_) => Tone::Bad,
    };
    let Some((first, _)) = there.waits.first() else { return (state, tone) };
    let is_bad = first.is_trouble() || tone == Tone::Bad;
    let tone = if is_bad { Tone::Bad } else { Tone::Doubtful };
    let words: Vec<String> = there.waits.iter().map(|(what, count)| words::waiting(*what, *count)).collect();
    let is_unfinished = !matches!(there.what, InStage::Nothing | InStage::Delivered(_) | InStage::Withdrawn);
    let text = match (&words[..], is_long) {
        (_, true) => words::whole(there),
        (_, false) if is_unfinished => state,
        ([one], false) => one.clone(),
        ([one, others @ ..], false) => format!("{one} +{}", others.len()),
        ([], false) => state,
    };
    (text, tone)
}
