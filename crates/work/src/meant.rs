//! What the addresses that people write mean in a ledger: stages, units, fields, places of settings.

use std::collections::BTreeSet;
use std::sync::Arc;

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::model::{Class, LayerId, Ledger, Output, Slot, StageId, Subject, UnitId};
use cledger_core::name::{Name, nearest};
use cledger_core::resolve::FieldId;
use cledger_store::{Scope, Target, unit_names};

use crate::live_names;
use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// The stage's name that means a declaration's default.
pub(crate) const DEFAULT: &str = "default";

/// A stage, and why it is this one where nobody named it.
#[derive(Debug, Clone)]
pub struct Chosen {
    /// The stage.
    pub stage: StageId,
    /// What says so; [`None`] where it was named.
    pub because: Option<String>,
}

/// A field at one of the places where it can be set.
#[derive(Debug, Clone)]
pub struct Place {
    /// Its address, with the stage, the group or `default`.
    pub address: Address,
    /// Whose field it is.
    pub subject: Subject,
    /// Which field.
    pub slot: Slot,
    /// Where it is set.
    pub target: Target,
}

impl Opened {
    /// The unit or instance that an address names, in a ledger that was read for it.
    pub fn unit(&self, name: &Name, instance: Option<&Name>) -> Result<Subject, Trouble> {
        let ledger = &self.ledger;
        self.refuse_broken(Some(format!("unit `{name}`")), ledger.broken.of_unit(name.as_str()))?;
        let Some(id) = ledger.unit_id(name.as_str()) else {
            let known = unit_names(&self.disk());
            let near = nearest(name.as_str(), known.iter().map(Name::as_str));
            let help = near.map_or("`cledger list units` shows them".to_owned(), |near| {
                format!("did you mean `{near}`?")
            });
            return Err(Trouble::usage(format!("there is no unit `{name}`")).help(help));
        };
        let unit = ledger.unit(id);
        let Some(instance) = instance else { return Ok(Subject::Unit(id, None)) };
        let Some(found) = unit.instance(instance.as_str()) else {
            let names: Vec<&str> = unit.instances.iter().map(|known| known.name.as_str()).collect();
            let help = match nearest(instance.as_str(), names.iter().copied()) {
                Some(near) => format!("did you mean `{name}+{near}`?"),
                None if names.is_empty() => format!("`{name}` has no instances"),
                None => format!("its instances are {}", names.join(", ")),
            };
            return Err(Trouble::usage(format!("unit `{name}` has no instance `{instance}`")).help(help));
        };
        Ok(Subject::Unit(id, Some(found)))
    }

    /// The unit of this name.
    pub(crate) fn unit_id(&self, name: &Name) -> Result<UnitId, Trouble> {
        match self.unit(name, None)? {
            Subject::Unit(id, _) => Ok(id),
            Subject::Shared => Err(Trouble::usage("`shared` is no unit")),
        }
    }

    /// The subject that an address names, which must belong to the stage.
    pub fn subject_in(&self, owner: &Owner, stage: StageId) -> Result<Subject, Trouble> {
        let ledger = &self.ledger;
        let subject = match owner {
            Owner::Shared => Subject::Shared,
            Owner::Unit(unit, instance) => self.unit(unit, instance.as_ref())?,
        };
        if let Subject::Unit(id, instance) = subject
            && !ledger.unit(id).belongs_to(stage, instance)
        {
            let stages: Vec<&str> = ledger
                .stage_ids()
                .filter(|&stage| ledger.unit(id).belongs_to(stage, instance))
                .map(|stage| ledger.stage(stage).name.as_str())
                .collect();
            let message = format!("`{owner}` does not belong to stage `{}`", ledger.stage(stage).name);
            return Err(Trouble::usage(message).help(format!("it belongs to {}", stages.join(", "))));
        }
        let what = format!("`{owner}@{}`", ledger.stage(stage).name);
        self.refuse_broken(Some(what), ledger.broken_for(subject, stage))?;
        Ok(subject)
    }

