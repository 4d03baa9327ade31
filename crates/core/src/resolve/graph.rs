//! The graph of references, walked without recursion.
//!
//! Tarjan's algorithm finds the circles (strongly connected components) and at the same time an
//! order in which every field comes after those that it refers to: Robert Tarjan, "Depth-first
//! search and linear graph algorithms", 1972. Membership of a circle depends on the graph alone, so
//! an outcome is the same wherever the walk began.

use std::collections::VecDeque;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::derived::parts_of;
use super::edges::Reader;
use super::expand::unreadable;
use super::outcome::{Outcome, Problem, ProblemCode};
use super::session::{AtOnce, Edge, Node, Pending, Session, State, Walk};
use super::{FieldId, Winner};
use crate::model::{Kind, Required, SettingValue, Verdict};

/// Components with more members than this share one path in their messages.
const LARGE: usize = 200;

impl<'l> Session<'_, 'l> {
    /// What a field of a subject that belongs to the stage comes to.
    pub fn outcome(&mut self, field: FieldId) -> Outcome<'l> {
        let declaration = self.ledger().field(field.subject, field.slot).1;
        // Of what shows at once, nothing has to be kept.
        let outcome = match self.at_once(field) {
            Some(AtOnce::Written(held, origin)) => return Outcome::as_written(held, declaration, origin),
            Some(AtOnce::Nothing) => self.nothing(field, declaration),
            None => {
                let node = self.node(field);
                self.walk(node);
                // The walk leaves nothing open, so there is an outcome.
                self.done(node).cloned().unwrap_or(Outcome::Unset)
            }
        };
        if matches!(outcome, Outcome::Unset) && self.is_required_here(field) {
            return Outcome::Missing(super::Because::NothingSet, None);
        }
        outcome
    }

    /// Whether a field that is required by its entry's `auth` is required by its effective value.
    fn is_required_here(&mut self, field: FieldId) -> bool {
        let ledger = self.resolver.ledger();
        let Required::WhenAuth(needed) = ledger.field(field.subject, field.slot).1.required else {
            return false;
        };
        let Some(auth) = field.beside(ledger, "auth") else { return false };
        let outcome = self.outcome(auth);
        let text = outcome.value().and_then(|value| value.expose()).and_then(|value| value.as_text());
        text.is_some_and(|auth| needed.contains(&auth))
    }

    /// Resolves a field and all that it depends on.
    fn walk(&mut self, root: Node) {
        if self.done(root).is_some() {
            return;
        }
        // Both are empty between two walks.
        let Walk { mut stack, mut path } = std::mem::take(&mut self.room);
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
                self.close(&mut stack, top);
            } else if let Some(&parent) = path.last() {
                stack[parent].lowest = stack[parent].lowest.min(lowest);
            }
        }
        self.room = Walk { stack, path };
    }

    /// Puts a field on the stack, unless it is done or can be done at once.
    fn enter(&mut self, node: Node, stack: &mut Vec<Pending<'l>>, path: &mut Vec<usize>) {
        if matches!(self.state(node), State::Done(_)) {
            return;
        }
        if let Some(path) = self.broken(node) {
            let outcome = unreadable(path, self.origin(node));
            self.finish(node, outcome);
            return;
        }
        if let Some(outcome) = self.common_outcome(node) {
            self.finish(node, outcome);
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
        edges.extend(parts_of(self.ledger(), field).map(|part| self.reach(part)));
        let reader = |shared_text| Reader::of(field, shared_text);
        if let Kind::Table { .. } = self.resolver.ledger().field(field.subject, field.slot).0.kind {
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

    /// Gives the fields of a complete component their outcomes: those on the stack from `from` on.
    fn close(&mut self, stack: &mut Vec<Pending<'l>>, from: usize) {
        let is_itself = |alone: &Pending<'l>| {
            alone.edges.iter().any(|edge| matches!(edge, Edge::Node(to) if *to == alone.node))
        };
        if let [alone] = &stack[from..]
            && !is_itself(alone)
        {
            let outcome = self.evaluate(alone.node, &alone.edges);
            self.finish(alone.node, outcome);
            stack.truncate(from);
            return;
        }
        let component = stack.split_off(from);
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
