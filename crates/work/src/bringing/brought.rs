//! What came of bringing a unit to an outlet.

use cledger_store::daybook::{Answer, AnswerState};

/// What bringing one unit to one outlet came to.
#[derive(Debug)]
pub struct Brought {
    /// The unit or instance.
    pub owner: String,
    /// The stage.
    pub stage: String,
    /// The outlet.
    pub outlet: String,
    /// Its kind.
    pub kind: &'static str,
    /// How it stands there in the end.
    pub outcome: Outcome,
    /// Whether nothing was to be there any more.
    pub is_withdrawal: bool,
    /// Whether it counts; `None` where nothing is said of that, or nothing was brought.
    pub effect: Option<Result<(), String>>,
}

/// How one unit stands at one outlet in the end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// It was as it should be, and nothing was brought.
    AsItShouldBe,
    /// It was brought, and is there.
    Brought,
    /// The outlet took it, and does not hold it now.
    NotHeld,
    /// Somebody has changed it since it was looked at. Nothing is written.
    ChangedMeanwhile,
    /// It was not brought.
    Failed(String),
    /// Some of it was brought.
    InPart(String),
    /// It was to be taken off, and stays: the place is this other unit's by now.
    HandedOn(String),
    /// Somebody has to bring it by hand, by doing this.
    ByHand(String),
    /// Nobody can tell.
    NotKnown(String),
}

impl Brought {
    /// Whether all is well.
    pub fn is_well(&self) -> bool {
        matches!(
            self.outcome,
            Outcome::AsItShouldBe | Outcome::Brought | Outcome::HandedOn(_) | Outcome::ByHand(_)
        ) && !matches!(self.effect, Some(Err(_)))
    }

    /// Whether the outlet had it already, and nothing was to be taken up.
    pub fn was_there(&self) -> bool {
        self.outcome == Outcome::AsItShouldBe && self.effect.is_none()
    }

    /// Whether the outlet is as it was before.
    pub fn is_without_effect(&self) -> bool {
        matches!(self.outcome, Outcome::ChangedMeanwhile | Outcome::Failed(_))
    }

    /// What came of it.
    pub fn state(&self) -> AnswerState {
        match &self.outcome {
            Outcome::Brought if self.is_withdrawal => AnswerState::TakenOff,
            Outcome::AsItShouldBe if self.is_withdrawal => AnswerState::WasNotThere,
            Outcome::AsItShouldBe => AnswerState::AsItShouldBe,
            Outcome::Brought => AnswerState::Brought,
            Outcome::NotHeld => AnswerState::NotHeld,
            Outcome::ChangedMeanwhile => AnswerState::ChangedMeanwhile,
            Outcome::Failed(_) => AnswerState::NotBrought,
            Outcome::InPart(_) => AnswerState::InPart,
            Outcome::HandedOn(_) => AnswerState::HandedOn,
            Outcome::ByHand(_) => AnswerState::ByHand,
            Outcome::NotKnown(_) => AnswerState::NotKnown,
        }
    }

    /// The words for it.
    pub fn word(&self) -> &'static str {
        words(self.state(), self.effect.as_ref().map(Result::is_ok))
    }

    /// What went wrong, if something did.
    pub fn reason(&self) -> Option<&str> {
        match (&self.outcome, &self.effect) {
            (
                Outcome::Failed(reason)
                | Outcome::InPart(reason)
                | Outcome::HandedOn(reason)
                | Outcome::ByHand(reason)
                | Outcome::NotKnown(reason),
                _,
            )
            | (_, Some(Err(reason))) => Some(reason),
            (Outcome::ChangedMeanwhile, _) => Some("look again, and bring it then"),
            (Outcome::NotHeld, _) => Some("it took what was brought, and holds something else"),
            _ => None,
        }
    }

    /// The same for the daybook.
    pub(crate) fn answer(&self) -> Answer {
        Answer {
            outlet: self.outlet.clone(),
            kind: self.kind.to_owned(),
            state: self.state(),
            in_effect: self.effect.as_ref().map(Result::is_ok),
            reason: self.reason().map(str::to_owned),
        }
    }
}

/// The words for what came of bringing something to an outlet, and whether it counts there.
pub fn words(state: AnswerState, in_effect: Option<bool>) -> &'static str {
    match (state, in_effect) {
        (AnswerState::TakenOff, _) => "taken off",
        (AnswerState::WasNotThere, _) => "was not there",
        (AnswerState::AsItShouldBe, None) => "as it should be",
        (AnswerState::AsItShouldBe, Some(true)) => "as it should be, in effect",
        (AnswerState::AsItShouldBe, Some(false)) => "as it should be, not in effect",
        (AnswerState::Brought, None) => "brought",
        (AnswerState::Brought, Some(true)) => "brought, in effect",
        (AnswerState::Brought, Some(false)) => "brought, not in effect",
        (AnswerState::NotHeld, _) => "not held",
        (AnswerState::ChangedMeanwhile, _) => "changed meanwhile",
        (AnswerState::NotBrought, _) => "not brought",
        (AnswerState::InPart, _) => "brought in part",
        (AnswerState::HandedOn, _) => "handed on",
        (AnswerState::ByHand, _) => "to be brought by hand",
        (AnswerState::NotKnown, _) => "not known",
    }
}
