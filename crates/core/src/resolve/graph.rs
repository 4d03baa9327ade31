//! The graph of references, walked without recursion.
//!
//! Tarjan's algorithm finds the circles (strongly connected components) and at the same time an
//! order in which every field comes after those that it refers to: Robert Tarjan, "Depth-first
//! search and linear graph algorithms", 1972. Membership of a circle depends on the graph alone, so
//! an outcome is the same wherever the walk began.

use std::collections::VecDeque;
use std::sync::Arc;

use compact_str::CompactString;
use rustc_hash::{FxHashMap, FxHashSet};

use super::edges::Reader;
use super::outcome::{Layer, Origin, Outcome, Problem, ProblemCode};
use super::{Assumption, FieldId, Resolver, Winner};
use crate::model::{EntryRef, Kind, Ledger, Required, SettingValue, Slot, StageId, Subject, UnitId, Verdict};
use crate::name::Name;

/// Components with more members than this share one path in their messages.
const LARGE: usize = 200;

/// How many unknown references of one text are told apart in its message.
const MOST_REASONS: usize = 5;

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
}

enum State<'l> {
    New,
    /// On the walk's stack, at this position.
    Open(usize),
    Done(Outcome<'l>),
}

/// One subject in one stage.
struct Context<'l> {
    subject: Subject,
    stage: StageId,
    winners: Vec<Winner<'l>>,
    /// Empty until the first field is expanded.
    states: Vec<State<'l>>,
}

