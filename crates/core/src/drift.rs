//! Drift: what is really there, compared with what the ledger says.

use std::collections::{BTreeMap, BTreeSet};

use jiff::civil::Date;

use crate::address::Address;
use crate::environment::Environment;
use crate::fields::{Fields, as_kept};
use crate::model::{Ledger, Waived};
use crate::output::OutputName;
use crate::render::RenderedOutput;
use crate::resolve::{Effective, FieldId, Outcome};
use crate::tree::{Branch, Tree};
use crate::value::{Held, Value};

/// How one name in a file has drifted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NameDrift {
    /// It has another value there.
    Differs,
    /// It is not there.
    MissingThere,
    /// It is there, and the ledger knows no such name.
    ExtraThere,
    /// The ledger has no value for it, although one is needed.
    NoValueHere,
    /// The ledger's value is a secret that cannot be read here, so that nobody can tell.
    Unreadable,
}

impl NameDrift {
    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            NameDrift::Differs => "differs",
            NameDrift::MissingThere => "missing there",
            NameDrift::ExtraThere => "extra there",
            NameDrift::NoValueHere => "no value in the ledger",
            NameDrift::Unreadable => "not known: not readable here",
        }
    }
}

/// Who has moved since the last delivery.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Since {
    /// Somebody has changed it there: the outlet left what was delivered.
    EditedByHand,
    /// The ledger has moved on, and that was not delivered yet.
    AwaitingDelivery,
    /// Both.
    Both,
}

impl Since {
    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Since::EditedByHand => "edited by hand",
            Since::AwaitingDelivery => "awaiting delivery",
            Since::Both => "edited by hand, awaiting delivery",
        }
    }

    /// What happened to a value: as it was delivered, as it is there, and as the ledger has it.
    pub fn of(delivered: Option<&Value>, there: Option<&Value>, ledger: Option<&Value>) -> Option<Self> {
        match (delivered != there, delivered != ledger) {
            (true, true) => Some(Since::Both),
            (true, false) => Some(Since::EditedByHand),
            (false, true) => Some(Since::AwaitingDelivery),
            (false, false) => None,
        }
    }
}

/// One name that has drifted.
#[derive(Debug, Clone)]
pub struct Drifted {
    /// Its name in the file, steps joined with dots.
    pub name: String,
    /// These steps.
    pub steps: OutputName,
    /// The field's address, where the ledger knows it.
    pub address: Option<String>,
    /// How.
    pub what: NameDrift,
    /// Whether its values are secrets, or may be.
    pub secret: bool,
    /// The value that the ledger says, where there is one.
    pub expected: Option<Held>,
    /// Whether that is waived.
    pub waived: bool,
    /// Who has moved since the last delivery, where one is known.
    pub since: Option<Since>,
    /// The value that is there, where there is one. Under a name that the ledger does not know it is a secret:
    /// nobody has said that it is none.
    pub there: Option<Held>,
}

/// What was found in place of an output's file.
#[derive(Debug)]
pub enum Observed {
    /// There is no such file.
    NotThere,
    /// It cannot be read, for this reason.
    Unreadable(String),
    /// This is in it.
    Tree(Tree),
    /// This is its text, which no format reads.
    Text(String),
}

/// How an output's file stands.
#[derive(Debug, Clone)]
pub enum FileDrift {
    /// As the ledger says.
    AsLedger,
    /// Names in it have drifted.
    Drifted(Vec<Drifted>),
    /// Its text differs.
    TextDiffers {
        /// The line from which on, counted from 1.
        line: usize,
        /// Whether what is there has a secret in it, whatever the ledger has in its place.
        has_secret: bool,
    },
    /// It is not there.
    NotThere,
    /// It cannot be read, for this reason.
    Unreadable(String),
    /// It was brought, and is not rendered any more.
    LeftOver,
    /// It is in the unit's folder, and was never ours.
    Theirs,
}

impl FileDrift {
    /// Whether it is as the ledger says, but for what is waived.
    pub fn is_clean(&self) -> bool {
        match self {
            FileDrift::AsLedger | FileDrift::Theirs => true,
            FileDrift::Drifted(names) => names.iter().all(|name| name.waived),
            FileDrift::TextDiffers { .. }
            | FileDrift::NotThere
            | FileDrift::Unreadable(_)
            | FileDrift::LeftOver => false,
        }
    }

    /// Passes over names there that are never ours.
    pub fn keep(&mut self, keeps: impl Fn(&str) -> bool) {
        let FileDrift::Drifted(names) = self else { return };
        names.retain(|name| name.what != NameDrift::ExtraThere || !keeps(&name.name));
        if names.is_empty() {
            *self = FileDrift::AsLedger;
        }
    }

