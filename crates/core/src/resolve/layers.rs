//! Layers: which setting wins for each field.

use super::{FieldId, Layer, Resolver};
use crate::model::{
    Class, Counting, Declaration, Default, Entry, EntryRef, Follow, FollowOf, InstanceId, LayerId, Setting,
    Slot, Stage, StageId, Subject, Unit, Vary,
};
use crate::name::Name;
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

/// What the follows on the way to a layer let through of the settings of one owner.
struct Through<'f>(Vec<FollowOf<'f>>);

impl<'l> Link<'l> {
    fn through(&self, owner: (&str, Option<&str>)) -> Through<'l> {
        Through(self.follows.iter().map(|follow| follow.of_owner(owner)).collect())
    }

    /// Whether settings of this layer for a unit or instance count for it: it belongs to all stages on the way.
    fn belongs(&self, unit: &Unit, instance: Option<InstanceId>) -> bool {
        self.follows.iter().all(|follow| unit.belongs_to(follow.stage, instance))
    }
}

impl Through<'_> {
    /// Whether a setting for this field counts.
    fn takes<'f>(&self, counting: Counting, field: impl FnOnce() -> (&'f Entry, &'f Declaration)) -> bool {
        match counting {
            Counting::Never => false,
            Counting::Own => self.0.is_empty(),
            Counting::All if self.0.is_empty() => true,
            Counting::All => {
                let (entry, declaration) = field();
                let (entry, field) = (entry.name.as_str(), declaration.name.as_ref().map(Name::as_str));
                self.0.iter().all(|follow| follow.lets_through(entry, field))
            }
        }
    }
}

/// The strongest shared setting for a field of a shared entry, and the position of its layer in the chain.
pub(super) type SharedSetting<'l> = Option<(usize, &'l Setting)>;

impl<'l> Resolver<'l> {
    /// Whether a setting that stands in a layer for somebody counts for a field of theirs.
    pub(super) fn counts(&self, link: &Link<'_>, field: FieldId, whose: Subject) -> bool {
        let ledger = self.ledger();
        let owner = ledger.owner(whose);
        let belongs = match whose {
            Subject::Shared => true,
            Subject::Unit(unit, instance) => link.belongs(ledger.unit(unit), instance),
        };
        let counting = ledger.slots(field.subject).counting[field.slot.0 as usize];
        belongs && link.through(owner.names()).takes(counting, || ledger.field(field.subject, field.slot))
    }

    /// The defaults of a subject's fields, as far as they count in stages of a class.
    pub(super) fn defaults(&self, subject: Subject, class: Class, winners: &mut Vec<Winner<'l>>) {
        let ledger = self.ledger;
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
    }

    /// The winner for one field of a subject.
    pub(super) fn winner(&self, FieldId { subject, stage, slot }: FieldId) -> Winner<'l> {
        let ledger = self.ledger;
        let (_, declaration) = ledger.field(subject, slot);
        let default = declaration.default.as_ref();
        let mut winner = match default.filter(|_| default_counts(declaration, ledger.stage(stage).class)) {
            Some(default) => Winner::Default(default, self.ledger.shared_slot(subject, slot).is_some()),
            None => Winner::Nothing,
        };
        self.apply_settings((subject, stage), slot, std::slice::from_mut(&mut winner));
        winner
    }

    /// Puts the settings that win in a stage over the defaults of a subject's fields: of those that begin with `first`,
    /// as many as there are winners.
    pub(super) fn apply_settings(
        &self,
        (subject, stage): (Subject, StageId),
        first: Slot,
        winners: &mut [Winner<'l>],
    ) {
        let (chain, shared) = (self.chain(stage), self.shared_settings(stage));
        for (slot, winner) in (first.0..).map(Slot).zip(&mut *winners) {
            let of_shared = self.ledger.shared_slot(subject, slot).and_then(|slot| shared[slot.0 as usize]);
            if let Some((at, setting)) = of_shared {
                *winner = Winner::Set(setting, chain[at].origin, true);
            }
        }
        self.apply_unit((subject, stage), first, winners);
        for assumption in self.assumptions {
            let slot = assumption.slot_in(self.ledger, subject, stage);
            let position = slot.and_then(|slot| slot.0.checked_sub(first.0));
            if let Some(winner) = position.and_then(|at| winners.get_mut(at as usize)) {
                *winner = Winner::Assumed(assumption);
            }
        }
    }

    /// The shared settings that win in a stage among themselves, which are the same for all units.
    fn shared_settings(&self, stage: StageId) -> &[SharedSetting<'l>] {
        self.shared[usize::from(stage.0)].get_or_init(|| {
            let ledger = self.ledger;
            let slots = &ledger.shared_slots;
            let mut strongest = vec![None; slots.len()];
            for (at, link) in self.chain(stage).iter().enumerate() {
                let through = link.through(("shared", None));
                let settings = ledger.layer(link.layer).shared.iter();
                for (settings, (entry, known)) in settings.zip(ledger.shared.iter().zip(&slots.entries)) {
                    for setting in settings {
                        let slot = (known.first + setting.slot.0) as usize;
                        let field = || (entry, &entry.fields[setting.slot.0 as usize]);
                        if through.takes(slots.counting[slot], field) {
                            strongest[slot] = Some((at, setting));
                        }
                    }
                }
            }
            strongest
        })
    }

    fn apply_unit(&self, (subject, stage): (Subject, StageId), first: Slot, winners: &mut [Winner<'l>]) {
        let Subject::Unit(id, instance) = subject else { return };
        let ledger = self.ledger;
        let (unit, shared) = (ledger.unit(id), self.shared_settings(stage));
        for (at, link) in self.chain(stage).iter().enumerate() {
            let mut apply = |settings: &'l [Setting], instance: Option<InstanceId>| {
                if settings.is_empty() || !link.belongs(unit, instance) {
                    return;
                }
                let instance = instance.map(|id| unit.instances[usize::from(id.0)].name.as_str());
                let mut through = None;
                for setting in settings {
                    let position = setting.slot.0.checked_sub(first.0);
                    let Some(winner) = position.and_then(|it| winners.get_mut(it as usize)) else { continue };
                    let is_stronger = || {
                        let of_shared = ledger.shared_slot(subject, setting.slot);
                        let found = of_shared.and_then(|slot| shared[slot.0 as usize]);
                        found.is_some_and(|(position, _)| position > at)
                    };
                    // The layer decides before the place in it.
                    if matches!(winner, Winner::Set(_, _, true)) && is_stronger() {
                        continue;
                    }
                    let through = through.get_or_insert_with(|| link.through((unit.name.as_str(), instance)));
                    let counting = unit.slots.counting[setting.slot.0 as usize];
                    if through.takes(counting, || ledger.field(subject, setting.slot)) {
                        *winner = Winner::Set(setting, link.origin, false);
                    }
                }
            };
            let settings = ledger.unit_layer(unit, link.layer);
            apply(&settings.unit, None);
            if let Some(instance) = instance {
                let own = settings.instances.iter().filter(|(id, ..)| *id == instance);
                own.for_each(|(.., list)| apply(list, Some(instance)));
            }
        }
    }
}
