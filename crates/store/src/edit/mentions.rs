//! Where a ledger's files mention something, and the files without that.
//!
//! Only whole names count, in lists of names and patterns, in keys of one name, and in references. What a reference is
//! part of stays: nobody can say what it should be instead.

use std::collections::BTreeMap;
use std::ops::Range;

use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::source::SourceFile;

use super::brackets::{elements, without_element};
use super::change::{removal_of, without_found};
use super::lines::{line_end, line_start};
use super::outline::{Body, Node, Pair, outline};
use super::rename::{Context, Named, Renaming, context, is_listed_name, refers};
use super::tables::without_bodies;
use super::{Changed, EditError};

/// A place that mentions something.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Mention {
    /// The file, from the ledger's folder.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// What stands in it.
    pub text: String,
}

impl Mention {
    /// The one that begins at a byte of a file.
    fn at(file: &SourceFile, at: usize) -> Mention {
        let start = line_start(&file.text, at);
        let line = file.text[..start].matches('\n').count() + 1;
        let text = file.text[start..line_end(&file.text, start)].trim().to_owned();
        Mention { file: file.path.clone(), line, text }
    }
}

/// The places in files that stay where these things are mentioned by lists and keys: `after`, outlets, rules, waivers …
pub fn mentions(ledger: &Ledger, things: &[Named], is_gone: &dyn Fn(&str) -> bool) -> Vec<Mention> {
    let mut found = Vec::new();
    for file in ledger.files.0.iter().filter(|file| !is_gone(&file.path)) {
        for thing in things.iter().filter(|thing| file.text.contains(thing.name().as_str())) {
            let Some((context, bodies)) = context(&file.path).zip(outline(&file.text)) else { continue };
            let seeker = Seeker::of(ledger, &context, &file.text, thing);
            for at in seeker.all(&bodies) {
                found.push(Mention::at(file, at.span.start));
            }
        }
    }
    found.sort();
    found.dedup();
    found
}

/// The files that change when mentions of these things go, on top of earlier changes. A list of which nothing is left
/// goes, or what it is part of where that would mean everything then.
pub fn without_mentions(ledger: &Ledger, changed: &Changed, things: &[Named]) -> Result<Changed, EditError> {
    let mut texts: BTreeMap<&str, &str> = BTreeMap::new();
    for file in &ledger.files.0 {
        match changed.get(&file.path) {
            None => drop(texts.insert(&file.path, &file.text)),
            Some(Some(text)) => drop(texts.insert(&file.path, text)),
            Some(None) => {}
        }
    }
    let mut without = Changed::new();
    for (path, before) in texts {
        let mut text = before.to_owned();
        for thing in things.iter().filter(|thing| before.contains(thing.name().as_str())) {
            while let Some(context) = context(path) {
                let bodies = outline(&text).ok_or_else(|| EditError::Form {
                    file: path.to_owned(),
                    reason: "it is not TOML".to_owned(),
                })?;
                let seeker = Seeker::of(ledger, &context, &text, thing);
                let Some(at) = seeker.all(&bodies).into_iter().next() else { break };
                let shorter = without_one(&text, &bodies, &at);
                if shorter == text {
                    break;
                }
                text = shorter;
            }
        }
        if text != before {
            without.insert(path.to_owned(), (!text.trim().is_empty()).then_some(text));
        }
    }
    Ok(without)
}

impl Named {
    /// Its own name.
    pub fn name(&self) -> &Name {
        match self {
            Named::Unit(name)
            | Named::Instance(_, name)
            | Named::Entry(_, name)
            | Named::Field(_, _, name)
            | Named::Stage(name)
            | Named::Group(name)
            | Named::Outlet(name)
            | Named::Rule(name) => name,
        }
    }
}

/// One step from a table of a file to a value in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Step {
    /// The pair at this position of a table.
    Pair(usize),
    /// The element at this position of a list.
    Element(usize),
}

