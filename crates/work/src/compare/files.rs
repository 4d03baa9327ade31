//! Sides of which one is a file that exists.

use std::path::Path;

use cledger_core::address::Address;
use cledger_core::adopt::{flattened, looks_secret};
use cledger_core::compare::Named;
use cledger_core::model::{Levels, OutputFormat};
use cledger_core::output::NameMaker;
use cledger_core::render::{RenderedOutput, rendering};
use cledger_core::resolve::{Effective, FieldId};
use cledger_core::value::{Held, Value};
use cledger_formats::{detect, particulars};
use zeroize::Zeroizing;

use crate::existing::{self, ExistingError};
use crate::meant::{unit_of, whole_unit};
use crate::opened::Opened;
use crate::trouble::Trouble;

/// A file's text with its format.
pub(crate) struct Content<'p> {
    path: &'p str,
    text: Zeroizing<String>,
    pub(crate) format: OutputFormat,
}

impl<'p> Content<'p> {
    /// Reads a file; `said` is its format where its name does not tell it.
    pub(crate) fn read(path: &'p str, said: Option<OutputFormat>) -> Result<Self, Trouble> {
        let text = existing::text(Path::new(path)).map_err(|error| cannot_be_read(path, &error.into()))?;
        let format = detect(path, &text).or(said).ok_or_else(|| {
            Trouble::usage(format!("the name of `{path}` does not tell its format"))
                .help("add --format FORMAT")
        })?;
        Ok(Content { path, text, format })
    }
}

pub(super) fn cannot_be_read(path: &str, error: &ExistingError) -> Trouble {
    let message = match error {
        ExistingError::Form(form) => format!("{path}:{}: {}", form.line, form.reason),
        other => format!("`{path}` cannot be read: {other}"),
    };
    Trouble::usage(message).help("mend it, or name another file")
}

/// The values in a file; a manifest or table needs to know the output that it is.
pub(crate) fn in_file(
    file: &Content<'_>,
    output: Option<&RenderedOutput<'_>>,
) -> Result<Vec<Named>, Trouble> {
    let particulars = output.map(particulars).unwrap_or_default();
    let found = existing::read(&file.text, file.format, particulars);
    let found = found.map_err(|error| cannot_be_read(file.path, &error))?;
    let is_bare = file.format.knows_text_alone();
    let side = |(name, value): (Vec<String>, Value)| {
        let secret = looks_secret(&name, &value) || file.format == OutputFormat::K8sSecret;
        Named { name, value: Some(Held::new(value, secret)), is_bare }
    };
    Ok(flattened(&found.tree.0).into_iter().map(side).collect())
}

/// What a unit gets in a stage, by the names in its output of the file's format and name, else by names
/// that are spelled alike; what is in the file; and whether the names are only spelled alike.
pub(crate) fn of_unit(
    opened: &Opened,
    address: &Address,
    file: &Content<'_>,
) -> Result<(Vec<Named>, Vec<Named>, bool), Trouble> {
    let ledger = &opened.ledger;
    let stage = opened.stage(address.stage.as_ref())?.stage;
    let subject = opened.subject_in(whole_unit(address)?, stage)?;
    let resolver = opened.resolver();
    let rendering = rendering(&mut resolver.session(unit_of(subject)), subject, stage);
    let base = |path: &str| path.rsplit('/').next().unwrap_or(path).to_owned();
    let of_format = || rendering.outputs.iter().filter(|it| it.output.format == file.format);
    let output = of_format().find(|it| base(&it.path) == base(file.path)).or_else(|| {
        let mut all = of_format();
        all.next().filter(|_| all.next().is_none())
    });
    let is_bare = file.format.knows_text_alone();
    let named_by = |name: Vec<String>, effective: &Effective<'_>| Named {
        name,
        value: effective.expose().map(|value| Held::new(value.clone(), effective.is_secret())),
        is_bare,
    };
    let mut values: Vec<Named> = Vec::new();
    if let Some(output) = output {
        values.extend(output.values.iter().map(|(name, (_, effective))| {
            Named {
                value: effective
                    .expose()
                    .map(|value| Held::new(output.as_written(name, value), effective.is_secret())),
                ..named_by(name.clone(), effective)
            }
        }));
    } else {
        let mut session = resolver.session(unit_of(subject));
        let maker = NameMaker::usual(OutputFormat::Properties);
        for slot in ledger.slots(subject).all() {
            let (entry, field) = ledger.field(subject, slot);
            let outcome = session.outcome(FieldId { subject, stage, slot });
            if let (Ok(name), Some(effective)) = (maker.name_of(entry, field), outcome.value()) {
                values.push(named_by(name, effective));
            }
        }
    }
    // Maps are levels in files that have them.
    let flat = |side: Named| -> Vec<Named> {
        match (side.value.as_ref().map(Held::expose), file.format.levels()) {
            (Some(Value::Map(map)), Levels::Many) if !is_bare && !map.is_empty() => {
                let below = flattened(map).into_iter();
                let named = below.map(|(steps, value)| Named {
                    name: side.name.iter().cloned().chain(steps).collect(),
                    value: Some(Held::new(value, side.is_secret())),
                    ..side.clone()
                });
                named.collect()
            }
            _ => vec![side],
        }
    };
    let values = values.into_iter().flat_map(flat).collect();
    Ok((values, in_file(file, output)?, output.is_none()))
}
