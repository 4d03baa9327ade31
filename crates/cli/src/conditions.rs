//! The options that say what is searched for.

use clap::Args;
use cledger_core::address::Pattern;
use cledger_core::model::Class;
use cledger_core::search::{Conditions, Test};
use cledger_core::types::{Type, parse_date};
use jiff::civil::Date;
use jiff::tz::Offset;
use regex::Regex;
use serde::{Deserialize, Serialize};

use crate::error::CliError;

#[derive(Debug, Clone, Default, Args, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(crate) struct ConditionOptions {
    /// Where to look, as a pattern of addresses, like `ticket-desk`, `*/*.host@prod-*` or `*@default`
    #[serde(skip_serializing_if = "Option::is_none")]
    pattern: Option<String>,
    /// Only entries of this kind
    #[arg(long, value_parser = ["variable", "connection", "endpoint", "credential", "table"])]
    #[serde(skip_serializing_if = "Option::is_none")]
    kind: Option<String>,
    /// Only fields of this type
    #[arg(long = "type", value_name = "TYPE", value_parser = Type::names().collect::<Vec<_>>())]
    #[serde(rename = "type", skip_serializing_if = "Option::is_none")]
    this_type: Option<String>,
    /// Only stages of this class
    #[arg(long, value_parser = ["development", "test", "production"])]
    #[serde(skip_serializing_if = "Option::is_none")]
    class: Option<String>,
    /// Only what stands in this layer; follow and derived with --effective
    #[arg(long, value_parser = ["default", "group", "stage", "follow", "derived"])]
    #[serde(skip_serializing_if = "Option::is_none")]
    layer: Option<String>,
    /// Only units that this team looks after
    #[arg(long, value_name = "NAME")]
    #[serde(skip_serializing_if = "Option::is_none")]
    owner: Option<String>,
    /// Only values that are exactly this
    #[arg(long, value_name = "TEXT")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    equals: Vec<String>,
    /// Only values that contain this
    #[arg(long, value_name = "TEXT")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    contains: Vec<String>,
    /// Only values that match this regular expression somewhere
    #[arg(long, value_name = "REGEX")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    matches: Vec<String>,
    /// Only numbers, durations, sizes and days above this
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    over: Vec<String>,
    /// Only numbers, durations, sizes and days below this
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    under: Vec<String>,
    /// Only secrets; their values are not shown
    #[arg(long, conflicts_with = "no_secret")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    secret: bool,
    /// Only what is no secret
    #[arg(long)]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    no_secret: bool,
    /// Only settings with a reason
    #[arg(long)]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    with_why: bool,
    /// Only settings past their last day
    #[arg(long)]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    past_until: bool,
    /// The day to count from, instead of `CLEDGER_TODAY` or today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD", requires = "past_until")]
    #[serde(skip_serializing_if = "Option::is_none")]
    today: Option<String>,
}

impl ConditionOptions {
    /// Whether anything narrows the search.
    pub(crate) fn is_empty(&self) -> bool {
        let lists = [&self.equals, &self.contains, &self.matches, &self.over, &self.under];
        self.pattern.is_none()
            && self.kind.is_none()
            && self.this_type.is_none()
            && self.owner.is_none()
            && self.layer.is_none()
            && lists.iter().all(|list| list.is_empty())
            && !(self.secret || self.with_why || self.past_until)
    }

    /// All texts in it, to be filled in.
    pub(crate) fn texts(&mut self) -> impl Iterator<Item = &mut String> {
        let lists =
            [&mut self.equals, &mut self.contains, &mut self.matches, &mut self.over, &mut self.under];
        self.pattern.iter_mut().chain(&mut self.owner).chain(lists.into_iter().flatten())
    }

    /// The conditions, with everything in them read.
    pub(crate) fn read(&self) -> Result<Conditions, CliError> {
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
            pattern: self.pattern.as_deref().map(Pattern::parse).transpose()?,
            kind: self.kind.clone(),
            this_type: self.this_type.as_deref().and_then(Type::by_name),
            class: Class::ALL.iter().find(|(_, name)| Some(*name) == class).map(|(class, _)| *class),
            layer: self.layer.clone(),
            owner: self.owner.clone(),
            tests,
            secret: if self.secret { Some(true) } else { self.no_secret.then_some(false) },
            with_why: self.with_why,
            looked_up: false,
            past: if self.past_until { Some(day(self.today.as_deref())?) } else { None },
        })
    }
}

/// The day that counts as today where no option gives one.
const TODAY_VARIABLE: &str = "CLEDGER_TODAY";

/// A day that somebody typed, else the one that `CLEDGER_TODAY` names, else today (UTC).
pub(crate) fn day(typed: Option<&str>) -> Result<Date, CliError> {
    let told = std::env::var(TODAY_VARIABLE).ok().filter(|day| !day.is_empty());
    match typed.or(told.as_deref()) {
        None => Ok(Offset::UTC.to_datetime(jiff::Timestamp::now()).date()),
        Some(text) => parse_date(text)
            .ok_or_else(|| CliError::usage(format!("`{text}` is no day")).help("write it as 2027-01-31")),
    }
}

/// A regular expression that somebody typed.
pub(crate) fn regex(text: &str) -> Result<Regex, CliError> {
    Regex::new(text).map_err(|error| {
        let reason = error.to_string();
        let last = reason.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
        CliError::usage(format!("`{text}` is no regular expression: {last}"))
            .help("put a backslash before a character that is meant as it is")
    })
}
