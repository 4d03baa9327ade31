//! All that it is judged by what bringing a unit to its outlets means.

use cledger_core::model::Ledger;
use cledger_store::daybook::{Content, Daybook};

use crate::bringing::baseline::Baseline;
use crate::bringing::forms::Forms;
use crate::bringing::plan::{Bringing, From};
use crate::bringing::rules::Rules;
use crate::bringing::whom::Whom;
use crate::deliver::recorded::Planner;
use crate::reality::veiling::Veil;
use crate::trouble::Trouble;

/// What was brought before, which forms there are, what may be done, and what is hidden.
pub(crate) struct Grounds<'l> {
    pub(crate) forms: Forms<'l>,
    pub(crate) baseline: Baseline,
    pub(crate) rules: Rules,
    pub(crate) veil: Veil,
}

impl<'l> Grounds<'l> {
    /// Reads them.
    pub(crate) fn read(
        planner: &Planner<'_, 'l>,
        book: &mut dyn Daybook,
        whom: &Whom,
        rules: Rules,
    ) -> Result<Self, Trouble> {
        let (resolver, owner) = (planner.resolver, whom.owner.to_string());
        let forms = whom.subject.map_or_else(Forms::none, |subject| Forms::of(resolver, subject, whom.stage));
        let baseline = Baseline::read(planner, book, whom)?;
        let veil = Veil::of(resolver, whom.subject, (&owner, whom.stage), Some(book))?;
        Ok(Self { forms, baseline, rules, veil })
    }

    /// What bringing this content is judged by.
    pub(crate) fn bringing<'b>(
        &'b self,
        ledger: &'b Ledger,
        whom: &'b Whom,
        content: &'b Content,
        from: From<'b>,
    ) -> Bringing<'b> {
        let Self { forms, baseline, rules, veil } = self;
        Bringing {
            ledger,
            owner: &whom.owner,
            stage: whom.stage,
            content,
            from,
            baseline,
            forms,
            rules,
            veil,
        }
    }
}
