//! Two stages, a unit in two stages, the ledger at two times, or whatever else has names and values.

mod captures;
mod files;
mod ledgers;
mod named;
mod side;
mod stages;
mod structure;
pub mod words;

pub use self::named::{NamedSides, named_sides};
pub use self::side::Side;
pub use self::stages::{ComparedStages, stages, units};
pub use self::structure::Structure;

use std::sync::Arc;

use cledger_core::address::Pattern;
use cledger_core::effects::{Effect, effects};
use cledger_core::resolve::Resolver;

use crate::against::Against;
use crate::opened::tell_unreadable;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// Which effective values differ from those at a git revision, as far as a pattern covers them.
pub fn with_revision(
    at: &Arc<Workplace>,
    revision: &str,
    pattern: Option<&Pattern>,
) -> Result<Vec<Effect>, Trouble> {
    let against = Against::read(at, revision)?;
    let (before, now) = (against.outside_before(), against.outside_now());
    let mut effects =
        effects(&Resolver::new(&against.before, before, &[]), &Resolver::new(&against.now, now, &[]));
    effects.retain(|effect| pattern.is_none_or(|pattern| pattern.covers(&effect.address)));
    tell_unreadable(at, &now.keys);
    Ok(effects)
}
