//! Where a value comes from: every candidate for a field, which one wins, and why the others do not.

use crate::address::Owner;
use crate::model::{Follow, Kind, Ledger, Note, Setting, SettingValue, Subject, Vary};
use crate::name::Name;
use crate::output;
use crate::resolve::{Effective, FieldId, Layer, Link, Origin, Outcome, Resolver, Winner, default_counts};
use crate::source::Place;
use crate::value::Held;

/// What a candidate says.
#[derive(Debug, Clone, Copy)]
pub enum Saying<'l> {
    /// This value, as it is written.
    Value(&'l Held),
    /// None, on purpose.
    Absent,
    /// What is found there.
    From(&'l str),
    /// What a cipher text opens to.
    Encrypted,
}

/// How a candidate fares.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// It wins.
    Wins,
    /// A stronger one wins.
    Weaker,
    /// Its rows count, where no stronger one has a row of the same key.
    Merged,
    /// It does not count, for this reason.
    NotCounted(&'static str),
}

/// One place where a field could get its value from.
#[derive(Debug, Clone)]
pub struct Candidate<'l> {
    /// Its layer.
    pub layer: Layer,
    /// For whom it was written.
    pub whose: Owner,
    /// Where it stands; `None` where the kind of entry or this run gives it.
    pub place: Option<Place>,
    /// What it says.
    pub says: Saying<'l>,
    /// Why it is so and until when, where that is said.
    pub note: Option<&'l Note>,
    /// How it fares.
    pub standing: Standing,
}

/// A rendered file in which a field ends up, and its name there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct End {
    /// The file's path below the unit's folder.
    pub path: String,
    /// The name in it.
    pub name: output::OutputName,
}

/// All candidates for a field, from weakest to strongest.
pub fn candidates<'l>(resolver: &Resolver<'l>, field: FieldId) -> Vec<Candidate<'l>> {
    let ledger = resolver.ledger();
    let FieldId { subject, stage, slot } = field;
    let (entry, declaration) = ledger.field(subject, slot);
    let (slot_entry, position) = ledger.slots(subject).entry_of(slot);
    let mut found: Vec<Candidate<'l>> = Vec::new();
    let shared = match (slot_entry.entry.shared(), subject) {
        (Some(id), _) => Some(usize::from(id.0)),
        (None, Subject::Shared) => ledger.shared.iter().position(|known| known.name == entry.name),
        (None, Subject::Unit(..)) => None,
    };
    let declared_by = if shared.is_some() { Owner::Shared } else { unit_owner(ledger, subject) };
    if let Some(default) = &declaration.default {
        let counts = default_counts(declaration, ledger.stage(stage).class);
        let standing = if counts {
            Standing::Weaker
        } else {
            Standing::NotCounted("outside class development each stage must state its own")
        };
        let (says, place) = (Saying::Value(&default.value), default.place);
        let (layer, whose) = (Layer::Default, declared_by);
        found.push(Candidate { layer, whose, place, says, note: None, standing });
    }
    for link in resolver.chain(stage) {
        if let Some(shared) = shared {
            let settings = ledger.layer(link.layer).shared.get(shared);
            let setting = settings.into_iter().flatten().find(|setting| setting.slot.0 as usize == position);
            found.extend(setting.map(|setting| candidate(ledger, link, field, Subject::Shared, setting)));
        }
        let Subject::Unit(id, instance) = subject else { continue };
        let settings = ledger.unit_layer(ledger.unit(id), link.layer);
        let unit = settings.unit.iter().find(|setting| setting.slot == slot);
        found.extend(unit.map(|setting| candidate(ledger, link, field, Subject::Unit(id, None), setting)));
        let own = settings.instances.iter().filter(|(known, ..)| Some(*known) == instance);
        let own = own.flat_map(|(.., settings)| settings).find(|setting| setting.slot == slot);
        found.extend(own.map(|setting| candidate(ledger, link, field, subject, setting)));
    }
    let winner = resolver.session(None).winners(subject, stage)[slot.0 as usize];
    if let Winner::Assumed(assumption) = winner {
        let (says, whose) = (Saying::Value(&assumption.value), ledger.owner(subject));
        let (layer, standing) = (Layer::Run, Standing::Weaker);
        found.push(Candidate { layer, whose, place: None, says, note: None, standing });
    }
    if let Kind::Table { .. } = entry.kind {
        merge(&mut found);
    } else if let Some(strongest) = found.iter_mut().rfind(|candidate| candidate.standing == Standing::Weaker)
    {
        strongest.standing = Standing::Wins;
    }
    found
}

