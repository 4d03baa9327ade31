//! A bundle on its way, for programs.

use cledger_work::deliver::Together;
use serde::Serialize;

#[derive(Debug, Serialize)]
pub(crate) struct BundleDocument<'t> {
    bundle: &'t str,
    stage: &'t str,
    version: Option<&'t str>,
    /// The number of its last record before.
    last: Option<u64>,
    /// Units that this does not list, and members that it lists no more.
    joined: &'t [String],
    left: &'t [String],
    /// Members that were delivered or withdrawn by themselves since, with their last numbers.
    alone: &'t [(String, u64)],
    /// The number of its record, where one was made.
    number: Option<u64>,
}

pub(crate) fn bundle(together: &Together) -> BundleDocument<'_> {
    BundleDocument {
        bundle: together.bundle.as_str(),
        stage: &together.stage,
        version: together.version.as_deref(),
        last: together.last.as_ref().map(|(number, _)| *number),
        joined: &together.joined,
        left: &together.left,
        alone: &together.alone,
        number: together.recorded,
    }
}
