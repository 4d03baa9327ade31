//! What the codes of findings mean, as `docs/findings.md` says it.

use cledger_core::findings::Code;

const FINDINGS: &str = include_str!("../../../docs/findings.md");

/// The section of a code, without its heading; a test sees to it that each has one.
pub(crate) fn of(code: Code) -> &'static str {
    let heading = format!("## `{code}`\n");
    let section = FINDINGS.split_once(&heading).map_or("", |(_, rest)| rest);
    section.split("\n## ").next().unwrap_or_default().trim()
}
