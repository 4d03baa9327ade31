//! `trust` for programs.

use cledger_core::trust::Named;
use cledger_store::Remembered;
use serde::Serialize;

use super::FORMAT;
use cledger_work::trust::daybook::DaybookTrusted;
use cledger_work::trust::{Doing, Trusted};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'t> {
    format: u32,
    ledger: &'t str,
    folder: &'t str,
    trusted: bool,
    written: bool,
    names: Vec<Name<'t>>,
}

#[derive(Debug, Serialize)]
struct Name<'t> {
    #[serde(flatten)]
    named: &'t Named,
    by: Option<&'t str>,
    trusted: bool,
}

pub(crate) fn document(shown: &Trusted) -> Document<'_> {
    let is_trusted = if shown.written { shown.doing == Doing::Trust } else { shown.was_before };
    let names = shown.reached.iter().map(|reached| Name {
        named: &reached.named,
        by: reached.by.as_deref(),
        trusted: if shown.written { is_trusted && reached.by.is_some() } else { reached.is_trusted },
    });
    Document {
        format: FORMAT,
        ledger: &shown.name,
        folder: &shown.folder,
        trusted: is_trusted,
        written: shown.written,
        names: names.collect(),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct ListedDocument<'t> {
    format: u32,
    ledgers: Vec<Known<'t>>,
}

#[derive(Debug, Serialize)]
struct Known<'t> {
    ledger: &'t str,
    folder: &'t str,
    names: Vec<&'t Named>,
}

pub(crate) fn listed(known: &[Remembered]) -> ListedDocument<'_> {
    let ledgers = known.iter().map(|one| Known {
        ledger: &one.name,
        folder: &one.folder,
        names: one.trusted.iter().flatten().collect(),
    });
    ListedDocument { format: FORMAT, ledgers: ledgers.collect() }
}

/// The daybook that is taken for the right one.
#[derive(Debug, Serialize)]
pub(crate) struct DaybookDocument<'t> {
    format: u32,
    before: Option<LinkDocument<'t>>,
    now: Option<LinkDocument<'t>>,
    written: bool,
}

#[derive(Debug, Serialize)]
struct LinkDocument<'t> {
    place: u64,
    hash: &'t str,
}

pub(crate) fn daybook(trusted: &DaybookTrusted) -> DaybookDocument<'_> {
    DaybookDocument {
        format: FORMAT,
        before: link(trusted.before.as_ref()),
        now: link(trusted.now.as_ref()),
        written: trusted.written,
    }
}

fn link(link: Option<&(u64, String)>) -> Option<LinkDocument<'_>> {
    link.map(|(place, hash)| LinkDocument { place: *place, hash })
}
