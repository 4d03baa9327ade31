//! `compare` where a side is a file that exists: `file:PATH`.

use std::path::Path;

use cledger_core::address::Address;
use cledger_core::adopt::{flattened, looks_secret};
use cledger_core::compare::{Difference, Named, NamedCompared, named};
use cledger_core::model::{Levels, OutputFormat};
use cledger_core::output::NameMaker;
use cledger_core::render::{RenderedOutput, rendering};
use cledger_core::resolve::{Effective, FieldId, Resolver};
use cledger_core::value::Value;
use cledger_formats::{detect, particulars};

use super::CompareArgs;
use zeroize::Zeroizing;

use crate::app::{App, scope_of, unit_of};
use crate::commands::without_delivery;
use crate::error::{CliError, status};
use crate::existing::{self, ExistingError};
use crate::output::{json, text};

/// What a side that is a file begins with.
pub(super) const FILE: &str = "file:";

/// A file's text with its format.
struct Content<'p> {
    path: &'p str,
    text: Zeroizing<String>,
    format: OutputFormat,
}

pub(super) fn run(args: &CompareArgs, sides: (&str, &str), app: &mut App<'_>) -> Result<u8, CliError> {
    let said = args.format.as_deref();
    let (left, right) = (content(sides.0, said)?, content(sides.1, said)?);
    let compared = match (&left, &right) {
        (Some(one), Some(other)) => {
            let alike = one.format != other.format;
            named(in_file(one, None)?, in_file(other, None)?, alike)
        }
        (Some(file), None) => {
            let (of_unit, in_file, alike) = with_unit(sides.1, file, app)?;
            named(in_file, of_unit, alike)
        }
        (None, Some(file)) => {
            let (of_unit, in_file, alike) = with_unit(sides.0, file, app)?;
            named(of_unit, in_file, alike)
        }
        (None, None) => return Err(CliError::usage("neither side is a file")),
    };
    if app.console.is_json() {
        app.console.document(&json::compare::files(&compared, sides));
    } else {
        text::compare::files(app.console, &compared, sides, args.all);
    }
    let differs = |one: &NamedCompared| !matches!(one.difference, Difference::Same | Difference::Unknown);
    Ok(if compared.iter().any(differs) { status::FOUND } else { status::CLEAN })
}

/// The file that a side names, if it names one.
fn content<'p>(side: &'p str, said: Option<&str>) -> Result<Option<Content<'p>>, CliError> {
    let Some(path) = side.strip_prefix(FILE) else { return Ok(None) };
    let text = existing::text(Path::new(path)).map_err(|error| cannot_be_read(path, &error.into()))?;
    let told = detect(path, &text);
    let said = said.and_then(|word| OutputFormat::ALL.iter().find(|(_, name)| *name == word));
    let format = told.or(said.map(|(format, _)| *format)).ok_or_else(|| {
        CliError::usage(format!("the name of `{path}` does not tell its format")).help("add --format FORMAT")
    })?;
    Ok(Some(Content { path, text, format }))
}

fn cannot_be_read(path: &str, error: &ExistingError) -> CliError {
    let message = match error {
        ExistingError::Form(form) => format!("{path}:{}: {}", form.line, form.reason),
        other => format!("`{path}` cannot be read: {other}"),
    };
    CliError::usage(message).help("mend it, or name another file")
}

/// The values in a file; a manifest or table needs to know the output that it is.
fn in_file(file: &Content<'_>, output: Option<&RenderedOutput<'_>>) -> Result<Vec<Named>, CliError> {
    let particulars = output.map(particulars).unwrap_or_default();
    let found = existing::read(&file.text, file.format, particulars);
    let found = found.map_err(|error| cannot_be_read(file.path, &error))?;
    let is_bare = file.format.knows_text_alone();
    let side = |(name, value): (Vec<String>, Value)| {
        let secret = looks_secret(&name, &value) || file.format == OutputFormat::K8sSecret;
        Named { name, value: Some(value), is_bare, secret }
    };
    Ok(flattened(&found.tree.0).into_iter().map(side).collect())
}

/// What a unit gets in a stage, by the names in its output of the file's format and name, else by names
/// that are spelled alike; and what is in the file.
fn with_unit(
    side: &str,
    file: &Content<'_>,
    app: &mut App<'_>,
) -> Result<(Vec<Named>, Vec<Named>, bool), CliError> {
    let address = without_delivery(Address::parse(side)?)?;
    let (Some(owner), None) = (&address.owner, &address.entry) else {
        let message = format!("`{side}` names no unit in a stage, and a file is of one");
        return Err(CliError::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let (root, ledger) = app.open(&scope_of([&address]))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let subject = app.subject_in(&ledger, owner, chosen.stage)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let rendering = rendering(&mut resolver.session(unit_of(subject)), subject, chosen.stage);
    let base = |path: &str| path.rsplit('/').next().unwrap_or(path).to_owned();
    let of_format = || rendering.outputs.iter().filter(|it| it.output.format == file.format);
    let output = of_format().find(|it| base(&it.path) == base(file.path)).or_else(|| {
        let mut all = of_format();
        all.next().filter(|_| all.next().is_none())
    });
    let is_bare = file.format.knows_text_alone();
    let named_by = |name: Vec<String>, effective: &Effective<'_>| Named {
        name,
        value: effective.expose().cloned(),
        is_bare,
        secret: effective.secret,
    };
    let mut values: Vec<Named> = Vec::new();
    if let Some(output) = output {
        values.extend(output.values.iter().map(|(name, (_, effective))| named_by(name.clone(), effective)));
    } else {
        let mut session = resolver.session(unit_of(subject));
        let maker = NameMaker::usual(OutputFormat::Properties);
        for slot in ledger.slots(subject).all() {
            let (entry, field) = ledger.field(subject, slot);
            let outcome = session.outcome(FieldId { subject, stage: chosen.stage, slot });
            if let (Ok(name), Some(effective)) = (maker.name_of(entry, field), outcome.value()) {
                values.push(named_by(name, effective));
            }
        }
    }
    // Maps are levels in files that have them.
    let flat = |side: Named| -> Vec<Named> {
        match (&side.value, file.format.levels()) {
            (Some(Value::Map(map)), Levels::Many) if !is_bare && !map.is_empty() => {
                let below = flattened(map).into_iter();
                let named = below.map(|(steps, value)| Named {
                    name: side.name.iter().cloned().chain(steps).collect(),
                    value: Some(value),
                    ..side.clone()
                });
                named.collect()
            }
            _ => vec![side],
        }
    };
    let values = values.into_iter().flat_map(flat).collect();
    app.tell_unread(&outside);
    Ok((values, in_file(file, output)?, output.is_none()))
}
