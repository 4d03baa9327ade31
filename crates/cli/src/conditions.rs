//! The options that say what is searched for.

use clap::Args;
use cledger_core::address::Pattern;
use cledger_core::model::Class;
use cledger_core::search::{Conditions, Test};
use cledger_core::types::{Type, parse_date};
use jiff::civil::Date;
use jiff::tz::Offset;
use regex::Regex;

use crate::error::CliError;

#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(crate) struct ConditionOptions {
    /// Where to look, as a pattern of addresses, like `ticket-desk`, `*/*.host@prod-*` or `*@default`
    pattern: Option<String>,
    /// Only entries of this kind
    #[arg(long, value_parser = ["variable", "connection", "endpoint", "credential"])]
    kind: Option<String>,
    /// Only fields of this type
    #[arg(long = "type", value_name = "TYPE", value_parser = Type::names().collect::<Vec<_>>())]
    this_type: Option<String>,
    /// Only stages of this class
    #[arg(long, value_parser = ["development", "test", "production"])]
    class: Option<String>,
    /// Only units that this team looks after
    #[arg(long, value_name = "NAME")]
    owner: Option<String>,
    /// Only values that are exactly this
    #[arg(long, value_name = "TEXT")]
    equals: Vec<String>,
    /// Only values that contain this
    #[arg(long, value_name = "TEXT")]
    contains: Vec<String>,
    /// Only values that match this regular expression somewhere
    #[arg(long, value_name = "REGEX")]
    matches: Vec<String>,
    /// Only numbers, durations, sizes and days above this
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    over: Vec<String>,
    /// Only numbers, durations, sizes and days below this
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    under: Vec<String>,
    /// Only secrets; their values are not shown
    #[arg(long, conflicts_with = "no_secret")]
    secret: bool,
    /// Only what is no secret
    #[arg(long)]
    no_secret: bool,
    /// Only settings with a reason
    #[arg(long)]
    with_why: bool,
    /// Only settings past their last day
    #[arg(long)]
    past_until: bool,
    /// The day to count from, instead of today (UTC)
    #[arg(long, value_name = "YYYY-MM-DD", requires = "past_until")]
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
            && lists.iter().all(|list| list.is_empty())
            && !(self.secret || self.with_why || self.past_until)
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
            owner: self.owner.clone(),
            tests,
            secret: if self.secret { Some(true) } else { self.no_secret.then_some(false) },
            with_why: self.with_why,
            past: if self.past_until { Some(self.today()?) } else { None },
        })
    }

    fn today(&self) -> Result<Date, CliError> {
        match &self.today {
            None => Ok(Offset::UTC.to_datetime(jiff::Timestamp::now()).date()),
            Some(text) => parse_date(text)
                .ok_or_else(|| CliError::usage(format!("`{text}` is no day")).help("write it as 2027-01-31")),
        }
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
