//! The exit statuses, as DESIGN.md section 7 has them.

use cledger_work::Kind;

/// All is well.
pub(crate) const CLEAN: u8 = 0;

/// The exit status that goes with a kind of trouble.
pub(crate) fn of(kind: Kind) -> u8 {
    match kind {
        Kind::Found => 1,
        Kind::Usage => 2,
        Kind::Outside => 3,
        Kind::Refused => 4,
    }
}

/// That of a result: clean where there was no trouble.
pub(crate) fn of_result(kind: Option<Kind>) -> u8 {
    kind.map_or(CLEAN, of)
}