    /// The units and instances that are named, or all that belong to the stage where none is.
    pub fn subjects_in<'a>(
        &self,
        owners: impl IntoIterator<Item = &'a Owner>,
        stage: StageId,
    ) -> Result<Vec<Subject>, Trouble> {
        let named: Vec<Subject> =
            owners.into_iter().map(|owner| self.subject_in(owner, stage)).collect::<Result<_, _>>()?;
        if !named.is_empty() {
            return Ok(named);
        }
        let what = format!("`@{}`", self.ledger.stage(stage).name);
        self.refuse_broken(Some(what), self.ledger.broken_in(stage))?;
        Ok(self.ledger.subjects_in(stage).collect())
    }

    /// The stage that is meant: the one that is named, else the usual one of the workplace, else the ledger's
    /// default. A production stage is only ever meant where it is named.
    pub fn stage(&self, named: Option<&Name>) -> Result<Chosen, Trouble> {
        let ledger = &self.ledger;
        if let Some(name) = named {
            return Ok(Chosen { stage: known_stage(ledger, name.as_str())?, because: None });
        }
        if let Some(usual) = &self.at.usual_stage {
            let (name, by) = (&usual.name, &usual.by);
            let stage = known_stage(ledger, name)?;
            if ledger.stage(stage).class == Class::Production {
                let message = format!(
                    "{by} names `{name}`, a production stage, which is never taken unless it is named"
                );
                return Err(Trouble::refused(message).help(format!("write @{name} behind the address")));
            }
            return Ok(Chosen { stage, because: Some(by.clone()) });
        }
        match ledger.default_stage {
            Some(stage) => Ok(Chosen { stage, because: Some("default_stage in ledger.toml".to_owned()) }),
            None => Err(Trouble::usage("no stage is named, and the ledger has no `default_stage`")
                .help(format!("write @STAGE behind the address; the stages are {}", stage_names(ledger)))),
        }
    }

    /// The same, said aloud where nobody named it.
    pub fn told_stage(&self, named: Option<&Name>) -> Result<StageId, Trouble> {
        let chosen = self.stage(named)?;
        if let Some(because) = &chosen.because {
            let name = &self.ledger.stage(chosen.stage).name;
            self.at.telling.notice(&format!("stage {name}, from {because}"));
        }
        Ok(chosen.stage)
    }

    /// The field and the place that an address names.
    pub fn place(&self, text: &str, stage: Option<&Name>) -> Result<Place, Trouble> {
        if text.contains(['*', '?']) {
            let message = format!("`{text}` is a pattern, and one address is needed");
            return Err(Trouble::usage(message).help("name each field; `cledger list` shows the names"));
        }
        let ledger = &self.ledger;
        let address = live_names::read(text, |_| Ok(self.ledger.clone()))?;
        let mut address = without_delivery(with_stage(address, stage)?)?;
        let (Some(owner), Some(_)) = (&address.owner, &address.entry) else {
            return Err(
                Trouble::usage(format!("`{address}` names no field")).help("write UNIT/ENTRY.FIELD@STAGE")
            );
        };
        let subject = match owner {
            Owner::Shared => Subject::Shared,
            Owner::Unit(unit, instance) => self.unit(unit, instance.as_ref())?,
        };
        let slot = one_field(ledger, subject, &address)?;
        let target = match &address.stage {
            Some(name) if name.as_str() == DEFAULT => Target::Default,
            Some(name) => match ledger.group_id(name.as_str()) {
                Some(group) => Target::Layer(LayerId::Group(group)),
                None => Target::Layer(LayerId::Stage(known_stage(ledger, name.as_str())?)),
            },
            None => {
                let chosen = self.stage(None)?;
                address.stage = Some(ledger.stage(chosen.stage).name.clone());
                Target::Layer(LayerId::Stage(chosen.stage))
            }
        };
        let place = Place { address, subject, slot, target };
        place.refuse_impossible(ledger)?;
        if let Target::Layer(layer) = place.target {
            let what = format!("where `{}` is set", place.address);
            self.refuse_broken(Some(what), ledger.broken_at(subject, layer))?;
        }
        Ok(place)
    }
}

impl Place {
    /// Refuses a place at which the field cannot be set.
    fn refuse_impossible(&self, ledger: &Ledger) -> Result<(), Trouble> {
        let Subject::Unit(unit, instance) = self.subject else { return Ok(()) };
        let address = &self.address;
        match self.target {
            Target::Default => {
                let is_shared = is_shared(ledger, self.subject, self.slot);
                if instance.is_none() && !is_shared {
                    return Ok(());
                }
                let entry = &ledger.field(self.subject, self.slot).0.name;
                let owner = if is_shared { "shared".to_owned() } else { ledger.unit(unit).name.to_string() };
                Err(Trouble::usage(format!("`{address}` has no declaration of its own"))
                    .help(format!("its declaration is that of {owner}/{entry}")))
            }
            Target::Layer(LayerId::Stage(stage)) if !ledger.unit(unit).belongs_to(stage, instance) => {
                let (owner, stage) = (ledger.owner(self.subject), &ledger.stage(stage).name);
                Err(Trouble::usage(format!("`{owner}` does not belong to stage `{stage}`"))
                    .help("`cledger list units` shows where each belongs"))
            }
            Target::Layer(_) => Ok(()),
        }
    }
}

