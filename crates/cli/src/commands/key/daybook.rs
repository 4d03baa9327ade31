//! The daybook's secrets under a new key: in both for the time of the change, so that none is lost
//! whenever the program is interrupted.

use cledger_core::cipher::{Cipher, KeyScope};
use cledger_core::model::LayerId;
use cledger_core::resolve::Opened;
use cledger_store::Keys;
use cledger_store::daybook::{BOTH, Daybook, Wanted};
use zeroize::Zeroizing;

use crate::change::{Changing, NO_CHANGE, Planned};
use crate::daybook;
use crate::error::CliError;

/// A daybook of which secrets are being encrypted anew.
pub(super) struct Resealing {
    book: Box<dyn Daybook>,
    /// Places in the chain, with the cipher texts of the new keys.
    sealed: Vec<(u64, String)>,
}

impl Resealing {
    /// Puts the cipher texts of the new keys beside those of the old ones.
    pub(super) fn start(
        changing: &Changing,
        planned: &Planned,
        layers: &[LayerId],
    ) -> Result<Option<Self>, CliError> {
        let ledger = &changing.ledger;
        let Some(mut book) = daybook::existing(ledger, changing.root())? else { return Ok(None) };
        let (old, new) = (changing.keys(&NO_CHANGE), changing.keys(&planned.changed));
        let (mut both, mut sealed) = (Vec::new(), Vec::new());
        for &layer in layers.iter().filter(|layer| matches!(layer, LayerId::Stage(_))) {
            let stage = ledger.layer_name(layer).as_str();
            if let Some((meta, _)) = book.opened()?.iter().find(|(meta, _)| meta.stage == stage) {
                let message = format!("a delivery of `{}@{stage}` was left open", meta.unit);
                let help = format!("finish it first: cledger deliver {}@{stage} --write", meta.unit);
                return Err(CliError::refused(message).help(help));
            }
            let wanted = Wanted { stage: Some(stage.to_owned()), ..Wanted::default() };
            for record in book.records(&wanted)? {
                let Some(known) = record.packed.sealed() else { continue };
                let address = format!("daybook/{}@{stage}", record.meta.unit);
                let scope = ledger.key_scope(layer);
                let Some(text) = known.split(BOTH).find_map(|text| open(&old, &scope, layer, text, &address))
                else {
                    continue;
                };
                let anew = new.seal(&scope, &address, &text)?;
                both.push((record.meta.place, format!("{known}{BOTH}{anew}")));
                sealed.push((record.meta.place, anew));
            }
        }
        book.reseal(&both)?;
        Ok(Some(Self { book, sealed }))
    }

    /// Leaves those of the new keys alone.
    pub(super) fn finish(mut self) -> Result<(), CliError> {
        Ok(self.book.reseal(&self.sealed)?)
    }
}

fn open(
    keys: &Keys<'_>,
    scope: &KeyScope,
    layer: LayerId,
    text: &str,
    address: &str,
) -> Option<Zeroizing<String>> {
    let cipher = Cipher { text: text.into(), layer, address: address.to_owned() };
    match keys.open(scope, &cipher) {
        Opened::Text(text) => Some(text),
        Opened::NoKey | Opened::Broken(_) => None,
    }
}
