//! What is missing, wrong or unused.

use std::collections::BTreeMap;
use std::sync::Arc;

use cledger_core::findings::{Finding, Severity};
use cledger_work::check::{ToCheck, check};
use cledger_work::shown::{Tone, counted};
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
    blocks.extend(bars(&checked.report.findings));
    let row = |(at, finding): (usize, &Finding)| {
        let place = finding.place.map(|place| {
            let at = checked.ledger.files.locate(place);
            format!("{}:{}", at.file, at.line)
        });
        let is_error = finding.severity == Severity::Error;
        let (word, tone) = if is_error { ("error", Tone::Bad) } else { ("warning", Tone::Doubtful) };
        let cells = vec![
            Cell::plain(&finding.address),
            Cell::toned(word, tone),
            Cell::plain(finding.kind()),
            Cell { note: Some(finding.help.clone()), ..Cell::plain(&finding.message) },
            Cell::toned(place.unwrap_or_default(), Tone::Quiet),
        ];
        Row { id: format!("{}-{}", at + 1, finding.address), cells, differs: false, lacks: is_error }
    };
    let rows: Vec<Row> = checked.report.findings.iter().enumerate().map(row).collect();
    if !rows.is_empty() {
        let heads = ["address", "", "code", "what is wrong", "where"].map(str::to_owned).into();
        blocks.push(Block::Table(Table { title: None, heads, rows, folded: false }));
    }
    let kind = (errors > 0).then_some(Kind::Found);
    Ok((Section { id: "check".to_owned(), title: "Findings".to_owned(), blocks }, kind))
}

/// How many findings there are of each code, the most first.
fn bars(findings: &[Finding]) -> Option<Block> {
    let mut counts: BTreeMap<(String, bool), usize> = BTreeMap::new();
    for finding in findings {
        *counts.entry((finding.kind().into_owned(), finding.severity == Severity::Error)).or_default() += 1;
    }
    let bar = |((code, is_error), count)| {
        let (word, tone) = if is_error { ("error", Tone::Bad) } else { ("warning", Tone::Doubtful) };
        (format!("{code} ({word})"), count, tone)
    };
    let mut bars: Vec<(String, usize, Tone)> = counts.into_iter().map(bar).collect();
    bars.sort_by_key(|(_, count, _)| std::cmp::Reverse(*count));
    (bars.len() > 1).then(|| Block::Bars(Bars { title: "Findings by code".to_owned(), bars }))
}
