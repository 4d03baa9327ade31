//! Live values taken over into the ledger.

use std::collections::BTreeSet;

use cledger_core::address::Address;
use cledger_core::adopt::looks_secret;
use cledger_core::drift::NameDrift;
use cledger_core::model::{LayerId, Note, SettingValue, Slot, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Outcome, Resolver};
use cledger_core::types::Type;
use cledger_core::value::Held;
use cledger_outlets::effect::Masking;
use cledger_store::Target;
use zeroize::Zeroizing;

use crate::change::{Changing, Consent, NO_CHANGE};
use crate::drift::asked::{Asked, Wish};
use crate::drift::follow::{Goes, IsKnown, goes, is_shared, seeing};
use crate::drift::live::{Field, Live, Lives, Seen, agreed};
use crate::drift::new_name::{declare, planned};
use crate::drift::rows::take_rows;
use crate::drift::taking::{Changes, Left, With};
use crate::drift::wanted::{LookedAt, Sight, Wanted, see};
use crate::meant::{Place, unit_of};
use crate::opened::Opened;
use crate::reality::captured::NOTHING_OF_UNIT;
use crate::reality::delivered::{NOT_PART, NOTHING_THEN};
use crate::reality::looked::Looked;
use crate::reality::masking::secrets_of;
use crate::set::SettingsChanged;
use crate::setting::{Given, Setter, may_be_set, write};
use crate::shown;
use crate::trouble::{Kind, Trouble};

