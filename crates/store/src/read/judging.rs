//! What `ledger.toml` says of findings: `[check]` and the rules.

use std::cmp::Ordering;

use cledger_core::address::{Address, Pattern};
use cledger_core::findings::{Code, Severity};
use cledger_core::model::{Class, Condition, Demand, Judging, Kind, Rule, Stage, StageId};
use cledger_core::name::Name;
use cledger_core::types::{Measure, Type};
use cledger_core::value::Value;
use regex::Regex;

use super::frame::{In, Item};
use super::stages::named_stage;
use super::toml_table::{TomlTable, TomlValue};
use crate::vocabulary::{CHECK, CONDITION, RULE, RULE_DEMANDS, names};

/// What a rule can demand.
const DEMANDS: [&str; RULE_DEMANDS.len()] = names(&RULE_DEMANDS);

/// What else stands in one.
const ABOUT: [&str; RULE.len()] = names(&RULE);

const SEVERITIES: [(Severity, &str); 2] = [(Severity::Error, "error"), (Severity::Warning, "warning")];

/// The most days ahead of which a last day can be near.
const MOST_DAYS: i64 = 3650;

/// Reads `[check]` and `[[rule]]`.
pub(super) fn judging(read: In<'_>, table: &TomlTable<'_>, stages: &[Stage]) -> Judging {
    let mut judging = Judging::default();
    if let Some(check) = table.get("check").and_then(|item| read.table(item, "`check`")) {
        read.keys(check, &names(&CHECK), |key, item| match key {
            "expiring_days" => match read.value(item) {
                Value::Integer(days) if (0..=MOST_DAYS).contains(&days) => judging.expiring_days = days,
                _ => read.expected(item, "`expiring_days`", "a number of days from 0 to 3650"),
            },
            _ => severities(read, item, &mut judging),
        });
    }
    for item in table.get("rule").map(|item| read.list(item, "`rule`")).unwrap_or_default() {
        let Some(rule) = rule(read, item, stages) else { continue };
        if judging.rules.iter().any(|known| known.name == rule.name) {
            read.wrong(item.span(), format!("there is a rule `{}` already", rule.name));
        }
        judging.rules.push(rule);
    }
    judging
}

/// The code that a text names.
pub(super) fn code(read: In<'_>, text: &str, span: std::ops::Range<usize>) -> Option<Code> {
    let found = Code::ALL.iter().copied().find(|code| code.name() == text);
    if found.is_none() {
        let names = Code::ALL.iter().map(|code| code.name());
        let help = match cledger_core::name::nearest(text, names) {
            Some(near) => format!("did you mean `{near}`?"),
            None => {
                "docs/findings.md lists the codes, and `cledger check --explain` explains them".to_owned()
            }
        };
        read.wrong_with(span, format!("no finding has the code `{text}`"), help);
    }
    found
}

fn severities(read: In<'_>, item: Item<'_, '_>, judging: &mut Judging) {
    for (key, item) in read.table(item, "`severity`").into_iter().flatten() {
        let code = code(read, key.get_ref(), key.span());
        let severity = read.choice(item, "the severity", &SEVERITIES);
        if let (Some(code), Some(severity)) = (code, severity) {
            judging.severities.insert(code, severity);
        }
    }
}

