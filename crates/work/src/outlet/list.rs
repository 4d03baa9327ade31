//! The outlets of stages: whether each answers, and which units are there.

use std::collections::BTreeMap;

use cledger_core::address::Pattern;
use cledger_core::model::{Class, DaybookStore};
use cledger_outlets::held::Held;
use cledger_store::daybook::{Entry, Wanted};

use crate::daybook;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::look::read_all;
use crate::reality::places;
use crate::trouble::Trouble;

/// An outlet in a stage.
#[derive(Debug, Clone)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// Its kind.
    pub kind: &'static str,
    /// The stage.
    pub stage: String,
    /// How many units and instances belong there.
    pub units: usize,
    /// How many of them are there.
    pub there: usize,
    /// When something was last delivered there, as the daybook has it (RFC 3339).
    pub last: Option<String>,
    /// Why it does not answer, or not for all of them.
    pub trouble: Option<String>,
}

/// Lists the outlets of the stages that these patterns cover, all without one.
pub fn list(opened: &Opened, patterns: &[Pattern]) -> Result<Vec<Listed>, Trouble> {
    let ledger = &opened.ledger;
    let around = Around::of(opened);
    let mut places = places::outlets(patterns, ledger, &around)?;
    for place in &mut places {
        for subject in place.subjects.clone() {
            place.ask(ledger, &ledger.owner(subject), Vec::new())?;
        }
    }
    let sources: Vec<_> = places.iter().map(|place| place.source.clone()).collect();
    let backs = read_all(&sources, &*opened.at.telling, "outlets");
    let delivered = delivered(opened)?;
    if ledger.daybook == DaybookStore::Embedded
        && ledger.stages.iter().any(|it| it.class == Class::Production)
    {
        opened.at.telling.notice(
            "Deliveries are recorded in this folder alone. A team shares a daybook in PostgreSQL: [daybook] \
             store = \"postgres\" in ledger.toml.",
        );
    }
    let mut listed = Vec::new();
    for (place, back) in places.iter().zip(backs) {
        let is_there = |held: &&Held| !matches!(held, Held::NotThere | Held::NotKnown(_));
        let not_known = back.units.values().find_map(|held| match held {
            Held::NotKnown(reason) => Some(reason.clone()),
            _ => None,
        });
        let late = place.source.asked.len() > back.units.len();
        let (name, kind) = place.outlet_name().unwrap_or_default();
        let stage = ledger.stage(place.stage).name.to_string();
        let last = delivered.get(&(name.clone(), stage.clone())).cloned();
        listed.push(Listed {
            name,
            kind,
            stage,
            last,
            units: place.subjects.len(),
            there: back.units.values().filter(is_there).count(),
            trouble: if late { Some(place.trouble(&back)) } else { not_known },
        });
    }
    Ok(listed)
}

/// When something was last delivered, by outlet and stage.
fn delivered(opened: &Opened) -> Result<BTreeMap<(String, String), String>, Trouble> {
    let mut times = BTreeMap::new();
    let Some(mut book) = daybook::reading(opened)? else { return Ok(times) };
    for Entry { meta, .. } in book.entries(&Wanted::last_of_all(), false)? {
        for answer in &meta.outlets {
            times.insert(
                (answer.outlet.clone(), opened.ledger.stage_name_now(&meta.stage).to_owned()),
                meta.time.clone(),
            );
        }
    }
    Ok(times)
}