/// A field on the walk's stack, until its component is complete.
struct Pending<'l> {
    node: Node,
    edges: Vec<Edge<'l>>,
    next: usize,
    lowest: usize,
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

    fn context(&mut self, subject: Subject, stage: StageId) -> u32 {
        if let Some(&found) = self.by_key.get(&(subject, stage)) {
            return found;
        }
        let mut context =
            self.spare.pop().unwrap_or(Context { subject, stage, winners: Vec::new(), states: Vec::new() });
        (context.subject, context.stage) = (subject, stage);
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

    /// What a field of a subject that belongs to the stage comes to.
    pub fn outcome(&mut self, field: FieldId) -> Outcome<'l> {
        let node = self.node(field);
        self.walk(node);
        // The walk leaves nothing open, so there is an outcome.
        let outcome = self.done(node).cloned().unwrap_or(Outcome::Unset);
        if matches!(outcome, Outcome::Unset) && self.is_required_here(field) {
            return Outcome::Missing(super::Because::NothingSet, None);
        }
        outcome
    }

    /// Whether a field that is required by its entry's `auth` is required by its effective value.
    fn is_required_here(&mut self, field: FieldId) -> bool {
        let ledger = self.resolver.ledger();
        let (entry, declaration) = ledger.field(field.subject, field.slot);
        let Required::WhenAuth(needed) = declaration.required else { return false };
        let Some(position) = entry.field(Some("auth")) else { return false };
        let (slot_entry, _) = ledger.slots(field.subject).entry_of(field.slot);
        let auth = Slot(slot_entry.first + u32::try_from(position).unwrap_or(0));
        let outcome = self.outcome(FieldId { slot: auth, ..field });
        let text = outcome.value().and_then(|value| value.expose()).and_then(|value| value.as_text());
        text.is_some_and(|auth| needed.contains(&auth))
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

    pub(super) fn winner(&self, node: Node) -> Winner<'l> {
        self.contexts[node.context as usize].winners[node.slot.0 as usize]
    }

    fn state(&mut self, node: Node) -> &mut State<'l> {
        let context = &mut self.contexts[node.context as usize];
        if context.states.is_empty() {
            context.states.resize_with(context.winners.len(), || State::New);
        }
        &mut context.states[node.slot.0 as usize]
    }

    fn finish(&mut self, node: Node, outcome: Outcome<'l>) {
        let field = self.field(node);
        if !self.is_home(field.subject) {
            self.resolver.remember(field, &outcome);
        }
        *self.state(node) = State::Done(outcome);
    }

    /// Resolves a field and all that it depends on.
    fn walk(&mut self, root: Node) {
        let mut stack: Vec<Pending<'l>> = Vec::new();
        // The positions in `stack` of the fields whose edges are being followed.
        let mut path: Vec<usize> = Vec::new();
        self.enter(root, &mut stack, &mut path);
        while let Some(&top) = path.last() {
            let pending = &mut stack[top];
            if let Some(edge) = pending.edges.get(pending.next) {
                pending.next += 1;
                let &Edge::Node(to) = edge else { continue };
                if let State::Open(position) = *self.state(to) {
                    stack[top].lowest = stack[top].lowest.min(position);
                } else {
                    self.enter(to, &mut stack, &mut path);
                }
                continue;
            }
            path.pop();
            let lowest = stack[top].lowest;
            if lowest == top {
                self.close(stack.split_off(top));
            } else if let Some(&parent) = path.last() {
                stack[parent].lowest = stack[parent].lowest.min(lowest);
            }
        }
    }

    /// Puts a field on the stack, unless it is done or can be done at once.
    fn enter(&mut self, node: Node, stack: &mut Vec<Pending<'l>>, path: &mut Vec<usize>) {
        if matches!(self.state(node), State::Done(_)) {
            return;
        }
        let edges = self.edges(node);
        if edges.is_empty() {
            let outcome = self.evaluate(node, &edges);
            self.finish(node, outcome);
            return;
        }
        let position = stack.len();
        *self.state(node) = State::Open(position);
        stack.push(Pending { node, edges, next: 0, lowest: position });
        path.push(position);
    }

    /// What a field's value depends on.
    fn edges(&mut self, node: Node) -> Vec<Edge<'l>> {
        let mut edges = Vec::new();
        let field = self.field(node);
        self.derived_edges(node, field, &mut edges);
        let (subject, stage) = (field.subject, field.stage);
        let reader = |shared_text| Reader { subject, stage, shared_text };
        if let Kind::Table { .. } = self.resolver.ledger().field(subject, field.slot).0.kind {
            for row in self.resolver.rows(field).rows.values() {
                self.value_edges(reader(row.shared_text), row.cells, &mut edges);
            }
            return edges;
        }
        match self.winner(node) {
            Winner::Nothing => {}
            Winner::Default(default, shared) => {
                if default.verdict == Verdict::Open {
                    self.value_edges(reader(shared), default.value.expose(), &mut edges);
                }
            }
            Winner::Set(setting, _, shared) => match &setting.value {
                SettingValue::Value(held) if setting.verdict == Verdict::Open => {
                    self.value_edges(reader(shared), held.expose(), &mut edges);
                }
                SettingValue::From(source) => self.text_edges(reader(shared), &source.0, &mut edges),
                SettingValue::Value(_) | SettingValue::Absent | SettingValue::Cipher(_) => {}
            },
            Winner::Assumed(assumption) => {
                let reader = reader(assumption.is_shared_text());
                self.value_edges(reader, assumption.value.expose(), &mut edges);
            }
        }
        edges
    }

    /// Gives the fields of a complete component their outcomes.
    fn close(&mut self, component: Vec<Pending<'l>>) {
        let circle = match &component[..] {
            [alone] => alone.edges.iter().any(|edge| matches!(edge, Edge::Node(to) if *to == alone.node)),
            _ => true,
        };
        if !circle {
            for pending in component {
                let outcome = self.evaluate(pending.node, &pending.edges);
                self.finish(pending.node, outcome);
            }
            return;
        }
        let positions: FxHashMap<Node, usize> =
            component.iter().enumerate().map(|(at, pending)| (pending.node, at)).collect();
        let path_from = |session: &Self, at: usize| -> Arc<[FieldId]> {
            let path = shortest_circle(&component, &positions, at);
            path.into_iter().map(|position| session.field(component[position].node)).collect()
        };
        // A path for each member of a very large component would take quadratic time and memory.
        let common = (component.len() > LARGE).then(|| {
            let first = (0..component.len()).min_by_key(|&at| self.field(component[at].node));
            path_from(self, first.unwrap_or(0))
        });
        for (at, pending) in component.iter().enumerate() {
            let path = common.clone().unwrap_or_else(|| path_from(self, at));
            let origin = self.origin(pending.node);
            let mut problems = Self::unknown_references(&pending.edges, origin);
            problems.push(Problem {
                code: ProblemCode::ReferenceCircle,
                detail: "it refers to itself".into(),
                path,
                origin,
            });
            // Not remembered for other sessions: they must meet the circle to know its members.
            *self.state(pending.node) = State::Done(Outcome::Broken(problems.into()));
        }
    }

    /// One problem for all references of a text that name nothing.
    pub(super) fn unknown_references(edges: &[Edge<'l>], origin: Origin) -> Vec<Problem> {
        let mut reasons: Vec<&str> = Vec::new();
        for edge in edges {
            if let Edge::Bad(reason) = edge
                && reasons.len() < MOST_REASONS
                && !reasons.contains(&reason.as_str())
            {
                reasons.push(reason);
            }
        }
        if reasons.is_empty() {
            return Vec::new();
        }
        let (code, path) = (ProblemCode::ReferenceUnknown, [].into());
        vec![Problem { code, detail: reasons.join("; "), path, origin }]
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

    /// The edges of fields that are worked out from others: `url`, and a certificate's last day.
    fn derived_edges(&mut self, node: Node, field: FieldId, edges: &mut Vec<Edge<'l>>) {
        let ledger = self.resolver.ledger();
        let (entry, declaration) = ledger.field(field.subject, field.slot);
        let parts: Vec<&str> = match &entry.kind {
            Kind::Connection { url: Some(shape), .. } if declaration.derived => {
                super::derived::url_parts(*shape).collect()
            }
            Kind::Credential(_) if super::derived::is_last_day(entry, declaration) => vec!["certificate"],
            _ => return,
        };
        let (slot_entry, _) = ledger.slots(field.subject).entry_of(node.slot);
        for part in parts {
            if let Some(position) = entry.field(Some(part)) {
                let slot = Slot(slot_entry.first + u32::try_from(position).unwrap_or(0));
                edges.push(self.reach(FieldId { slot, ..field }));
            }
        }
    }
}

/// The positions around the shortest circle through `start`, beginning with it.
fn shortest_circle(
    component: &[Pending<'_>],
    positions: &FxHashMap<Node, usize>,
    start: usize,
) -> Vec<usize> {
    let mut from: FxHashMap<usize, usize> = FxHashMap::default();
    let mut queue = VecDeque::from([start]);
    while let Some(at) = queue.pop_front() {
        for edge in &component[at].edges {
            let Edge::Node(to) = edge else { continue };
            let Some(&to) = positions.get(to) else { continue };
            if to == start {
                let mut path = vec![at];
                while let Some(&before) = path.last().and_then(|last| from.get(last)) {
                    path.push(before);
                }
                path.reverse();
                return path;
            }
            if let std::collections::hash_map::Entry::Vacant(e) = from.entry(to) {
                e.insert(at);
                queue.push_back(to);
            }
        }
    }
    vec![start]
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
