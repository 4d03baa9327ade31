//! Documents as files in a folder.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use percent_encoding::percent_decode_str;

/// A document.
pub(crate) struct Document {
    pub(crate) text: String,
    /// Its entity tag: another one for each other text.
    pub(crate) tag: String,
}

/// How many documents stand on a page of a list.
const PAGE: usize = 3;

/// The identifier of a document that is this file.
fn id_of(path: &Path) -> Option<String> {
    let is_document = path.extension().is_some_and(|extension| extension == "json");
    path.file_stem().filter(|_| is_document)?.to_str().map(str::to_owned)
}

/// All documents below a folder. One is written at a time, and none is read meanwhile.
pub(crate) struct Documents {
    folder: PathBuf,
    turn: RwLock<()>,
}

impl Documents {
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self { folder, turn: RwLock::new(()) }
    }

    fn reading(&self) -> RwLockReadGuard<'_, ()> {
        self.turn.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn writing(&self) -> RwLockWriteGuard<'_, ()> {
        self.turn.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// The document at an address, if there is one.
    pub(crate) fn read(&self, url: &str) -> Option<Document> {
        let _turn = self.reading();
        self.there(url)
    }

    /// The same for who has the turn.
    fn there(&self, url: &str) -> Option<Document> {
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
        let _turn = self.writing();
        let path = self.path(url).ok_or(400_u16)?;
        if !allowed(self.there(url).map(|document| document.tag).as_deref()) {
            return Err(412);
        }
        if let Some(text) = text {
            let folder = path.parent().map(fs::create_dir_all);
            if folder.is_some_and(|made| made.is_err()) || fs::write(path, text).is_err() {
                return Err(507);
            }
        }
        Ok(self.there(url).map(|document| document.tag))
    }

    /// A page of the list of a folder's documents, each with its identifier, and the address of the next page.
    pub(crate) fn list(&self, url: &str) -> Option<(String, Option<String>)> {
        let _turn = self.reading();
        let (path, query) = url.split_once('?').unwrap_or((url, ""));
        let folder = self.path(path)?.with_extension("");
        let mut ids: Vec<String> =
            fs::read_dir(folder).ok()?.flatten().filter_map(|it| id_of(&it.path())).collect();
        ids.sort_unstable();
        let after = query.strip_prefix("after=").unwrap_or_default();
        let mut rest = ids.iter().filter(|id| id.as_str() > after);
        let page: Vec<&String> = rest.by_ref().take(PAGE).collect();
        let next = rest.next().and(page.last()).map(|last| format!("{path}?after={last}"));
        let documents = page.iter().filter_map(|id| {
            let text = self.there(&format!("{path}/{id}"))?.text;
            let mut document: serde_json::Value = serde_json::from_str(&text).ok()?;
            document.as_object_mut()?.insert("id".to_owned(), (*id).as_str().into());
            Some(document)
        });
        let documents: Vec<serde_json::Value> = documents.collect();
        Some((serde_json::json!({ "documents": documents }).to_string(), next))
    }

    /// Makes a document in a folder, and gives its address; or the status that says why not.
    pub(crate) fn make(&self, url: &str, text: &str) -> Result<String, u16> {
        let _turn = self.writing();
        let folder = self.path(url).ok_or(400_u16)?.with_extension("");
        fs::create_dir_all(&folder).map_err(|_| 507_u16)?;
        let taken = fs::read_dir(&folder).map_err(|_| 507_u16)?.flatten();
        let numbers = taken.filter_map(|it| id_of(&it.path())?.strip_prefix("d-")?.parse::<u32>().ok());
        let path = format!("{}/d-{:04}", url.trim_end_matches('/'), numbers.max().unwrap_or(0) + 1);
        fs::write(self.path(&path).ok_or(400_u16)?, text).map_err(|_| 507_u16)?;
        Ok(path)
    }

    /// Takes a document away, if the tag of the one that is there allows it; or gives the status that says why not.
    pub(crate) fn remove(&self, url: &str, allowed: impl Fn(&str) -> bool) -> Result<(), u16> {
        let _turn = self.writing();
        let document = self.there(url).ok_or(404_u16)?;
        if !allowed(&document.tag) {
            return Err(412);
        }
        fs::remove_file(self.path(url).ok_or(400_u16)?).map_err(|_| 507_u16)
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
