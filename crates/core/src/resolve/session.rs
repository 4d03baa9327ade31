//! One unit in one stage after the other while their fields are resolved: what is known of each so far.

use std::sync::Arc;

use compact_str::CompactString;
use rustc_hash::{FxHashMap, FxHashSet};

use super::outcome::{Layer, Origin, Outcome};
use super::{Assumption, FieldId, Resolver, Winner};
use crate::model::{
    Class, Declaration, Entry, EntryRef, Kind, Ledger, SettingValue, Slot, StageId, Subject, UnitId, Verdict,
};
use crate::name::Name;
use crate::reference::Target;
use crate::value::Held;

/// A field among the contexts of a session.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct Node {
    pub(super) context: u32,
    pub(super) slot: Slot,
}

/// What one reference leads to.
pub(super) enum Edge<'l> {
    /// A field that this session resolves.
    Node(Node),
    /// A field whose outcome is known.
    Known(FieldId, Outcome<'l>),
    /// Text.
    Text(CompactString),
    /// Nothing, for this reason.
    Bad(String),
    /// A field of a unit that is declared in a file which cannot be read.
    Broken(&'l str),
}

/// What shows of a field at once.
#[derive(Clone, Copy)]
pub(crate) enum AtOnce<'l> {
    /// Its winner fits as it stands, and depends on nothing else.
    Written(&'l Held, Origin),
    /// Nothing is said for it.
    Nothing,
}

impl<'l> AtOnce<'l> {
    fn of(entry: &Entry, declaration: &Declaration, winner: Winner<'l>) -> Option<Self> {
        // A certificate may know its last day itself, and the rows of a table are merged.
        if declaration.derived || matches!(entry.kind, Kind::Table { .. } | Kind::Credential(_)) {
            return None;
        }
        match winner {
            Winner::Nothing => Some(AtOnce::Nothing),
            Winner::Default(default, _) if default.verdict == Verdict::Fits => {
                let place = Some(default.place.unwrap_or(entry.place));
                Some(AtOnce::Written(&default.value, Origin { layer: Layer::Default, place }))
            }
            Winner::Set(setting, layer, _) if setting.verdict == Verdict::Fits => match &setting.value {
                SettingValue::Value(held) => {
                    Some(AtOnce::Written(held, Origin { layer, place: Some(setting.place) }))
                }
                _ => None,
            },
            _ => None,
        }
    }
}

/// A reference that was read.
pub(super) struct ReadReference {
    pub(super) target: Arc<Target>,
    /// The field of another unit that it names, whatever the stage.
    pub(super) found: Option<(Subject, Slot)>,
}

/// How far a field is.
pub(super) enum State<'l> {
    New,
    /// On the walk's stack, at this position.
    Open(usize),
    Done(Outcome<'l>),
}

/// A field on a walk's stack, until its component is complete.
pub(super) struct Pending<'l> {
    pub(super) node: Node,
    pub(super) edges: Vec<Edge<'l>>,
    pub(super) next: usize,
    pub(super) lowest: usize,
}

/// What a walk goes along: the memory for it serves one after the other.
#[derive(Default)]
pub(super) struct Walk<'l> {
    pub(super) stack: Vec<Pending<'l>>,
    /// The positions in `stack` of the fields whose edges are being followed.
    pub(super) path: Vec<usize>,
}

/// From so many steps on with fields of one subject in one stage, all its winners are found at once.
const FEW: usize = 12;

/// One subject in one stage.
struct Context<'l> {
    subject: Subject,
    stage: StageId,
    /// The file that cannot be read and says something for the subject there.
    broken: Option<&'l str>,
    /// Empty until somebody asks for all of them, or for more than a few: of other units, and in stages that are looked
    /// at beside others, mostly one field is wanted.
    winners: Vec<Winner<'l>>,
    /// How many fields somebody asked for while it was empty.
    asked: usize,
    /// Those of the home's fields. Empty until the first one is expanded.
    states: Vec<State<'l>>,
}

/// Resolves the fields of one subject, and what they refer to.
pub struct Session<'r, 'l> {
    pub(crate) resolver: &'r Resolver<'l>,
    home: Option<UnitId>,
    /// The defaults of the home's fields that count in development, and elsewhere.
    defaults: [Vec<Winner<'l>>; 2],
    contexts: Vec<Context<'l>>,
    by_key: FxHashMap<(Subject, StageId), u32>,
    /// The context that was asked for last: fields are mostly asked for one after the other.
    last: u32,
    spare: Vec<Context<'l>>,
    /// How far fields of others than the home are.
    others: FxHashMap<Node, State<'l>>,
    /// The references that were read, by what stands between `${` and `}`.
    pub(super) references: FxHashMap<&'l str, ReadReference>,
    pub(super) room: Walk<'l>,
}

impl<'r, 'l> Session<'r, 'l> {
    pub(super) fn new(resolver: &'r Resolver<'l>, home: Option<UnitId>) -> Self {
        Self {
            resolver,
            home,
            defaults: [Vec::new(), Vec::new()],
            contexts: Vec::new(),
            by_key: FxHashMap::default(),
            last: 0,
            spare: Vec::new(),
            others: FxHashMap::default(),
            references: FxHashMap::default(),
            room: Walk::default(),
        }
    }

