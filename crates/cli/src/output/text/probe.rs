//! `probe` for people: each service with what came back.

use cledger_core::probe::{Probed, Target};

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};
use cledger_work::probe::ProbeReport;
use cledger_work::shown::counted;

/// How many days before the end a certificate is told in colour.
const SOON: i64 = 30;

pub(crate) fn print(console: &mut Console, report: &ProbeReport) {
    console.line(style::heading(&format!("{} (class {})", report.stage, report.class)));
    console.line("");
    if report.probed.is_empty() && report.not_tried.is_empty() {
        return summary(console, report);
    }
    let mut table = Table::new(&["service", "needed by", "answer", ""], console.width());
    for (target, probed) in &report.probed {
        let is_met = target.wanted.is_met(probed);
        let tone = if is_met { Tone::Plain } else { Tone::Bad };
        let soon = probed.days_left.is_some_and(|days| days < SOON);
        table.row(vec![
            (values::escape(&target.shown()), Tone::Plain),
            (needed_by(&target.addresses), Tone::Plain),
            (answer(target, probed, is_met), tone),
            (values::escape(&detail(target, probed, is_met)), if soon { Tone::Bad } else { Tone::Quiet }),
        ]);
    }
    for without in &report.not_tried {
        table.row(vec![
            ("not tried".to_owned(), Tone::Quiet),
            (needed_by(std::slice::from_ref(&without.address)), Tone::Plain),
            ("not known".to_owned(), Tone::Bad),
            (values::escape(&without.reason), Tone::Quiet),
        ]);
    }
    table.keep_whole(2);
    table.lines().iter().for_each(|line| console.line(line));
    console.line("");
    summary(console, report);
}

/// How many answer, and how many came out as the contracts expect.
fn summary(console: &mut Console, report: &ProbeReport) {
    let (expected, plain): (Vec<_>, Vec<_>) =
        report.probed.iter().partition(|(target, _)| target.wanted.by.is_some());
    let met =
        |some: &[&(Target, Probed)]| some.iter().filter(|(it, probed)| it.wanted.is_met(probed)).count();
    let unknown = report.not_tried.len();
    let of = |right: usize, all: usize, what: &str, (good, bad): (&str, &str)| {
        if right == all {
            let word = if unknown == 0 { style::good(good) } else { style::doubtful(good) };
            format!("{word}: {}", counted(all, what))
        } else {
            format!("{}: {} of {}", style::bad(bad), all - right, counted(all, what))
        }
    };
    if report.probed.is_empty() {
        let why = match (unknown, report.undelivered) {
            (0, true) => "a delivery would change no connection and no endpoint".to_owned(),
            (0, false) => "there is no connection and no endpoint".to_owned(),
            _ => format!("{unknown} of {unknown} cannot be"),
        };
        return console.line(format!("{}: {why}.", style::doubtful("nothing tried")));
    }
    let mut parts = Vec::new();
    if !plain.is_empty() || expected.is_empty() {
        parts.push(of(met(&plain), plain.len(), "service", ("answers", "does not answer")));
    }
    if !expected.is_empty() {
        parts.push(of(met(&expected), expected.len(), "probe", ("as expected", "not as expected")));
    }
    let more = if unknown == 0 { String::new() } else { format!(", {unknown} not tried") };
    let only = if report.undelivered { " Only what a delivery would change was tried." } else { "" };
    console.line(format!("{}{more}.{only}", parts.join("; ")));
}

/// What came back, and whether that is what the contract expects.
fn answer(target: &Target, probed: &Probed, is_met: bool) -> String {
    let words = probed.answer.words();
    match (&target.wanted.by, is_met) {
        (None, _) => words.to_owned(),
        (Some(_), true) => format!("{words}, as expected"),
        (Some(_), false) => format!("{words}, not as expected"),
    }
}

/// The entries that lead to a service, the stage left out since it is the same for all.
fn needed_by(addresses: &[String]) -> String {
    let without_stage = |address: &String| address.split('@').next().unwrap_or(address).to_owned();
    addresses.iter().map(without_stage).collect::<Vec<_>>().join(", ")
}

/// More of what came back, and of what was expected in its place.
fn detail(target: &Target, probed: &Probed, is_met: bool) -> String {
    let mut detail = probed.detail.clone();
    if let Some(days) = probed.days_left {
        let days = days.unsigned_abs().try_into().unwrap_or(0);
        detail = format!("{detail}, certificate for {}", counted(days, "more day"));
    }
    match (&target.wanted.by, target.wanted.told()) {
        (Some(name), Some(wanted)) if !is_met => format!("{detail}; probe {name} expects {wanted}"),
        (Some(name), _) => format!("{detail}; probe {name}"),
        (None, _) => detail,
    }
}
