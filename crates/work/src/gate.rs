//! The one gate: whatever leaves the ledger has been judged by everything that is effective for it.

use std::collections::BTreeSet;

use cledger_core::findings::{self, Finding};
use cledger_core::model::{Class, Ledger, StageId, Subject};
use cledger_core::resolve::Resolver;

use crate::opened::Opened;
use crate::trouble::Trouble;

/// What holds up these units and instances on their way out of a stage: errors that nobody has waived, of their own
/// fields, their shared entries, their instances, their rules, and of what their values are made of.
pub(crate) fn holding_up(
    opened: &Opened,
    resolver: &Resolver<'_>,
    subjects: &[Subject],
    stage: StageId,
) -> Result<Vec<Finding>, Trouble> {
    let wanted: Vec<(Subject, StageId)> = subjects.iter().map(|&subject| (subject, stage)).collect();
    Ok(findings::gate(resolver, &wanted, Some(opened.at.today()?)))
}

/// The codes of what could not be judged, since files cannot be read.
fn not_judged(ledger: &Ledger) -> Option<String> {
    let codes: Vec<&str> = findings::not_judged(ledger).iter().map(|code| code.name()).collect();
    (!codes.is_empty()).then(|| codes.join(", "))
}

/// Tells what could not be judged, since files cannot be read.
pub(crate) fn tell_not_judged(opened: &Opened) {
    if let Some(codes) = not_judged(&opened.ledger) {
        opened.at.telling.notice(&format!("Not judged beside what cannot be read: {codes}."));
    }
}

/// Refuses a delivery to a production stage of which something could not be judged; tells it of other stages.
pub(crate) fn refuse_not_judged(opened: &Opened, stage: StageId) -> Result<(), Trouble> {
    let (ledger, here) = (&opened.ledger, opened.ledger.stage(stage));
    let Some(codes) = not_judged(ledger).filter(|_| here.class == Class::Production) else {
        tell_not_judged(opened);
        return Ok(());
    };
    let paths: Vec<String> =
        ledger.broken.0.iter().map(|file| file.path.escape_debug().to_string()).collect();
    let name = &here.name;
    let message =
        format!("`{name}` is a production stage, and this is not judged beside what cannot be read: {codes}");
    Err(Trouble::refused(message)
        .help(format!("mend {}: `cledger check` shows what is wrong", paths.join(", "))))
}

/// These findings, each once: a shared entry's gap is one gap, however many units show it.
pub(crate) fn each_once(mut findings: Vec<Finding>) -> Vec<Finding> {
    let mut known = BTreeSet::new();
    let is_first: Vec<bool> = findings.iter().map(|it| known.insert((it.key(), it.place))).collect();
    let mut is_first = is_first.into_iter();
    findings.retain(|_| is_first.next() == Some(true));
    findings
}

/// Says what would hold up what the ledger makes now, where an earlier content goes out in its place.
pub(crate) fn tell_now(opened: &Opened, errors: &[Finding]) {
    let Some(first) = errors.first() else { return };
    let more = if errors.len() > 1 { format!(", and {} more", errors.len() - 1) } else { String::new() };
    let (code, address) = (first.code, &first.address);
    opened.at.telling.notice(&format!(
        "What the ledger says by now would be held up: {code} of {address}{more}; `cledger check {address}` shows it."
    ));
}
