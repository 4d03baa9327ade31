//! The daybook's secrets under a new key: in both for the time of the change, so that none is lost
//! whenever the program is interrupted.

use cledger_core::model::LayerId;
use cledger_store::daybook::{BOTH, Daybook, Wanted, bound_to};

use crate::app::App;
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
        app: &App<'_>,
        changing: &Changing,
        planned: &Planned,
        layers: &[LayerId],
    ) -> Result<Option<Self>, CliError> {
        let ledger = &changing.ledger;
        let Some(mut book) = daybook::existing(app, ledger, changing.root())? else { return Ok(None) };
        let (old, new) = (changing.keys(&NO_CHANGE), changing.keys(&planned.changed));
        let (mut both, mut sealed) = (Vec::new(), Vec::new());
        for &layer in layers.iter().filter(|layer| matches!(layer, LayerId::Stage(_))) {
            let stage = ledger.layer_name(layer).as_str();
            daybook::refuse_left_open(&mut *book, None, stage)?;
            let wanted = Wanted { stage: Some(stage.to_owned()), ..Wanted::default() };
            for record in book.records(&wanted)? {
                let Some(known) = record.packed.sealed() else { continue };
                let address = bound_to(&record.meta.unit, stage);
                let text = known.split(BOTH).find_map(|text| old.text(ledger, layer, text, &address));
                let Some(text) = text else { continue };
                let anew = new.seal(&ledger.key_scope(layer), &address, &text)?;
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
