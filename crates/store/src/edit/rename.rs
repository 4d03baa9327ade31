//! Giving something another name wherever a ledger's files mention it: declarations, settings,
//! references, lists, patterns and the names of files.

use std::ops::Range;

use cledger_core::address::{Address, Owner};
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::reference::{self, FieldName, Target};
use rayon::prelude::*;

use super::outline::{Body, Holds, Node, Pair, outline};
use super::{Changed, EditError};

/// What gets another name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Named {
    /// A unit.
    Unit(Name),
    /// An instance of a unit.
    Instance(Name, Name),
    /// An entry of a unit, or a shared one.
    Entry(Owner, Name),
    /// A field that was added to an entry.
    Field(Owner, Name, Name),
    /// A stage.
    Stage(Name),
    /// A group.
    Group(Name),
    /// An outlet.
    Outlet(Name),
    /// A rule.
    Rule(Name),
}

/// A renaming.
#[derive(Debug, Clone)]
pub struct Renaming {
    /// What.
    pub what: Named,
    /// Its new name.
    pub to: Name,
}

/// What a file is, and for whom it speaks.
#[derive(Debug, Clone)]
pub(super) enum Context {
    Manifest,
    /// A contract, or a file of shared entries.
    Declarations(Owner),
    /// Settings, with the steps that a file in a folder leaves out.
    Settings(Vec<String>),
}

/// The files that change when something gets another name.
pub fn rename(ledger: &Ledger, renaming: &Renaming) -> Result<Changed, EditError> {
    let texts: Vec<Option<String>> = ledger
        .files
        .0
        .par_iter()
        .map(|file| match context(&file.path).filter(|context| renaming.may_be_in(context, &file.text)) {
            None => Ok(None),
            Some(context) => renamed_text(ledger, renaming, &context, &file.text).ok_or_else(|| {
                EditError::Form { file: file.path.clone(), reason: "it is not TOML".to_owned() }
            }),
        })
        .collect::<Result<_, _>>()?;
    let mut changed = Changed::new();
    for (file, text) in ledger.files.0.iter().zip(texts) {
        let path = renaming.path(&file.path);
        match (path, text) {
            (None, None) => {}
            (None, Some(text)) => drop(changed.insert(file.path.clone(), Some(text))),
            (Some(path), text) => {
                changed.insert(file.path.clone(), None);
                changed.insert(path, Some(text.unwrap_or_else(|| file.text.clone())));
            }
        }
    }
    Ok(changed)
}

pub(super) fn context(path: &str) -> Option<Context> {
    let parts: Vec<&str> = path.strip_suffix(".toml")?.split('/').collect();
    Some(match parts[..] {
        ["ledger" | "waivers"] => Context::Manifest,
        ["shared"] | ["shared", _] => Context::Declarations(Owner::Shared),
        ["units", unit] => Context::Declarations(Owner::Unit(Name::parse(unit).ok()?, None)),
        ["stages" | "groups", _] => Context::Settings(Vec::new()),
        ["stages" | "groups", _, "shared"] => Context::Settings(vec!["shared".to_owned()]),
        ["stages" | "groups", _, owner] => Context::Settings(vec!["units".to_owned(), owner.to_owned()]),
        _ => return None,
    })
}

impl Renaming {
    /// Whether a file may mention what gets another name. Most say nothing of it: a name can hide only behind escapes,
    /// and files of other units name the unit of an entry, too.
    fn may_be_in(&self, context: &Context, text: &str) -> bool {
        let has = |name: &Name| text.contains(name.as_str());
        let of_unit = match context {
            Context::Declarations(Owner::Unit(unit, _)) => Some(unit.as_str()),
            Context::Settings(steps) => match &steps[..] {
                [_, owner] => Some(owner.split('+').next().unwrap_or(owner)),
                _ => None,
            },
            _ => None,
        };
        let has_owner = match &self.what {
            Named::Entry(Owner::Unit(unit, _), _) | Named::Field(Owner::Unit(unit, _), ..) => {
                of_unit.is_none_or(|name| name == unit.as_str()) || has(unit)
            }
            _ => true,
        };
        text.contains('\\') || has_owner && has(self.what.name())
    }

