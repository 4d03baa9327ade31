//! What tables say to rows that are to be brought, before anything is.

use cledger_outlets::Foreseen;
use cledger_outlets::held::{Asked, Held, Values};
use cledger_outlets::reach::Reach;

use crate::bringing::plan::{End, Planned};

impl Planned<'_> {
    /// Says whether tables take what is to be brought there, as far as that can be seen: from their columns, and from
    /// other rows.
    pub(super) fn foresee(&mut self, owner: &str) {
        let source = &self.sight.place.source;
        let (Some(tables), Some(Asked::Rows(of)), Reach::Rows(reach)) =
            (&self.sight.tables, source.asked.get(owner), source.reach_of(owner))
        else {
            return;
        };
        let nothing = Values::new();
        let seen = if let Held::Rows(values) = &self.sight.held { values } else { &nothing };
        for part in &self.parts {
            let End::Changed(changes) = &part.end else { continue };
            let foreseen = match tables.takes(of, seen, changes) {
                Ok(()) => reach.foresee(of, seen, changes, source.limit),
                Err(failure) => Ok(Foreseen { refused: Some(failure.to_string()), not_asked: Vec::new() }),
            };
            match foreseen {
                Ok(foreseen) => {
                    self.at.refused = foreseen.refused;
                    self.at.not_asked = foreseen.not_asked;
                }
                Err(failure) => self.at.not_asked = vec![failure.to_string()],
            }
        }
    }
}
