//! `check` for people: how each unit stands, then the findings, unit by unit, worst first.
//!
//! Findings that say the same of several stages are printed once. Fields without a value only
//! because they refer to another one are listed in a line each below the cause.

use std::collections::BTreeMap;

use cledger_core::findings::{Code, Finding, Report, Severity, Standing, UnitStanding};
use cledger_core::model::{Ledger, Missed, UnitId};
use cledger_core::name::Name;
use cledger_core::source::Place;
use cledger_work::shown::counted;
use rayon::prelude::*;

use crate::explanations;
use crate::output::clean::Cleaned;
use crate::output::console::{Console, USUAL_WIDTH};
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{diagnostics, style, values};

/// The most units of which each gets a line although nothing is wrong with it.
const MOST_CLEAN_UNITS: usize = 20;

/// How many fields without a value for want of another are listed.
const MOST_EFFECTS: usize = 15;

/// The most units or secrets that a note names.
const MOST_NAMED: usize = 6;

/// Prints a report; how each unit stands only in the stages that are covered, if that is asked for. Where only what is new
/// is in it, it comes with the count of what was there before.
pub(crate) fn print(
    console: &mut Console,
    ledger: &Ledger,
    (report, older): (&Report, Option<usize>),
    covers: Option<&dyn Fn(usize) -> bool>,
    list_waived: bool,
) {
    if let Some(covers) = covers {
        standings(console, ledger, report, covers);
    }
    findings(console, ledger, &report.findings);
    unreadable(console, report);
    not_judged(console, ledger, report);
    if list_waived {
        waived(console, ledger, report);
    }
    let (errors, warnings) = (report.count(Severity::Error), report.count(Severity::Warning));
    let units = counted(report.standings.len(), "unit");
    let also = match older {
        None | Some(0) => also_waived(report),
        Some(older) => format!("{}; {} as before", also_waived(report), counted(older, "finding")),
    };
    if errors + warnings == 0 {
        let none = if matches!(older, None | Some(0)) { "no findings" } else { "nothing new" };
        console.line(format!("{}: {none} in {units}{also}.", style::good("ok")));
        return;
    }
    let new = if older.is_some() { "new " } else { "" };
    let mut parts = Vec::new();
    if errors > 0 {
        parts.push(style::bad(&counted(errors, &format!("{new}error"))));
    }
    if warnings > 0 {
        parts.push(style::doubtful(&counted(warnings, &format!("{new}warning"))));
    }
    console.line(format!("{} in {units}{also}.", parts.join(", ")));
}

fn also_waived(report: &Report) -> String {
    match report.waived.len() {
        0 => String::new(),
        count => format!("; {count} waived"),
    }
}

/// What is waived, with the reasons.
fn waived(console: &mut Console, ledger: &Ledger, report: &Report) {
    if report.waived.is_empty() {
        return;
    }
    console.line(style::heading("waived"));
    let mut table = Table::new(&["code", "address", "until", "why", "by"], console.width());
    for (finding, by) in &report.waived {
        let waiver = &ledger.waivers[*by];
        let cells = [
            finding.kind().into_owned(),
            finding.address.clone(),
            waiver.until.to_string(),
            waiver.why.clone(),
            waiver.by.clone().unwrap_or_default(),
        ];
        table.row(cells.into_iter().map(|text| (text, Tone::Plain)).collect());
    }
    table.keep_whole(0);
    table.keep_whole(1);
    table.lines().iter().for_each(|line| console.line(line));
    console.line("");
}

/// The secrets that could not be judged.
fn unreadable(console: &mut Console, report: &Report) {
    if report.unreadable.is_empty() {
        return;
    }
    let count = counted(report.unreadable.len(), "secret");
    console.line(style::heading(&format!("{count} not readable here, and not judged")));
    report.unreadable.iter().take(MOST_NAMED).for_each(|address| console.line(format!("  {address}")));
    if report.unreadable.len() > MOST_NAMED {
        console.line(format!("  and {} more, which --json lists", report.unreadable.len() - MOST_NAMED));
    }
    console.line("");
}

/// What was not judged, or not beside everything, since files cannot be read.
fn not_judged(console: &mut Console, ledger: &Ledger, report: &Report) {
    if ledger.broken.is_empty() {
        return;
    }
    let files = counted(ledger.broken.0.len(), "file");
    console.line(style::heading(&format!("{files} not read, and so not judged")));
    let of_nothing = ledger.broken.0.iter().filter(|file| file.misses.is_empty());
    let mut lines: Vec<String> = of_nothing
        .map(|file| format!("{}, which belongs to nothing that is known", values::escape(&file.path)))
        .collect();
    for missed in ledger.broken.0.iter().flat_map(|file| &file.misses) {
        lines.push(match missed {
            Missed::Unit(unit) => format!("unit {unit}, and what refers to it"),
            Missed::Layer(layer) => {
                format!("all of @{} and of the stages that it counts in", ledger.layer_name(*layer))
            }
            Missed::UnitIn(layer, unit) => {
                format!("unit {unit} in @{} and in the stages that it counts in", ledger.layer_name(*layer))
            }
            Missed::Waivers => "what is waived: all that is found counts".to_owned(),
        });
    }
    let codes: Vec<&str> = report.not_judged.iter().map(|code| code.name()).collect();
    if !codes.is_empty() {
        lines.push(format!("beside these: {}", codes.join(", ")));
    }
    let width = console.width().unwrap_or(USUAL_WIDTH);
    let options = textwrap::Options::new(width)
        .initial_indent("  ")
        .subsequent_indent("    ")
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    for line in lines.iter().flat_map(|line| textwrap::wrap(line, &options)) {
        console.line(line);
    }
    console.line("");
}

