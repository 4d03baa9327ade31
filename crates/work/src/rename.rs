//! Another name for something, wherever the ledger mentions it.

mod concerned_units;
mod kept_names;
mod rendered_names;

use cledger_core::address::{Address, Owner};
use cledger_core::cipher::KeyScope;
use cledger_core::effects::{Effect, Seen, effects_of_renaming};
use cledger_core::model::{
    Declaration, Entry, FormerName, Kind, Ledger, StageId, Subject, credential_fields, endpoint_fields,
    protocol_fields,
};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_core::source::{FileId, Place};
use cledger_core::value::Value;
use cledger_store::{
    Changed, Edit, Item, ListedWhat, MANIFEST, Named, Overlay, Renaming, What, apply, literal, move_key,
    rename as store_rename,
};

use crate::change::{Changing, Concerns, Consent, NO_CHANGE, Planned};
use crate::daybook;
use crate::meant::{fields_of, is_shared, known_stage};
use crate::opened::Opened;
use crate::remove::delivered;
use crate::touched::{TouchedFile, touched};
use crate::trouble::Trouble;

use concerned_units::concerned_units;
pub(crate) use kept_names::as_edit;
use kept_names::{kept_names, subjects};
pub use rendered_names::RenderedName;

/// What becomes of another name.
#[derive(Debug)]
pub struct Renamed {
    /// What has another name, as it was called.
    pub from: String,
    /// Its new name.
    pub to: String,
    /// The files that change.
    pub files: Vec<TouchedFile>,
    /// The names of rendered files, and in them, that change with it.
    pub rendered: Vec<RenderedName>,
    /// The effective values that change with it, since they hold the name itself.
    pub effects: Vec<Effect>,
    /// Whether they are written.
    pub written: bool,
}

