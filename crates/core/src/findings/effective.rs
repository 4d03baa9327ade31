//! What shows only where a unit is resolved for a stage: problems of references, types and
//! constraints of expanded values, and (in [`super::missing`]) what has no value.

use std::collections::BTreeSet;

use super::bounds::Bounds;
use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called, whose};
use super::missing;
use super::plain::is_plain_secret;
use crate::model::{
    Class, Declaration, Entry, Form, Kind, Ledger, Required, Setting, SettingValue, Slot, StageId, Subject,
    Verdict,
};
use crate::name::Name;
use crate::reference;
use crate::resolve::{Effective, FieldId, Outcome, Problem, ProblemCode, Session, Unread, Winner};
use crate::value::Held;

/// The most fields around a circle that a message names.
const MOST_NAMED: usize = 60;

/// Gives the addresses of secrets that could not be judged, since their keys are not at hand.
pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) -> BTreeSet<String> {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let mut unreadable = BTreeSet::new();
    let mut todo = Vec::new();
    for (subject, stage) in bounds.places_of(id) {
        open_fields(checking, (subject, stage), &mut todo);
        let session = &mut *checking.session;
        for &slot in &todo {
            let field = FieldId { subject, stage, slot };
            if session.is_fine_for_all(field) {
                continue;
            }
            let found = of_field(session, field);
            if is_cipher(session, field) && is_unreadable(&session.outcome(field)) && covers(bounds, field) {
                let whose = whose(ledger, session, field, is_unreadable);
                unreadable.insert(ledger.address(whose).to_string());
            }
            for mut finding in found {
                let here = &mut checking.standing.stages[usize::from(stage.0)];
                here.count(bounds.counts(&finding));
                if finding.unit.is_none() {
                    finding.needed_by.push(id);
                }
                // What is wrong with a setting as it stands is told there.
                if !is_told_elsewhere(session, field, &finding) && covers(bounds, field) {
                    checking.findings.push(finding);
                }
            }
        }
    }
    unreadable
}

/// Whether a cipher text wins for a field.
fn is_cipher(session: &mut Session<'_, '_>, field: FieldId) -> bool {
    let winner = session.winners(field.subject, field.stage)[field.slot.0 as usize];
    matches!(winner, Winner::Set(setting, ..) if matches!(setting.value, SettingValue::Cipher(_)))
}

/// Whether it is a cipher text whose key is not at hand.
fn is_unreadable(outcome: &Outcome<'_>) -> bool {
    let of_cipher = |value: &Effective<'_>| value.unread() == Some(Unread::NoKey) && value.through.is_none();
    outcome.value().is_some_and(of_cipher)
}

fn covers(bounds: &Bounds<'_>, field: FieldId) -> bool {
    let ledger = bounds.ledger;
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let shared = ledger.slots(field.subject).entry_of(field.slot).0.entry.shared().is_some();
    let owner = ledger.owner(field.subject);
    let (owner, instance) = owner.names();
    (bounds.covers_owner(owner, instance) || shared && bounds.covers_owner("shared", None))
        && bounds.covers_field(entry.name.as_str(), declaration.name.as_ref().map(Name::as_str))
}

/// Collects the fields that have to be resolved to be judged. The others have a winner that fits,
/// or need no value.
fn open_fields(
    checking: &mut Checking<'_, '_, '_>,
    (subject, stage): (Subject, StageId),
    todo: &mut Vec<Slot>,
) {
    let (ledger, bounds) = (checking.ledger(), checking.bounds);
    todo.clear();
    let standing = &mut checking.standing.stages[usize::from(stage.0)];
    let production = ledger.stage(stage).class == Class::Production;
    let winners = checking.session.winners(subject, stage);
    for known in &ledger.slots(subject).entries {
        let entry = ledger.entry(subject, known.entry);
        let winners = &winners[known.first as usize..][..entry.fields.len()];
        let any_references = winners.iter().any(may_refer);
        for (slot, (declaration, winner)) in (known.first..).zip(entry.fields.iter().zip(winners)) {
            if let Winner::Set(setting, ..) = winner
                && !declaration.derived
                && is_plain_secret(setting, declaration)
            {
                let usual = if production { Severity::Error } else { Severity::Warning };
                standing.count(bounds.plain_counts(setting.place, usual));
            }
            // A derived field can be part of a circle, but only through its own entry.
            let open = if declaration.derived {
                any_references
            } else {
                is_open(entry, declaration, winner, winners)
            };
            if open {
                todo.push(Slot(slot));
            }
        }
    }
}

