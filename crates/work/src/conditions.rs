//! What is searched for, as it is written: on a command line, or kept in a routine.

use std::collections::BTreeSet;

use cledger_core::address::Pattern;
use cledger_core::model::{Class, Entry, Kind, Ledger};
use cledger_core::name::{Name, nearest};
use cledger_core::search::{Beside, Conditions, Test, called};
use cledger_core::types::Type;
use regex::Regex;
use serde::{Deserialize, Serialize};

use crate::covering::refuse_idle;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// The conditions of a search, as texts. What is empty narrows nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[expect(clippy::struct_excessive_bools, reason = "each is a condition that is made or not")]
pub struct SearchTexts {
    /// Where to look, as a pattern of addresses, like `ticket-desk`, `*/*.host@prod-*` or `*@default`
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
    /// Only entries of this kind
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Only fields of this type
    #[serde(rename = "type", skip_serializing_if = "Option::is_none")]
    pub this_type: Option<String>,
    /// Only stages of this class
    #[serde(skip_serializing_if = "Option::is_none")]
    pub class: Option<String>,
    /// Only what stands in this layer; follow and derived with --effective
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layer: Option<String>,
    /// Only units that this team looks after
    #[serde(skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// Only fields that an output of their unit calls so
    #[serde(skip_serializing_if = "Option::is_none")]
    pub output_name: Option<String>,
    /// Only values that are exactly this
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub equals: Vec<String>,
    /// Only values that contain this
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub contains: Vec<String>,
    /// Only values that match this regular expression somewhere
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub matches: Vec<String>,
    /// Only numbers, durations, sizes and days above this
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub over: Vec<String>,
    /// Only numbers, durations, sizes and days below this
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub under: Vec<String>,
    /// Only beside another field that is, contains, matches, is above or below something: FIELD=TEXT, FIELD~TEXT,
    /// FIELD=~REGEX, FIELD>VALUE, FIELD<VALUE
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<String>,
    /// Only secrets; their values are not shown
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub secret: bool,
    /// Only what is no secret
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_secret: bool,
    /// Only settings with a reason
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub with_why: bool,
    /// Only settings past their last day
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub past_until: bool,
    /// The day to count from, instead of today
    #[serde(skip_serializing_if = "Option::is_none")]
    pub today: Option<String>,
}

impl SearchTexts {
    /// Whether anything narrows the search.
    pub(crate) fn is_empty(&self) -> bool {
        let lists = [&self.equals, &self.contains, &self.matches, &self.over, &self.under, &self.beside];
        self.pattern.is_none()
            && self.kind.is_none()
            && self.this_type.is_none()
            && self.owner.is_none()
            && self.output_name.is_none()
            && self.layer.is_none()
            && lists.iter().all(|list| list.is_empty())
            && !(self.secret || self.with_why || self.past_until)
    }

    /// All texts in it, to be filled in.
    pub(crate) fn texts(&mut self) -> impl Iterator<Item = &mut String> {
        let lists = [
            &mut self.equals,
            &mut self.contains,
            &mut self.matches,
            &mut self.over,
            &mut self.under,
            &mut self.beside,
        ];
        let names = self.pattern.iter_mut().chain(&mut self.owner).chain(&mut self.output_name);
        names.chain(lists.into_iter().flatten())
    }

