//! What a unit has at its outlets and what it is to have there, name by name, for programs.

use cledger_core::delivery::Whose;
use cledger_core::value::Held;
use cledger_work::bringing::at::{AtName, AtOutlet, AtPart, PartNote, Seen, Stays};
use serde::Serialize;

use crate::output::values;

#[derive(Debug, Serialize)]
pub(crate) struct OutletPlan<'a> {
    outlet: &'a str,
    kind: &'static str,
    /// The delivery that was last brought there.
    since: Option<u64>,
    /// Why nobody can tell what is there.
    reason: Option<&'a str>,
    /// Why it does not take what is to be there.
    refused: Option<&'a str>,
    /// Tables that could not be asked whether they take it.
    not_asked: &'a [String],
    /// Whether what was last brought there is not in effect, and is taken up again.
    not_in_effect: bool,
    /// The unit whose place it is by now, so that it stays as it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    handed_on_to: Option<&'a str>,
    parts: Vec<PartPlan<'a>>,
}

#[derive(Debug, Serialize)]
struct PartPlan<'a> {
    /// Null where the outlet has one thing for each unit.
    path: Option<&'a str>,
    is_there: bool,
    will_be_there: bool,
    /// `otherwise-written` where only its writing differs, `there-before` where it was there before as it is to be.
    note: Option<&'static str>,
    names: Vec<NamePlan<'a>>,
}

#[derive(Debug, Serialize)]
struct NamePlan<'a> {
    /// Null for the whole file.
    name: Option<&'a [String]>,
    address: Option<&'a str>,
    secret: bool,
    there: serde_json::Value,
    will: serde_json::Value,
    whose: &'static str,
    stays: Option<&'static str>,
}

pub(crate) fn outlets(outlets: &[AtOutlet]) -> Vec<OutletPlan<'_>> {
    outlets.iter().filter(|outlet| !matches!(outlet.seen, Seen::OnlyLookedAt)).map(one).collect()
}

fn one(outlet: &AtOutlet) -> OutletPlan<'_> {
    OutletPlan {
        outlet: &outlet.outlet,
        kind: outlet.kind,
        since: outlet.since,
        reason: if let Seen::NotKnown(reason) = &outlet.seen { Some(reason) } else { None },
        refused: outlet.refused.as_deref(),
        not_asked: &outlet.not_asked,
        not_in_effect: outlet.not_in_effect,
        handed_on_to: match &outlet.seen {
            Seen::HandedOn(to) => Some(to),
            _ => None,
        },
        parts: outlet.parts().iter().map(part).collect(),
    }
}

fn part(part: &AtPart) -> PartPlan<'_> {
    PartPlan {
        path: part.path.as_deref(),
        is_there: part.is_there,
        will_be_there: part.will_be_there,
        note: part.note.map(|note| match note {
            PartNote::OtherwiseWritten => "otherwise-written",
            PartNote::ThereBefore => "there-before",
        }),
        names: part.names.iter().map(name).collect(),
    }
}

fn name(name: &AtName) -> NamePlan<'_> {
    let is_whole = name.name.is_none();
    // A whole file is not shown, secret or not.
    let json = |held: &Option<Held>| match held {
        Some(held) if !is_whole => values::held_json(held, false),
        _ => serde_json::Value::Null,
    };
    NamePlan {
        name: name.name.as_deref(),
        address: name.address.as_deref(),
        secret: [&name.there, &name.will].into_iter().flatten().any(Held::is_secret),
        there: json(&name.there),
        will: json(&name.will),
        whose: match name.whose {
            Whose::Ours => "ours",
            Whose::Edited => "edited-by-hand",
            Whose::Before => "there-before",
        },
        stays: name.stays.map(|stays| match stays {
            Stays::Left => "left",
            Stays::NotMeant => "not-meant",
            Stays::Waived => "waived",
        }),
    }
}