    /// Marks the names as waived whose fields a waiver of drift covers on this day.
    pub fn waive(&mut self, ledger: &Ledger, today: Date) {
        let FileDrift::Drifted(names) = self else { return };
        let mut waivers = ledger.waivers.iter();
        let waivers: Vec<_> =
            waivers.by_ref().filter(|it| it.what == Waived::Drift && it.counts_on(Some(today))).collect();
        for name in names {
            let address = name.address.as_deref().and_then(|address| Address::parse(address).ok());
            name.waived = address.is_some_and(|address| waivers.iter().any(|it| it.pattern.covers(&address)));
        }
    }
}

impl Drifted {
    /// A name there that no field has, with its value if that is known. It is a secret: nobody has said that it is
    /// none.
    pub fn extra(steps: OutputName, there: Option<Value>) -> Self {
        Self {
            name: steps.join("."),
            steps,
            address: None,
            what: NameDrift::ExtraThere,
            secret: true,
            waived: false,
            since: None,
            expected: None,
            there: there.map(|value| Held::new(value, true)),
        }
    }

    /// Whether something is there that nobody here can read.
    pub fn is_hidden(&self) -> bool {
        let says_what_is_there = matches!(self.what, NameDrift::MissingThere | NameDrift::NoValueHere);
        self.there.is_none() && !says_what_is_there
    }

    /// Takes what is there for a secret, whatever the ledger has in its place.
    pub fn veil(&mut self) {
        self.secret = true;
        self.there = self.there.take().map(Held::into_secret);
    }
}

/// Compares a file made by a template with the text that it should have.
pub fn of_text(expected: &str, observed: Observed) -> FileDrift {
    match observed {
        Observed::NotThere => FileDrift::NotThere,
        Observed::Unreadable(reason) => FileDrift::Unreadable(reason),
        Observed::Text(text) if text == expected => FileDrift::AsLedger,
        Observed::Text(text) => {
            let same = expected.split('\n').zip(text.split('\n')).take_while(|(one, other)| one == other);
            FileDrift::TextDiffers { line: same.count() + 1, has_secret: false }
        }
        Observed::Tree(_) => FileDrift::Unreadable("it is no plain text".to_owned()),
    }
}

/// Compares a file with the output that it should be.
pub fn of_output(ledger: &Ledger, output: &RenderedOutput<'_>, observed: Observed) -> FileDrift {
    let tree = match observed {
        Observed::Text(_) => return FileDrift::Unreadable("its form is not known".to_owned()),
        Observed::NotThere => return FileDrift::NotThere,
        Observed::Unreadable(reason) => return FileDrift::Unreadable(reason),
        Observed::Tree(tree) => tree,
    };
    let is_file_of_table = output.output.table.is_some();
    let mut drifted = Vec::new();
    for (name, (field, effective)) in &output.values {
        let expected = effective.expose().map(|value| output.as_written(name, value));
        let is_table = is_file_of_table || output.is_apart(name);
        drifted.extend(of_value(ledger, name, (*field, effective), expected, &tree, is_table));
    }
    let mut known: BTreeSet<&OutputName> = output.values.keys().collect();
    for (name, lacking) in &output.lacking {
        known.insert(name);
        let there = tree.get(name).map(|value| Held::new(value.clone(), lacking.may_be_secret));
        drifted.push(Drifted {
            name: name.join("."),
            steps: name.clone(),
            address: Some(ledger.address(lacking.field).to_string()),
            what: NameDrift::NoValueHere,
            secret: lacking.may_be_secret,
            waived: false,
            since: None,
            expected: None,
            there,
        });
    }
    let beside = output.beside();
    for (name, &value) in &beside {
        known.insert(name);
        let there = tree.get(name);
        if there != Some(value) {
            let what = if there.is_some() { NameDrift::Differs } else { NameDrift::MissingThere };
            let expected = Some(Held::new(value.clone(), false));
            let there = there.map(|value| Held::new(value.clone(), false));
            let extra = Drifted::extra(name.clone(), None);
            drifted.push(Drifted { what, expected, there, secret: false, ..extra });
        }
    }
    extra(&tree.0, &mut Vec::new(), &known, &mut drifted);
    if drifted.is_empty() { FileDrift::AsLedger } else { FileDrift::Drifted(drifted) }
}

