//! The daybook's secrets under a new key: in both for the time of the change, so that none is lost
//! whenever the program is interrupted.

use cledger_core::model::LayerId;
use cledger_store::daybook::{BOTH, Daybook, Wanted, bound_to};

use crate::change::{Changing, NO_CHANGE, Planned};
use crate::daybook;
use crate::trouble::Trouble;

/// A daybook of which secrets are being encrypted anew.
pub(crate) struct Resealing {
    book: Box<dyn Daybook>,
    /// Places in the chain, with the cipher texts of the new keys.
    cipher_texts: Vec<(u64, String)>,
}

impl Resealing {
    /// Puts the cipher texts of the new keys beside those of the old ones.
    pub(crate) fn start(
        changing: &Changing,
        planned: &Planned,
        layers: &[LayerId],
    ) -> Result<Option<Self>, Trouble> {
        let ledger = changing.ledger();
        let Some(mut book) = daybook::existing(&changing.opened)? else { return Ok(None) };
        let (old, new) = (changing.keys(&NO_CHANGE), changing.keys(&planned.changed));
        let (mut both, mut cipher_texts) = (Vec::new(), Vec::new());
        for &layer in layers.iter().filter(|layer| matches!(layer, LayerId::Stage(_))) {
            let stage = ledger.layer_name(layer).as_str();
            daybook::refuse_left_open(&mut *book, None, stage)?;
            let wanted = Wanted { stage: Some(stage.to_owned()), ..Wanted::default() };
            for record in book.records(&wanted)? {
                let Some(known) = record.packed.cipher_text() else { continue };
                let address = bound_to(&record.meta.unit, stage);
                let text = known.split(BOTH).find_map(|text| old.text(ledger, layer, text, &address));
                let Some(text) = text else { continue };
                let anew = new.seal(&ledger.key_scope(layer), &address, &text)?;
                both.push((record.meta.place, format!("{known}{BOTH}{anew}")));
                cipher_texts.push((record.meta.place, anew));
            }
        }
        book.reseal(&both)?;
        Ok(Some(Self { book, cipher_texts }))
    }

    /// Leaves those of the new keys alone.
    pub(crate) fn finish(mut self) -> Result<(), Trouble> {
        Ok(self.book.reseal(&self.cipher_texts)?)
    }
}
