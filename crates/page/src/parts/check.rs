//! What is missing, wrong or unused.

use std::collections::BTreeMap;
use std::sync::Arc;

use cledger_core::findings::{Finding, Severity};
use cledger_work::check::{Ages, ToCheck, check};
use cledger_work::shown::{Tone, counted, severity};
use cledger_work::{Kind, Trouble, Workplace};

use crate::model::{Bars, Block, Cell, Row, Section, Table};

/// The findings where patterns cover them; what is new since a revision where one is named.
pub(super) fn section(
    at: &Arc<Workplace>,
    patterns: &[String],
    against: Option<&str>,
) -> Result<(Section, Option<Kind>), Trouble> {
    let asked =
        ToCheck { patterns: patterns.to_vec(), against: against.map(str::to_owned), ..ToCheck::default() };
    let checked = check(at, &asked)?;
    let (errors, warnings) = (checked.report.count(Severity::Error), checked.report.count(Severity::Warning));
    let new = against.map(|revision| format!(" new since {revision}")).unwrap_or_default();
    let mut said = format!("{} and {}{new}.", counted(errors, "error"), counted(warnings, "warning"));
    if let Some(older) = checked.older {
        said.push_str(&format!(" {} were there before.", counted(older, "finding")));
    }
    let tone = match (errors, warnings) {
        (0, 0) => Tone::Good,
        (0, _) => Tone::Doubtful,
        _ => Tone::Bad,
    };
    let mut blocks = vec![Block::Text(said, tone)];
    let waived = checked.report.waived.len();
    if waived > 0 {
        let is = if waived == 1 { "is" } else { "are" };
        blocks.push(Block::Text(format!("{} {is} waived.", counted(waived, "finding")), Tone::Quiet));
    }
    if !checked.report.unreadable.is_empty() {
        let count = counted(checked.report.unreadable.len(), "secret");
        blocks.push(Block::Text(format!("{count} not judged: their keys are not at hand."), Tone::Doubtful));
    }
    // What is new is as old as the revision that it is new since.
    let ages = if against.is_none() { Ages::of(at, &asked) } else { Ages::default() };
    if let Some(reason) = &ages.not_known {
        blocks.push(Block::Text(
            format!("How old findings are is not known in full: {reason}"),
            Tone::Doubtful,
        ));
    }
    blocks.extend(by_code(&checked.report.findings));
    blocks.extend(by_age(&checked.report.findings, &ages));
    let has_ages = checked.report.findings.iter().any(|finding| ages.said(finding).is_some());
    let row = |(at, finding): (usize, &Finding)| {
        let place = finding.place.map(|place| {
            let at = checked.ledger.files.locate(place);
            format!("{}:{}", at.file, at.line)
        });
        let (word, tone) = severity(finding.severity);
        let mut cells = vec![
            Cell::plain(&finding.address),
            Cell::toned(word, tone),
            Cell::plain(finding.kind()),
            Cell { note: Some(finding.help.clone()), ..Cell::plain(&finding.message) },
            Cell::toned(place.unwrap_or_default(), Tone::Quiet),
        ];
        cells.extend(has_ages.then(|| Cell::plain(ages.said(finding).unwrap_or_default())));
        Row { id: format!("{}-{}", at + 1, finding.address), cells, differs: false, lacks: tone == Tone::Bad }
    };
    let rows: Vec<Row> = checked.report.findings.iter().enumerate().map(row).collect();
    if !rows.is_empty() {
        let heads = ["address", "", "code", "what is wrong", "where"].into_iter();
        let heads = heads.chain(has_ages.then_some("began")).map(str::to_owned).collect();
        blocks.push(Block::Table(Table { title: None, heads, rows, folded: false }));
    }
    let kind = (errors > 0).then_some(Kind::Found);
    Ok((Section { id: "check".to_owned(), title: "Findings".to_owned(), blocks }, kind))
}

/// How many findings there are of each code, the most first.
fn by_code(findings: &[Finding]) -> Option<Block> {
    let mut counts: BTreeMap<(String, Severity), usize> = BTreeMap::new();
    for finding in findings {
        *counts.entry((finding.kind().into_owned(), finding.severity)).or_default() += 1;
    }
    let mut bars: Vec<(String, usize, Tone)> =
        counts.into_iter().map(|((code, severity), count)| bar(&code, severity, count)).collect();
    bars.sort_by_key(|(_, count, _)| std::cmp::Reverse(*count));
    (bars.len() > 1).then(|| Block::Bars(Bars { title: "Findings by code".to_owned(), bars }))
}

/// How many findings began within which time, the youngest first, errors and warnings apart.
fn by_age(findings: &[Finding], ages: &Ages) -> Option<Block> {
    let mut counts: BTreeMap<(String, Severity), usize> = BTreeMap::new();
    for finding in findings {
        *counts.entry((ages.said(finding)?, finding.severity)).or_default() += 1;
    }
    let names = ages.names();
    let bars: Vec<(String, usize, Tone)> = names
        .iter()
        .flat_map(|age| [Severity::Error, Severity::Warning].map(|severity| (age.clone(), severity)))
        .filter_map(|of| Some(bar(&format!("began {}", of.0), of.1, *counts.get(&of)?)))
        .collect();
    (!bars.is_empty()).then(|| Block::Bars(Bars { title: "Findings by age".to_owned(), bars }))
}

fn bar(of: &str, of_severity: Severity, count: usize) -> (String, usize, Tone) {
    let (word, tone) = severity(of_severity);
    (format!("{of} ({word})"), count, tone)
}