    /// The ledger.
    pub fn ledger(&self) -> &'l Ledger {
        self.resolver.ledger()
    }

    /// Forgets everything and goes on with another unit, or none, in the memory that is there.
    pub fn move_to(&mut self, home: impl Into<Option<UnitId>>) {
        self.home = home.into();
        self.defaults.iter_mut().for_each(Vec::clear);
        self.by_key.clear();
        self.others.clear();
        self.references.clear();
        self.spare.append(&mut self.contexts);
    }

    pub(super) fn is_home(&self, subject: Subject) -> bool {
        matches!(subject, Subject::Unit(unit, _) if Some(unit) == self.home)
    }

    #[inline]
    pub(super) fn context(&mut self, subject: Subject, stage: StageId) -> u32 {
        let is_last = |last: &Context<'_>| (last.subject, last.stage) == (subject, stage);
        if self.contexts.get(self.last as usize).is_some_and(is_last) {
            return self.last;
        }
        self.other_context(subject, stage)
    }

    fn other_context(&mut self, subject: Subject, stage: StageId) -> u32 {
        if let Some(&found) = self.by_key.get(&(subject, stage)) {
            self.last = found;
            return found;
        }
        let (broken, winners, states) = (None, Vec::new(), Vec::new());
        let made = Context { subject, stage, broken, winners, asked: 0, states };
        let mut context = self.spare.pop().unwrap_or(made);
        (context.subject, context.stage, context.asked) = (subject, stage, 0);
        context.broken = self.ledger().broken_for(subject, stage).next().map(|file| file.path.as_str());
        context.states.clear();
        context.winners.clear();
        let id = u32::try_from(self.contexts.len()).unwrap_or(u32::MAX);
        self.contexts.push(context);
        self.by_key.insert((subject, stage), id);
        self.last = id;
        id
    }

    /// The winners for all fields of a subject that belongs to the stage.
    pub fn winners(&mut self, subject: Subject, stage: StageId) -> &[Winner<'l>] {
        let context = self.context(subject, stage);
        self.find_winners(context);
        &self.contexts[context as usize].winners
    }

    #[inline]
    fn find_winners(&mut self, context: u32) {
        if self.contexts[context as usize].winners.is_empty() {
            self.find_all_winners(context);
        }
    }

    fn find_all_winners(&mut self, context: u32) {
        let is_home = self.is_home(self.contexts[context as usize].subject);
        let context = &mut self.contexts[context as usize];
        let (subject, stage) = (context.subject, context.stage);
        let class = self.resolver.ledger().stage(stage).class;
        if is_home {
            let defaults = &mut self.defaults[usize::from(class == Class::Development)];
            if defaults.is_empty() {
                self.resolver.defaults(subject, class, defaults);
            }
            context.winners.clone_from(defaults);
        } else {
            self.resolver.defaults(subject, class, &mut context.winners);
        }
        self.resolver.apply_settings((subject, stage), Slot(0), &mut context.winners);
    }