/// Prints what a code means, its paragraphs and lists folded to the terminal's width.
pub(crate) fn explanation(console: &mut Console, code: Code) {
    console.line(style::heading(code.name()));
    let width = console.width().unwrap_or(USUAL_WIDTH);
    for block in explanations::of(code).split("\n\n") {
        console.line("");
        // Emphasis goes; the asterisks of patterns stay.
        let block = block.replace("**", "").replace("*To mend it*", "To mend it");
        for item in block.replace("\n- ", "\n\u{0}- ").split("\n\u{0}") {
            let text = item.split_whitespace().collect::<Vec<_>>().join(" ");
            let indent = if text.starts_with("- ") { "  " } else { "" };
            let folded = textwrap::wrap(&text, textwrap::Options::new(width).subsequent_indent(indent));
            for line in folded {
                console.line(line);
            }
        }
    }
}

fn standings(console: &mut Console, ledger: &Ledger, report: &Report, covers: &dyn Fn(usize) -> bool) {
    let bad = |standing: &&UnitStanding| {
        standing.stages.iter().any(|here| here.is_broken || here.errors + here.warnings > 0)
    };
    let all = report.standings.len() <= MOST_CLEAN_UNITS;
    let shown: Vec<&UnitStanding> = report.standings.iter().filter(|standing| all || bad(standing)).collect();
    if shown.is_empty() {
        return;
    }
    let stages: Vec<usize> = (0..ledger.stages.len()).filter(|&stage| covers(stage)).collect();
    let name = |unit: UnitId| ledger.unit(unit).name.to_string();
    let mut heads = vec!["unit"];
    heads.extend(stages.iter().map(|&stage| ledger.stages[stage].name.as_str()));
    let mut table = Table::new(&heads, None);
    for standing in &shown {
        let mut row = vec![(name(standing.unit), Tone::Plain)];
        row.extend(stages.iter().map(|&stage| word(standing.stages[stage])));
        table.row(row);
    }
    if console.width().is_none_or(|width| table.fits(width)) {
        table.lines().iter().for_each(|line| console.line(line));
    } else {
        for standing in &shown {
            console.line(in_words(ledger, standing, &stages));
        }
    }
    let clean = report.standings.len() - shown.len();
    if clean > 0 {
        console.line(format!("{} without findings.", counted(clean, "more unit")));
    }
    console.line("");
}

/// How a unit stands in a stage, as a table's cell.
fn word(standing: Standing) -> (String, Tone) {
    match standing {
        Standing { belongs: false, .. } => ("not there".to_owned(), Tone::Quiet),
        Standing { is_broken: true, .. } => ("not known".to_owned(), Tone::Doubtful),
        Standing { errors: 0, warnings: 0, .. } => ("ok".to_owned(), Tone::Plain),
        Standing { errors: 0, warnings, .. } => (counted(warnings as usize, "warning"), Tone::Doubtful),
        Standing { errors, .. } => (counted(errors as usize, "error"), Tone::Bad),
    }
}

/// How a unit stands, where a table would be too wide.
fn in_words(ledger: &Ledger, standing: &UnitStanding, stages: &[usize]) -> String {
    let mut parts = Vec::new();
    for &stage in stages {
        let here = standing.stages[stage];
        if here.is_broken || here.errors + here.warnings > 0 {
            parts.push(format!("{} {}", ledger.stages[stage].name, word(here).0));
        }
    }
    let unit = &ledger.unit(standing.unit).name;
    if parts.is_empty() { format!("{unit}: ok") } else { format!("{unit}: {}", parts.join(", ")) }
}

/// Findings that say the same of several stages and instances.
struct Alike<'r> {
    first: &'r Finding,
    findings: Vec<&'r Finding>,
}

