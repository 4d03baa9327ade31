//! What is tried of a unit in a stage, and what its contract expects of that.

use super::service::{Auth, Service, Target, Wanted};
use super::targets::{NotTried, address, of_slot_entry};
use crate::model::{Expectation, Kind, StageId, Subject};
use crate::resolve::Session;

/// The services of a subject in a stage where it belongs: what its contract expects, and beside that all its
/// connections and endpoints, of which nothing else is expected than that they answer.
pub fn targets(
    session: &mut Session<'_, '_>,
    subject: Subject,
    stage: StageId,
) -> (Vec<Target>, Vec<NotTried>) {
    let ledger = session.ledger();
    let (mut found, mut not_tried) = of_contract(session, subject, stage);
    let expectations = expectations(session, subject, stage);
    for slot_entry in &ledger.slots(subject).entries {
        let entry = ledger.entry(subject, slot_entry.entry);
        let is_expected = |it: &&Expectation| it.entry == entry.name && it.is_of_entry();
        let is_service = matches!(entry.kind, Kind::Connection { .. } | Kind::Endpoint);
        if !is_service || expectations.iter().any(is_expected) {
            continue;
        }
        match of_slot_entry(session, *slot_entry, (subject, stage)) {
            Ok(targets) => found.extend(targets),
            Err(without) => not_tried.push(without),
        }
    }
    (found, not_tried)
}

/// What the contract of a subject expects in a stage.
pub fn of_contract(
    session: &mut Session<'_, '_>,
    subject: Subject,
    stage: StageId,
) -> (Vec<Target>, Vec<NotTried>) {
    let ledger = session.ledger();
    let (mut found, mut not_tried) = (Vec::new(), Vec::new());
    for expectation in expectations(session, subject, stage) {
        let mut slots = ledger.slots(subject).entries.iter();
        let slot_entry = slots.find(|it| ledger.entry(subject, it.entry).name == expectation.entry);
        // The reader takes no expectation of what the unit does not have.
        let Some(slot_entry) = slot_entry else { continue };
        let address = address(session, ledger.entry(subject, slot_entry.entry), (subject, stage));
        let targets = of_slot_entry(session, *slot_entry, (subject, stage)).and_then(|targets| {
            let expected = targets.into_iter().map(|target| {
                expected(target, expectation, (session, subject, stage))
                    .map_err(|reason| NotTried { address: address.clone(), reason })
            });
            expected.collect::<Result<Vec<_>, _>>()
        });
        match targets {
            Ok(targets) => found.extend(targets),
            Err(NotTried { address, reason }) => {
                not_tried
                    .push(NotTried { address, reason: format!("probe `{}`: {reason}", expectation.name) });
            }
        }
    }
    (found, not_tried)
}

fn expectations<'l>(session: &Session<'_, 'l>, subject: Subject, stage: StageId) -> Vec<&'l Expectation> {
    let Subject::Unit(unit, _) = subject else { return Vec::new() };
    session.ledger().unit(unit).expectations.iter().filter(|it| it.is_in(stage)).collect()
}

/// A target with what is expected of it; the reason why it cannot be tried.
fn expected(
    mut target: Target,
    expectation: &Expectation,
    (session, subject, stage): (&Session<'_, '_>, Subject, StageId),
) -> Result<Target, String> {
    let Expectation { name, expect, text, .. } = expectation;
    target.wanted = Wanted { by: Some(name.clone()), expect: expect.clone(), text: text.clone() };
    if !expectation.is_of_page() {
        return Ok(target);
    }
    let Service::Http { url, auth, .. } = &mut target.service else {
        return Err("only an address that begins with http:// or https:// has pages".to_owned());
    };
    if !expectation.login {
        *auth = Auth::None;
    }
    if let Some(path) = &expectation.path {
        let path = path.expand(session.ledger(), subject, stage).map_err(|missing| missing.to_string())?;
        if url.contains(['?', '#']) {
            return Err("nothing stands below an address that has a query".to_owned());
        }
        *url = format!("{}/{}", url.trim_end_matches('/'), path.trim_start_matches('/'));
    }
    Ok(target)
}