    /// The conditions, with everything in them read. A pattern that covers nothing of the ledger is a mistake.
    pub fn read(&self, at: &Workplace, ledger: &Ledger) -> Result<Conditions, Trouble> {
        let pattern = self.pattern.as_deref().map(Pattern::parse).transpose()?;
        if let Some(pattern) = &pattern {
            refuse_idle(ledger, pattern)?;
        }
        let fields = self.output_name.as_deref().map(|name| called(ledger, name));
        if let (Some(name), true) = (&self.output_name, fields.as_ref().is_some_and(BTreeSet::is_empty)) {
            return Err(Trouble::usage(format!("no output has the name `{name}`"))
                .help("write it as it stands there, its steps joined with dots"));
        }
        let mut tests = Vec::new();
        tests.extend(self.equals.iter().cloned().map(Test::Equals));
        tests.extend(self.contains.iter().cloned().map(Test::Contains));
        tests.extend(self.over.iter().cloned().map(Test::Over));
        tests.extend(self.under.iter().cloned().map(Test::Under));
        for text in &self.matches {
            tests.push(Test::Matches(regex(text)?));
        }
        let class = self.class.as_deref();
        Ok(Conditions {
            pattern,
            fields,
            kind: self.kind.clone(),
            this_type: self.this_type.as_deref().and_then(Type::by_name),
            class: Class::ALL.iter().find(|(_, name)| Some(*name) == class).map(|(class, _)| *class),
            layer: self.layer.clone(),
            owner: self.owner.clone(),
            tests,
            beside: self.beside.iter().map(|text| beside(ledger, text)).collect::<Result<_, _>>()?,
            secret: if self.secret { Some(true) } else { self.no_secret.then_some(false) },
            with_why: self.with_why,
            looked_up: false,
            past: if self.past_until { Some(at.day(self.today.as_deref())?) } else { None },
        })
    }
}

/// A condition on another field, as it is typed.
fn beside(ledger: &Ledger, said: &str) -> Result<Beside, Trouble> {
    let wrong = || {
        Trouble::usage(format!("`{said}` is no condition on a field"))
            .help("write FIELD=TEXT, FIELD~TEXT, FIELD=~REGEX, FIELD>VALUE or FIELD<VALUE")
    };
    let at = said.find(['=', '~', '>', '<']).filter(|at| *at > 0).ok_or_else(wrong)?;
    let (field, rest) = said.split_at(at);
    let test = if let Some(pattern) = rest.strip_prefix("=~") {
        Test::Matches(regex(pattern)?)
    } else {
        let value = rest[1..].to_owned();
        match rest.as_bytes()[0] {
            b'=' => Test::Equals(value),
            b'~' => Test::Contains(value),
            b'>' => Test::Over(value),
            _ => Test::Under(value),
        }
    };
    let (entry, name) = match field.split_once('.') {
        Some((entry, name)) => (Some(Name::parse(entry).map_err(|_| wrong())?), name),
        None => (None, field),
    };
    let beside = Beside { entry, name: name.to_owned(), test };
    refuse_nowhere(ledger, &beside, field)?;
    Ok(beside)
}

/// Refuses a condition on a field that nothing in the ledger has.
fn refuse_nowhere(ledger: &Ledger, beside: &Beside, said: &str) -> Result<(), Trouble> {
    let names = |entry: &Entry| -> Vec<String> {
        let fields = entry.fields.iter().map(|field| field.name.as_ref().map(ToString::to_string));
        let mut names: Vec<String> = match &beside.entry {
            Some(_) => fields.map(|field| format!("{}.{}", entry.name, field.unwrap_or_default())).collect(),
            None => fields.map(|field| field.unwrap_or_else(|| entry.name.to_string())).collect(),
        };
        if let (Kind::Table { columns, .. }, None) = (&entry.kind, &beside.entry) {
            names.extend(columns.iter().cloned());
        }
        names
    };
    let entries = ledger.shared.iter().chain(ledger.units.iter().flat_map(|unit| &unit.entries));
    let known: BTreeSet<String> = entries.flat_map(names).collect();
    if known.contains(said) {
        return Ok(());
    }
    let help = nearest(said, known.iter().map(String::as_str)).map_or_else(
        || "name a field of the same entry, ENTRY.FIELD, a variable, or a column".to_owned(),
        |near| format!("did you mean `{near}`?"),
    );
    Err(Trouble::usage(format!("nothing has a field `{said}`")).help(help))
}

/// A regular expression that somebody typed.
pub(crate) fn regex(text: &str) -> Result<Regex, Trouble> {
    Regex::new(text).map_err(|error| {
        let reason = error.to_string();
        let last = reason.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
        Trouble::usage(format!("`{text}` is no regular expression: {last}"))
            .help("put a backslash before a character that is meant as it is")
    })
}
