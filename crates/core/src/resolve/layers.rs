//! Layers: which setting wins for each field.

use super::{FieldId, Layer, Resolver};
use crate::model::{
    Class, Declaration, Default, EntryRef, Follow, LayerId, Setting, Stage, StageId, Subject, Vary,
};
use crate::resolve::Assumption;

/// One layer of a stage's chain.
#[derive(Debug, Clone)]
pub struct Link<'l> {
    /// Whose settings.
    pub layer: LayerId,
    /// What the layer is to the stage.
    pub origin: Layer,
    /// The follows on the way to it; each must let a setting through.
    pub follows: Vec<&'l Follow>,
}

/// The layers that count in a stage, weakest first, without defaults and assumptions.
pub(super) fn chain(stages: &[Stage], stage: StageId) -> Vec<Link<'_>> {
    let mut links = Vec::new();
    add_links(stages, stage, None, &mut Vec::new(), &mut links);
    links
}

/// The layers that count in one of these stages, which follow each other in no circle.
pub fn layers_of(stages: &[Stage], stage: StageId) -> Vec<LayerId> {
    chain(stages, stage).into_iter().map(|link| link.layer).collect()
}

/// Adds a stage's own chain: its groups, what it follows, its settings. The depth is bounded by the
/// number of stages, since circles of follows make a ledger unreadable.
fn add_links<'l>(
    stages: &'l [Stage],
    stage: StageId,
    via: Option<StageId>,
    follows: &mut Vec<&'l Follow>,
    links: &mut Vec<Link<'l>>,
) {
    let (followed, this) = (via.map(Layer::Follow), &stages[usize::from(stage.0)]);
    for &group in &this.groups {
        links.push(Link {
            layer: LayerId::Group(group),
            origin: followed.unwrap_or(Layer::Group(group)),
            follows: follows.clone(),
        });
    }
    for follow in &this.follows {
        follows.push(follow);
        add_links(stages, follow.stage, via.or(Some(follow.stage)), follows, links);
        follows.pop();
    }
    links.push(Link {
        layer: LayerId::Stage(stage),
        origin: followed.unwrap_or(Layer::Stage(stage)),
        follows: follows.clone(),
    });
}

/// The strongest candidate for a field.
#[derive(Debug, Clone, Copy)]
pub enum Winner<'l> {
    /// There is none.
    Nothing,
    /// The declaration's default; whether it is text of a shared entry.
    Default(&'l Default, bool),
    /// A setting; whether it stands under `[shared]`.
    Set(&'l Setting, Layer, bool),
    /// A value given for this run.
    Assumed(&'l Assumption),
}

/// Whether a declaration's default counts in a stage of this class.
pub(crate) fn default_counts(declaration: &Declaration, class: Class) -> bool {
    declaration.vary != Vary::Must || class == Class::Development
}

impl Link<'_> {
    /// Whether a setting under this address counts by what is followed.
    fn lets_through(&self, owner: (&str, Option<&str>), entry: &str, field: Option<&str>) -> bool {
        self.follows.iter().all(|follow| follow.lets_through(owner, entry, field))
    }

    fn takes(
        &self,
        owner: (&str, Option<&str>),
        entry: &crate::model::Entry,
        declaration: &Declaration,
    ) -> bool {
        let counts = match declaration.vary {
            Vary::Never => false,
            Vary::May => true,
            Vary::Must => self.follows.is_empty(),
        };
        counts
            && !declaration.derived
            && (self.follows.is_empty()
                || self.lets_through(
                    owner,
                    entry.name.as_str(),
                    declaration.name.as_ref().map(crate::name::Name::as_str),
                ))
    }
}

impl<'l> Resolver<'l> {
    /// Whether a setting that stands in a layer for somebody counts for a field of theirs.
    pub(super) fn counts(&self, link: &Link<'_>, field: FieldId, whose: Subject) -> bool {
        let ledger = self.ledger();
        let (entry, declaration) = ledger.field(field.subject, field.slot);
        let owner = ledger.owner(whose);
        let owner = owner.names();
        let belongs = match whose {
            Subject::Shared => true,
            Subject::Unit(unit, instance) => {
                link.follows.iter().all(|follow| ledger.unit(unit).belongs_to(follow.stage, instance))
            }
        };
        belongs && link.takes(owner, entry, declaration)
    }

    /// Finds the winner for each of the subject's fields in a stage.
    pub(super) fn winners(&self, subject: Subject, stage: StageId, winners: &mut Vec<Winner<'l>>) {
        let ledger = self.ledger;
        let class = ledger.stage(stage).class;
        let slots = ledger.slots(subject);
        winners.clear();
        winners.reserve(slots.len());
        for known in &slots.entries {
            let shared = subject == Subject::Shared || matches!(known.entry, EntryRef::Shared(_));
            for declaration in &ledger.entry(subject, known.entry).fields {
                let default = declaration.default.as_ref().filter(|_| default_counts(declaration, class));
                winners.push(default.map_or(Winner::Nothing, |d| Winner::Default(d, shared)));
            }
        }
        for link in self.chain(stage) {
            self.apply_shared(subject, link, winners);
            self.apply_unit(subject, link, winners);
        }
        for assumption in self.assumptions {
            if let Some(slot) = assumption.slot_in(ledger, subject, stage) {
                winners[slot.0 as usize] = Winner::Assumed(assumption);
            }
        }
    }

    fn apply_shared(&self, subject: Subject, link: &Link<'l>, winners: &mut [Winner<'l>]) {
        let ledger = self.ledger;
        let settings = &ledger.layer(link.layer).shared;
        for known in &ledger.slots(subject).entries {
            let position = match (known.entry, subject) {
                (EntryRef::Shared(id), _) => usize::from(id.0),
                (EntryRef::Own(position), Subject::Shared) => usize::from(position),
                (EntryRef::Own(_), Subject::Unit(..)) => continue,
            };
            let Some(settings) = settings.get(position) else { continue };
            let entry = &ledger.shared[position];
            for setting in settings {
                if link.takes(("shared", None), entry, &entry.fields[setting.slot.0 as usize]) {
                    winners[(known.first + setting.slot.0) as usize] =
                        Winner::Set(setting, link.origin, true);
                }
            }
        }
    }

    fn apply_unit(&self, subject: Subject, link: &Link<'l>, winners: &mut [Winner<'l>]) {
        let Subject::Unit(id, instance) = subject else { return };
        let ledger = self.ledger;
        let unit = ledger.unit(id);
        let settings = ledger.unit_layer(unit, link.layer);
        let belongs = |instance| link.follows.iter().all(|f| unit.belongs_to(f.stage, instance));
        let mut apply = |settings: &'l [Setting], owner: (&str, Option<&str>)| {
            for setting in settings {
                let (entry, declaration) = ledger.field(subject, setting.slot);
                if link.takes(owner, entry, declaration) {
                    winners[setting.slot.0 as usize] = Winner::Set(setting, link.origin, false);
                }
            }
        };
        if !belongs(None) {
            return;
        }
        apply(&settings.unit, (unit.name.as_str(), None));
        if let Some(instance) = instance
            && belongs(Some(instance))
        {
            let name = unit.instances[usize::from(instance.0)].name.as_str();
            let own = settings.instances.iter().filter(|(id, ..)| *id == instance);
            own.for_each(|(.., list)| apply(list, (unit.name.as_str(), Some(name))));
        }
    }
}