    /// The new path of a file whose name changes.
    fn path(&self, path: &str) -> Option<String> {
        let stem = path.strip_suffix(".toml")?;
        let mut parts: Vec<String> = stem.split('/').map(str::to_owned).collect();
        let last = parts.len() - 1;
        let (folder, to) = (parts[0].clone(), &self.to);
        let settings = folder == "stages" || folder == "groups";
        let new = match &self.what {
            Named::Stage(old) if folder == "stages" && parts[1] == old.as_str() => (1, to.to_string()),
            Named::Group(old) if folder == "groups" && parts[1] == old.as_str() => (1, to.to_string()),
            Named::Unit(old) if folder == "units" && parts[1] == old.as_str() => (1, to.to_string()),
            Named::Unit(_) | Named::Instance(..) if settings && last == 2 => (2, self.owner_key(&parts[2])?),
            _ => return None,
        };
        parts[new.0] = new.1;
        Some(format!("{}.toml", parts.join("/")))
    }

    /// `unit` or `unit+instance` with the new name in it.
    fn owner_key(&self, key: &str) -> Option<String> {
        let (unit, instance) =
            key.split_once('+').map_or((key, None), |(unit, instance)| (unit, Some(instance)));
        match (&self.what, instance) {
            (Named::Unit(old), None) if unit == old.as_str() => Some(self.to.to_string()),
            (Named::Unit(old), Some(instance)) if unit == old.as_str() => {
                Some(format!("{}+{instance}", self.to))
            }
            (Named::Instance(of, old), Some(instance)) if unit == of.as_str() && instance == old.as_str() => {
                Some(format!("{unit}+{}", self.to))
            }
            _ => None,
        }
    }

    /// The new name of the last step of a key, if that is what gets one.
    fn key(&self, ledger: &Ledger, context: &Context, path: &[String]) -> Option<String> {
        let steps: Vec<&str> = path.iter().map(String::as_str).collect();
        let to = || Some(self.to.to_string());
        match (context, &self.what) {
            (Context::Declarations(owner), Named::Entry(of, old)) if owner == of => match steps[..] {
                [kind, entry] if is_kind(kind) && entry == old.as_str() => to(),
                _ => None,
            },
            (Context::Declarations(owner), Named::Field(of, entry, old)) if owner == of => match steps[..] {
                [kind, named, "fields", field]
                    if is_kind(kind) && named == entry.as_str() && field == old.as_str() =>
                {
                    to()
                }
                _ => None,
            },
            (Context::Declarations(Owner::Unit(unit, _)), Named::Instance(of, old)) if unit == of => {
                match steps[..] {
                    ["instances", instance] if instance == old.as_str() => to(),
                    _ => None,
                }
            }
            (Context::Settings(_), Named::Unit(_) | Named::Instance(..)) => match steps[..] {
                ["units", key] => self.owner_key(key),
                _ => None,
            },
            (Context::Settings(_), Named::Entry(of, old)) => {
                let (owner, entry) = setting_owner(&steps)?;
                (steps.len() == entry + 1
                    && steps[entry] == old.as_str()
                    && is_meant(ledger, of, old, &owner))
                .then(|| self.to.to_string())
            }
            (Context::Settings(_), Named::Field(of, named, old)) => {
                let (owner, entry) = setting_owner(&steps)?;
                let field = steps.len() == entry + 2
                    && steps[entry] == named.as_str()
                    && steps[entry + 1] == old.as_str();
                (field && is_meant(ledger, of, named, &owner)).then(|| self.to.to_string())
            }
            _ => None,
        }
    }