/// The candidates for a lookup table: all add their rows, back to one that says there are none.
fn merge(candidates: &mut [Candidate<'_>]) {
    let mut strongest = true;
    for candidate in candidates.iter_mut().rev().filter(|one| one.standing == Standing::Weaker) {
        if let Saying::Absent = candidate.says {
            candidate.standing = if strongest { Standing::Wins } else { Standing::Merged };
            break;
        }
        candidate.standing = Standing::Merged;
        strongest = false;
    }
}

fn unit_owner(ledger: &Ledger, subject: Subject) -> Owner {
    match subject {
        Subject::Unit(unit, _) => ledger.owner(Subject::Unit(unit, None)),
        Subject::Shared => Owner::Shared,
    }
}

fn candidate<'l>(
    ledger: &'l Ledger,
    link: &Link<'l>,
    field: FieldId,
    whose: Subject,
    setting: &'l Setting,
) -> Candidate<'l> {
    let says = match &setting.value {
        SettingValue::Value(held) => Saying::Value(held),
        SettingValue::Absent => Saying::Absent,
        SettingValue::From(source) => Saying::From(&source.0),
        SettingValue::Cipher(_) => Saying::Encrypted,
    };
    let standing = reason(ledger, link, field, whose).map_or(Standing::Weaker, Standing::NotCounted);
    let whose = ledger.owner(whose);
    let (place, note) = (Some(setting.place), setting.note.as_deref());
    Candidate { layer: link.origin, whose, place, says, note, standing }
}

/// Why a setting of a layer does not count for a field, if it does not.
fn reason(ledger: &Ledger, link: &Link<'_>, field: FieldId, whose: Subject) -> Option<&'static str> {
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let followed = !link.follows.is_empty();
    if declaration.derived {
        return Some("it is derived from other fields");
    }
    match declaration.vary {
        Vary::Never => return Some("it is the same everywhere: only the default counts"),
        Vary::Must if followed => return Some("each stage must state its own"),
        Vary::Must | Vary::May => {}
    }
    let owner = ledger.owner(whose);
    let name = declaration.name.as_ref().map(Name::as_str);
    let lets_through =
        |follow: &&Follow| follow.of_owner(owner.names()).lets_through(entry.name.as_str(), name);
    if !link.follows.iter().all(lets_through) {
        return Some("the follow leaves it out");
    }
    if let Subject::Unit(unit, instance) = whose
        && !link.follows.iter().all(|follow| ledger.unit(unit).belongs_to(follow.stage, instance))
    {
        return Some("the unit does not belong to the stage that is followed");
    }
    None
}

/// The rendered files in which a unit's field ends up with what it comes to.
pub fn ends(ledger: &Ledger, field: FieldId, outcome: &Outcome<'_>) -> Vec<End> {
    let Subject::Unit(unit, _) = field.subject else { return Vec::new() };
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let unit = ledger.unit(unit);
    let is_secret = outcome.value().map_or(declaration.secret, Effective::is_secret);
    let outputs = unit
        .outputs
        .iter()
        .filter(|output| output.is_in(field.stage))
        .filter(|output| output.holds(unit, entry, declaration) && output.secrets.takes(is_secret));
    let ends = outputs.filter_map(|output| {
        let name = output.name_in(ledger, field.subject, field.stage, field.slot).ok()?;
        let path = output.path.expand(ledger, field.subject, field.stage).ok()?.into_owned();
        Some(End { path, name })
    });
    ends.collect()
}

/// Where an outcome's text stands, if it has one.
pub fn origin(outcome: &Outcome<'_>) -> Option<Origin> {
    match outcome {
        Outcome::Value(effective) => Some(effective.origin),
        Outcome::Absent(origin) => Some(*origin),
        Outcome::Missing(_, origin) => *origin,
        Outcome::Broken(problems) => problems.first().map(|problem| problem.origin),
        Outcome::Unset => None,
    }
}
