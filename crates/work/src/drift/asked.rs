//! What somebody wants to take over: fields one by one, and all that patterns cover.

use std::collections::BTreeSet;

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::adopt::entry_name;
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::FieldId;

use crate::drift::follow::{is_of_shared, of_shared};
use crate::drift::live::{Live, Lives};
use crate::meant::with_stage;
use crate::reality::captured::NOTHING_OF_UNIT;
use crate::reality::delivered::{NOT_PART, NOTHING_THEN};
use crate::trouble::Trouble;

/// What somebody wants.
pub(crate) struct Asked(Vec<AskedOne>);

enum AskedOne {
    Field(Address),
    Pattern(Pattern),
}

/// One thing that is to be taken over.
pub(crate) enum Wish {
    /// A field that is declared.
    Field(Address),
    /// A name that no contract has.
    New(Address),
    /// A field that a pattern covers.
    Covered(Address),
    /// A name that a pattern covers and no contract has.
    CoveredNew(Address),
    /// A pattern of which all is there as the ledger says.
    Agrees(String),
}

impl Asked {
    /// Reads addresses and patterns; those that name no stage are of this one.
    pub(crate) fn read(texts: &[String], stage: Option<&Name>) -> Result<Self, Trouble> {
        let mut asked = Vec::new();
        for text in texts {
            let entry = text.split('@').next().unwrap_or_default().contains('/');
            asked.push(if entry && !text.contains(['*', '?']) {
                let address = Address::parse(text)?;
                if address.stage.is_none() && stage.is_none() {
                    return Err(no_stage(text));
                }
                AskedOne::Field(with_stage(address, stage)?)
            } else {
                let text = match stage {
                    Some(stage) if !text.contains('@') => format!("{text}@{stage}"),
                    _ => text.clone(),
                };
                let pattern = Pattern::parse(&text)?;
                if !pattern.has_stage() {
                    return Err(no_stage(&text));
                }
                AskedOne::Pattern(pattern)
            });
        }
        Ok(Self(asked))
    }

    /// What has to be looked at: the units of the fields, and all of a stage where a value may be in common.
    pub(crate) fn places(&self, ledger: &Ledger) -> Result<Vec<Pattern>, Trouble> {
        let mut texts = BTreeSet::new();
        for one in &self.0 {
            texts.insert(match one {
                AskedOne::Pattern(pattern) => {
                    let text = pattern.to_string();
                    format!("@{}", text.split_once('@').map_or("*", |(_, stage)| stage))
                }
                AskedOne::Field(address) => {
                    let stage = address.stage.as_ref().map(ToString::to_string).unwrap_or_default();
                    match &address.owner {
                        Some(Owner::Unit(unit, _)) if !may_be_shared(ledger, unit, address) => {
                            format!("{unit}@{stage}")
                        }
                        _ => format!("@{stage}"),
                    }
                }
            });
        }
        Ok(texts.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?)
    }

    /// Whether something of a unit or instance is to be taken over.
    pub(crate) fn covers(&self, owner: &Owner) -> bool {
        let (unit, instance) = owner.names();
        self.0.iter().any(|one| match one {
            AskedOne::Pattern(pattern) => pattern.covers_owner(unit, instance),
            AskedOne::Field(address) => address.owner.as_ref() == Some(owner),
        })
    }

    /// What there is to be taken over.
    pub(crate) fn wishes(&self, lives: &Lives<'_>) -> Result<Vec<Wish>, Trouble> {
        let mut wishes = Vec::new();
        for one in &self.0 {
            match one {
                AskedOne::Field(address) if is_declared(lives.ledger, address) => {
                    wishes.push(Wish::Field(address.clone()));
                }
                AskedOne::Field(address) => wishes.push(Wish::New(address.clone())),
                AskedOne::Pattern(pattern) => covered(pattern, lives, &mut wishes)?,
            }
        }
        Ok(wishes)
    }
}

fn no_stage(text: &str) -> Trouble {
    Trouble::usage(format!("`{text}` names no stage, and only stages are live"))
        .help("write @STAGE behind the field")
}

/// Whether an entry of this name is declared.
pub(crate) fn is_declared(ledger: &Ledger, address: &Address) -> bool {
    let (Some(owner), Some(entry)) = (&address.owner, &address.entry) else { return true };
    let subject = match owner {
        Owner::Shared => Some(Subject::Shared),
        Owner::Unit(unit, _) => ledger.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None)),
    };
    subject.is_none_or(|subject| ledger.entry_names(subject).any(|known| known == entry.as_str()))
}