/// What is to have another name.
#[derive(Debug, Clone)]
pub struct ToRename {
    /// What.
    pub address: Address,
    /// Its new name.
    pub to: Name,
    /// Whether names of rendered files, and in them, change with it.
    pub outputs: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// Gives what an address names another name, wherever the ledger mentions it; with `outputs` also in rendered
/// files. A value that holds the name itself changes with it.
pub fn rename(changing: &Changing, asked: &ToRename) -> Result<Renamed, Trouble> {
    let ToRename { address, to, outputs, consent, write } = asked;
    let renaming = Renaming { what: named(&changing.opened, address)?, to: to.clone() };
    daybook::refuse_open_of(&changing.opened, &[&renaming.what])?;
    let Outcome { changed, after, effects, rendered } =
        renamed(changing, changing.ledger(), &NO_CHANGE, &renaming, *outputs)?;
    let planned = Planned { changed, after, effects, concerns: Concerns::All, stages: None };
    tell_old_places(changing, &renaming)?;
    let others = stages_of(changing.ledger(), &renaming, &planned.effects);
    if *write {
        refuse_rendered(&rendered, *outputs)?;
        changing.guard_with(&[], &others, &planned.effects, consent)?;
        changing.write(&planned)?;
    } else {
        changing.tell_needs(&[], &others, &planned.effects, consent)?;
    }
    let files = touched(changing.ledger(), &planned.changed);
    let (from, to) = (address.to_string(), to.to_string());
    Ok(Renamed { from, to, files, rendered, effects: planned.effects, written: *write })
}

/// Tells where what was delivered to a stage stays behind, since the place has the stage's name in it.
fn tell_old_places(changing: &Changing, renaming: &Renaming) -> Result<(), Trouble> {
    let (Named::Stage(name), ledger) = (&renaming.what, changing.ledger()) else { return Ok(()) };
    let Some(stage) = ledger.stage_id(name.as_str()) else { return Ok(()) };
    let telling = ledger.outlets.iter().filter(|outlet| outlet.is_of(stage) && outlet.kind.tells_stage());
    let places: Vec<&str> = telling.map(|outlet| outlet.name.as_str()).collect();
    if !places.is_empty()
        && !delivered::of(&changing.opened, std::slice::from_ref(&renaming.what))?.is_empty()
    {
        changing.opened.at.telling.notice(&format!(
            "What was delivered to `{name}` stays at {} under the old name: take it off before, with \
             `cledger withdraw @{name} --write`, or by hand.",
            places.join(", ")
        ));
    }
    Ok(())
}

/// The stage that gets another name, where values change with that.
fn stages_of(ledger: &Ledger, renaming: &Renaming, effects: &[Effect]) -> Vec<StageId> {
    match &renaming.what {
        Named::Stage(name) if !effects.is_empty() => ledger.stage_id(name.as_str()).into_iter().collect(),
        _ => Vec::new(),
    }
}

/// Refuses names of rendered files that change where nobody has said that they may.
pub(crate) fn refuse_rendered(rendered: &[RenderedName], outputs: bool) -> Result<(), Trouble> {
    if outputs || rendered.is_empty() {
        return Ok(());
    }
    let lines: Vec<String> =
        rendered.iter().map(|it| format!("{}: {} would be {}", it.of, it.before, it.after)).collect();
    Err(Trouble::refused("names of rendered files, or in them, would change")
        .pointed(lines.join("\n"))
        .help("let them: --outputs"))
}

/// What a renaming comes to.
pub(crate) struct Outcome {
    /// All new texts, earlier changes included.
    pub(crate) changed: Changed,
    /// The ledger after them.
    pub(crate) after: Ledger,
    /// The effective values that change, since they hold the name itself.
    pub(crate) effects: Vec<Effect>,
    /// The names of rendered files, and in them, that change.
    pub(crate) rendered: Vec<RenderedName>,
}

/// Gives something another name in a ledger as earlier changes, `so_far`, make it. Refuses where an effective value would
/// change that does not hold the name itself.
pub(crate) fn renamed(
    changing: &Changing,
    ledger: &Ledger,
    so_far: &Changed,
    renaming: &Renaming,
    outputs: bool,
) -> Result<Outcome, Trouble> {
    must_be_free(ledger, &renaming.what, &renaming.to)?;
    let mut changed = so_far.clone();
    changed.extend(store_rename(ledger, renaming)?);
    if let Some(edit) = kept_history(ledger, renaming) {
        let more = apply(&Overlay::new(changing.disk(), &changed), &[edit])?;
        changed.extend(more);
    }
    if !outputs {
        let edits = kept_names(ledger, renaming)?;
        let more = apply(&Overlay::new(changing.disk(), &changed), &edits)?;
        changed.extend(more);
    }
    changed.extend(moved_key(changing, so_far, renaming)?);
    changed.retain(|path, text| text.is_some() || changing.root().join(path).exists());
    let after = changing.resealed(ledger, so_far, &mut changed)?;
    let effects = {
        let (old, new) = (changing.outside(so_far), changing.outside(&changed));
        let (old, new) = (Resolver::new(ledger, &old, &[]), Resolver::new(&after, &new, &[]));
        let concerned = concerned_units((ledger, &after), &changed, renaming);
        let concerned = concerned.as_ref().map(|[before, after]| [before, after]);
        effects_of_renaming(&old, &new, &|address| moved(renaming, ledger, address), concerned)
    };
    // Values can hold these names by `${unit.name}`, `${unit.instance}` and `${stage.name}`.
    let may_hold_it = matches!(renaming.what, Named::Unit(_) | Named::Instance(..) | Named::Stage(_));
    let holds_it = |effect: &Effect| {
        may_hold_it && matches!((&effect.before, &effect.after), (Seen::Value(_), Seen::Value(_)))
    };
    if let Some(effect) = effects.iter().find(|effect| !holds_it(effect)) {
        let (to, count, address) = (&renaming.to, effects.len(), &effect.address);
        let message =
            format!("the new name `{to}` would change effective values: {count} of them, first {address}");
        return Err(Trouble::refused(message)
            .help("choose another name: patterns such as `stages = [\"prod-*\"]` may not cover this one"));
    }
    let rendered = if may_hold_it {
        rendered_names::differing(ledger, &after, &|address| moved(renaming, ledger, address))
    } else {
        Vec::new()
    };
    Ok(Outcome { changed, after, effects, rendered })
}

/// Says of a unit or a stage how it was called, so that what was delivered under that name stays its history.
fn kept_history(ledger: &Ledger, renaming: &Renaming) -> Option<Edit> {
    let to = &renaming.to;
    let said = |old: &Name, formerly: &[FormerName]| {
        let known = formerly.iter().map(|former| &former.name).filter(|name| *name != to);
        literal(&Value::List(known.chain([old]).map(|name| Value::text(name.as_str())).collect()), None)
    };
    match &renaming.what {
        Named::Unit(old) => {
            let unit = ledger.unit(ledger.unit_id(old.as_str())?);
            let what = What::Set(said(old, &unit.formerly));
            Some(Edit {
                file: format!("units/{to}.toml"),
                path: vec!["formerly".to_owned()],
                header: 0,
                what,
            })
        }
        Named::Stage(old) => {
            let stage = ledger.stage(ledger.stage_id(old.as_str())?);
            let set = ListedWhat::Set(vec!["formerly".to_owned()], said(old, &stage.formerly));
            let what = What::Listed(vec![Item::named("stage", to.as_str())], set);
            Some(Edit { file: MANIFEST.to_owned(), path: Vec::new(), header: 0, what })
        }
        _ => None,
    }
}

/// The key of a stage or group under its new name.
fn moved_key(changing: &Changing, so_far: &Changed, renaming: &Renaming) -> Result<Changed, Trouble> {
    let (from, to) = match &renaming.what {
        Named::Stage(name) => (KeyScope::Stage(name.clone()), KeyScope::Stage(renaming.to.clone())),
        Named::Group(name) => (KeyScope::Group(name.clone()), KeyScope::Group(renaming.to.clone())),
        _ => return Ok(Changed::new()),
    };
    Ok(move_key(&changing.keys(so_far), &from, Some(&to))?)
}

/// What an address means, if it exists and can have another name.
pub(crate) fn named(opened: &Opened, address: &Address) -> Result<Named, Trouble> {
    let ledger = &opened.ledger;
    if let (None, Some(name)) = (&address.owner, &address.stage) {
        if ledger.group_id(name.as_str()).is_some() {
            return Ok(Named::Group(name.clone()));
        }
        known_stage(ledger, name.as_str())?;
        return Ok(Named::Stage(name.clone()));
    }
    let Some(owner) = &address.owner else {
        return Err(
            Trouble::usage(format!("`{address}` names nothing")).help("write UNIT, UNIT/ENTRY or @STAGE")
        );
    };
    if let Some(stage) = &address.stage {
        let message = format!("`{address}` names a stage, and a name is the same in all of them");
        return Err(Trouble::usage(message).help(format!("leave out @{stage}")));
    }
    let subject = match owner {
        Owner::Shared => Subject::Shared,
        Owner::Unit(unit, instance) => opened.unit(unit, instance.as_ref())?,
    };
    let Some(entry) = &address.entry else {
        return match owner {
            Owner::Unit(unit, None) => Ok(Named::Unit(unit.clone())),
            Owner::Unit(unit, Some(instance)) => Ok(Named::Instance(unit.clone(), instance.clone())),
            Owner::Shared => {
                Err(Trouble::usage("`shared` is no name that can change").help("write shared/ENTRY"))
            }
        };
    };
    let slots = fields_of(ledger, subject, address)?;
    let slot = slots.first().copied();
    let is_shared = slot.is_some_and(|slot| is_shared(ledger, subject, slot));
    let owner = match owner {
        Owner::Unit(..) if is_shared => Owner::Shared,
        Owner::Unit(unit, _) => Owner::Unit(unit.clone(), None),
        Owner::Shared => Owner::Shared,
    };
    let Some(field) = &address.field else { return Ok(Named::Entry(owner, entry.clone())) };
    if let Some(slot) = slot
        && built_in(ledger.field(subject, slot).0).contains(&field.to_string())
    {
        let message =
            format!("`{field}` is a field that every {} has", ledger.field(subject, slot).0.kind.name());
        return Err(Trouble::usage(message).help(format!(
            "the contract can tune it: fields.{field}.as, fields.{field}.required and others"
        )));
    }
    Ok(Named::Field(owner, entry.clone(), field.clone()))
}

/// The names of the fields that come with an entry's kind.
fn built_in(entry: &Entry) -> Vec<String> {
    let place = Place { file: FileId(0), start: 0, end: 0 };
    let fields: Vec<Declaration> = match &entry.kind {
        Kind::Variable | Kind::Table { .. } => Vec::new(),
        Kind::Connection { protocol, .. } => protocol_fields(protocol.as_str(), place).0,
        Kind::Endpoint => endpoint_fields(place),
        Kind::Credential(form) => credential_fields(*form, place),
    };
    fields.iter().filter_map(|field| field.name.as_ref().map(ToString::to_string)).collect()
}

fn must_be_free(ledger: &Ledger, what: &Named, to: &Name) -> Result<(), Trouble> {
    let used = match what {
        Named::Outlet(_) => ledger.outlets.iter().any(|outlet| outlet.name == *to),
        Named::Rule(_) => ledger.judging.rules.iter().any(|rule| rule.name == *to),
        Named::Unit(_) => ledger.unit_id(to.as_str()).is_some(),
        Named::Instance(unit, _) => {
            ledger.unit_id(unit.as_str()).is_some_and(|id| ledger.unit(id).instance(to.as_str()).is_some())
        }
        Named::Stage(_) | Named::Group(_) => {
            ledger.stage_id(to.as_str()).is_some() || ledger.group_id(to.as_str()).is_some()
        }
        Named::Entry(Owner::Shared, _) => {
            ledger.shared_id(to.as_str()).is_some()
                || ledger.units.iter().any(|unit| unit.entries.iter().any(|entry| entry.name == *to))
        }
        Named::Entry(Owner::Unit(unit, _), _) => ledger
            .unit_id(unit.as_str())
            .is_some_and(|id| ledger.entry_names(Subject::Unit(id, None)).any(|name| name == to.as_str())),
        Named::Field(owner, entry, _) => subjects(ledger, owner, entry)
            .first()
            .is_some_and(|&subject| ledger.find_slot(subject, entry.as_str(), Some(to.as_str())).is_ok()),
    };
    if used {
        return Err(Trouble::usage(format!("`{to}` is the name of something else already"))
            .help("choose another name"));
    }
    let stage_now = ledger.stage_name_now(to.as_str());
    if let Named::Stage(old) | Named::Group(old) = what
        && stage_now != to.as_str()
        && stage_now != old.as_str()
    {
        let message = format!("`{to}` is a former name of `{stage_now}`, with what was delivered under it");
        let help = "choose another name, or take it out of its `formerly` in ledger.toml";
        return Err(Trouble::usage(message).help(help));
    }
    let had_it = ledger.now_called(&Owner::Unit(to.clone(), None)).map(|now| now.to_string());
    if let (Named::Unit(old), Some(now)) = (what, had_it)
        && now != old.as_str()
    {
        return Err(Trouble::usage(format!(
            "`{to}` is a former name of `{now}`, with what was delivered under it"
        ))
        .help(format!("choose another name, or take it out of `formerly` in units/{now}.toml")));
    }
    if to.is_taken() && !matches!(what, Named::Instance(..) | Named::Field(..)) {
        return Err(Trouble::usage(format!("`{to}` has a meaning of its own in addresses"))
            .help("choose another name"));
    }
    Ok(())
}

/// The address that something has after the renaming.
fn moved(renaming: &Renaming, ledger: &Ledger, address: &Address) -> Address {
    let mut address = address.clone();
    let to = renaming.to.clone();
    match &renaming.what {
        Named::Unit(old) => {
            if let Some(Owner::Unit(unit, _)) = &mut address.owner
                && unit == old
            {
                *unit = to;
            }
        }
        Named::Instance(of, old) => {
            if let Some(Owner::Unit(unit, Some(instance))) = &mut address.owner
                && unit == of
                && instance == old
            {
                *instance = to;
            }
        }
        Named::Stage(old) => {
            if address.stage.as_ref() == Some(old) {
                address.stage = Some(to);
            }
        }
        Named::Group(_) | Named::Outlet(_) | Named::Rule(_) => {}
        Named::Entry(of, old) => {
            if address.entry.as_ref() == Some(old) && sees(ledger, of, old, &address) {
                address.entry = Some(to);
            }
        }
        Named::Field(of, entry, old) => {
            let same = address.entry.as_ref() == Some(entry) && address.field.as_ref() == Some(old);
            if same && sees(ledger, of, entry, &address) {
                address.field = Some(to);
            }
        }
    }
    address
}

/// Whether the entry in an address is the one that gets another name.
fn sees(ledger: &Ledger, of: &Owner, entry: &Name, address: &Address) -> bool {
    match (of, &address.owner) {
        (Owner::Unit(one, _), Some(Owner::Unit(other, _))) => one == other,
        (Owner::Shared, Some(Owner::Shared)) => true,
        (Owner::Shared, Some(Owner::Unit(unit, _))) => {
            let unit = ledger.unit_id(unit.as_str()).map(|id| ledger.unit(id));
            unit.zip(ledger.shared_id(entry.as_str())).is_some_and(|(unit, id)| unit.uses.contains(&id))
        }
        _ => false,
    }
}
