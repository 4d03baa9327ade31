//! What was there and was nobody's here, kept in the record of the delivery that overwrote it.

use std::collections::BTreeMap;

use cledger_core::kept::Kept;
use cledger_outlets::held::{FileThere, Held};
use serde::{Deserialize, Serialize};
use zeroize::{Zeroize as _, Zeroizing};

use crate::bringing::part::rows;

/// What stood in one place.
pub(crate) struct Before {
    /// The text of a file or a document; rows as a JSON object of texts.
    pub(crate) text: Zeroizing<String>,
    /// The permission bits of a file.
    pub(crate) mode: Option<u32>,
}

/// The same as it is kept.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    text: String,
    mode: Option<u32>,
}

impl Drop for Written {
    fn drop(&mut self) {
        self.text.zeroize();
    }
}

/// Under which key it is kept: the outlet, and the path of a file.
pub(crate) fn key(outlet: &str, path: Option<&str>) -> String {
    path.map_or_else(|| outlet.to_owned(), |path| format!("{outlet}/{path}"))
}

impl Before {
    /// What is there of a file, or of the one thing that an outlet has; `None` where there is no such thing.
    pub(crate) fn of(held: &Held, path: Option<&str>) -> Option<Self> {
        match (held, path) {
            (Held::Files(there), Some(path)) => {
                let FileThere { text, mode } = there.files.get(path)?.as_ref().ok()?;
                Some(Self { text: text.clone(), mode: *mode })
            }
            (Held::Document(text, _), None) => Some(Self { text: text.clone(), mode: None }),
            (Held::Rows(values), None) if !values.is_empty() => {
                let text = rows(values.iter().map(|(name, text)| (name.as_str(), text.as_str())));
                Some(Self { text, mode: None })
            }
            _ => None,
        }
    }

    /// The same as it is kept. It is a secret, but where it is what is to be there, and that is none.
    pub(crate) fn kept(&self, is_secret: bool) -> Kept {
        let written = Written { text: self.text.to_string(), mode: self.mode };
        // Texts and numbers always serialise.
        Kept::new(Zeroizing::new(serde_json::to_string(&written).unwrap_or_default()), is_secret)
    }

    /// What is kept under a key; `None` where nothing is, or it is not readable here.
    pub(crate) fn recall(kept: &BTreeMap<String, Kept>, outlet: &str, path: Option<&str>) -> Option<Self> {
        Self::of_kept(kept.get(&key(outlet, path))?)
    }

    /// What is kept; `None` where it is not readable here.
    pub(crate) fn of_kept(kept: &Kept) -> Option<Self> {
        let mut written: Written = serde_json::from_str(kept.expose()?).ok()?;
        Some(Self { text: Zeroizing::new(std::mem::take(&mut written.text)), mode: written.mode })
    }
}
