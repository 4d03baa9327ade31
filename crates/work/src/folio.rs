//! Folios: files that carry units from one ledger to another, with all that belongs to them and without any stage's
//! values.
//!
//! ```text
//! ledger ─make─► pieces ─container─► FILE.folio ─read─► pieces ─enter─► the other ledger
//! ```
//!
//! A [`Piece`] is what comes, stays or clashes as a whole: a unit's contract, a shared entry, a file, a rule, a bundle.
//! `form` is the list of what is inside, `container` the file itself, `values` what is carried on demand, `signature` says who made it, `came` what
//! the other ledger remembers of what came. Nothing of a stage is ever in it but what `values` puts there.

mod came;
mod carry_over;
mod container;
mod enter;
mod fate;
mod form;
mod make;
mod piece;
mod rename;
mod signature;
mod values;

use std::path::Path;

use cledger_core::model::Ledger;
use cledger_store::{Scope, Unreadable, read};

pub use self::carry_over::carry_over;
pub use self::enter::{Entered, ToEnter, enter};
pub use self::fate::{Entering, Fate};
pub use self::form::{BundleInside, Manifest, StageInside, Tested, UnitInside};
pub use self::make::{Made, SecretsFor, ToMake, make};
pub use self::piece::Piece;
pub use self::signature::{SignedBy, Signer};

use self::piece::Pieces;
use crate::existing::bytes;
use crate::trouble::Trouble;

/// The file of a ledger that says what came into it.
pub(crate) const CAME: &str = "folios.toml";

/// The largest folio, in bytes.
const LARGEST: usize = 64 << 20;

/// A folio that was read, and found to be what was made.
pub struct Folio {
    /// What is inside.
    pub manifest: Manifest,
    /// Who has signed it.
    pub signed_by: Option<SignedBy>,
    /// The text of each piece.
    pub(crate) pieces: Pieces,
    /// The values that it carries, as text.
    values: Option<String>,
    /// The secrets among them, encrypted.
    secrets: Option<String>,
}

impl Folio {
    /// Reads a folio. One that is cut off, changed, of another version, or not made by this program, is refused.
    pub fn read(path: &Path) -> Result<Self, Trouble> {
        let wrong = |reason: String| {
            Trouble::usage(format!("`{}` cannot be taken for a folio: {reason}", path.display()))
                .help("have it made or sent again: cledger folio make UNIT… --out FILE")
        };
        let bytes = bytes(path, LARGEST).map_err(|error| wrong(error.to_string()))?;
        Self::of_bytes(&bytes).map_err(wrong)
    }

    /// Refuses a folio that none of these has signed; with none named, one that is not from whom the ledger's first one was.
    fn refuse_stranger(&self, meant: &[SignedBy], before: Option<&SignedBy>) -> Result<(), Trouble> {
        let from = &self.manifest.ledger;
        let who = || self.signed_by.as_ref().map_or("nobody".to_owned(), ToString::to_string);
        if !meant.is_empty() {
            let is_meant = self.signed_by.as_ref().is_some_and(|it| meant.contains(it));
            return if is_meant {
                Ok(())
            } else {
                let message = format!("the folio is signed by {}, and not by whom you named", who());
                Err(Trouble::refused(message)
                    .help("ask whoever sent it: `cledger folio show` says whose key it is"))
            };
        }
        match before {
            Some(before) if self.signed_by.as_ref() != Some(before) => {
                let message = format!(
                    "what came from `{from}` before was signed by {before}, and this is signed by {}",
                    who()
                );
                Err(Trouble::refused(message).help(format!(
                    "ask whoever sent it; another key is taken with --signed-by KEY, and none at all once the line of \
                     `{from}` under [signed_by] is out of {CAME}"
                )))
            }
            _ => Ok(()),
        }
    }

    /// Its pieces as a ledger with the stages of another one, of which it says nothing. Rules are left out.
    pub(crate) fn as_ledger(&self, stages_of: &Ledger) -> Result<Ledger, Trouble> {
        let is_no_rule = |(piece, _): &(&Piece, &String)| !matches!(piece, Piece::Rule(_));
        let texts = self.pieces.0.iter().filter(is_no_rule);
        let texts = texts.map(|(piece, text)| (piece.clone(), text.clone())).collect();
        read(&rename::as_ledger(&texts, stages_of), &Scope::Whole)
            .map_err(|unreadable| Unreadable { what: Some("the folio".to_owned()), ..unreadable }.into())
    }
}
