//! `promote` for programs.

use cledger_core::promotion::Fate;
use serde::Serialize;

use super::FORMAT;
use crate::commands::{Promotion, PromotionField};
use crate::setting::Written;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'p> {
    format: u32,
    from: &'p str,
    to: &'p str,
    written: bool,
    units: Vec<UnitDocument<'p>>,
    settings: Vec<&'p str>,
}

#[derive(Debug, Serialize)]
struct UnitDocument<'p> {
    unit: &'p str,
    delivery: u64,
    moved_on: &'p [String],
    fields: Vec<FieldDocument>,
}

#[derive(Debug, Serialize)]
struct FieldDocument {
    address: String,
    state: &'static str,
    reason: Option<&'static str>,
    secret: bool,
    below: serde_json::Value,
    above: serde_json::Value,
}

pub(crate) fn document<'p>(
    (from, to): (&'p str, &'p str),
    promotions: &'p [Promotion],
    settings: &'p [Written],
    written: bool,
) -> Document<'p> {
    let units = promotions.iter().map(|promotion| UnitDocument {
        unit: &promotion.owner,
        delivery: promotion.from.meta.number,
        moved_on: &promotion.moved_on,
        fields: promotion.fields.iter().map(field).collect(),
    });
    let settings = settings.iter().map(|one| one.address.as_str()).collect();
    Document { format: FORMAT, from, to, written, units: units.collect(), settings }
}

fn field(field: &PromotionField) -> FieldDocument {
    let (state, reason) = match (field.fate, field.is_taken) {
        (Fate::Needed, true) => ("answered", None),
        (Fate::Needed, false) => ("needed", None),
        (Fate::MayBeCarried, true) => ("carried", None),
        (Fate::MayBeCarried, false) => ("may-be-carried", None),
        (Fate::Stays(why), _) => ("stays", Some(why.words())),
        (Fate::Same, _) => ("same", None),
        (Fate::Follows, _) => ("follows", None),
    };
    let json = |text: Option<&String>| {
        text.filter(|_| !field.secret).and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default()
    };
    FieldDocument {
        address: field.place.address.to_string(),
        state,
        reason,
        secret: field.secret,
        below: json(field.below.as_deref()),
        above: json(field.above.as_deref()),
    }
}
