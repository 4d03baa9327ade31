//! The form of what a unit has at its outlets, as the ledger knows it: which format, and which name is which field.

use std::collections::BTreeMap;

use cledger_core::model::{OutletKind, StageId, Subject};
use cledger_core::output::OutputName;
use cledger_core::render::{RenderedOutput, Rendering, content, rendering};
use cledger_core::resolve::{FieldId, Resolver};

use crate::meant::unit_of;

/// The forms of a unit in a stage.
pub(crate) struct Forms<'l> {
    files: Option<Rendering<'l>>,
    /// What stands in outlets without files, by outlet.
    outlets: BTreeMap<String, RenderedOutput<'l>>,
}

impl<'l> Forms<'l> {
    /// Those that the ledger says.
    pub(crate) fn of(resolver: &Resolver<'l>, subject: Subject, stage: StageId) -> Self {
        let ledger = resolver.ledger();
        let mut session = resolver.session(unit_of(subject));
        let files = rendering(&mut session, subject, stage);
        let owner = ledger.owner(subject);
        let of_stage = ledger.outlets.iter().filter(|outlet| outlet.takes(stage, owner.names()));
        let outlets = of_stage.filter_map(|outlet| {
            let output = content(&mut session, outlet.kind.output()?, subject, stage).ok()?;
            Some((outlet.name.to_string(), output))
        });
        Self { outlets: outlets.collect(), files: Some(files) }
    }

    /// None: of a unit that the ledger does not know any more.
    pub(crate) fn none() -> Self {
        Self { files: None, outlets: BTreeMap::new() }
    }

    /// The paths of the files that the ledger says.
    pub(crate) fn paths(&self) -> impl Iterator<Item = &String> {
        self.files.iter().flat_map(|files| &files.outputs).map(|output| &output.path)
    }

    /// What the ledger makes for a file, or for an outlet without files.
    pub(crate) fn output(&self, outlet: &str, path: Option<&str>) -> Option<&RenderedOutput<'l>> {
        match path {
            None => self.outlets.get(outlet),
            Some(path) => self.files.as_ref()?.outputs.iter().find(|output| output.path == path),
        }
    }

    /// The field behind a name, and whether its value is a secret. A value with names in it is one field.
    pub(crate) fn field(
        &self,
        outlet: &str,
        path: Option<&str>,
        name: &OutputName,
    ) -> Option<(FieldId, bool)> {
        let output = self.output(outlet, path)?;
        let is_it = |known: &OutputName| name.starts_with(known) || known.join(".") == name.join(".");
        let known = output.values.iter().find(|(known, _)| is_it(known));
        if let Some((_, (field, effective))) = known {
            return Some((*field, effective.is_secret()));
        }
        let lacking = output.lacking.iter().find(|(known, _)| is_it(known));
        lacking.map(|(_, lacking)| (lacking.field, lacking.may_be_secret))
    }
}

/// Whether an outlet has one thing for each unit, and no files.
pub(crate) fn has_one_thing(kind: &OutletKind) -> bool {
    !matches!(kind, OutletKind::Directory { .. })
}
