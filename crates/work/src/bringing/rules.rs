//! What a delivery may do to what is not ours, and which names stay as they are there.

use cledger_core::address::Address;
use cledger_core::delivery::Step;
use cledger_core::model::{FieldPatterns, Ledger, Waived};
use cledger_core::resolve::FieldId;
use cledger_store::daybook::Left;
use jiff::civil::Date;
use wildmatch::WildMatch;

use crate::bringing::at::Stays;
use crate::trouble::Trouble;

/// What somebody said to what is there and not ours.
#[derive(Debug, Clone, Default)]
pub struct Edits {
    /// Leave these names, fields or files as they are there, for this once.
    pub leave: Vec<String>,
    /// Overwrite and delete what was edited by hand, or was there before.
    pub overwrite: bool,
}

/// The same, read, with all else that makes a name stay.
pub(crate) struct Rules {
    leave: Vec<WildMatch>,
    pub(crate) overwrite: bool,
    /// The fields that alone are brought.
    pub(crate) only: Option<FieldPatterns>,
    /// What an open delivery had left.
    left: Vec<Left>,
    /// The day on which waivers count.
    today: Date,
    /// Whether names stay whose drift is waived.
    waivers: bool,
}

/// Where a name is.
#[derive(Clone, Copy)]
pub(crate) struct Where<'w> {
    pub(crate) ledger: &'w Ledger,
    pub(crate) outlet: &'w str,
    pub(crate) path: Option<&'w str>,
    /// The field behind it.
    pub(crate) field: Option<FieldId>,
}

impl Rules {
    /// What somebody said.
    pub(crate) fn of(edits: &Edits, today: Date) -> Self {
        let leave = edits.leave.iter().map(|text| WildMatch::new(text)).collect();
        Self { leave, overwrite: edits.overwrite, only: None, left: Vec::new(), today, waivers: true }
    }

    /// The same, where only these fields are brought.
    pub(crate) fn only(self, only: FieldPatterns) -> Self {
        Self { only: Some(only), ..self }
    }

    /// The same, with what a delivery that is finished now had left.
    pub(crate) fn having_left(self, left: &[Left]) -> Self {
        Self { left: left.to_vec(), ..self }
    }

    /// The same, where waived names do not stay: what is taken off goes whole.
    pub(crate) fn without_waivers(self) -> Self {
        Self { waivers: false, ..self }
    }

    /// Why a name stays as it is there, if it does; `changes` says that it is to be another one than was brought.
    pub(crate) fn stays(&self, step: Option<&Step>, at: Where<'_>, changes: bool) -> Option<Stays> {
        let address = at.field.map(|field| at.ledger.address(field));
        if self.is_left(step, at, address.as_ref()) {
            return Some(Stays::Left);
        }
        if let Some(only) = &self.only {
            let is_meant = at.field.is_some_and(|field| {
                let (entry, field) = at.ledger.field(field.subject, field.slot);
                only.covers(entry.name.as_str(), field.name.as_ref().map(cledger_core::name::Name::as_str))
            });
            if !is_meant && !changes {
                return Some(Stays::NotMeant);
            }
        }
        let mut waivers = at.ledger.waivers.iter();
        let is_waived = self.waivers
            && address.is_some_and(|address| {
                waivers.any(|waiver| {
                    waiver.what == Waived::Drift
                        && waiver.counts_on(Some(self.today))
                        && waiver.pattern.covers(&address)
                })
            });
        is_waived.then_some(Stays::Waived)
    }

    fn is_left(&self, step: Option<&Step>, at: Where<'_>, address: Option<&Address>) -> bool {
        let name = step.map(|step| step.name.join("."));
        let field = address.map(ToString::to_string);
        let field = field.as_deref().and_then(|address| address.split_once('/')?.1.split('@').next());
        let texts = [name.as_deref(), field, at.path];
        if self.leave.iter().any(|pattern| texts.iter().flatten().any(|text| pattern.matches(text))) {
            return true;
        }
        let mut left =
            self.left.iter().filter(|left| left.outlet == at.outlet && left.path.as_deref() == at.path);
        left.any(|left| match step {
            None => left.names.is_empty(),
            Some(step) => left.names.contains(&step.name),
        })
    }

    /// Refuses patterns of what is left that cover none of these texts.
    pub(crate) fn refuse_idle(edits: &Edits, texts: &[String]) -> Result<(), Trouble> {
        for text in &edits.leave {
            let pattern = WildMatch::new(text);
            if !texts.iter().any(|name| pattern.matches(name)) {
                let message = format!("--leave `{text}` covers nothing that would change");
                return Err(Trouble::usage(message).help("name what the plan lists, a field, or a file"));
            }
        }
        Ok(())
    }
}
