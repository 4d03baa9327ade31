//! The files of a unit on their way out: what keeps them from being handed out, and their texts.

use cledger_core::model::Ledger;
use cledger_core::output::{self, path_fault};
use cledger_core::render::{RenderedOutput, Rendering};
use cledger_formats::{OutputText, RenderError, text_of};
use cledger_store::Keys;

use crate::error::{CliError, status};

/// The refusal to hand out units whose secrets are not readable here.
pub(crate) fn not_readable(units: &[String], keys: &Keys<'_>, instead: &str) -> CliError {
    let message = format!("nothing is handed out: secrets of {} are not readable here", units.join(", "));
    let reasons = keys.not_at_hand();
    let reasons: Vec<String> =
        reasons.iter().map(|(scope, reason)| format!("the key of `{}`: {reason}", scope.name())).collect();
    CliError::Plain {
        status: status::REFUSED,
        message,
        pointed: Some(reasons.join("\n")),
        help: Some(format!("let a reader do it, or let you in with `cledger key admit`{instead}")),
    }
}

/// Refuses outputs in which one field would take another's place.
pub(crate) fn refuse_clashes(ledger: &Ledger, rendering: &Rendering<'_>) -> Result<(), CliError> {
    let owner = ledger.owner(rendering.subject);
    let help = format!("`cledger check {owner}` says which");
    for (at, rendered) in rendering.outputs.iter().enumerate() {
        let path = &rendered.path;
        if let Some(fault) = path_fault(path) {
            let message = format!("`{owner}` cannot be rendered to `{path}`: {fault}");
            return Err(CliError::usage(message).help(help));
        }
        if rendering.outputs[..at].iter().any(|other| other.path == *path) {
            return Err(
                CliError::usage(format!("two outputs of `{owner}` have the path `{path}`")).help(help)
            );
        }
        let names = rendered.output.names_in(ledger, rendering.subject, rendering.stage).unwrap_or_default();
        if let Some((name, ..)) = output::clash(&names) {
            let name = name.join(".");
            let message = format!("two fields of `{owner}` are called `{name}` in `{path}`");
            return Err(CliError::usage(message).help(help));
        }
    }
    Ok(())
}

/// The text of one file.
pub(crate) fn text(
    ledger: &Ledger,
    rendering: &Rendering<'_>,
    rendered: &RenderedOutput<'_>,
) -> Result<OutputText, CliError> {
    text_of(rendered).map_err(|error| {
        let help = match &error {
            RenderError::Write(_) => {
                "give the field another name there with `as`, or the output another format"
            }
            RenderError::Template { .. } => "mend the template, or give the field a value",
        };
        let owner = ledger.owner(rendering.subject);
        let message = format!("`{owner}` cannot be rendered to `{}`: {error}", rendered.path);
        CliError::usage(message).help(help)
    })
}