/// Whether a field is of an entry that several units share.
pub(crate) fn is_shared(ledger: &Ledger, subject: Subject, slot: Slot) -> bool {
    ledger.slots(subject).entry_of(slot).0.entry.shared().is_some()
}

/// The stage with this name.
pub fn known_stage(ledger: &Ledger, name: &str) -> Result<StageId, Trouble> {
    if let (None, Some(now)) = (ledger.stage_id(name), ledger.stage_called(name)) {
        let now = &ledger.stage(now).name;
        return Err(Trouble::usage(format!("stage `{name}` is called `{now}` now"))
            .help(format!("write @{now}: what was delivered before is found under that name")));
    }
    ledger.stage_id(name).ok_or_else(|| {
        let help = match nearest(name, ledger.stages.iter().map(|stage| stage.name.as_str())) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("the stages are {}", stage_names(ledger)),
        };
        Trouble::usage(format!("there is no stage `{name}`")).help(help)
    })
}

fn stage_names(ledger: &Ledger) -> String {
    let names: Vec<&str> = ledger.stages.iter().map(|stage| stage.name.as_str()).collect();
    names.join(", ")
}

/// Reads the units that these addresses name, or everything where one names none.
pub fn scope_of<'a>(addresses: impl IntoIterator<Item = &'a Address>) -> Scope {
    let mut units = BTreeSet::new();
    for address in addresses {
        match &address.owner {
            Some(Owner::Unit(unit, _)) => {
                units.insert(unit.clone());
            }
            Some(Owner::Shared) => {}
            None => return Scope::Whole,
        }
    }
    Scope::Units(units)
}

/// The unit of a subject, if it has one.
pub fn unit_of(subject: Subject) -> Option<UnitId> {
    match subject {
        Subject::Unit(unit, _) => Some(unit),
        Subject::Shared => None,
    }
}

/// Puts a stage that was named by itself into an address that names none.
pub fn with_stage(mut address: Address, stage: Option<&Name>) -> Result<Address, Trouble> {
    match (&address.stage, stage) {
        (Some(named), Some(other)) if named != other => {
            Err(Trouble::usage(format!("the address names stage `{named}`, and --stage `{other}`")))
        }
        (None, Some(stage)) => {
            address.stage = Some(stage.clone());
            Ok(address)
        }
        _ => Ok(address),
    }
}

/// Refuses an address of a delivery.
pub fn without_delivery(address: Address) -> Result<Address, Trouble> {
    if address.delivery.is_some() {
        let message = format!("`{address}` names a delivery, which means nothing here");
        return Err(Trouble::usage(message).help("leave out what begins with `:`"));
    }
    Ok(address)
}

/// An address that somebody wrote, of no delivery, with the stage that was named by itself.
pub fn address(text: &str, stage: Option<&Name>) -> Result<Address, Trouble> {
    without_delivery(with_stage(Address::parse(text)?, stage)?)
}

/// Refuses an address that names an entry where whole units are `done`: delivered, compared, …
pub fn refuse_entry(address: &Address, done: &str) -> Result<(), Trouble> {
    if address.entry.is_some() {
        let message = format!("`{address}` names an entry, and whole units are {done}");
        return Err(Trouble::usage(message).help("leave out what begins with `/`"));
    }
    Ok(())
}

/// The unit or instance that an address names as a whole.
pub fn whole_unit(address: &Address) -> Result<&Owner, Trouble> {
    address.owner.as_ref().filter(|_| address.entry.is_none()).ok_or_else(|| {
        Trouble::usage(format!("`{address}` is no unit of a stage"))
            .help("write UNIT@STAGE, or UNIT+INSTANCE@STAGE")
    })
}

/// The fields that an address names, in a stage.
pub(crate) fn fields_in(
    ledger: &Ledger,
    subject: Subject,
    address: &Address,
    stage: StageId,
) -> Result<Vec<FieldId>, Trouble> {
    let slots = fields_of(ledger, subject, address)?;
    Ok(slots.into_iter().map(|slot| FieldId { subject, stage, slot }).collect())
}

