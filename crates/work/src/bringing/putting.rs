//! What was captured, as it is brought back: all of it, or some names over what is there now.

use std::collections::BTreeMap;

use cledger_core::delivery::with_names_of;
use cledger_core::output::OutputName;

use crate::bringing::before::{Before, key};
use crate::bringing::part::{Form, Part};

/// What the outlets of one unit had.
#[derive(Default)]
pub(crate) struct Putting {
    /// What stood in each place, by the key of places.
    pub(crate) then: BTreeMap<String, Before>,
    /// Which names come back, by the key of their place; all where there is none.
    pub(crate) meant: Option<BTreeMap<String, Vec<OutputName>>>,
}

impl Putting {
    /// The paths of the files that an outlet had.
    pub(crate) fn paths<'r>(&'r self, outlet: &str) -> impl Iterator<Item = &'r str> {
        let prefix = key(outlet, Some(""));
        self.then.keys().filter_map(move |key| key.strip_prefix(&prefix))
    }

    /// One file, document or scope of rows as it is to be.
    pub(crate) fn part(
        &self,
        outlet: &str,
        path: Option<&str>,
        form: Form<'_>,
        there: Option<&Part>,
    ) -> Option<Part> {
        let place = key(outlet, path);
        let then = self.then.get(&place).map(|before| form.read(&before.text));
        let Some(meant) = &self.meant else { return then };
        let names = meant.get(&place).map(Vec::as_slice).unwrap_or_default();
        // Names cannot be put into what has none.
        if names.is_empty() || there.is_some_and(|there| there.tree.is_none()) {
            return there.cloned();
        }
        let tree = |part: Option<&Part>| part.and_then(|part| part.tree.clone());
        let target = with_names_of(tree(there).as_ref(), names, tree(then.as_ref()).as_ref());
        match form.write(&target) {
            Ok(text) => Some(Part { text, tree: Some(target), is_secret: true }),
            // What has no names comes back whole or not at all.
            Err(_) => there.cloned(),
        }
    }
}