fn findings(console: &mut Console, ledger: &Ledger, findings: &[Finding]) {
    let mut by_unit: BTreeMap<(bool, Option<UnitId>), Vec<&Finding>> = BTreeMap::new();
    for finding in findings {
        by_unit.entry((finding.unit.is_none(), finding.unit)).or_default().push(finding);
    }
    // The unit with the most errors first; what is shared before all of them.
    let mut groups: Vec<_> = by_unit.into_iter().collect();
    let errors = |group: &[&Finding]| group.iter().filter(|f| f.severity == Severity::Error).count();
    groups.sort_by_key(|((shared, unit), group)| (!*shared, usize::MAX - errors(group), *unit));
    let width = console.width();
    let texts: Vec<Cleaned> = groups
        .into_par_iter()
        .map(|((_, unit), group)| Cleaned::of(&of_group(ledger, unit, group, width)))
        .collect();
    for text in texts {
        console.cleaned(text);
    }
}

/// What is found of one unit, or of what is shared.
fn of_group(ledger: &Ledger, unit: Option<UnitId>, group: Vec<&Finding>, width: Option<usize>) -> String {
    let name = unit.map_or("shared entries and the ledger", |unit| ledger.unit(unit).name.as_str());
    let mut text = format!("{}\n", style::heading(name));
    let (causes, effects): (Vec<&Finding>, Vec<&Finding>) =
        group.into_iter().partition(|finding| finding.because_of.is_none());
    let together = put_together(&causes);
    let mut rest = together.as_slice();
    while let Some((alike, after)) = rest.split_first() {
        let first = alike.first;
        let others = after.iter().take_while(|other| is_repeated(first, other.first)).count();
        let notes = notes(ledger, first);
        text += &diagnostics::of_finding(&ledger.files, first, &label(alike), &notes, width);
        for other in &after[..others] {
            text = text + &in_short(ledger, other) + "\n";
        }
        text.push('\n');
        rest = &after[others..];
    }
    if effects.is_empty() {
        return text;
    }
    let fields =
        if effects.len() == 1 { "1 field has".to_owned() } else { format!("{} fields have", effects.len()) };
    let (error, code) = (style::bad("error"), Code::MissingValue);
    text += &format!("{error}[{code}]: {fields} no value for want of another:\n");
    for effect in effects.iter().take(MOST_EFFECTS) {
        let cause = effect.because_of.as_deref().unwrap_or_default();
        text += &format!("  {} needs {cause}\n", effect.address);
    }
    if effects.len() > MOST_EFFECTS {
        text += &format!("  and {} more, which --json lists\n", effects.len() - MOST_EFFECTS);
    }
    text.push('\n');
    text
}

/// What findings have in common that are told together: code, rule, entry and place.
type Common<'r> = (Code, Option<&'r Name>, &'r str, Option<Place>);

/// One for all findings that say the same of several stages, worst first.
fn put_together<'r>(findings: &[&'r Finding]) -> Vec<Alike<'r>> {
    let mut together: Vec<Alike<'r>> = Vec::new();
    let mut known: BTreeMap<Common<'_>, usize> = BTreeMap::new();
    // A unit before its instances.
    let mut findings = findings.to_vec();
    findings.sort_by_key(|finding| finding.subject.contains('+'));
    for finding in findings {
        let entry = finding.subject.split_once('/').map_or("", |(_, entry)| entry);
        let key = (finding.code, finding.rule.as_ref(), entry, finding.place);
        let at = *known.entry(key).or_insert_with(|| {
            together.push(Alike { first: finding, findings: Vec::new() });
            together.len() - 1
        });
        together[at].findings.push(finding);
    }
    together.sort_by_key(|alike| (std::cmp::Reverse(alike.first.severity), alike.first.code));
    together
}

/// Whether a finding after another of its sort is told in one line: what warnings and circles say
/// is the same each time but for the place.
fn is_repeated(first: &Finding, other: &Finding) -> bool {
    (first.code, &first.rule) == (other.code, &other.rule)
        && (first.severity == Severity::Warning && other.severity == Severity::Warning
            || first.code == Code::ReferenceCircle)
}

fn in_short(ledger: &Ledger, alike: &Alike<'_>) -> String {
    let at = alike.first.place.map(|place| ledger.files.locate(place).to_string());
    format!("  also {}  {}", at.unwrap_or_default(), label(alike))
}

/// The addresses of all findings that are alike: `unit/entry@test, @staging, unit+kiosk/…`.
fn label(alike: &Alike<'_>) -> String {
    let mut label = String::new();
    let mut before = "";
    for finding in &alike.findings {
        if !label.is_empty() {
            label.push_str(", ");
        }
        if finding.subject != before {
            label.push_str(&finding.subject);
            before = &finding.subject;
        }
        if let Some(stage) = &finding.stage {
            label.push('@');
            label.push_str(stage);
        }
    }
    label
}

fn notes(ledger: &Ledger, finding: &Finding) -> Vec<String> {
    if finding.needed_by.is_empty() {
        return Vec::new();
    }
    let names = finding.needed_by.iter().map(|&unit| ledger.unit(unit).name.as_str());
    let mut names: Vec<&str> = names.collect();
    let more = names.len().saturating_sub(MOST_NAMED);
    names.truncate(MOST_NAMED);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    vec![format!("needed by {}{more}", names.join(", "))]
}
