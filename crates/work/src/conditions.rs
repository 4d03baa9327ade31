//! What is searched for, as it is written: on a command line, or kept in a routine.

use std::collections::BTreeSet;

use cledger_core::address::Pattern;
use cledger_core::model::{Class, Ledger};
use cledger_core::search::{Conditions, Test, called};
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
        let lists = [&self.equals, &self.contains, &self.matches, &self.over, &self.under];
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
        let lists =
            [&mut self.equals, &mut self.contains, &mut self.matches, &mut self.over, &mut self.under];
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
            secret: if self.secret { Some(true) } else { self.no_secret.then_some(false) },
            with_why: self.with_why,
            looked_up: false,
            past: if self.past_until { Some(at.day(self.today.as_deref())?) } else { None },
        })
    }
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