/// What is to be taken over.
#[derive(Debug, Clone)]
pub struct ToTake {
    /// Fields and patterns of them; `UNIT/NAME@STAGE` for a name that no contract has, which is declared.
    pub fields: Vec<String>,
    /// The stage, where an address names none.
    pub stage: Option<Name>,
    /// What they are taken from.
    pub at: LookedAt,
    /// The day from which last days are counted; today if not given.
    pub today: Option<String>,
    /// Whether secrets may stand in plain text where the stage has no key.
    pub plain_secrets: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What was taken over.
#[derive(Debug)]
pub struct Taken {
    /// What that changes.
    pub changed: SettingsChanged,
    /// What was asked for and is there as the ledger says.
    pub agreeing: Vec<String>,
    /// What stays as it is, each with the reason: a pattern covers it, and it cannot be taken over.
    pub left: Vec<(String, String)>,
}

impl Taken {
    /// What kind of trouble there is: something that was asked for stays.
    pub fn kind(&self) -> Option<Kind> {
        (!self.left.is_empty()).then_some(Kind::Found)
    }
}

/// Takes the live values of fields over, or shows what that would change.
pub fn take(changing: &Changing, asked: &ToTake) -> Result<Taken, Trouble> {
    let mut sight = Sight::read(&asked.at)?;
    let asks = Asked::read(&asked.fields, asked.stage.as_ref().or(sight.stage()))?;
    let opened = &changing.opened;
    sight.find(opened)?;
    let wanted = Wanted::Outlets(asks.places(&opened.ledger)?).within(&sight)?;
    let mut changes = see(opened, &wanted, asked.today.as_deref(), sight, |looked, _, _| {
        changes(changing, asked, &asks, &looked)
    })?;
    let planned = planned(changing, &mut changes)?;
    changing.refuse_bad_rows(&planned)?;
    {
        let outside = changing.outside(&planned.changed);
        let after = Resolver::new(&planned.after, &outside, &[]);
        changes.left.retain(|left| !left.comes_along(&after));
    }
    if asked.write {
        changing.guard(&changes.layers, &planned, &asked.consent)?;
        changing.write(&planned)?;
    }
    let Changes { written, agreeing, left, .. } = changes;
    let left = left.into_iter().map(|left| (left.address.to_string(), left.reason)).collect();
    Ok(Taken { changed: SettingsChanged::of(changing, written, planned, asked.write), agreeing, left })
}

/// What taking the fields over changes.
fn changes(
    changing: &Changing,
    asked: &ToTake,
    asks: &Asked,
    looked: &[Looked<'_>],
) -> Result<Changes, Trouble> {
    let (opened, ledger) = (&changing.opened, changing.ledger());
    let keys = changing.keys(&NO_CHANGE);
    let with = With { ledger, keys: &keys, plain_secrets: asked.plain_secrets, consent: &asked.consent };
    let lives = Lives::of(ledger, looked);
    let kept = [
        (NOTHING_OF_UNIT, "The capture"),
        (NOT_PART, "The delivery"),
        (NOTHING_THEN, "What was delivered then"),
    ];
    for (reason, what) in kept {
        let without = lives.not_known().filter(|(.., said)| *said == reason);
        let owners = without.map(|(subject, ..)| ledger.owner(subject)).filter(|owner| asks.covers(owner));
        let names: BTreeSet<String> = owners.map(|owner| owner.to_string()).collect();
        if !names.is_empty() {
            let names = Vec::from_iter(names).join(", ");
            opened.at.telling.notice(&format!("{what} has nothing of {names}: that is left as it is."));
        }
    }
    let mut changes = Changes::default();
    let mut done = BTreeSet::new();
    for wish in asks.wishes(&lives)? {
        match wish {
            Wish::Field(address) => {
                let field = opened.place(&address.to_string(), None)?;
                take_one(with, opened, &field, &lives, (&mut changes, &mut done))?;
            }
            Wish::New(address) => declare(with, &address, &lives, &mut changes)?,
            // One of several stays behind with its reason, and the others come.
            Wish::Covered(address) => {
                let field = opened.place(&address.to_string(), None)?;
                match take_one(with, opened, &field, &lives, (&mut changes, &mut done)) {
                    Err(trouble) if trouble.kind() != Kind::Outside => {
                        let there = known_there(&lives, field.subject, &address, field.slot);
                        changes.left.push(Left { address, reason: trouble.to_string(), there });
                    }
                    taken => taken?,
                }
            }
            Wish::CoveredNew(address) => match declare(with, &address, &lives, &mut changes) {
                Err(trouble) if trouble.kind() != Kind::Outside => {
                    changes.left.push(Left { address, reason: trouble.to_string(), there: None });
                }
                declared => declared?,
            },
            Wish::Agrees(pattern) => changes.agreeing.push(pattern),
        }
    }
    Ok(changes)
}

/// The one value that a field of a unit or instance has there, if it is known, with the field's subject and stage.
fn known_there(
    lives: &Lives<'_>,
    subject: Subject,
    address: &Address,
    slot: Slot,
) -> Option<(Subject, StageId, Zeroizing<String>)> {
    let stage = lives.ledger.stage_id(address.stage.as_ref()?.as_str())?;
    let found: Vec<&Live<'_>> = lives.of_field((subject, stage, slot)).collect();
    let there = agreed(lives.ledger, "", &found).ok()??;
    Some((subject, stage, there.expose().to_secret_text()))
}

/// Takes over what a field that is declared has there.
fn take_one(
    with: With<'_>,
    opened: &Opened,
    asked: &Place,
    lives: &Lives<'_>,
    (changes, done): (&mut Changes, &mut BTreeSet<(Subject, StageId, Slot)>),
) -> Result<(), Trouble> {
    let (ledger, layer) = (with.ledger, stage_layer(asked)?);
    let LayerId::Stage(stage) = layer else { return Ok(()) };
    may_be_set(asked, ledger.field(asked.subject, asked.slot).1)?;
    let fields: Vec<Field> = match asked.subject {
        Subject::Shared => users(opened, lives, asked, stage),
        subject @ Subject::Unit(..) => vec![(subject, stage, asked.slot)],
    };
    let found: Vec<&Live<'_>> = fields.iter().flat_map(|field| lives.of_field(*field)).collect();
    let Some(live) = there(asked, &fields, &found, lives)? else {
        changes.agreeing.push(asked.address.to_string());
        return Ok(());
    };
    refuse_made(opened, asked, layer)?;
    let field = match goes(&opened.resolver(), lives, fields[0]) {
        _ if asked.subject == Subject::Shared => asked.clone(),
        Goes::There(subject, slot) => {
            let address = ledger.address(FieldId { subject, stage, slot });
            opened.place(&address.to_string(), None)?
        }
        Goes::Alone(other, is_known) => {
            let what = match is_known {
                IsKnown::Yes => format!("`{other}` has another one there"),
                IsKnown::No => format!("nobody can tell what `{other}` has there"),
            };
            let text = format!(
                "`{}` has its value in common with others, and {what}: it is taken over for this one alone",
                asked.address
            );
            opened.at.telling.notice(&text);
            asked.clone()
        }
    };
    if !done.insert((field.subject, stage, field.slot)) {
        return Ok(());
    }
    if ledger.field(field.subject, field.slot).1.this_type == Type::Table {
        let (edits, written) = take_rows(opened, &field, stage, live)?;
        changes.edits.extend(edits);
        changes.layers.push(layer);
        changes.written.extend(written);
        return Ok(());
    }
    let before = ledger.setting_at(layer, field.subject, field.slot);
    let said = match live {
        Some(live) => {
            let setter = Setter { ledger, keys: with.keys, plain_secrets: with.plain_secrets };
            let open = opened_up(opened, &found, live);
            setter.said(&field, Given::System(open.as_ref().unwrap_or(live)), before)?
        }
        None => SettingValue::Absent,
    };
    let note = Note { why: with.consent.why.clone(), ..Note::default() };
    let (edit, written) = write(ledger, &field, layer, &said, &note);
    changes.edits.extend(edit);
    changes.layers.push(layer);
    changes.written.push(written);
    Ok(())
}

/// The one value that is there of a field, `Some(None)` where it was taken out; `None` where all is as the ledger says.
#[expect(clippy::option_option, reason = "there is nothing there, or nothing that differs")]
fn there<'d>(
    asked: &Place,
    fields: &[Field],
    found: &[&Live<'d>],
    lives: &Lives<'_>,
) -> Result<Option<Option<&'d Held>>, Trouble> {
    let address = &asked.address;
    let unknown =
        |reason: &str| Trouble::outside(format!("nobody can tell what `{address}` is there: {reason}"));
    if found.is_empty() {
        let mut is_there = false;
        for field in fields {
            match lives.seen(*field) {
                Seen::AsLedger => is_there = true,
                Seen::NotKnown(reason) => return Err(unknown(&reason)),
                Seen::Nowhere => {}
            }
        }
        if is_there {
            return Ok(None);
        }
        let message = format!("`{address}` is in nothing that was looked at");
        return Err(Trouble::usage(message).help("`cledger drift` shows what is there"));
    }
    let live = agreed(lives.ledger, &address.to_string(), found)?;
    if asked.subject == Subject::Shared {
        let without = fields.iter().find(|field| lives.of_field(**field).next().is_none());
        if let Some(without @ &(subject, ..)) = without {
            let owner = lives.ledger.owner(subject);
            let message = match lives.seen(*without) {
                Seen::NotKnown(reason) => {
                    format!(
                        "nobody can tell whether `{address}` is the same everywhere: of `{owner}`, {reason}"
                    )
                }
                Seen::AsLedger | Seen::Nowhere => {
                    format!("`{address}` is not the same everywhere: `{owner}` has it as the ledger says")
                }
            };
            let owner = lives.ledger.owner(found[0].subject);
            let own = Address { owner: Some(owner), ..address.clone() };
            return Err(Trouble::usage(message).help(format!("take it for one unit alone: {own}")));
        }
    }
    Ok(Some(live))
}

/// What is there of a field that has no value in the ledger, and so counts as a secret while nothing says of which
/// field it is: open, where neither its name nor what is in it says that it is one.
fn opened_up(opened: &Opened, found: &[&Live<'_>], there: &Held) -> Option<Held> {
    let first = found.iter().find(|live| live.drifted.what == NameDrift::ExtraThere)?;
    let value = there.expose();
    if looks_secret(&first.drifted.steps, value) {
        return None;
    }
    let secrets = secrets_of(&opened.resolver(), first.subject, first.stage);
    let masking = Masking::of(secrets.iter().map(|secret| secret.as_str()));
    (!masking.finds(&value.to_secret_text())).then(|| Held::new(value.clone(), false))
}

/// The fields of units and instances that see what a shared entry says, as far as they were looked at.
fn users(opened: &Opened, lives: &Lives<'_>, shared: &Place, stage: StageId) -> Vec<Field> {
    let (ledger, resolver) = (&opened.ledger, opened.resolver());
    let all = seeing(ledger, stage, (shared.subject, shared.slot));
    let fields = all.into_iter().map(|(subject, slot)| (subject, stage, slot));
    let seen = |field: &Field| {
        lives.of_field(*field).next().is_some() || !matches!(lives.seen(*field), Seen::Nowhere)
    };
    fields.filter(|field| is_shared(&resolver, *field) && seen(field)).collect()
}

/// Refuses to put a text in the place of references: what a value is made of is what changed, and it may be a
/// secret, or another stage's.
fn refuse_made(opened: &Opened, field: &Place, layer: LayerId) -> Result<(), Trouble> {
    let LayerId::Stage(stage) = layer else { return Ok(()) };
    let (resolver, ledger) = (opened.resolver(), &opened.ledger);
    let mut session = resolver.session(unit_of(field.subject));
    let id = FieldId { subject: field.subject, stage, slot: field.slot };
    let Outcome::Value(effective) = session.outcome(id) else { return Ok(()) };
    let Some(made_from) = shown::made_from(ledger, &effective) else { return Ok(()) };
    let message = format!(
        "`{}` is made from {made_from}: what is there would take the place of these references",
        field.address
    );
    Err(Trouble::refused(message)
        .help("take over what has changed of these, or give the field a text of its own: cledger set"))
}

fn stage_layer(field: &Place) -> Result<LayerId, Trouble> {
    if let Target::Layer(layer @ LayerId::Stage(_)) = field.target {
        return Ok(layer);
    }
    let message = format!("`{}` names no stage, and only stages are live", field.address);
    Err(Trouble::usage(message).help("write @STAGE behind the field"))
}