    /// A reference with the new name in it, as it is read in text of this owner.
    fn target(&self, ledger: &Ledger, target: Target, reader: &Owner) -> Option<Target> {
        let (seen_by, field) = match &target {
            Target::Own(field) => (reader.clone(), field.clone()),
            Target::OfShared(field) => (Owner::Shared, field.clone()),
            Target::OfUnit(unit, instance, field) => {
                (Owner::Unit(unit.clone(), instance.clone()), field.clone())
            }
            _ => return None,
        };
        let new_field = |field: FieldName| match target.clone() {
            Target::Own(_) => Target::Own(field),
            Target::OfShared(_) => Target::OfShared(field),
            Target::OfUnit(unit, instance, _) => Target::OfUnit(unit, instance, field),
            other => other,
        };
        let to = self.to.clone();
        match &self.what {
            Named::Unit(old) => match target {
                Target::OfUnit(unit, instance, field) if unit == *old => {
                    Some(Target::OfUnit(to, instance, field))
                }
                _ => None,
            },
            Named::Instance(of, old) => match target {
                Target::OfUnit(unit, Some(instance), field) if unit == *of && instance == *old => {
                    Some(Target::OfUnit(unit, Some(to), field))
                }
                _ => None,
            },
            Named::Entry(of, old) => {
                let meant = field.entry == *old && is_meant(ledger, of, old, &seen_by);
                meant.then(|| new_field(FieldName { entry: to, ..field }))
            }
            Named::Field(of, entry, old) => {
                let meant = field.entry == *entry && field.field.as_ref() == Some(old);
                (meant && is_meant(ledger, of, entry, &seen_by))
                    .then(|| new_field(FieldName { field: Some(to), ..field }))
            }
            Named::Stage(old) if field.stage.as_ref() == Some(old) => {
                Some(new_field(FieldName { stage: Some(to), ..field }))
            }
            Named::Stage(_) | Named::Group(_) | Named::Outlet(_) | Named::Rule(_) => None,
        }
    }

    /// A pattern of addresses with the new name in it; only whole names are taken for it.
    fn pattern(&self, text: &str) -> Option<String> {
        let (path, stage) = text.split_once('@').map_or((text, None), |(path, stage)| (path, Some(stage)));
        let (owner, entry) = path.split_once('/').map_or((path, None), |(owner, entry)| (owner, Some(entry)));
        let named_owner = |of: &Owner| match of {
            Owner::Shared => owner == "shared" || owner == "*",
            Owner::Unit(unit, _) => owner.split('+').next() == Some(unit.as_str()),
        };
        let (mut new_owner, mut new_entry, mut new_stage) =
            (owner.to_owned(), entry.map(str::to_owned), stage.map(str::to_owned));
        match &self.what {
            Named::Unit(_) | Named::Instance(..) => new_owner = self.owner_key(owner)?,
            Named::Stage(old) if stage == Some(old.as_str()) => new_stage = Some(self.to.to_string()),
            Named::Entry(of, old) if named_owner(of) => {
                let entry = entry?;
                let (name, field) =
                    entry.split_once('.').map_or((entry, None), |(name, field)| (name, Some(field)));
                if name != old.as_str() {
                    return None;
                }
                new_entry = Some(field.map_or(self.to.to_string(), |field| format!("{}.{field}", self.to)));
            }
            Named::Field(of, named, old) if named_owner(of) && entry == Some(&format!("{named}.{old}")) => {
                new_entry = Some(format!("{named}.{}", self.to));
            }
            _ => return None,
        }
        let entry = new_entry.map(|entry| format!("/{entry}")).unwrap_or_default();
        let stage = new_stage.map(|stage| format!("@{stage}")).unwrap_or_default();
        Some(format!("{new_owner}{entry}{stage}"))
    }