/// Whether a field that is not derived has to be resolved to be judged, with these winners for its entry.
fn is_open(entry: &Entry, declaration: &Declaration, winner: &Winner<'_>, winners: &[Winner<'_>]) -> bool {
    match winner {
        Winner::Nothing => is_missed(entry, declaration, winners),
        Winner::Default(default, shared) => {
            default.verdict != Verdict::Fits && !is_certain(declaration, &default.value, *shared)
        }
        Winner::Assumed(_) => true,
        Winner::Set(setting, _, shared) => {
            let is_certain = || match &setting.value {
                SettingValue::Value(held) => is_certain(declaration, held, *shared),
                _ => false,
            };
            setting.verdict != Verdict::Fits && !is_certain()
        }
    }
}

/// The longest text that is certain to have a value without being put together.
const SHORT: usize = 4096;

/// Whether a text has a value of its type in every stage: all that it refers to is always there, and is a name.
fn is_certain(declaration: &Declaration, held: &Held, is_shared: bool) -> bool {
    let text = held.expose().as_text().filter(|text| text.len() <= SHORT);
    let is_of_type = |text: &str| declaration.this_type.fits_with_names(text);
    declaration.constraints.is_none()
        && text.is_some_and(|text| reference::are_always_there(text, is_shared) && is_of_type(text))
}

/// Whether a winner's text may have references in it.
fn may_refer(winner: &Winner<'_>) -> bool {
    match winner {
        Winner::Nothing => false,
        Winner::Assumed(_) => true,
        Winner::Default(default, _) => default.verdict == Verdict::Open,
        Winner::Set(setting, ..) => match &setting.value {
            SettingValue::From(source) => reference::is_in(&source.0),
            SettingValue::Cipher(_) => false,
            SettingValue::Value(_) | SettingValue::Absent => setting.verdict == Verdict::Open,
        },
    }
}

/// Whether a field for which nothing is set is, or may be, in need of a value.
fn is_missed(entry: &Entry, declaration: &Declaration, winners: &[Winner<'_>]) -> bool {
    let needed = match declaration.required {
        Required::Yes => return true,
        Required::No => return false,
        Required::WhenAuth(needed) => needed,
    };
    let auth = match entry.field(Some("auth")).map(|position| &winners[position]) {
        Some(Winner::Default(default, _)) => Some((&default.value, default.verdict)),
        Some(Winner::Set(Setting { value: SettingValue::Value(held), verdict, .. }, ..)) => {
            Some((held, *verdict))
        }
        _ => None,
    };
    match auth {
        Some((held, Verdict::Fits)) => held.expose().as_text().is_none_or(|auth| needed.contains(&auth)),
        _ => true,
    }
}

/// What keeps a field of a subject from having the value that it needs, as `check` says it.
pub fn of_field(session: &mut Session<'_, '_>, field: FieldId) -> Vec<Finding> {
    let ledger = session.ledger();
    if session.value_as_written(field).is_some() {
        return Vec::new();
    }
    match session.outcome(field) {
        Outcome::Absent(_) | Outcome::Unset => Vec::new(),
        Outcome::Missing(because, origin) => {
            let whose = whose(ledger, session, field, |outcome| matches!(outcome, Outcome::Missing(..)));
            vec![missing::finding(ledger, session, field, whose, &because, origin)]
        }
        Outcome::Broken(problems) => problems
            .iter()
            .map(|problem| {
                let code = problem.code;
                let same = |outcome: &Outcome<'_>| match outcome {
                    Outcome::Broken(others) => others.iter().any(|other| other.code == code),
                    _ => false,
                };
                let whose = whose(ledger, session, field, same);
                of_problem(ledger, field, whose, problem)
            })
            .collect(),
        Outcome::Value(effective) => {
            let (entry, declaration) = ledger.field(field.subject, field.slot);
            let rejection = effective.expose().and_then(|value| declaration.rejection(value));
            let Some(rejection) = rejection else { return Vec::new() };
            let whose = whose(ledger, session, field, |outcome| outcome.value().is_some());
            let (called, constraint) = (called(entry, declaration), rejection.constraint);
            let message = format!(
                "{called} comes to what `{constraint}` does not allow: it must be {}",
                rejection.asks
            );
            let mut finding = Finding::of_field(ledger, field, whose, Code::NotAllowed, message);
            finding.place = effective.origin.place;
            finding.help = format!("let it come to {}", rejection.asks);
            vec![finding]
        }
    }
}

