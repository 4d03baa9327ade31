//! One unit in one stage after the other while their fields are resolved: what is known of each so far.

use std::sync::Arc;

use compact_str::CompactString;
use rustc_hash::{FxHashMap, FxHashSet};

use super::outcome::{Layer, Origin, Outcome};
use super::{Assumption, FieldId, Resolver, Winner};
use crate::model::{EntryRef, Ledger, Slot, StageId, Subject, UnitId};
use crate::name::Name;

/// A field among the contexts of a session.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct Node {
    context: u32,
    slot: Slot,
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

/// How far a field is.
pub(super) enum State<'l> {
    New,
    /// On the walk's stack, at this position.
    Open(usize),
    Done(Outcome<'l>),
}

/// One subject in one stage.
struct Context<'l> {
    subject: Subject,
    stage: StageId,
    /// The file that cannot be read and says something for the subject there.
    broken: Option<&'l str>,
    winners: Vec<Winner<'l>>,
    /// Empty until the first field is expanded.
    states: Vec<State<'l>>,
}

/// Resolves the fields of one subject, and what they refer to.
pub struct Session<'r, 'l> {
    pub(crate) resolver: &'r Resolver<'l>,
    home: Option<UnitId>,
    contexts: Vec<Context<'l>>,
    by_key: FxHashMap<(Subject, StageId), u32>,
    spare: Vec<Context<'l>>,
}

impl<'r, 'l> Session<'r, 'l> {
    pub(super) fn new(resolver: &'r Resolver<'l>, home: Option<UnitId>) -> Self {
        let (contexts, spare) = (Vec::new(), Vec::new());
        Self { resolver, home, contexts, by_key: FxHashMap::default(), spare }
    }

    /// The ledger.
    pub fn ledger(&self) -> &'l Ledger {
        self.resolver.ledger()
    }

    /// Forgets everything and goes on with another unit, in the memory that is there.
    pub fn move_to(&mut self, home: UnitId) {
        self.home = Some(home);
        self.by_key.clear();
        self.spare.append(&mut self.contexts);
    }

    pub(super) fn is_home(&self, subject: Subject) -> bool {
        matches!(subject, Subject::Unit(unit, _) if Some(unit) == self.home)
    }

    pub(super) fn context(&mut self, subject: Subject, stage: StageId) -> u32 {
        if let Some(&found) = self.by_key.get(&(subject, stage)) {
            return found;
        }
        let (broken, winners, states) = (None, Vec::new(), Vec::new());
        let mut context = self.spare.pop().unwrap_or(Context { subject, stage, broken, winners, states });
        (context.subject, context.stage) = (subject, stage);
        context.broken = self.ledger().broken_for(subject, stage).next().map(|file| file.path.as_str());
        context.states.clear();
        self.resolver.winners(subject, stage, &mut context.winners);
        let id = u32::try_from(self.contexts.len()).unwrap_or(u32::MAX);
        self.contexts.push(context);
        self.by_key.insert((subject, stage), id);
        id
    }

    /// The winners for all fields of a subject that belongs to the stage.
    pub fn winners(&mut self, subject: Subject, stage: StageId) -> &[Winner<'l>] {
        let context = self.context(subject, stage);
        &self.contexts[context as usize].winners
    }

    pub(super) fn node(&mut self, field: FieldId) -> Node {
        Node { context: self.context(field.subject, field.stage), slot: field.slot }
    }

    pub(super) fn field(&self, node: Node) -> FieldId {
        let context = &self.contexts[node.context as usize];
        FieldId { subject: context.subject, stage: context.stage, slot: node.slot }
    }

    pub(super) fn done(&self, node: Node) -> Option<&Outcome<'l>> {
        match self.contexts[node.context as usize].states.get(node.slot.0 as usize) {
            Some(State::Done(outcome)) => Some(outcome),
            _ => None,
        }
    }

    /// The file that cannot be read, and that this field's value may stand in.
    pub(super) fn broken(&self, node: Node) -> Option<&'l str> {
        self.contexts[node.context as usize].broken
    }

    pub(super) fn winner(&self, node: Node) -> Winner<'l> {
        self.contexts[node.context as usize].winners[node.slot.0 as usize]
    }

    pub(super) fn state(&mut self, node: Node) -> &mut State<'l> {
        let context = &mut self.contexts[node.context as usize];
        if context.states.is_empty() {
            context.states.resize_with(context.winners.len(), || State::New);
        }
        &mut context.states[node.slot.0 as usize]
    }

    pub(super) fn finish(&mut self, node: Node, outcome: Outcome<'l>) {
        let field = self.field(node);
        if !self.is_home(field.subject) {
            self.resolver.remember(field, &outcome);
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

/// The fields that edges lead to, in order, each once.
pub(super) fn fields_reached<'l>(session: &Session<'_, 'l>, edges: &[Edge<'l>]) -> Option<Arc<[FieldId]>> {
    let mut seen = FxHashSet::default();
    let reached = edges.iter().filter_map(|edge| edge.outcome(session)).map(|(field, _)| field);
    let fields: Arc<[FieldId]> = reached.filter(|field| seen.insert(*field)).collect();
    (!fields.is_empty()).then_some(fields)
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
