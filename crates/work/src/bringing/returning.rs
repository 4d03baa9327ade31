//! What a delivery has overwritten, as it comes back: the names that were not ours then, over what is there now.

use cledger_core::delivery::with_names_of;
use cledger_core::model::OutletKind;
use cledger_core::output::OutputName;
use cledger_store::daybook::Content;

use crate::bringing::baseline::Baseline;
use crate::bringing::before::{Before, key};
use crate::bringing::part::{Form, Part};

/// What was overwritten, and what had been brought before that.
pub(crate) struct Returning {
    pub(crate) overwritten: Content,
    pub(crate) baseline: Baseline,
}

impl Returning {
    /// The paths of the files of which something was overwritten at an outlet.
    pub(crate) fn paths<'r>(&'r self, outlet: &str) -> impl Iterator<Item = &'r str> {
        let prefix = key(outlet, Some(""));
        self.overwritten.before.keys().filter_map(move |key| key.strip_prefix(&prefix))
    }

    /// One file, document or scope of rows as it is to be, and the permission bits of a file that comes back whole.
    /// Where nothing of it was overwritten it stays as it is `there`.
    pub(crate) fn part(
        &self,
        (outlet, kind): (&str, &OutletKind),
        path: Option<&str>,
        form: Form<'_>,
        there: Option<&Part>,
    ) -> (Option<Part>, Option<u32>) {
        let Some(before) = Before::recall(&self.overwritten.before, outlet, path) else {
            return (there.cloned(), None);
        };
        let then = form.read(&before.text);
        let brought = self.baseline.brought((outlet, kind), path, form);
        let tree = |part: Option<&Part>| part.and_then(|part| part.tree.clone());
        let (Some(tree_then), true) = (&then.tree, there.is_none_or(|there| there.tree.is_some())) else {
            return (Some(then), before.mode);
        };
        let is_first = brought.is_empty() || self.baseline.is_found(outlet);
        let was_ours = |name: &OutputName| {
            let there_then = tree_then.get(name);
            let mut ours = brought.iter().map(|part| part.as_ref().and_then(|part| part.tree.as_ref()));
            !is_first && ours.any(|ours| ours.and_then(|ours| ours.get(name)) == there_then)
        };
        let known = brought.iter().flatten().filter_map(|part| part.tree.as_ref()).chain([tree_then]);
        let names: Vec<OutputName> =
            known.flat_map(|tree| tree.leaves().into_keys()).filter(|name| !was_ours(name)).collect();
        let target = with_names_of(tree(there).as_ref(), &names, Some(tree_then));
        if target == *tree_then {
            return (Some(then), before.mode);
        }
        match form.write(&target) {
            Ok(text) => (Some(Part { text, tree: Some(target), is_secret: true }), None),
            Err(_) => (Some(then), before.mode),
        }
    }
}