/// Whether something keeps fields of a subject that belongs to the stage from having the values that they need: whether
/// [`of_field`] finds anything of any of them.
pub(crate) fn has_gaps(session: &mut Session<'_, '_>, subject: Subject, stage: StageId) -> bool {
    let ledger = session.ledger();
    let is_readable = ledger.broken_for(subject, stage).next().is_none();
    let winners = session.winners(subject, stage);
    // What is fetched is the most likely to be lacking, and what is derived lacks what its parts do.
    let (mut fetched, mut others, mut derived) = (Vec::new(), Vec::new(), Vec::new());
    for known in &ledger.slots(subject).entries {
        let entry = ledger.entry(subject, known.entry);
        let winners = &winners[known.first as usize..][..entry.fields.len()];
        // The rows of a table may refer to others whatever its own text is, and a certificate is read for its last day.
        let is_told =
            is_readable && !matches!(entry.kind, Kind::Table { .. } | Kind::Credential(Form::Certificate));
        for (slot, (declaration, winner)) in (known.first..).zip(entry.fields.iter().zip(winners)) {
            let is_fetched = matches!(winner, Winner::Set(Setting { value: SettingValue::From(_), .. }, ..));
            if declaration.derived {
                derived.push(slot);
            } else if !is_told || is_open(entry, declaration, winner, winners) {
                if is_fetched { fetched.push(slot) } else { others.push(slot) }
            }
        }
    }
    let slots = fetched.into_iter().chain(others).chain(derived);
    let mut fields = slots.map(|slot| FieldId { subject, stage, slot: Slot(slot) });
    fields.any(|field| has_gap(session, field))
}

fn has_gap(session: &mut Session<'_, '_>, field: FieldId) -> bool {
    if session.value_as_written(field).is_some() || session.is_fine_for_all(field) {
        return false;
    }
    match session.outcome(field) {
        Outcome::Absent(_) | Outcome::Unset => false,
        Outcome::Missing(..) | Outcome::Broken(_) => true,
        Outcome::Value(effective) => {
            let declaration = session.ledger().field(field.subject, field.slot).1;
            effective.expose().is_some_and(|value| declaration.rejection(value).is_some())
        }
    }
}

/// Whether a static finding tells of this already.
fn is_told_elsewhere(session: &mut Session<'_, '_>, field: FieldId, finding: &Finding) -> bool {
    let verdict = match session.winners(field.subject, field.stage)[field.slot.0 as usize] {
        Winner::Set(setting, ..) => setting.verdict,
        Winner::Default(default, _) => default.verdict,
        Winner::Nothing | Winner::Assumed(_) => Verdict::Open,
    };
    match finding.code {
        Code::WrongType => verdict == Verdict::WrongType,
        Code::NotAllowed => verdict == Verdict::NotAllowed,
        _ => false,
    }
}

fn of_problem(ledger: &Ledger, field: FieldId, whose: FieldId, problem: &Problem) -> Finding {
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let called = called(entry, declaration);
    let (code, message, help) = match problem.code {
        ProblemCode::WrongType => (
            Code::WrongType,
            format!("the value of {called} has the wrong type: {}", problem.detail),
            format!("write {}, or refer to such a value", declaration.this_type.describe()),
        ),
        // What looks like a reference in a secret may be a part of it.
        ProblemCode::ReferenceUnknown if declaration.secret => (
            Code::ReferenceUnknown,
            format!("{} → a reference in it names nothing, or is not closed", ledger.address(whose)),
            "mend the reference, or write `$${` for a literal `${`".to_owned(),
        ),
        ProblemCode::ReferenceUnknown => (
            Code::ReferenceUnknown,
            format!("{} → {}", ledger.address(whose), problem.detail),
            "mend the reference, or write `$${` for a literal `${`".to_owned(),
        ),
        ProblemCode::ReferenceCircle => (
            Code::ReferenceCircle,
            format!("{called} refers to itself: {}", circle(ledger, whose, &problem.path)),
            "give one of these fields a value without a reference".to_owned(),
        ),
        ProblemCode::CipherUnreadable => (
            Code::CipherUnreadable,
            format!("{called} cannot be read: {}", problem.detail),
            format!(
                "take what is damaged back from version control, or: cledger set {} --stdin",
                ledger.address(whose)
            ),
        ),
        ProblemCode::UnreadableFile => (
            Code::UnreadableFile,
            format!("{called} is not known in `{}`: {}", ledger.stage(field.stage).name, problem.detail),
            "mend that file: `cledger check` shows what is wrong with it".to_owned(),
        ),
        ProblemCode::ValueTooLong => (
            Code::ValueTooLong,
            format!("{called} has no value: {}", problem.detail),
            "let fewer references repeat what they refer to".to_owned(),
        ),
    };
    let mut finding = Finding::of_field(ledger, field, whose, code, message);
    (finding.place, finding.help) = (problem.origin.place, help);
    finding
}

fn circle(ledger: &Ledger, start: FieldId, path: &[FieldId]) -> String {
    let mut names: Vec<String> =
        path.iter().take(MOST_NAMED).map(|&field| ledger.address(field).to_string()).collect();
    if path.len() > MOST_NAMED {
        names.push(format!("({} more)", path.len() - MOST_NAMED));
    }
    names.push(ledger.address(path.first().copied().unwrap_or(start)).to_string());
    names.join(" → ")
}
