//! Values that are spelled otherwise in one stage than in another, and may mean the same.

use std::collections::BTreeMap;

use super::{Proposed, ProposedField};
use crate::model::StageId;
use crate::types::Type;
use crate::value::Value;

/// In what spellings differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spelled {
    /// One truth as `true` here and as `yes` there.
    Truth,
    /// `10s` beside `10`.
    Unit,
    /// `http` beside `https`.
    Scheme,
    /// With a slash at the end in one stage alone.
    Slash,
}

/// A field whose values are spelled in different ways.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spelling {
    /// The field, as `ENTRY` or `ENTRY.FIELD`.
    pub field: String,
    /// In what they differ.
    pub what: Spelled,
    /// The values, by stage.
    pub values: BTreeMap<StageId, String>,
    /// What the values of some stages would be, spelled as those of the others.
    pub aligned: BTreeMap<StageId, String>,
}

/// Finds such fields, among those that are no secrets.
pub fn spellings(proposed: &[Proposed], stages: &[StageId]) -> Vec<Spelling> {
    let mut found = Vec::new();
    for entry in proposed {
        for field in entry.fields.iter().filter(|field| !field.secret && !field.settings.is_empty()) {
            let values = values(field, stages);
            let name = match &field.name {
                None => entry.name.to_string(),
                Some(name) => format!("{}.{name}", entry.name),
            };
            let aligned = [
                (Spelled::Truth, truths(&values)),
                (Spelled::Unit, units(&values)),
                (Spelled::Scheme, schemes(&values)),
                (Spelled::Slash, slashes(&values)),
            ];
            found.extend(aligned.into_iter().filter(|(_, aligned)| !aligned.is_empty()).map(
                |(what, aligned)| Spelling { field: name.clone(), what, values: values.clone(), aligned },
            ));
        }
    }
    found
}

/// Texts, by stage.
type Values = BTreeMap<StageId, String>;

fn values(field: &ProposedField, stages: &[StageId]) -> Values {
    let text = |value: &Value| {
        let text = value.to_text().to_string();
        if field.this_type == Type::Json { text.trim_matches('"').to_owned() } else { text }
    };
    let default = field.default.as_ref().map(text);
    let by_default = stages.iter().filter_map(|stage| Some((*stage, default.clone()?)));
    by_default.chain(field.settings.iter().map(|(stage, value)| (*stage, text(value)))).collect()
}

/// The words for true and false.
const TRUTHS: [[&str; 2]; 6] =
    [["true", "false"], ["yes", "no"], ["on", "off"], ["1", "0"], ["y", "n"], ["enabled", "disabled"]];

/// How letters are written: small, with a capital, or all capitals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Letters {
    Small,
    Capital,
    Capitals,
}

impl Letters {
    fn of(text: &str) -> Self {
        let mut letters = text.chars();
        match (letters.next().is_some_and(char::is_uppercase), letters.any(char::is_lowercase)) {
            (false, _) => Letters::Small,
            (true, true) => Letters::Capital,
            (true, false) => Letters::Capitals,
        }
    }

    fn write(self, text: &str) -> String {
        match self {
            Letters::Small => text.to_owned(),
            Letters::Capitals => text.to_ascii_uppercase(),
            Letters::Capital => text[..1].to_ascii_uppercase() + &text[1..],
        }
    }
}

/// The pair of words that a text is of, how it is written, and whether it is the second of them.
fn truth(text: &str) -> Option<(usize, Letters, usize)> {
    let small = text.to_ascii_lowercase();
    let of = |(pair, words): (usize, &[&str; 2])| Some((pair, words.iter().position(|word| *word == small)?));
    let (pair, which) = TRUTHS.iter().enumerate().find_map(of)?;
    Some((pair, Letters::of(text), which))
}

fn truths(values: &Values) -> Values {
    let known: Option<Vec<_>> = values.iter().map(|(stage, text)| Some((*stage, truth(text)?))).collect();
    let Some(known) = known else { return Values::new() };
    let usual = most(known.iter().map(|(_, (pair, letters, _))| (*pair, *letters)));
    let Some((pair, letters)) = usual else { return Values::new() };
    let others = known.into_iter().filter(|(_, (of, written, _))| (*of, *written) != (pair, letters));
    others.map(|(stage, (.., which))| (stage, letters.write(TRUTHS[pair][which]))).collect()
}

