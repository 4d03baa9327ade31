//! Promotion: what moving a unit from one stage up to the next means for its settings.

use crate::address::Address;
use crate::kept::Kept;
use crate::model::{Declaration, Distinct, Ledger, StageId, Vary};

/// What becomes of a field that has another value in the stage above.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// The stage above has the value already.
    Same,
    /// The stage above needs a value, and has none.
    Needed,
    /// It may be carried up.
    MayBeCarried,
    /// It belongs to the stage above, and is never carried.
    Stays(Stays),
    /// It follows from something else: a default, a reference, other fields.
    Follows,
}

/// Why a field belongs to its stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stays {
    /// Each stage states its own.
    MustVary,
    /// No two stages may have the same.
    Distinct,
    /// It is a secret, which is carried only where it is named.
    Secret,
    /// The stage has it for its own (`own`).
    Own,
    /// It is made from references, so that the stage above makes its own.
    Made,
    /// The stage below has no value that could be carried.
    OnlyAbove,
}

impl Stays {
    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Stays::MustVary => "each its own",
            Stays::Distinct => "distinct",
            Stays::Secret => "secret",
            Stays::Own => "own",
            Stays::Made => "made from references",
            Stays::OnlyAbove => "none below",
        }
    }
}

/// A field on its way up.
pub struct Candidate<'c> {
    /// Its address in the stage above.
    pub address: &'c Address,
    /// What is declared of it.
    pub declaration: &'c Declaration,
    /// Its value in the stage below; `None` if it has none there.
    pub below: Option<&'c Kept>,
    /// Its value in the stage above.
    pub above: Option<&'c Kept>,
    /// Whether the stage above needs a value that it does not have.
    pub is_missing: bool,
    /// Where its value below comes from.
    pub origin: Origin,
    /// Where its value above comes from.
    pub origin_above: Origin,
}

/// Where a value comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// From a default alone, or from nowhere.
    Default,
    /// Something was set for it: this text.
    Set,
    /// Something was set for it that refers to other fields.
    Made,
}

impl Candidate<'_> {
    /// Whether a secret is among what would move: by its declaration, or as one of the values is one.
    pub fn is_secret(&self) -> bool {
        let mut values = self.below.into_iter().chain(self.above);
        self.declaration.secret || values.any(Kept::is_secret)
    }
}

/// What becomes of a field; `named` says whether it was named by itself to be carried.
pub fn fate(ledger: &Ledger, above: StageId, candidate: &Candidate<'_>, named: bool) -> Fate {
    let declaration = candidate.declaration;
    if candidate.is_missing {
        // A value that is right for the stage below is not right for this one, unless it may be carried.
        return Fate::Needed;
    }
    let same = match (&candidate.below, &candidate.above) {
        (Some(below), Some(above)) => below.is_readable() && below.expose() == above.expose(),
        (None, None) => true,
        _ => false,
    };
    if same {
        return Fate::Same;
    }
    let is_by_default = (candidate.origin, candidate.origin_above) == (Origin::Default, Origin::Default);
    if declaration.derived || declaration.vary == Vary::Never || is_by_default {
        return Fate::Follows;
    }
    if ledger.stage(above).own.iter().any(|pattern| pattern.covers(candidate.address)) {
        return Fate::Stays(Stays::Own);
    }
    if candidate.origin == Origin::Made {
        return Fate::Stays(Stays::Made);
    }
    if declaration.vary == Vary::Must {
        return Fate::Stays(Stays::MustVary);
    }
    if candidate.is_secret() && !named {
        return Fate::Stays(Stays::Secret);
    }
    // Secrets have it from the start, and were asked for by name.
    if declaration.distinct != Distinct::No && !declaration.secret {
        return Fate::Stays(Stays::Distinct);
    }
    if candidate.below.is_none() { Fate::Stays(Stays::OnlyAbove) } else { Fate::MayBeCarried }
}