/// Where a mention stands.
#[derive(Debug, Clone)]
struct At {
    span: Range<usize>,
    /// The keys that lead to it.
    path: Vec<String>,
    body: usize,
    steps: Vec<Step>,
}

/// Goes through a file and notes where something is mentioned.
struct Seeker<'s> {
    ledger: &'s Ledger,
    renaming: Renaming,
    context: &'s Context,
    text: &'s str,
}

impl<'s> Seeker<'s> {
    fn of(ledger: &'s Ledger, context: &'s Context, text: &'s str, thing: &Named) -> Self {
        Self { ledger, renaming: Renaming { what: thing.clone(), to: thing.name().clone() }, context, text }
    }

    fn all(&self, bodies: &[Body]) -> Vec<At> {
        let mut found = Vec::new();
        for (at, body) in bodies.iter().enumerate() {
            for (position, pair) in body.pairs.iter().enumerate() {
                let path: Vec<String> = body.path.iter().chain(&pair.keys).cloned().collect();
                self.node(&pair.value, &path, (at, vec![Step::Pair(position)]), &mut found);
            }
        }
        found
    }

    fn node(&self, node: &Node, path: &[String], (body, steps): (usize, Vec<Step>), found: &mut Vec<At>) {
        let further = |step: Step| [&steps[..], &[step]].concat();
        for (at, element) in elements(node).iter().enumerate() {
            self.node(element, path, (body, further(Step::Element(at))), found);
        }
        for (at, pair) in node.pairs().unwrap_or_default().iter().enumerate() {
            let path: Vec<String> = path.iter().chain(&pair.keys).cloned().collect();
            self.node(&pair.value, &path, (body, further(Step::Pair(at))), found);
        }
        let names: Vec<&str> = path.iter().map(String::as_str).collect();
        let raw = &self.text[node.span.clone()];
        // A stage or group says its own name: that is no mention.
        let is_own = matches!(names[..], ["stage" | "group" | "outlet" | "rule", "name"]);
        if !is_own && is_listed_name(self.ledger, &self.renaming, self.context, &names, raw) {
            found.push(At { span: node.span.clone(), path: path.to_vec(), body, steps });
        }
    }
}

/// The lines of a file that refer to something in a value: they stay.
pub fn references(ledger: &Ledger, things: &[Named], is_gone: &dyn Fn(&str) -> bool) -> Vec<Mention> {
    let mut found = Vec::new();
    for file in ledger.files.0.iter().filter(|file| !is_gone(&file.path)) {
        for thing in things.iter().filter(|thing| file.text.contains(thing.name().as_str())) {
            let renaming = Renaming { what: thing.clone(), to: thing.name().clone() };
            let Some(context) = context(&file.path) else { continue };
            for start in refers(ledger, &renaming, &context, &file.text) {
                found.push(Mention::at(file, start));
            }
        }
    }
    found.sort();
    found.dedup();
    found
}

/// What goes where too little is left of a list, or a key of one name mentions something.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Whole {
    /// The key: without it there is nothing of the kind.
    Key,
    /// What it is part of: without it, that would mean everything, or nothing at all.
    Item,
    /// An empty list stays: without it, that would mean everything.
    Empty,
}

/// How many elements a list needs, and what goes if there are fewer.
fn needs(path: &[String]) -> (usize, Whole) {
    let names: Vec<&str> = path.iter().map(String::as_str).collect();
    match names[..] {
        ["aligned", "stages"] | ["rule", "equal_in" | "distinct_in"] => (2, Whole::Item),
        ["stage", "after" | "groups" | "own"]
        | ["uses" | "default_stage"]
        | ["aligned", "except"]
        | ["stage", "follow", "except"] => (1, Whole::Key),
        ["stages"] | ["instances", _, "stages"] | ["output" | "probe", "stages"] => (0, Whole::Empty),
        _ => (1, Whole::Item),
    }
}

