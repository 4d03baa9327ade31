//! `rehome` for programs.

use cledger_core::address::Address;
use cledger_core::rehome::{Spot, Suggestion};
use serde::Serialize;

use super::FORMAT;
use crate::output::text::rehome::{commands, word};
use cledger_work::rehome::RehomeReport;
use cledger_work::rehome::suggest::Suggested;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'r> {
    format: u32,
    written: bool,
    out: String,
    /// The form that was written, if one was.
    form: Option<String>,
    replaced: Vec<SpotDocument<'r>>,
    left: Vec<SpotDocument<'r>>,
    not_found: Vec<&'r str>,
    common: Vec<&'r str>,
    skipped: Vec<&'r str>,
}

#[derive(Debug, Serialize)]
struct SpotDocument<'r> {
    member: Option<&'r str>,
    place: &'r str,
    fields: &'r [String],
    secret: bool,
    from: Option<&'r str>,
    to: Option<&'r str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<&'static str>,
}

/// What could become entries.
#[derive(Debug, Serialize)]
pub(crate) struct SuggestedDocument<'r> {
    format: u32,
    of: String,
    suggestions: Vec<SuggestionDocument<'r>>,
    known: usize,
    skipped: &'r [String],
}

#[derive(Debug, Serialize)]
struct SuggestionDocument<'r> {
    looks_like: &'static str,
    value: Option<String>,
    secret: bool,
    places: &'r [String],
    entry: &'r str,
    commands: [String; 2],
}

pub(crate) fn suggested(suggested: &Suggested) -> SuggestedDocument<'_> {
    SuggestedDocument {
        format: FORMAT,
        of: suggested.of.to_string(),
        suggestions: suggested.suggestions.iter().map(|it| suggestion(it, &suggested.of)).collect(),
        known: suggested.known,
        skipped: &suggested.skipped,
    }
}

fn suggestion<'r>(it: &'r Suggestion, of: &Address) -> SuggestionDocument<'r> {
    SuggestionDocument {
        looks_like: it.looks.word(),
        value: it.text.open().map(|value| value.to_text().to_string()),
        secret: it.text.is_secret(),
        places: &it.places,
        entry: it.name.as_str(),
        commands: commands(it, of),
    }
}

pub(crate) fn document<'r>(report: &'r RehomeReport) -> Document<'r> {
    let spot = |member: Option<&'r str>, spot: &'r Spot, why| {
        let swap = &report.swaps[spot.swap];
        let (from, to) = swap.shown().map_or((None, None), |(from, to)| (Some(from), to));
        SpotDocument { member, place: &spot.place, fields: &swap.fields, secret: swap.secret, from, to, why }
    };
    let mut document = Document {
        format: FORMAT,
        written: report.written,
        out: report.out.display().to_string(),
        form: report.form.as_ref().map(|(path, _)| path.display().to_string()),
        replaced: Vec::new(),
        left: Vec::new(),
        not_found: names(report, &report.not_found),
        common: names(report, &report.common),
        skipped: Vec::new(),
    };
    for part in &report.parts {
        let member = part.member.as_deref();
        match &part.rehomed {
            None => document.skipped.extend(member),
            Some(rehomed) => {
                document.replaced.extend(rehomed.replaced.iter().map(|it| spot(member, it, None)));
                document.left.extend(rehomed.left.iter().map(|(it, why)| spot(member, it, Some(word(*why)))));
            }
        }
    }
    document
}

fn names<'r>(report: &'r RehomeReport, swaps: &[usize]) -> Vec<&'r str> {
    swaps.iter().flat_map(|at| &report.swaps[*at].fields).map(String::as_str).collect()
}