    /// A name or pattern that stands as a value at this place of a manifest or contract.
    fn listed(&self, ledger: &Ledger, context: &Context, path: &[&str], text: &str) -> Option<String> {
        let exact = |old: &Name| (text == old.as_str()).then(|| self.to.to_string());
        match (context, path) {
            (
                Context::Manifest,
                ["stage", "name" | "after"]
                | ["default_stage"]
                | ["aligned" | "outlet", "stages"]
                | ["stage", "follow", "stage"]
                | ["rule", "stages" | "equal_in" | "distinct_in" | "absent_in"],
            )
            | (
                Context::Declarations(_),
                ["stages"] | ["instances", _, "stages"] | ["output" | "probe", "stages"],
            ) => match &self.what {
                Named::Stage(old) => exact(old),
                _ => None,
            },
            (Context::Manifest, ["waiver", "code"]) => match &self.what {
                Named::Rule(old) => (text == format!("rule:{old}")).then(|| format!("rule:{}", self.to)),
                _ => None,
            },
            (Context::Settings(_), [.., "looked_up"]) => match &self.what {
                Named::Outlet(old) => {
                    let rest = text.strip_prefix(old.as_str())?;
                    (rest.is_empty() || rest.starts_with(['#', '@'])).then(|| format!("{}{rest}", self.to))
                }
                Named::Stage(old) if !text.contains("://") => {
                    let (outlet, rest) = text.split_once('@')?;
                    let spot = rest.strip_prefix(old.as_str())?;
                    let is_meant = !outlet.contains('#') && (spot.is_empty() || spot.starts_with('#'));
                    is_meant.then(|| format!("{outlet}@{}{spot}", self.to))
                }
                _ => None,
            },
            (Context::Manifest, ["stage", "groups"] | ["group", "name"]) => match &self.what {
                Named::Group(old) => exact(old),
                _ => None,
            },
            (
                Context::Manifest,
                ["stage", "own"]
                | ["aligned", "except"]
                | ["outlet" | "bundle", "units"]
                | ["stage", "follow", "only" | "except"]
                | ["routine", "search", "pattern"]
                | ["rule", "fields"]
                | ["waiver", "address"],
            ) => self.pattern(text),
            (Context::Manifest, ["rule", "present_with"]) if text.contains('/') => self.pattern(text),
            (Context::Manifest, ["rule", "present_with"] | ["rule", "when", "field"]) => {
                self.pattern(&format!("*/{text}")).and_then(|new| Some(new.strip_prefix("*/")?.to_owned()))
            }
            (Context::Declarations(owner), ["output", "table"] | ["probe", "entry"]) => match &self.what {
                Named::Entry(of, old) if is_meant(ledger, of, old, owner) => exact(old),
                _ => None,
            },
            (Context::Declarations(_), ["uses"]) => match &self.what {
                Named::Entry(Owner::Shared, old) => exact(old),
                _ => None,
            },
            (Context::Declarations(owner), ["chore", "when", "changed"]) => match &self.what {
                Named::Entry(of, old) if is_meant(ledger, of, old, owner) => {
                    let (entry, field) =
                        text.split_once('.').map_or((text, None), |(entry, field)| (entry, Some(field)));
                    let to = field.map_or(self.to.to_string(), |field| format!("{}.{field}", self.to));
                    (entry == old.as_str()).then_some(to)
                }
                Named::Field(of, entry, old) if is_meant(ledger, of, entry, owner) => {
                    (text == format!("{entry}.{old}")).then(|| format!("{entry}.{}", self.to))
                }
                _ => None,
            },
            _ => None,
        }
    }
}

/// Whether the entry of this name, as somebody sees it, is the one that is meant.
pub(super) fn is_meant(ledger: &Ledger, of: &Owner, entry: &Name, seen_by: &Owner) -> bool {
    match (of, seen_by) {
        (Owner::Shared, Owner::Shared) => true,
        (Owner::Shared, Owner::Unit(unit, _)) => {
            let id = ledger.shared_id(entry.as_str());
            let unit = ledger.unit_id(unit.as_str()).map(|id| ledger.unit(id));
            unit.zip(id).is_some_and(|(unit, id)| unit.uses.contains(&id))
        }
        (Owner::Unit(one, _), Owner::Unit(other, _)) => one == other,
        (Owner::Unit(..), Owner::Shared) => false,
    }
}

fn is_kind(step: &str) -> bool {
    ["variables", "connections", "endpoints", "credentials", "tables"].contains(&step)
}

/// Whether a text, as it is written at this place, is the name of something or a pattern with it.
pub(super) fn is_listed_name(
    ledger: &Ledger,
    renaming: &Renaming,
    context: &Context,
    path: &[&str],
    raw: &str,
) -> bool {
    let Some(quote) = raw.chars().next().filter(|c| ['"', '\''].contains(c)) else { return false };
    let inside = raw.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote));
    inside.is_some_and(|text| renaming.listed(ledger, context, path, text).is_some())
}

