//! What was changed, for programs.

use std::borrow::Cow;

use cledger_core::effects::{Effect, Seen};
use cledger_core::findings::Finding;
use cledger_core::value::Value;
use serde::Serialize;

use super::FORMAT;
use cledger_work::cells::TakenIn;
use cledger_work::drift::Taken;
use cledger_work::set::SettingsChanged;
use cledger_work::shown::seen_words;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'w> {
    format: u32,
    settings: Vec<SettingDocument<'w>>,
    effects: Vec<EffectDocument>,
    caused: Vec<FindingDocument<'w>>,
    cured: Vec<FindingDocument<'w>>,
    /// Whether it is done.
    written: bool,
}

/// What was taken over from what is live, and what was not.
#[derive(Debug, Serialize)]
pub(crate) struct TakenDocument<'w> {
    #[serde(flatten)]
    changed: Document<'w>,
    agreeing: &'w [String],
    left: Vec<LeftDocument<'w>>,
}

#[derive(Debug, Serialize)]
struct LeftDocument<'w> {
    address: &'w str,
    reason: &'w str,
}

/// What a table changes, and which of its cells are passed over.
#[derive(Debug, Serialize)]
pub(crate) struct TakenInDocument<'w> {
    #[serde(flatten)]
    changed: Document<'w>,
    passed_over: Vec<LeftDocument<'w>>,
}

pub(crate) fn taken_in(taken: &TakenIn) -> TakenInDocument<'_> {
    let left = taken.passed_over.iter().map(|(address, reason)| LeftDocument { address, reason });
    TakenInDocument { changed: document(&taken.changed), passed_over: left.collect() }
}

pub(crate) fn taken(taken: &Taken) -> TakenDocument<'_> {
    let left = taken.left.iter().map(|(address, reason)| LeftDocument { address, reason });
    TakenDocument { changed: document(&taken.changed), agreeing: &taken.agreeing, left: left.collect() }
}

#[derive(Debug, Serialize)]
struct SettingDocument<'w> {
    address: &'w str,
    file: &'w str,
    before: Option<&'w str>,
    after: Option<&'w str>,
}

#[derive(Debug, Serialize)]
pub(crate) struct EffectDocument {
    address: String,
    before: SeenDocument,
    after: SeenDocument,
}

/// A value, or the words for why there is none; both are null for a secret.
#[derive(Debug, Serialize)]
struct SeenDocument {
    value: serde_json::Value,
    instead: Option<String>,
    secret: bool,
}

#[derive(Debug, Serialize)]
pub(crate) struct FindingDocument<'r> {
    code: Cow<'static, str>,
    address: &'r str,
}

pub(crate) fn document(changed: &SettingsChanged) -> Document<'_> {
    let settings = changed.settings.iter().map(|one| SettingDocument {
        address: &one.address,
        file: &one.file,
        before: one.before.as_deref(),
        after: one.after.as_deref(),
    });
    Document {
        format: FORMAT,
        settings: settings.collect(),
        effects: effects(&changed.effects),
        caused: findings(&changed.caused),
        cured: findings(&changed.cured),
        written: changed.written,
    }
}

pub(crate) fn effects(effects: &[Effect]) -> Vec<EffectDocument> {
    let document = |effect: &Effect| EffectDocument {
        address: effect.address.to_string(),
        before: seen(&effect.before),
        after: seen(&effect.after),
    };
    effects.iter().map(document).collect()
}

fn seen(seen: &Seen) -> SeenDocument {
    match seen {
        Seen::Value(value) => SeenDocument {
            value: value.as_ref().map(Value::to_json).unwrap_or_default(),
            instead: None,
            secret: value.is_none(),
        },
        other => {
            SeenDocument { value: serde_json::Value::Null, instead: Some(seen_words(other)), secret: false }
        }
    }
}

pub(crate) fn findings(findings: &[Finding]) -> Vec<FindingDocument<'_>> {
    findings.iter().map(|one| FindingDocument { code: one.kind(), address: &one.address }).collect()
}
