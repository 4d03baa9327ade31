//! `compare` for people: the fields that differ, each with the word for how.

use cledger_core::compare::{Compared, Difference, NamedCompared, SubjectCompared};
use cledger_core::model::{Ledger, Subject, UNITS_AT_ONCE};

use cledger_work::compare::ComparedStages;
use cledger_work::compare::words::{self, Line};
use rayon::prelude::*;

use super::rows::INDENT;
use crate::output::clean::Cleaned;
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};

pub(crate) fn print(console: &mut Console, ledger: &Ledger, sides: &ComparedStages<'_>, all: bool) {
    let (mut same, mut meant, mut unmeant, mut unknown) = (0, 0, 0, 0);
    for subject in &sides.subjects {
        let SubjectCompared::Both(_, fields) = subject else { continue };
        for field in fields {
            match field.difference {
                Difference::Same => same += 1,
                Difference::Unknown => unknown += 1,
                _ if field.is_unmeant() => unmeant += 1,
                _ => meant += 1,
            }
        }
    }
    let width = console.width();
    let text = |subject: &SubjectCompared<'_>| Cleaned::of(&of_subject(width, ledger, sides, (subject, all)));
    let texts: Vec<Cleaned> = sides.subjects.par_iter().with_max_len(UNITS_AT_ONCE).map(text).collect();
    for text in texts {
        console.cleaned(text);
    }
    let known = format!("{same} the same, {meant} different as meant, {unmeant} different otherwise");
    let text = match unknown {
        0 => format!("{known}."),
        unknown => format!("{known}, {unknown} not known, since they are not readable here."),
    };
    let word = match (unmeant, meant) {
        (0, _) if unknown > 0 => style::doubtful("not known"),
        (0, 0) => style::good("the same"),
        (0, _) => style::good("as meant"),
        _ => style::bad("differs"),
    };
    console.wrapped(&format!("{word}: {text}"), "");
}

/// What is said of one unit or instance: nothing where there is nothing to say.
fn of_subject(
    width: Option<usize>,
    ledger: &Ledger,
    sides: &ComparedStages<'_>,
    (subject, all): (&SubjectCompared<'_>, bool),
) -> String {
    let name = |subject: &Subject| style::heading(&ledger.owner(*subject).to_string());
    match subject {
        SubjectCompared::OnlyLeft(subject) => {
            format!("{}  only in {}, as meant\n\n", name(subject), sides.left)
        }
        SubjectCompared::OnlyRight(subject) => {
            format!("{}  only in {}, as meant\n\n", name(subject), sides.right)
        }
        SubjectCompared::Both(subject, fields) => {
            let shown =
                |field: &&Compared<'_>| field.difference != Difference::Same || has_value(field) && all;
            let mut shown: Vec<&Compared<'_>> = fields.iter().filter(shown).collect();
            shown.sort_by_key(|field| !field.is_unmeant());
            if shown.is_empty() {
                return String::new();
            }
            let lines = table(width, ledger, &shown, sides).lines();
            format!("{}\n{}\n\n", name(subject), lines.join("\n"))
        }
    }
}

fn has_value(field: &Compared<'_>) -> bool {
    field.left_value.is_some() || field.right_value.is_some()
}

fn table(
    width: Option<usize>,
    ledger: &Ledger,
    fields: &[&Compared<'_>],
    sides: &ComparedStages<'_>,
) -> Table {
    let mut table = Table::new(&["entry", sides.left.as_str(), sides.right.as_str(), ""], width);
    for line in fields.iter().flat_map(|field| words::field(ledger, field, sides)) {
        add(&mut table, line);
    }
    table.keep_whole(0);
    table.keep_whole(3);
    table
}

fn add(table: &mut Table, Line { name, is_row, sides: [left, right], word, tone }: Line) {
    let name = if is_row { format!("{INDENT}{name}") } else { name };
    table.row(vec![(name, Tone::Plain), left, right, (word, tone)]);
}

/// Names up to so many letters are not parted.
const NAMES_KEPT_WHOLE: usize = 40;

/// Prints what two sides have under their names.
pub(crate) fn files(
    console: &mut Console,
    compared: &[NamedCompared],
    (left, right): (&str, &str),
    all: bool,
) {
    let count = |wanted: Difference| compared.iter().filter(|one| one.difference == wanted).count();
    let mut table = Table::new(&["name", "first", "second", ""], console.width());
    let shown = compared.iter().filter(|one| all || one.difference != Difference::Same);
    for one in shown.clone() {
        add(&mut table, words::name(one));
    }
    console.line(format!("first   {}", values::escape(left)));
    console.line(format!("second  {}", values::escape(right)));
    console.line("");
    if shown.clone().all(|one| one.name().len() <= NAMES_KEPT_WHOLE) {
        table.keep_whole(0);
    }
    if shown.count() > 0 {
        table.keep_whole(3);
        table.lines().iter().for_each(|line| console.line(line));
        console.line("");
    }
    let (same, differ, unknown) =
        (count(Difference::Same), count(Difference::Differs), count(Difference::Unknown));
    let one_sided = (count(Difference::OnlyLeft), count(Difference::OnlyRight));
    let meant = count(Difference::AsMeant);
    let mut text = match meant {
        0 => format!("{same} the same, {differ} different"),
        _ => format!("{same} the same, {meant} different as meant, {differ} different otherwise"),
    };
    for (count, word) in [(one_sided.0, "first"), (one_sided.1, "second")] {
        if count > 0 {
            text.push_str(&format!(", {count} only in the {word}"));
        }
    }
    if unknown > 0 {
        text.push_str(&format!(", {unknown} not known, since they are not readable here"));
    }
    let word = match (differ + one_sided.0 + one_sided.1, unknown) {
        (0, 0) if meant > 0 => style::good("as meant"),
        (0, 0) => style::good("the same"),
        (0, _) => style::doubtful("not known"),
        _ => style::bad("differs"),
    };
    console.wrapped(&format!("{word}: {text}."), "");
}
