//! Documents as files in a folder.

use std::fs;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};

use percent_encoding::percent_decode_str;

/// A document.
pub(crate) struct Document {
    pub(crate) text: String,
    /// Its entity tag: another one for each other text.
    pub(crate) tag: String,
}

/// All documents below a folder. One is written at a time.
pub(crate) struct Documents {
    folder: PathBuf,
    writing: Mutex<()>,
}

impl Documents {
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self { folder, writing: Mutex::new(()) }
    }

    /// The document at an address, if there is one.
    pub(crate) fn read(&self, url: &str) -> Option<Document> {
        let text = fs::read_to_string(self.path(url)?).ok()?;
        let tag = format!("\"{}\"", &blake3::hash(text.as_bytes()).to_hex()[..16]);
        Some(Document { text, tag })
    }

    /// Writes a document, or only says so, if the tag of the one that is there allows it. Gives its tag
    /// now, or the status that says why not.
    pub(crate) fn write(
        &self,
        url: &str,
        text: Option<&str>,
        allowed: impl Fn(Option<&str>) -> bool,
    ) -> Result<Option<String>, u16> {
        let _one = self.writing.lock().unwrap_or_else(PoisonError::into_inner);
        let path = self.path(url).ok_or(400_u16)?;
        if !allowed(self.read(url).map(|document| document.tag).as_deref()) {
            return Err(412);
        }
        if let Some(text) = text {
            let folder = path.parent().map(fs::create_dir_all);
            if folder.is_some_and(|made| made.is_err()) || fs::write(path, text).is_err() {
                return Err(507);
            }
        }
        Ok(self.read(url).map(|document| document.tag))
    }

    /// Takes a document away; whether there was one.
    pub(crate) fn remove(&self, url: &str) -> bool {
        self.path(url).is_some_and(|path| fs::remove_file(path).is_ok())
    }

    /// The file of an address, which must lie in the folder.
    fn path(&self, url: &str) -> Option<PathBuf> {
        let decoded = percent_decode_str(url.split('?').next()?).decode_utf8().ok()?;
        let mut path = self.folder.clone();
        for part in decoded.trim_start_matches('/').split('/') {
            if part.is_empty() || part.starts_with('.') || part.contains(['\\', '\0']) {
                return None;
            }
            path.push(part);
        }
        path.as_mut_os_string().push(".json");
        Some(path)
    }
}
