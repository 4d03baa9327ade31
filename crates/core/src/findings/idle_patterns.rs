//! `idle-pattern`: patterns in `ledger.toml` that cover nothing, as after a name was mistyped or taken out.

use super::bounds::Bounds;
use super::code::{Code, Severity};
use super::finding::Finding;
use crate::address::{Address, Pattern};
use crate::model::{Ledger, Stage};
use crate::source::Place;

pub(super) fn all(bounds: &Bounds<'_>, findings: &mut Vec<Finding>) {
    let ledger = bounds.ledger;
    if !bounds.is_of_declarations() || ledger.broken.misses_units() {
        return;
    }
    for stage in &ledger.stages {
        let own = stage.own.iter().map(|pattern| ("own", pattern, stage.place));
        let follows = stage.follows.iter().flat_map(|follow| {
            let only = follow.only.iter().map(|pattern| ("only", pattern));
            let except = follow.except.iter().map(|pattern| ("except", pattern));
            only.chain(except).map(|(word, pattern)| (word, pattern, follow.place))
        });
        findings.extend(own.chain(follows).filter_map(|idle| of(ledger, Some(stage), idle)));
    }
    let units = ledger
        .outlets
        .iter()
        .flat_map(|outlet| outlet.units.iter().map(|pattern| ("units", pattern, outlet.place)));
    let members = ledger
        .bundles
        .iter()
        .flat_map(|bundle| bundle.units.iter().map(|pattern| ("units", pattern, bundle.place)));
    findings.extend(units.chain(members).filter_map(|idle| of(ledger, None, idle)));
}

fn of(
    ledger: &Ledger,
    stage: Option<&Stage>,
    (word, pattern, place): (&str, &Pattern, Place),
) -> Option<Finding> {
    ledger.idle(pattern)?;
    let name = stage.map(|stage| stage.name.clone());
    let address = Address { owner: None, entry: None, field: None, stage: name, delivery: None };
    Some(Finding {
        code: Code::IdlePattern,
        severity: Severity::Warning,
        address: stage.map(|_| address.to_string()).unwrap_or_default(),
        subject: String::new(),
        stage: stage.map(|stage| stage.name.to_string()),
        unit: None,
        message: format!("`{pattern}` in `{word}` covers nothing of the ledger"),
        place: Some(place),
        hides_value: false,
        help: "mend the pattern, or take it out".to_owned(),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    })
}