fn rule(read: In<'_>, item: Item<'_, '_>, stages: &[Stage]) -> Option<Rule> {
    let table = read.table(item, "a rule")?;
    let Some(name_item) = table.get("name") else {
        read.wrong(item.span(), "this rule has no `name`");
        return None;
    };
    let text = read.text(name_item, "a rule's name")?;
    let name: Name = read.name_text(text, name_item.span(), "a rule", false)?;
    let mut rule = Rule {
        name,
        fields: Vec::new(),
        types: Vec::new(),
        kinds: Vec::new(),
        when: None,
        classes: Vec::new(),
        stages: Vec::new(),
        demands: Vec::new(),
        severity: Severity::Error,
        why: None,
        help: None,
        place: read.place(name_item.span()),
    };
    let keys: Vec<&str> = ABOUT.into_iter().chain(DEMANDS).collect();
    read.keys(table, &keys, |key, item| match key {
        "fields" => {
            rule.fields = texts(read, item, key)
                .into_iter()
                .filter_map(|(text, span)| read.pattern(text, span))
                .collect();
        }
        "classes" => {
            let TomlValue::Array(items) = item.get_ref() else {
                return read.expected(item, "`classes`", "a list in brackets");
            };
            rule.classes =
                items.iter().filter_map(|item| read.choice(item, "a class", &Class::ALL)).collect();
        }
        "types" => {
            rule.types = texts(read, item, key).into_iter().filter_map(|it| named_type(read, it)).collect();
        }
        "kinds" => {
            rule.kinds = texts(read, item, key).into_iter().filter_map(|it| named_kind(read, it)).collect();
        }
        "when" => rule.when = condition(read, item),
        "stages" => rule.stages = stage_patterns(read, item, stages),
        "severity" => rule.severity = read.choice(item, "the severity", &SEVERITIES).unwrap_or(rule.severity),
        "why" => rule.why = read.text(item, "`why`").map(str::to_owned),
        "help" => rule.help = read.text(item, "`help`").map(str::to_owned),
        "name" => {}
        _ => rule.demands.extend(demand(read, key, item, stages)),
    });
    let is_by_type = table.contains_key("types") || table.contains_key("kinds");
    if rule.fields.is_empty() && is_by_type && !table.contains_key("fields") {
        rule.fields.extend(Pattern::parse("*").ok());
    }
    if rule.fields.is_empty() && !table.contains_key("fields") && !is_by_type {
        let help = "name the fields that it covers: fields = \"*/bookings-db.host\"";
        read.wrong_with(name_item.span(), "this rule has no `fields`", help);
    }
    if !DEMANDS.iter().any(|key| table.contains_key(key)) {
        let help = format!("write one of {}", DEMANDS.join(", "));
        read.wrong_with(name_item.span(), "this rule demands nothing", help);
    }
    bounds_in_order(read, table);
    Some(rule)
}

fn named_type(read: In<'_>, (text, span): (&str, std::ops::Range<usize>)) -> Option<Type> {
    let found = Type::by_name(text);
    if found.is_none() {
        read.wrong(span, format!("`{text}` is no type"));
    }
    found
}

fn named_kind(read: In<'_>, (text, span): (&str, std::ops::Range<usize>)) -> Option<String> {
    if !Kind::NAMES.contains(&text) {
        read.wrong_with(
            span,
            format!("`{text}` is no kind of entry"),
            format!("write one of {}", Kind::NAMES.join(", ")),
        );
        return None;
    }
    Some(text.to_owned())
}

/// What must be so of another field: `{ field = "ENTRY.FIELD", is = VALUE }`.
fn condition(read: In<'_>, item: Item<'_, '_>) -> Option<Condition> {
    let table = read.table(item, "`when`")?;
    let (mut named, mut is) = (None, None);
    read.keys(table, &names(&CONDITION), |key, item| match key {
        "field" => {
            let text = read.text(item, "`field`");
            let parsed = text.and_then(|text| Address::parse(&format!("x/{text}")).ok());
            named =
                parsed.filter(|address| address.stage.is_none()).and_then(|it| Some((it.entry?, it.field)));
            if named.is_none() {
                read.wrong(item.span(), "`field` is ENTRY or ENTRY.FIELD of the same unit");
            }
        }
        _ => is = Some(read.value(item)),
    });
    if !table.contains_key("field") || is.is_none() {
        let help = "write when = { field = \"ENTRY.FIELD\", is = VALUE }";
        read.wrong_with(item.span(), "this condition names no field or no value", help);
    }
    let (entry, field) = named?;
    Some(Condition { entry, field, is: is? })
}

/// One text, or a list of texts.
fn texts<'t>(read: In<'_>, item: Item<'t, '_>, key: &str) -> Vec<(&'t str, std::ops::Range<usize>)> {
    match item.get_ref().as_str() {
        Some(text) => vec![(text, item.span())],
        None => read.texts(item, &format!("`{key}`")),
    }
}

