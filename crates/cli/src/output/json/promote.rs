//! `promote` for programs.

use std::path::Path;

use cledger_core::kept::Kept;
use cledger_core::promotion::Fate;
use serde::Serialize;

use super::{FORMAT, deliver};
use crate::output::values;
use cledger_work::promote::{Field, NotCarried, Promoted};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'p> {
    format: u32,
    from: &'p str,
    to: &'p str,
    written: bool,
    units: Vec<UnitDocument<'p>>,
    settings: Vec<&'p str>,
    /// Patterns that were to be carried, and of which nothing is.
    not_carried: Vec<NotCarriedDocument<'p>>,
    /// Where the form was written that is to be filled in.
    #[serde(skip_serializing_if = "Option::is_none")]
    form: Option<&'p Path>,
    /// What came of the deliveries that follow.
    #[serde(skip_serializing_if = "Option::is_none")]
    delivered: Option<deliver::Document<'p>>,
}

#[derive(Debug, Serialize)]
struct NotCarriedDocument<'p> {
    pattern: &'p str,
    why: &'p str,
}

fn not_carried(it: &NotCarried) -> NotCarriedDocument<'_> {
    NotCarriedDocument { pattern: &it.pattern, why: &it.why }
}

#[derive(Debug, Serialize)]
struct UnitDocument<'p> {
    unit: &'p str,
    delivery: u64,
    moved_on: &'p [String],
    /// What the outlets have and nobody could read, so that it counts as delivered.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    not_read: Vec<NotReadDocument<'p>>,
    fields: Vec<FieldDocument>,
}

#[derive(Debug, Serialize)]
struct NotReadDocument<'p> {
    what: &'p str,
    why: &'p str,
}

#[derive(Debug, Serialize)]
struct FieldDocument {
    address: String,
    state: &'static str,
    reason: Option<&'static str>,
    secret: bool,
    /// Whether it changed since the last promotion.
    changed: bool,
    below: serde_json::Value,
    above: serde_json::Value,
}

pub(crate) fn document(promoted: &Promoted) -> Document<'_> {
    let units = promoted.promotions.iter().map(|promotion| UnitDocument {
        unit: &promotion.owner,
        delivery: promotion.from.meta.number,
        moved_on: &promotion.moved_on,
        not_read: promotion
            .not_read
            .iter()
            .map(|it| NotReadDocument { what: &it.what, why: &it.why })
            .collect(),
        fields: promotion.fields.iter().map(field).collect(),
    });
    Document {
        format: FORMAT,
        from: &promoted.below,
        to: &promoted.above,
        written: promoted.write && promoted.form.is_none(),
        units: units.collect(),
        settings: promoted.settings.iter().map(|one| one.address.as_str()).collect(),
        not_carried: promoted.not_carried.iter().map(not_carried).collect(),
        form: promoted.form.as_ref().map(|(path, _)| path.as_path()),
        delivered: promoted.delivered.as_ref().map(deliver::document),
    }
}

fn field(field: &Field) -> FieldDocument {
    let (state, reason) = match (field.fate, field.is_taken) {
        (Fate::Needed, true) => ("answered", None),
        (Fate::Needed, false) => ("needed", None),
        (Fate::MayBeCarried, true) => ("carried", None),
        (Fate::MayBeCarried, false) => ("may-be-carried", None),
        (Fate::Stays(why), _) => ("stays", Some(why.words())),
        (Fate::Same, _) => ("same", None),
        (Fate::Follows, _) => ("follows", None),
    };
    let json = |kept: Option<&Kept>| {
        let kept = kept.filter(|_| !field.secret);
        kept.map(|kept| values::kept_json(kept, false)).unwrap_or_default()
    };
    FieldDocument {
        address: field.place.address.to_string(),
        state,
        reason,
        secret: field.secret,
        changed: field.is_news,
        below: json(field.below.as_ref()),
        above: json(field.above.as_ref()),
    }
}