/// Where the values stand that refer to something.
pub(super) fn refers(ledger: &Ledger, renaming: &Renaming, context: &Context, text: &str) -> Vec<usize> {
    let Some(bodies) = outline(text) else { return Vec::new() };
    let mut walk = Walk { ledger, renaming, context, text, changes: Vec::new() };
    for body in &bodies {
        walk.body(body);
    }
    let is_reference = |range: &Range<usize>| text[range.clone()].contains("${");
    walk.changes.into_iter().map(|(range, _)| range).filter(is_reference).map(|range| range.start).collect()
}

/// Whose settings a path leads to, and at which step its entry stands.
fn setting_owner(steps: &[&str]) -> Option<(Owner, usize)> {
    match steps {
        ["shared", ..] => Some((Owner::Shared, 1)),
        ["units", key, ..] => Some((Address::parse(key).ok()?.owner?, 2)),
        _ => None,
    }
}

/// The text with all names in it changed, `Some(None)` if none is in it; `None` if it is not TOML.
#[expect(clippy::option_option, reason = "no TOML is another thing than nothing to change")]
fn renamed_text(
    ledger: &Ledger,
    renaming: &Renaming,
    context: &Context,
    text: &str,
) -> Option<Option<String>> {
    let bodies = outline(text)?;
    let mut walk = Walk { ledger, renaming, context, text, changes: Vec::new() };
    for body in &bodies {
        walk.body(body);
    }
    let mut changes = walk.changes;
    if changes.is_empty() {
        return Some(None);
    }
    changes.sort_by_key(|(range, _)| range.start);
    let mut renamed = text.to_owned();
    for (range, new) in changes.into_iter().rev() {
        renamed.replace_range(range, &new);
    }
    Some(Some(renamed))
}

/// Goes through a file and notes what changes.
struct Walk<'w> {
    ledger: &'w Ledger,
    renaming: &'w Renaming,
    context: &'w Context,
    text: &'w str,
    changes: Vec<(Range<usize>, String)>,
}

impl Walk<'_> {
    fn body(&mut self, body: &Body) {
        let mut path = match self.context {
            Context::Settings(prefix) => prefix.clone(),
            Context::Manifest | Context::Declarations(_) => Vec::new(),
        };
        self.keys(&mut path, &body.path, &body.places);
        for pair in &body.pairs {
            self.pair(&path, pair);
        }
    }

    fn keys(&mut self, path: &mut Vec<String>, keys: &[String], places: &[Range<usize>]) {
        for (key, place) in keys.iter().zip(places) {
            path.push(key.clone());
            if let Some(new) = self.renaming.key(self.ledger, self.context, path) {
                self.changes.push((place.clone(), super::key(&new)));
            }
        }
    }

    fn pair(&mut self, path: &[String], pair: &Pair) {
        let mut path = path.to_vec();
        self.keys(&mut path, &pair.keys, &pair.places);
        self.node(&path, &pair.value);
    }

    fn node(&mut self, path: &[String], node: &Node) {
        match &node.holds {
            Holds::Table(pairs) => pairs.iter().for_each(|pair| self.pair(path, pair)),
            Holds::List(items) => items.iter().for_each(|item| self.node(path, item)),
            Holds::One => self.one(path, &node.span),
        }
    }

    fn one(&mut self, path: &[String], span: &Range<usize>) {
        let raw = &self.text[span.clone()];
        let Some(quote) = raw.chars().next().filter(|c| ['"', '\''].contains(c)) else { return };
        let steps: Vec<&str> = path.iter().map(String::as_str).collect();
        let inside = raw.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote));
        let listed = inside.and_then(|text| self.renaming.listed(self.ledger, self.context, &steps, text));
        let new = if let Some(new) = listed {
            Some(format!("{quote}{new}{quote}"))
        } else {
            let reader = match self.context {
                Context::Manifest => return,
                Context::Declarations(owner) => owner.clone(),
                Context::Settings(_) => match setting_owner(&steps) {
                    Some((owner, _)) => owner,
                    None => return,
                },
            };
            reference::rewrite(raw, |target| self.renaming.target(self.ledger, target, &reader))
        };
        self.changes.extend(new.map(|new| (span.clone(), new)));
    }
}
