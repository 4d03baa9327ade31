//! The files of a ledger as they are read: each gets a number, and is kept to be shown.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use cledger_core::model::{Ledger, TableFault};
use cledger_core::source::{FileId, Files, SourceFile};

use crate::mistake::Mistakes;
use crate::tree::{Changed, LARGEST_LEDGER, MOST_FILES, Tree};
use cledger_core::model::Mistake;
use rustc_hash::FxHashMap;

/// Reads files, and keeps them.
pub(super) struct Documents<'m> {
    pub(super) tree: &'m dyn Tree,
    pub(super) mistakes: &'m Mistakes,
    kept: Mutex<Vec<Arc<SourceFile>>>,
    /// The numbers of files that were read before, by path.
    known: FxHashMap<&'m str, FileId>,
    /// Files and bytes so far.
    size: (AtomicU64, AtomicU64),
    is_full: AtomicBool,
    faults: Mutex<Vec<TableFault>>,
}

/// A file that was read.
pub(super) struct Document {
    pub(super) file: FileId,
    text: String,
}

impl<'m> Documents<'m> {
    pub(super) fn new(tree: &'m dyn Tree, mistakes: &'m Mistakes) -> Self {
        Self {
            tree,
            mistakes,
            kept: Mutex::default(),
            known: FxHashMap::default(),
            size: Default::default(),
            is_full: AtomicBool::default(),
            faults: Mutex::default(),
        }
    }

    /// The same for reading on where some files changed: all others keep their numbers and texts.
    pub(super) fn again(
        tree: &'m dyn Tree,
        mistakes: &'m Mistakes,
        before: &'m Ledger,
        changed: &Changed,
    ) -> Self {
        let mut kept = before.files.0.clone();
        let gone = |path: &String| changed.get(path).is_some_and(Option::is_none);
        for file in kept.iter_mut().filter(|file| gone(&file.path)) {
            *file = Arc::new(SourceFile::new("", String::new()));
        }
        let paths = (0..).zip(&before.files.0).filter(|(_, file)| !gone(&file.path));
        let known = paths.map(|(number, file)| (file.path.as_str(), FileId(number))).collect();
        let bytes = kept.iter().map(|file| file.text.len() as u64).sum();
        Self {
            size: (AtomicU64::new(kept.len() as u64), AtomicU64::new(bytes)),
            kept: Mutex::new(kept),
            known,
            ..Self::new(tree, mistakes)
        }
    }

    /// Reads a file; `None` if it is not there or cannot be read, which is a mistake.
    pub(super) fn text(&self, path: &str) -> Option<Document> {
        match self.tree.text(path) {
            Ok(Some(text)) => {
                if !self.fits(path, text.len()) {
                    return None;
                }
                if memchr::memchr(0, text.as_bytes()).is_some() {
                    let message = "it holds NUL bytes, so it is no text";
                    self.mistakes.push(Mistake::of(path, message).help("save it as text, in UTF-8"));
                    return None;
                }
                if let Some(&file) = self.known.get(path) {
                    return Some(Document { file, text });
                }
                let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
                let file = FileId(u32::try_from(kept.len()).unwrap_or(u32::MAX));
                kept.push(Arc::new(SourceFile::new(path, String::new())));
                Some(Document { file, text })
            }
            Ok(None) => None,
            Err(error) => {
                self.mistakes.push(Mistake::of(path, error.to_string()).help(error.help()));
                None
            }
        }
    }

    /// Counts a file. The first one that is too much is a mistake, and none after it is read.
    fn fits(&self, path: &str, length: usize) -> bool {
        let before = self.known.get(path).map(|&file| self.length(file));
        self.size.1.fetch_sub(before.unwrap_or_default(), Ordering::Relaxed);
        let bytes = self.size.1.fetch_add(length as u64, Ordering::Relaxed) + length as u64;
        let more = u64::from(before.is_none());
        let files = self.size.0.fetch_add(more, Ordering::Relaxed) + more;
        let fits = files <= MOST_FILES && bytes <= LARGEST_LEDGER;
        if !fits && !self.is_full.swap(true, Ordering::Relaxed) {
            let message =
                format!("the ledger has more than {MOST_FILES} files or {} MiB", LARGEST_LEDGER >> 20);
            self.mistakes.push(Mistake::of(path, message).help("part it into several ledgers").of_all());
        }
        fits
    }

    /// How long a file was that was read before, in bytes.
    fn length(&self, file: FileId) -> u64 {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.get(file.0 as usize).map_or(0, |file| file.text.len() as u64)
    }

    /// Takes the text of a file back, once nothing borrows from it any more.
    pub(super) fn keep(&self, document: Document) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = kept.get_mut(document.file.0 as usize) {
            *file = Arc::new(SourceFile::new(file.path.clone(), document.text));
        }
    }

    /// Notes something wrong with the rows of a lookup table.
    pub(super) fn fault(&self, fault: TableFault) {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner).push(fault);
    }

    /// The files, and the faults of tables by place.
    pub(super) fn into_parts(self) -> (Files, Vec<TableFault>) {
        let mut faults = self.faults.into_inner().unwrap_or_else(PoisonError::into_inner);
        faults.sort_by(|a, b| {
            (a.owner.to_string(), &a.entry, a.place.start).cmp(&(
                b.owner.to_string(),
                &b.entry,
                b.place.start,
            ))
        });
        (Files(self.kept.into_inner().unwrap_or_else(PoisonError::into_inner)), faults)
    }
}

impl Document {
    /// The file's text.
    pub(super) fn text(&self) -> &str {
        &self.text
    }
}
