//! Files of a ledger that are TOML.

use toml::Spanned;
use toml::de::DeTable;

use super::documents::{Document, Documents};
use super::frame::In;
use crate::mistake::Mistake;

impl Document {
    /// The file's root table; `None` if it is not TOML, with a mistake for each error in it.
    pub(super) fn table(&self, documents: &Documents<'_>) -> Option<Spanned<DeTable<'_>>> {
        let (table, errors) = DeTable::parse_recoverable(self.text());
        let read = In { file: self.file, mistakes: documents.mistakes, documents };
        for error in &errors {
            let span = error.span().unwrap_or(0..0);
            let message = format!("this is not TOML: {}", error.message());
            let mut mistake = Mistake::at(read.place(span), message);
            if error.message() == "duplicate key" {
                mistake = mistake.help("write each key and each table once");
            }
            // What a file that is not understood holds may be a secret, wherever it stands.
            documents.mistakes.push(mistake.secret());
        }
        errors.is_empty().then_some(table)
    }
}

impl Documents<'_> {
    /// Reads a file's root table, if there is such a file and it can be read.
    pub(super) fn with<R>(&self, path: &str, read: impl FnOnce(In<'_>, &DeTable<'_>) -> R) -> Option<R> {
        let document = self.text(path)?;
        let place = In { file: document.file, mistakes: self.mistakes, documents: self };
        let result = document.table(self).map(|table| read(place, table.get_ref()));
        self.keep(document);
        result
    }
}
