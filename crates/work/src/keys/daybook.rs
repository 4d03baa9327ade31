//! The daybook's secrets under a new key: in both for the time of the change, so that none is lost
//! whenever the program is interrupted.

use cledger_core::cipher::KeyScope;
use cledger_core::model::{LayerId, Ledger};
use cledger_store::daybook::{BOTH, Daybook, Digests, Record, Resealed, Wanted, bound_to, bound_to_digests};

use crate::change::{Changing, NO_CHANGE, Planned};
use crate::daybook;
use crate::trouble::Trouble;

/// A daybook of which secrets are being encrypted anew.
pub(crate) struct Resealing {
    book: Box<dyn Daybook>,
    /// The cipher texts of the new keys alone.
    resealed: Vec<Resealed>,
    /// The stages, which are held.
    stages: Vec<KeyScope>,
}

impl Resealing {
    /// Puts the cipher texts of the new keys beside those of the old ones. A record that cannot be opened stops it:
    /// nobody could ever read it again.
    pub(crate) fn start(
        changing: &Changing,
        planned: &Planned,
        layers: &[LayerId],
    ) -> Result<Option<Self>, Trouble> {
        let ledger = changing.ledger();
        let Some(mut book) = daybook::existing(&changing.opened)? else { return Ok(None) };
        let (old, new) = (changing.keys(&NO_CHANGE), changing.keys(&planned.changed));
        let (mut both, mut resealed, mut stages) = (Vec::new(), Vec::new(), Vec::new());
        for &layer in layers.iter().filter(|layer| matches!(layer, LayerId::Stage(_))) {
            let stage = ledger.layer_name(layer).as_str();
            // Nothing is delivered there until the key is another one.
            book.hold_stage(stage)?;
            stages.push(ledger.key_scope(layer));
            daybook::refuse_left_open(&mut *book, None, stage)?;
            let mut records = Vec::new();
            for name in names(ledger, layer) {
                records.extend(book.records(&Wanted { stage: Some(name), ..Wanted::default() })?);
            }
            for record in records {
                let anew = |known: &str, address: &str| -> Result<String, Trouble> {
                    let text = known.split(BOTH).find_map(|text| old.text(ledger, layer, text, address));
                    let text = text.ok_or_else(|| not_opened(&record))?;
                    // What was recorded under a former name is bound to the one of now from here on: its address has
                    // the former one in it.
                    let anew = new.seal(&ledger.key_scope(layer), address, &text)?;
                    let is_same =
                        new.text(ledger, layer, &anew, address).is_some_and(|opened| opened == text);
                    if is_same { Ok(anew) } else { Err(not_opened(&record)) }
                };
                let Some(known) = record.packed.cipher_text() else { continue };
                let cipher_text = anew(known, &bound_to(&record.meta.unit, &record.meta.stage))?;
                let digests = record.packed.digests()?;
                let digest_key = match digests.as_ref().and_then(|digests| digests.cipher_text()) {
                    None => None,
                    Some(known) => {
                        Some((known, anew(known, &bound_to_digests(&record.meta.unit, &record.meta.stage))?))
                    }
                };
                let place = record.meta.place;
                let digests_with = |key: String| digests.as_ref().map(|digests| digests.resealed(key));
                both.push(Resealed {
                    place,
                    cipher_text: format!("{known}{BOTH}{cipher_text}"),
                    digests: match &digest_key {
                        Some((known, anew)) => digests_with(format!("{known}{BOTH}{anew}")),
                        None => digests.as_ref().map(Digests::to_text),
                    },
                });
                resealed.push(Resealed {
                    place,
                    cipher_text,
                    digests: match digest_key {
                        Some((_, anew)) => digests_with(anew),
                        None => digests.as_ref().map(Digests::to_text),
                    },
                });
            }
        }
        book.reseal(&both)?;
        Ok(Some(Self { book, resealed, stages }))
    }

    /// Leaves those of the new keys alone, and keeps these: the old ones open nothing any more.
    pub(crate) fn finish(mut self, changing: &Changing) -> Result<(), Trouble> {
        self.book.reseal(&self.resealed)?;
        let keys = changing.opened.keys_anew();
        for scope in &self.stages {
            let key = keys.wrapped(scope)?;
            let old = self.book.kept_keys()?.into_iter();
            for old in old.filter(|old| old.stage == key.stage && old.id != key.id) {
                self.book.forget_key(&old.id)?;
            }
            if self.resealed.is_empty() {
                continue;
            }
            self.book.keep_key(&key)?;
        }
        for scope in &self.stages {
            self.book.let_stage_go(scope.name().as_str())?;
        }
        Ok(())
    }
}

/// The names of a stage, now and before.
fn names(ledger: &Ledger, layer: LayerId) -> Vec<String> {
    let former = match layer {
        LayerId::Stage(id) => ledger.stage(id).formerly.as_slice(),
        LayerId::Group(_) => &[],
    };
    let former = former.iter().map(|former| former.name.to_string());
    std::iter::once(ledger.layer_name(layer).to_string()).chain(former).collect()
}

fn not_opened(record: &Record) -> Trouble {
    let meta = &record.meta;
    let message = format!(
        "the secrets of `{}@{}:{}` cannot be opened, and would be lost with the old key",
        meta.unit, meta.stage, meta.number
    );
    Trouble::refused(message)
        .help("`cledger history --verify` says what is wrong with it; nothing is changed")
}