/// Whether an entry of a unit is one that others use as well.
fn may_be_shared(ledger: &Ledger, unit: &Name, address: &Address) -> bool {
    let Some(subject) = ledger.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None)) else { return false };
    let Some(name) = &address.entry else { return true };
    let mut slots = ledger.slots(subject).all();
    slots.any(|slot| ledger.field(subject, slot).0.name == *name && is_of_shared(ledger, subject, slot))
}

/// Whether what is looked at in place of outlets simply has nothing of a unit.
fn has_nothing(reason: &str) -> bool {
    [NOTHING_OF_UNIT, NOT_PART, NOTHING_THEN].contains(&reason)
}

/// What a pattern covers of all that has drifted.
fn covered(pattern: &Pattern, lives: &Lives<'_>, wishes: &mut Vec<Wish>) -> Result<(), Trouble> {
    let ledger = lives.ledger;
    let is_covered_owner = |subject: Subject, stage: &str| {
        let owner = ledger.owner(subject);
        let (unit, instance) = owner.names();
        pattern.covers_stage(stage)
            && (pattern.covers_owner(unit, instance) || pattern.covers_owner("shared", None))
    };
    // What is kept of some units has nothing of others, and a pattern of many names means those that it has.
    let is_of_many = Address::parse(&pattern.to_string()).is_ok_and(|it| it.owner.is_none())
        || pattern.to_string().split(['/', '@']).next().is_some_and(|owner| owner.contains(['*', '?']));
    let mut not_known = lives.not_known().filter(|(.., reason)| !(is_of_many && has_nothing(reason)));
    if let Some((subject, _, reason)) =
        not_known.find(|(subject, stage, _)| is_covered_owner(*subject, ledger.stage(*stage).name.as_str()))
    {
        let message = format!("nobody can tell what `{}` has there: {reason}", ledger.owner(subject));
        return Err(Trouble::outside(message).help("name fewer units or stages"));
    }
    let mut known = BTreeSet::new();
    let before = wishes.len();
    for live in lives.all().iter().filter(|live| !live.drifted.waived && !follows_from_others(live, lives)) {
        let covers = |address: &Address| pattern.covers(address);
        let wish = match live.slot {
            Some(slot) => addresses(ledger, live, slot).into_iter().find(covers).map(Wish::Covered),
            None => new_address(ledger, live).filter(covers).map(Wish::CoveredNew),
        };
        if let Some(wish @ (Wish::Covered(_) | Wish::CoveredNew(_))) = wish {
            let (Wish::Covered(address) | Wish::CoveredNew(address)) = &wish else { continue };
            if known.insert(address.to_string()) {
                wishes.push(wish);
            }
        }
    }
    if wishes.len() > before {
        return Ok(());
    }
    let covers_something = lives.looked.iter().any(|place| {
        place.looks.iter().any(|look| {
            let mut slots = ledger.slots(look.subject).all();
            slots.any(|slot| {
                let field = FieldId { subject: look.subject, stage: place.place.stage, slot };
                let shared = of_shared(ledger, look.subject, slot, place.place.stage);
                pattern.covers(&ledger.address(field)) || shared.is_some_and(|shared| pattern.covers(&shared))
            })
        })
    });
    if !covers_something {
        let message = format!("`{pattern}` covers nothing that was looked at");
        return Err(Trouble::usage(message).help("`cledger drift` shows what is there"));
    }
    wishes.push(Wish::Agrees(pattern.to_string()));
    Ok(())
}

/// The addresses of a field that has drifted: as the unit sees it, and as the shared entry that it is of.
fn addresses(ledger: &Ledger, live: &Live<'_>, slot: cledger_core::model::Slot) -> Vec<Address> {
    let own = ledger.address(FieldId { subject: live.subject, stage: live.stage, slot });
    std::iter::once(own).chain(of_shared(ledger, live.subject, slot, live.stage)).collect()
}

/// The address that a name would have which no contract has.
fn new_address(ledger: &Ledger, live: &Live<'_>) -> Option<Address> {
    let stage = &ledger.stage(live.stage).name;
    let name = entry_name(&live.drifted.steps)?;
    Some(Address::of_field(ledger.owner(live.subject), &name, None, Some(stage)))
}

/// Whether a field is worked out from others of its entry, of which one has drifted, too.
fn follows_from_others(live: &Live<'_>, lives: &Lives<'_>) -> bool {
    let (ledger, Some(slot)) = (lives.ledger, live.slot) else { return false };
    let (entry, field) = ledger.field(live.subject, slot);
    field.derived
        && ledger.slots(live.subject).all().any(|other| {
            let (of, declared) = ledger.field(live.subject, other);
            !declared.derived
                && of.name == entry.name
                && lives.of_field((live.subject, live.stage, other)).next().is_some()
        })
}