/// The fields that an address names: one, those of an entry, or all. Built-in order, entries by name.
pub(crate) fn fields_of(ledger: &Ledger, subject: Subject, address: &Address) -> Result<Vec<Slot>, Trouble> {
    let all = ledger.slots(subject).all();
    let Some(entry) = &address.entry else { return Ok(all.collect()) };
    let of_entry: Vec<Slot> = all.filter(|&slot| ledger.field(subject, slot).0.name == *entry).collect();
    let owner = ledger.owner(subject);
    if of_entry.is_empty() {
        let help = match nearest(entry.as_str(), ledger.entry_names(subject)) {
            Some(near) => format!("did you mean `{owner}/{near}`?"),
            None => format!("`cledger show {owner}` lists its entries"),
        };
        return Err(Trouble::usage(format!("`{owner}` has no entry `{entry}`")).help(help));
    }
    let Some(name) = &address.field else { return Ok(of_entry) };
    let name_of = |slot: Slot| ledger.field(subject, slot).1.name.as_ref();
    if let Some(&one) = of_entry.iter().find(|&&slot| name_of(slot) == Some(name)) {
        return Ok(vec![one]);
    }
    let known: Vec<&str> = of_entry.iter().filter_map(|&slot| name_of(slot)).map(Name::as_str).collect();
    let help = match nearest(name.as_str(), known.iter().copied()) {
        Some(near) => format!("did you mean `{owner}/{entry}.{near}`?"),
        None if known.is_empty() => format!("it has no fields: write `{owner}/{entry}`"),
        None => format!("its fields are {}", known.join(", ")),
    };
    Err(Trouble::usage(format!("`{entry}` of `{owner}` has no field `{name}`")).help(help))
}

/// The one field that an address names.
pub(crate) fn one_field(ledger: &Ledger, subject: Subject, address: &Address) -> Result<Slot, Trouble> {
    let slots = fields_of(ledger, subject, address)?;
    if let &[slot] = &slots[..] {
        return Ok(slot);
    }
    let names = slots.iter().filter_map(|&slot| ledger.field(subject, slot).1.name.as_ref());
    let names: Vec<&str> = names.map(Name::as_str).collect();
    Err(Trouble::usage(format!("`{address}` has several fields"))
        .help(format!("name one of {}", names.join(", "))))
}

/// The stages and groups that `@STAGE`, `@GROUP` or a pattern of such names, each once.
pub(crate) fn layers(ledger: &Ledger, texts: &[String]) -> Result<Vec<LayerId>, Trouble> {
    let mut found: Vec<LayerId> = Vec::new();
    for text in texts {
        let parts = Address::parse(text).ok();
        let is_stage = |address: &Address| {
            address.owner.is_none() && address.entry.is_none() && address.delivery.is_none()
        };
        let is_plain = parts.as_ref().is_some_and(is_stage);
        let pattern = Pattern::parse(text)?;
        if !text.starts_with('@') || !pattern.has_stage() || parts.is_some() && !is_plain {
            let message = format!("`{text}` names no stage and no group");
            return Err(Trouble::usage(message).help("write @STAGE, @GROUP or a pattern like @prod-*"));
        }
        let before = found.len();
        let matching =
            ledger.layer_ids().filter(|&layer| pattern.covers_stage(ledger.layer_name(layer).as_str()));
        let matching: Vec<LayerId> = matching.collect();
        found.extend(
            matching.iter().filter(|layer| !found[..before].contains(layer)).copied().collect::<Vec<_>>(),
        );
        if matching.is_empty() {
            let names: Vec<&str> =
                ledger.layer_ids().map(|layer| ledger.layer_name(layer).as_str()).collect();
            let help = match nearest(text.trim_start_matches('@'), names.iter().copied()) {
                Some(near) => format!("did you mean @{near}?"),
                None => format!("the stages and groups are {}", names.join(", ")),
            };
            return Err(Trouble::usage(format!("`{text}` covers no stage and no group")).help(help));
        }
    }
    Ok(found)
}

/// The paths, as they are written, of the outputs of a unit that hold something of an entry; [`None`] where it has no
/// outputs.
pub(crate) fn outputs_of(ledger: &Ledger, unit: &Name, entry: &Name) -> Option<Vec<String>> {
    let id = ledger.unit_id(unit.as_str())?;
    let (subject, unit) = (Subject::Unit(id, None), ledger.unit(id));
    if unit.outputs.is_empty() {
        return None;
    }
    let fields: Vec<_> = ledger.slots(subject).all().map(|slot| ledger.field(subject, slot)).collect();
    let holds = |output: &&Output| {
        let mut of_entry = fields.iter().filter(|(declared, _)| declared.name == *entry);
        of_entry.any(|(declared, field)| {
            output.secrets.takes(field.secret) && output.holds(unit, declared, field)
        })
    };
    Some(unit.outputs.iter().filter(holds).map(|output| output.path.as_written().to_owned()).collect())
}

/// An address of a field, also by a name that an output of the unit has for it; no delivery.
pub fn field_address(at: &Arc<Workplace>, text: &str, stage: Option<&Name>) -> Result<Address, Trouble> {
    without_delivery(with_stage(live_names::read_at(at, text)?, stage)?)
}
