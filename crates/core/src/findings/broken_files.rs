//! `unreadable-file`: files of the ledger that cannot be read, and what could not be judged for them.

use super::code::{Code, Severity};
use super::finding::Finding;
use super::standing::UnitStanding;
use crate::model::{BrokenFile, Ledger, Missed, Mistake, Subject};

/// A finding for each mistake in a file.
pub(super) fn all(ledger: &Ledger) -> Vec<Finding> {
    let mistakes = ledger.broken.0.iter().flat_map(|file| file.mistakes.iter().map(move |it| (file, it)));
    mistakes.map(|(file, mistake)| of(ledger, file, mistake)).collect()
}

fn of(ledger: &Ledger, file: &BrokenFile, mistake: &Mistake) -> Finding {
    let (subject, stage) = match file.misses.first() {
        Some(Missed::Unit(unit)) => (unit.to_string(), None),
        Some(Missed::Layer(layer)) => (String::new(), Some(ledger.layer_name(*layer))),
        Some(Missed::UnitIn(layer, unit)) => (unit.to_string(), Some(ledger.layer_name(*layer))),
        Some(Missed::Waivers) | None => (String::new(), None),
    };
    let is_of_settings = file.path.starts_with("stages/") || file.path.starts_with("groups/");
    Finding {
        code: Code::UnreadableFile,
        severity: Severity::Error,
        address: stage.map_or(subject.clone(), |stage| format!("{subject}@{stage}")),
        subject,
        stage: stage.map(ToString::to_string),
        unit: None,
        message: match mistake.path {
            Some(_) => format!("`{}`: {}", file.path, mistake.message),
            None => mistake.message.clone(),
        },
        place: mistake.place,
        hides_value: mistake.secret || is_of_settings,
        help: mistake.help.clone().unwrap_or_else(|| format!("mend {}", file.path)),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}

/// Says of the places for which something cannot be read that nothing is known of them.
pub(super) fn mark(standings: &mut [UnitStanding], ledger: &Ledger) {
    if ledger.broken.is_empty() {
        return;
    }
    for standing in standings {
        for (stage, here) in ledger.stage_ids().zip(&mut standing.stages) {
            let subject = Subject::Unit(standing.unit, None);
            here.is_broken = here.belongs && ledger.broken_for(subject, stage).next().is_some();
        }
    }
}

/// What shows only beside other stages and units, and could not be judged beside those that cannot be read.
pub fn not_judged(ledger: &Ledger) -> Vec<Code> {
    let broken = &ledger.broken;
    let is_of_values = |file: &BrokenFile| !file.misses.iter().eq([&Missed::Waivers]);
    let values = broken.0.iter().any(is_of_values);
    let units = broken.misses_units();
    let is_declared = |code: &Code| match code {
        Code::NotAligned => values && !ledger.aligned.is_empty(),
        Code::Rule => values && !ledger.judging.rules.is_empty(),
        Code::PointsAtOtherStage | Code::NotDistinct => values,
        Code::UnusedShared => units && !ledger.shared.is_empty(),
        Code::IdlePattern | Code::UnusedSetting => units,
        Code::WaiverUnneeded => !ledger.waivers.is_empty() && !broken.is_empty(),
        _ => false,
    };
    Code::ALL.iter().copied().filter(is_declared).collect()
}