    /// What shows at once of a field; [`None`] where it has to be resolved.
    pub(crate) fn at_once(&mut self, field: FieldId) -> Option<AtOnce<'l>> {
        let node = self.node(field);
        if self.broken(node).is_some() {
            return None;
        }
        let winner = self.known_winner(node);
        let (entry, declaration) = self.ledger().field(field.subject, field.slot);
        AtOnce::of(entry, declaration, winner)
    }

    /// What shows at once of all fields of a subject that belongs to the stage, in the order of their slots.
    pub(crate) fn all_at_once(&mut self, subject: Subject, stage: StageId) -> Vec<Option<AtOnce<'l>>> {
        let (ledger, context) = (self.ledger(), self.context(subject, stage));
        self.find_winners(context);
        let context = &self.contexts[context as usize];
        let entries = ledger.slots(subject).entries.iter().map(|known| ledger.entry(subject, known.entry));
        let declared = entries.flat_map(|entry| entry.fields.iter().map(move |field| (entry, field)));
        let all = declared.zip(&context.winners);
        let shown = all.map(|((entry, field), winner)| AtOnce::of(entry, field, *winner));
        shown.map(|it| it.filter(|_| context.broken.is_none())).collect()
    }

    /// The value of a field whose winner fits as it stands, and depends on nothing else. [`None`] says nothing: such a
    /// field has to be resolved.
    pub fn value_as_written(&mut self, field: FieldId) -> Option<&'l Held> {
        match self.at_once(field)? {
            AtOnce::Written(held, _) => Some(held),
            AtOnce::Nothing => None,
        }
    }

    /// Where a value came from that counts as it is written, see [`Session::value_as_written`].
    pub fn origin_as_written(&mut self, field: FieldId) -> Option<Origin> {
        match self.at_once(field)? {
            AtOnce::Written(_, origin) => Some(origin),
            AtOnce::Nothing => None,
        }
    }

    pub(super) fn node(&mut self, field: FieldId) -> Node {
        Node { context: self.context(field.subject, field.stage), slot: field.slot }
    }

    pub(super) fn field(&self, node: Node) -> FieldId {
        let context = &self.contexts[node.context as usize];
        FieldId { subject: context.subject, stage: context.stage, slot: node.slot }
    }

    pub(super) fn done(&self, node: Node) -> Option<&Outcome<'l>> {
        let context = &self.contexts[node.context as usize];
        let state = if self.is_home(context.subject) {
            context.states.get(node.slot.0 as usize)
        } else {
            self.others.get(&node)
        };
        match state {
            Some(State::Done(outcome)) => Some(outcome),
            _ => None,
        }
    }

    /// The file that cannot be read, and that this field's value may stand in.
    pub(super) fn broken(&self, node: Node) -> Option<&'l str> {
        self.contexts[node.context as usize].broken
    }

    pub(super) fn winner(&self, node: Node) -> Winner<'l> {
        let known = self.contexts[node.context as usize].winners.get(node.slot.0 as usize);
        known.copied().unwrap_or_else(|| self.resolver.winner(self.field(node)))
    }

    /// The same where more of the same subject and stage are asked for: then all its winners are found at once.
    pub(super) fn known_winner(&mut self, node: Node) -> Winner<'l> {
        self.ask(node);
        self.winner(node)
    }

    /// Notes that a field is asked for.
    fn ask(&mut self, node: Node) {
        let context = &mut self.contexts[node.context as usize];
        context.asked += 1;
        if context.asked == FEW {
            self.find_winners(node.context);
        }
    }

    pub(super) fn state(&mut self, node: Node) -> &mut State<'l> {
        self.ask(node);
        let subject = self.contexts[node.context as usize].subject;
        if !self.is_home(subject) {
            return self.others.entry(node).or_insert(State::New);
        }
        let ledger = self.ledger();
        let context = &mut self.contexts[node.context as usize];
        if context.states.is_empty() {
            context.states.resize_with(ledger.slots(subject).len(), || State::New);
        }
        &mut context.states[node.slot.0 as usize]
    }

    pub(super) fn finish(&mut self, node: Node, outcome: Outcome<'l>) {
        let field = self.field(node);
        if !self.is_home(field.subject) {
            self.resolver.seen.insert(field, outcome.clone());
        }
        *self.state(node) = State::Done(outcome);
    }

    /// Where the winning text of a field stands; for derived values the entry's declaration.
    pub(super) fn origin(&self, node: Node) -> Origin {
        let field = self.field(node);
        let (entry, declaration) = self.resolver.ledger().field(field.subject, field.slot);
        match self.winner(node) {
            _ if declaration.derived => Origin { layer: Layer::Derived, place: Some(entry.place) },
            Winner::Set(setting, layer, _) => Origin { layer, place: Some(setting.place) },
            Winner::Assumed(_) => Assumption::origin(),
            Winner::Default(default, _) => {
                Origin { layer: Layer::Default, place: Some(default.place.unwrap_or(entry.place)) }
            }
            Winner::Nothing => Origin { layer: Layer::Default, place: Some(declaration.place) },
        }
    }
}

impl<'l> Edge<'l> {
    /// The field that the edge leads to, and its outcome.
    pub(super) fn outcome<'e>(&'e self, session: &'e Session<'_, 'l>) -> Option<(FieldId, &'e Outcome<'l>)> {
        match self {
            Edge::Node(node) => session.done(*node).map(|outcome| (session.field(*node), outcome)),
            Edge::Known(field, outcome) => Some((*field, outcome)),
            Edge::Text(_) | Edge::Bad(_) | Edge::Broken(_) => None,
        }
    }
}

/// The most edges whose fields are compared with each other to find each once; beyond that they are hashed.
const FEW_EDGES: usize = 16;

/// The fields that edges lead to, in order, each once.
pub(super) fn fields_reached<'l>(session: &Session<'_, 'l>, edges: &[Edge<'l>]) -> Option<Arc<[FieldId]>> {
    let mut fields: Vec<FieldId> = Vec::new();
    let mut seen = FxHashSet::default();
    for (field, _) in edges.iter().filter_map(|edge| edge.outcome(session)) {
        let is_new = if edges.len() <= FEW_EDGES { !fields.contains(&field) } else { seen.insert(field) };
        if is_new {
            fields.push(field);
        }
    }
    (!fields.is_empty()).then(|| fields.into())
}

/// Whether an entry reference and its name are what `wanted` says; for building part names.
pub(super) fn is_named(name: Option<&Name>, wanted: &str) -> bool {
    name.map(Name::as_str) == Some(wanted)
}

impl Winner<'_> {
    /// Whether the winning text stands in a shared entry's declaration or under `[shared]`.
    pub fn is_shared(&self, entry: EntryRef) -> bool {
        match self {
            Winner::Nothing => entry.shared().is_some(),
            Winner::Default(_, shared) | Winner::Set(_, _, shared) => *shared,
            Winner::Assumed(assumption) => assumption.is_shared_text(),
        }
    }
}