/// The text without one mention.
fn without_one(text: &str, bodies: &[Body], at: &At) -> String {
    let (least, whole) = needs(&at.path);
    let body = &bodies[at.body];
    if let Some((Step::Element(position), list)) = at.steps.split_last() {
        if let Some(list) = value(body, list).filter(|list| elements(list).len() > least.max(1)) {
            return without_element(text, list, *position);
        }
        if whole == Whole::Empty
            && let Some(list) = value(body, list)
        {
            return format!("{}[]{}", &text[..list.span.start], &text[list.span.end..]);
        }
    }
    let is_element = |step: &Step| matches!(step, Step::Element(_));
    let own_list = usize::from(at.steps.last().is_some_and(is_element));
    let outer = &at.steps[..at.steps.len() - own_list];
    let item = outer.iter().rposition(is_element);
    match (whole, item) {
        (Whole::Key | Whole::Empty, Some(item)) => {
            let Some(node) = value(body, &outer[..=item]) else { return text.to_owned() };
            let keys: Vec<&str> = keys_of(node.pairs().unwrap_or_default(), &outer[item + 1..]);
            without_inside(text, node, &keys)
        }
        (Whole::Item, Some(item)) => {
            let (Some(Step::Element(position)), Some(list)) = (outer.get(item), value(body, &outer[..item]))
            else {
                return text.to_owned();
            };
            if elements(list).len() > 1 {
                without_element(text, list, *position)
            } else {
                without_pair(text, bodies, at.body, &outer[..item])
            }
        }
        (Whole::Item, None) if body.listed => {
            let is_below =
                |next: &&Body| next.path.starts_with(&body.path) && !(next.listed && next.path == body.path);
            let below = bodies[at.body + 1..].iter().take_while(is_below).count();
            without_bodies(text, bodies, at.body..at.body + 1 + below)
        }
        (_, None) => without_pair(text, bodies, at.body, outer),
    }
}

/// The value at some steps from a table.
fn value<'b>(body: &'b Body, steps: &[Step]) -> Option<&'b Node> {
    let (Step::Pair(first), rest) = steps.split_first().map(|(first, rest)| (*first, rest))? else {
        return None;
    };
    rest.iter().try_fold(&body.pairs.get(first)?.value, |node, step| match step {
        Step::Element(at) => elements(node).get(*at),
        Step::Pair(at) => node.pairs()?.get(*at).map(|pair| &pair.value),
    })
}

/// The keys on the way through tables in tables.
fn keys_of<'p>(pairs: &'p [Pair], steps: &[Step]) -> Vec<&'p str> {
    let mut keys = Vec::new();
    let mut here = pairs;
    for step in steps {
        let Step::Pair(at) = step else { break };
        let Some(pair) = here.get(*at) else { break };
        keys.extend(pair.keys.iter().map(String::as_str));
        here = pair.value.pairs().unwrap_or_default();
    }
    keys
}

/// The text without a pair of a table with a header.
fn without_pair(text: &str, bodies: &[Body], at: usize, steps: &[Step]) -> String {
    let body = &bodies[at];
    let keys = keys_of(&body.pairs, steps);
    if !body.listed {
        let path: Vec<&str> = body.path.iter().map(String::as_str).chain(keys).collect();
        return without_found(text, bodies, &path);
    }
    let alone = Body { pairs: body.pairs.clone(), ..Body::default() };
    let mut shorter = text.to_owned();
    if let Some(range) = removal_of(text, &alone, &keys) {
        shorter.replace_range(range, "");
    }
    shorter
}

/// The text without a pair of a table in brackets.
fn without_inside(text: &str, node: &Node, keys: &[&str]) -> String {
    let here = Pair {
        keys: vec![String::new()],
        places: vec![node.span.clone()],
        span: node.span.clone(),
        value: node.clone(),
    };
    let alone = Body { pairs: vec![here], ..Body::default() };
    let path: Vec<&str> = [""].into_iter().chain(keys.iter().copied()).collect();
    let mut shorter = text.to_owned();
    if let Some(range) = removal_of(text, &alone, &path) {
        shorter.replace_range(range, "");
    }
    shorter
}