fn stage_patterns(read: In<'_>, item: Item<'_, '_>, stages: &[Stage]) -> Vec<Pattern> {
    let mut found = Vec::new();
    for (text, span) in texts(read, item, "stages") {
        if !text.contains(['*', '?']) && named_stage(read, stages, text, span.clone()).is_none() {
            continue;
        }
        match Pattern::parse(&format!("@{text}")) {
            Ok(pattern) => found.push(pattern),
            Err(error) => read.wrong(span, error.to_string()),
        }
    }
    found
}

fn demand(read: In<'_>, key: &str, item: Item<'_, '_>, stages: &[Stage]) -> Option<Demand> {
    let stages = || -> Vec<StageId> {
        let texts = texts(read, item, key).into_iter();
        texts.filter_map(|(text, span)| named_stage(read, stages, text, span)).collect()
    };
    let values = || -> Vec<Value> {
        let values: Vec<Value> =
            read.list(item, &format!("`{key}`")).into_iter().map(|item| read.value(item)).collect();
        if values.is_empty() && item.get_ref().is_array() {
            read.wrong(item.span(), format!("`{key}` names nothing at all"));
        }
        values
    };
    let regex = || {
        let text = read.text(item, &format!("`{key}`"))?;
        let compiled = Regex::new(text);
        if let Err(error) = &compiled {
            let reason = error.to_string();
            let last = reason.lines().last().unwrap_or_default().trim_start_matches("error: ");
            read.wrong(item.span(), format!("`{key}` does not compile: {last}"));
        }
        compiled.ok()
    };
    Some(match key {
        "one_of" => Demand::OneOf(values()),
        "not_one_of" => Demand::NotOneOf(values()),
        "pattern" => Demand::Matches(regex()?),
        "not_pattern" => Demand::MatchesNot(regex()?),
        "min" => Demand::Min(read.value(item)),
        "max" => Demand::Max(read.value(item)),
        "max_length" => match read.value(item) {
            Value::Integer(length) if length >= 0 => Demand::MaxLength(usize::try_from(length).ok()?),
            _ => {
                read.expected(item, "`max_length`", "a number of characters");
                return None;
            }
        },
        "equal_in" => Demand::EqualIn(several(read, item, key, stages())?),
        "distinct_in" => Demand::DistinctIn(several(read, item, key, stages())?),
        "unique_in_stage" => {
            if !read.boolean(item, "`unique_in_stage`")? {
                read.wrong(item.span(), "`unique_in_stage` can only be true");
                return None;
            }
            Demand::UniqueInStage
        }
        "stated" => {
            if !read.boolean(item, "`stated`")? {
                read.wrong(item.span(), "`stated` can only be true");
                return None;
            }
            Demand::Stated
        }
        "present_with" => {
            let text = read.text(item, "`present_with`")?;
            let whole = if text.contains('/') { text.to_owned() } else { format!("*/{text}") };
            Demand::PresentWith(read.pattern(&whole, item.span())?)
        }
        _ => Demand::AbsentIn(stages()),
    })
}

fn several(read: In<'_>, item: Item<'_, '_>, key: &str, stages: Vec<StageId>) -> Option<Vec<StageId>> {
    if stages.len() < 2 {
        read.wrong(item.span(), format!("`{key}` needs at least two stages"));
        return None;
    }
    Some(stages)
}

/// Refuses a `max` below its `min`, of whichever type both are.
fn bounds_in_order(read: In<'_>, table: &TomlTable<'_>) {
    let (Some(min), Some(max)) = (table.get("min"), table.get("max")) else { return };
    let (low, high) = (read.value(min), read.value(max));
    let wrong = [Type::Number, Type::Duration, Type::Size, Type::Date].into_iter().any(|this| {
        let measures = (Measure::of(&low, this), Measure::of(&high, this));
        matches!(measures, (Some(low), Some(high)) if low.partial_cmp(&high) == Some(Ordering::Greater))
    });
    if wrong {
        read.wrong(max.span(), "`max` is less than `min`");
    }
}