/// Compares the environment of a running process with what a unit's program would get. Other variables
/// there are nobody's business.
pub fn of_environment(
    ledger: &Ledger,
    environment: &Environment<'_>,
    observed: &BTreeMap<String, String>,
) -> FileDrift {
    let variables = observed.iter().map(|(name, value)| (name.as_str().into(), Value::text(value)));
    let tree = Tree(variables.collect());
    let drifted = environment.variables.iter().filter_map(|(name, (field, effective))| {
        let expected = effective.expose().map(|value| Value::Text(value.to_text()));
        of_value(ledger, std::slice::from_ref(name), (*field, effective), expected, &tree, false)
    });
    let drifted: Vec<Drifted> = drifted.collect();
    if drifted.is_empty() { FileDrift::AsLedger } else { FileDrift::Drifted(drifted) }
}

/// Compares all fields of a unit with what the ledger said of them at another time, as [`as_kept`] has it.
pub fn of_fields(ledger: &Ledger, fields: &Fields<'_>, then: &Tree) -> FileDrift {
    let mut drifted = Vec::new();
    for (name, (field, outcome)) in fields {
        if let Outcome::Value(effective) = outcome {
            let expected = effective.expose().map(as_kept);
            drifted.extend(of_value(ledger, name, (*field, effective), expected, then, false));
        } else if let Some(there) = then.get(name) {
            let secret = ledger.field(field.subject, field.slot).1.secret || !outcome.is_of_nothing();
            drifted.push(Drifted {
                address: Some(ledger.address(*field).to_string()),
                what: NameDrift::NoValueHere,
                secret,
                there: Some(Held::new(there.clone(), secret)),
                ..Drifted::extra(name.clone(), None)
            });
        }
    }
    extra(&then.0, &mut Vec::new(), &fields.keys().collect(), &mut drifted);
    if drifted.is_empty() { FileDrift::AsLedger } else { FileDrift::Drifted(drifted) }
}

/// How one value stands in a tree, if not as it should; `expected` is what should stand there, if that is readable
/// here, and `is_table` says that no rows may be no table.
fn of_value(
    ledger: &Ledger,
    name: &[String],
    (field, effective): (FieldId, &Effective<'_>),
    expected: Option<Value>,
    tree: &Tree,
    is_table: bool,
) -> Option<Drifted> {
    let drifted = |what: NameDrift, expected: Option<Value>, there: Option<&Value>| {
        // What is not readable here may be one.
        let secret = effective.is_secret() || what == NameDrift::Unreadable;
        Drifted {
            name: name.join("."),
            steps: name.to_vec(),
            address: Some(ledger.address(field).to_string()),
            what,
            secret,
            waived: false,
            since: None,
            expected: expected.map(|value| Held::new(value, secret)),
            there: there.map(|value| Held::new(value.clone(), secret)),
        }
    };
    let found = tree.get(name);
    let Some(expected) = expected else { return Some(drifted(NameDrift::Unreadable, None, found)) };
    match found {
        // The file of a lookup table without rows.
        None if is_table && expected.is_empty_map() => None,
        None => Some(drifted(NameDrift::MissingThere, Some(expected), None)),
        Some(same) if *same == expected => None,
        Some(_) => Some(drifted(NameDrift::Differs, Some(expected), found)),
    }
}

/// Adds the names in a branch that no field has, each as far down as it goes.
fn extra(branch: &Branch, steps: &mut OutputName, known: &BTreeSet<&OutputName>, drifted: &mut Vec<Drifted>) {
    for (step, value) in branch {
        steps.push(step.to_string());
        let inside = {
            let here: &OutputName = steps;
            known.range::<&OutputName, _>(here..).next().is_some_and(|name| name.starts_with(steps))
        };
        match value {
            _ if known.contains(&*steps) => {}
            Value::Map(level) if inside => extra(level, steps, known, drifted),
            _ => drifted.push(Drifted::extra(steps.clone(), Some(value.clone()))),
        }
        steps.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_has_moved_since_the_last_delivery() {
        let value = |text: &str| Some(Value::text(text)).filter(|_| !text.is_empty());
        for (delivered, there, ledger, since) in [
            ("a", "a", "a", None),
            ("a", "b", "a", Some(Since::EditedByHand)),
            ("a", "", "a", Some(Since::EditedByHand)),
            ("", "b", "", Some(Since::EditedByHand)),
            ("a", "a", "b", Some(Since::AwaitingDelivery)),
            ("a", "a", "", Some(Since::AwaitingDelivery)),
            ("", "", "b", Some(Since::AwaitingDelivery)),
            ("a", "b", "c", Some(Since::Both)),
            // Both have gone the same way, each by itself.
            ("a", "b", "b", Some(Since::Both)),
        ] {
            let found = Since::of(value(delivered).as_ref(), value(there).as_ref(), value(ledger).as_ref());
            assert_eq!(found, since, "{delivered} {there} {ledger}");
        }
    }
}
