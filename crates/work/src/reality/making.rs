//! What the ledger makes for a unit at a place: files, names and values, an environment, or what it says itself.

use std::collections::BTreeMap;
use std::rc::Rc;

use cledger_core::environment::{Environment, environment};
use cledger_core::fields::{Fields, as_kept, fields};
use cledger_core::model::{OutputFormat, StageId, Subject};
use cledger_core::output::OutputName;
use cledger_core::render::{ContentError, RenderedOutput, Rendering, content, rendering};
use cledger_core::resolve::Resolver;
use cledger_core::value::Value;

use crate::meant::unit_of;
use crate::reality::places::Place;

/// What the ledger makes for a unit at a place.
pub(crate) enum Made<'l> {
    /// Its files.
    Files(Rc<Rendering<'l>>),
    /// What stands in an outlet of names and values.
    Content(Result<RenderedOutput<'l>, ContentError>),
    /// The environment of its programs.
    Environment(Environment<'l>),
    /// What is said of its fields, as a capture keeps that.
    Fields(Fields<'l>),
}

impl<'l> Made<'l> {
    /// One of its files, or what else holds names and values.
    pub(crate) fn output(&self, path: &str) -> Option<&RenderedOutput<'l>> {
        match self {
            Made::Files(rendering) => rendering.outputs.iter().find(|output| output.path == path),
            Made::Content(output) => output.as_ref().ok(),
            Made::Environment(_) | Made::Fields(_) => None,
        }
    }

    /// The names that stand there, with their values as they stand; `None` where a secret is not readable here.
    pub(crate) fn values(&self, path: &str) -> Vec<(OutputName, Option<Value>, bool)> {
        if let Made::Environment(environment) = self {
            let text = |value: &Value| Value::Text(value.to_text());
            let variables = environment.variables.iter();
            let named =
                variables.map(|(name, (_, it))| (vec![name.clone()], it.expose().map(text), it.is_secret()));
            return named.collect();
        }
        if let Made::Fields(fields) = self {
            let values = fields.iter().filter_map(|(name, (_, outcome))| Some((name, outcome.value()?)));
            return values
                .map(|(name, value)| (name.clone(), value.expose().map(as_kept), value.is_secret()))
                .collect();
        }
        let of_output = |output: &RenderedOutput<'l>| -> Vec<(OutputName, Option<Value>, bool)> {
            let values = output.values.iter();
            let named = values.map(|(name, (_, value))| {
                let written = value.expose().map(|it| output.as_written(name, it));
                (name.clone(), written, value.is_secret())
            });
            named.collect()
        };
        self.output(path).map(of_output).unwrap_or_default()
    }

    /// The format of one of its files, or of what else there is.
    pub(crate) fn format_of(&self, path: &str) -> OutputFormat {
        let without_file = match self {
            Made::Fields(_) => OutputFormat::Json,
            _ => OutputFormat::Dotenv,
        };
        self.output(path).map_or(without_file, |output| output.output.format)
    }
}

/// What the ledger makes for a unit at a place.
pub(crate) fn make_alone<'l>(place: &Place<'l>, subject: Subject, resolver: &Resolver<'l>) -> Made<'l> {
    make(place, subject, resolver, &mut BTreeMap::new()).0
}

/// What the ledger makes for a unit at a place, and the files that are asked for.
pub(crate) fn make<'l>(
    place: &Place<'l>,
    subject: Subject,
    resolver: &Resolver<'l>,
    renderings: &mut BTreeMap<(StageId, Subject), Rc<Rendering<'l>>>,
) -> (Made<'l>, Vec<String>) {
    let session = || resolver.session(unit_of(subject));
    if place.is_ledger {
        return (Made::Fields(fields(&mut session(), subject, place.stage)), Vec::new());
    }
    if place.is_process() {
        let made = environment(&mut session(), subject, place.stage);
        return (Made::Environment(made), Vec::new());
    }
    if let Some(output) = place.outlet.and_then(|outlet| outlet.kind.output()) {
        return (Made::Content(content(&mut session(), output, subject, place.stage)), Vec::new());
    }
    let rendering = renderings
        .entry((place.stage, subject))
        .or_insert_with(|| Rc::new(rendering(&mut session(), subject, place.stage)))
        .clone();
    let files = rendering.outputs.iter().map(|output| output.path.clone()).collect();
    (Made::Files(rendering), files)
}
