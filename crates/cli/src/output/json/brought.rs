//! What came of bringing a unit to an outlet, for programs.

use cledger_store::daybook::AnswerState;
use cledger_work::bringing::brought::Brought;
use serde::Serialize;

#[derive(Debug, Serialize)]
pub(crate) struct OneBrought<'o> {
    unit: &'o str,
    stage: &'o str,
    outlet: &'o str,
    kind: &'static str,
    state: AnswerState,
    in_effect: Option<bool>,
    reason: Option<&'o str>,
}

pub(crate) fn one_brought(it: &Brought) -> OneBrought<'_> {
    OneBrought {
        unit: &it.owner,
        stage: &it.stage,
        outlet: &it.outlet,
        kind: it.kind,
        state: it.state(),
        in_effect: it.effect.as_ref().map(Result::is_ok),
        reason: it.reason(),
    }
}