fn units(values: &Values) -> Values {
    let is_bare = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    let unit = |text: &str| {
        let unit = text.trim_start_matches(|c: char| c.is_ascii_digit());
        let is_one = unit.len() < text.len() && !unit.is_empty() && Type::Duration.read(text).is_some();
        is_one.then(|| unit.to_owned())
    };
    if !values.values().all(|text| is_bare(text) || unit(text).is_some()) {
        return Values::new();
    }
    let Some(usual) = most(values.values().filter_map(|text| unit(text))) else { return Values::new() };
    let bare = values.iter().filter(|(_, text)| is_bare(text));
    bare.map(|(stage, text)| (*stage, format!("{text}{usual}"))).collect()
}

fn schemes(values: &Values) -> Values {
    let is_secure = |text: &String| text.starts_with("https://");
    let all_are_urls = values.values().all(|text| is_secure(text) || text.starts_with("http://"));
    if !all_are_urls || !values.values().any(is_secure) {
        return Values::new();
    }
    let open = values.iter().filter(|(_, text)| !is_secure(text));
    open.map(|(stage, text)| (*stage, text.replacen("http://", "https://", 1))).collect()
}

fn slashes(values: &Values) -> Values {
    let ends = |text: &String| text.ends_with('/');
    if values.len() < 2 || !values.values().all(|text| text.trim_end_matches('/').contains('/')) {
        return Values::new();
    }
    let (with, without): (Vec<_>, Vec<_>) = values.iter().partition(|(_, text)| ends(text));
    match (&with[..], &without[..]) {
        ([(stage, text)], [_, ..]) => Values::from([(**stage, text.trim_end_matches('/').to_owned())]),
        ([_, ..], [(stage, text)]) => Values::from([(**stage, format!("{text}/"))]),
        _ => Values::new(),
    }
}

/// What comes most often; of several the first that came.
fn most<T: Ord + Clone>(all: impl Iterator<Item = T>) -> Option<T> {
    let all: Vec<T> = all.collect();
    let mut counts: BTreeMap<&T, usize> = BTreeMap::new();
    for one in &all {
        *counts.entry(one).or_default() += 1;
    }
    let highest = counts.values().max()?;
    all.iter().find(|one| counts[one] == *highest).cloned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_spelled_otherwise_is_aligned_with_the_most() {
        type Align = fn(&Values) -> Values;
        type Case = (Align, &'static [&'static str], &'static [Option<&'static str>]);
        let cases: [Case; 14] = [
            (truths, &["true", "yes"], &[None, Some("true")]),
            (truths, &["yes", "off", "no"], &[None, Some("no"), None]),
            (truths, &["True", "false", "True"], &[None, Some("False"), None]),
            (truths, &["1", "0"], &[None, None]),
            (truths, &["1", "2"], &[None, None]),
            (truths, &["ON", "yes", "OFF"], &[None, Some("ON"), None]),
            (units, &["10s", "10"], &[None, Some("10s")]),
            (units, &["10", "20"], &[None, None]),
            (units, &["10s", "ten"], &[None, None]),
            (schemes, &["http://a", "https://b"], &[Some("https://a"), None]),
            (schemes, &["http://a", "http://b"], &[None, None]),
            (slashes, &["/a/b", "/a/b/", "/a/b"], &[None, Some("/a/b"), None]),
            (slashes, &["http://a/", "http://b"], &[Some("http://a"), None]),
            (slashes, &["/a/", "/b", "/c/", "/d"], &[None, None, None, None]),
        ];
        for (align, values, expected) in cases {
            let stages = (0..).map(StageId);
            let given: Values = stages.clone().zip(values.iter().map(|text| (*text).to_owned())).collect();
            let wanted = stages.zip(expected).filter_map(|(stage, text)| Some((stage, (*text)?.to_owned())));
            assert_eq!(align(&given), wanted.collect(), "{values:?}");
        }
    }
}
