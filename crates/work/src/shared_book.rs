//! One daybook that several deliveries use at once. Each question is short, and they take turns.

use std::sync::{Arc, Mutex, MutexGuard};

use cledger_store::daybook::{
    Daybook, DaybookError, Entry, Meta, Open, Packed, Record, Resealed, Wanted, WrappedKey,
};

use crate::several::lock;

/// A daybook that is shared.
#[derive(Clone)]
pub(crate) struct SharedBook(Arc<Mutex<Box<dyn Daybook>>>);

impl SharedBook {
    pub(crate) fn new(book: Box<dyn Daybook>) -> Self {
        Self(Arc::new(Mutex::new(book)))
    }

    fn book(&self) -> MutexGuard<'_, Box<dyn Daybook>> {
        lock(&self.0)
    }
}

impl Daybook for SharedBook {
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        self.book().hold(unit, stage)
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        self.book().let_go(unit, stage)
    }

    fn hold_stage(&mut self, stage: &str) -> Result<(), DaybookError> {
        self.book().hold_stage(stage)
    }

    fn let_stage_go(&mut self, stage: &str) -> Result<(), DaybookError> {
        self.book().let_stage_go(stage)
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<String, DaybookError> {
        self.book().open(meta, packed)
    }

    fn opened(&mut self, of: Option<(&str, &str)>) -> Result<Vec<Open>, DaybookError> {
        self.book().opened(of)
    }

    fn take_up(&mut self, open: &Open) -> Result<String, DaybookError> {
        self.book().take_up(open)
    }

    fn close(&mut self, unit: &str, stage: &str, token: &str) -> Result<(), DaybookError> {
        self.book().close(unit, stage, token)
    }

    fn record(&mut self, meta: Meta, packed: &Packed, open: Option<&str>) -> Result<Record, DaybookError> {
        self.book().record(meta, packed, open)
    }

    fn as_they_are(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        self.book().as_they_are(wanted)
    }

    fn entries(&mut self, wanted: &Wanted, digests: bool) -> Result<Vec<Entry>, DaybookError> {
        self.book().entries(wanted, digests)
    }

    fn take_over(&mut self, records: &[Record], keys: &[WrappedKey]) -> Result<(), DaybookError> {
        self.book().take_over(records, keys)
    }

    fn reseal(&mut self, resealed: &[Resealed]) -> Result<(), DaybookError> {
        self.book().reseal(resealed)
    }

    fn keep_key(&mut self, key: &WrappedKey) -> Result<(), DaybookError> {
        self.book().keep_key(key)
    }

    fn forget_key(&mut self, id: &str) -> Result<(), DaybookError> {
        self.book().forget_key(id)
    }

    fn link(&mut self, place: Option<u64>) -> Result<Option<(u64, String)>, DaybookError> {
        self.book().link(place)
    }

    fn kept_keys(&mut self) -> Result<Vec<WrappedKey>, DaybookError> {
        self.book().kept_keys()
    }
}

/// A unit in a stage that nobody else delivers to meanwhile. It lets go when it is dropped.
pub(crate) struct Held {
    pub(crate) book: SharedBook,
    unit: String,
    stage: String,
}

impl Held {
    /// Holds a unit in a stage.
    pub(crate) fn take(book: &SharedBook, unit: &str, stage: &str) -> Result<Self, DaybookError> {
        let mut book = book.clone();
        book.hold(unit, stage)?;
        Ok(Self { book, unit: unit.to_owned(), stage: stage.to_owned() })
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        // Where that fails, the program's end lets go.
        let _ = self.book.let_go(&self.unit, &self.stage);
    }
}
