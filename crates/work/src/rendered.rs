//! The files of a unit on their way out: what keeps them from being handed out, and their texts.

use cledger_core::model::Ledger;
use cledger_core::output::{self, path_fault};
use cledger_core::render::{RenderedOutput, Rendering};
use cledger_core::resolve::{FieldId, Outcome, Session, Unread};
use cledger_formats::{OutputText, RenderError, text_of};
use cledger_store::{Keys, Surroundings};

use crate::known::{not_trusted, said};
use crate::trouble::Trouble;

/// The refusal to hand out units whose values are not all readable here: secrets without their key, and what
/// nobody has said that the ledger may fetch.
pub(crate) fn not_readable(units: &[String], outside: &Surroundings<'_>, instead: &str) -> Trouble {
    let refused: Vec<String> = outside.refused().iter().map(said).collect();
    refusal(units, &outside.keys, &refused, instead)
}

/// The same where it is known what kept each value from being read.
pub(crate) fn not_readable_in(
    session: &mut Session<'_, '_>,
    rendering: &Rendering<'_>,
    keys: &Keys<'_>,
) -> Trouble {
    let owner = session.ledger().owner(rendering.subject).to_string();
    let is_refused = |field: &FieldId| match session.outcome(*field) {
        Outcome::Value(value) => value.unread() == Some(Unread::NotTrusted),
        _ => false,
    };
    if rendering.unreadable.iter().any(is_refused) {
        return not_trusted(&format!("values of {owner} come from outside the ledger"));
    }
    refusal(&[owner], keys, &[], "")
}

/// The most units that a refusal names.
const MOST_NAMED: usize = 12;

fn refusal(units: &[String], keys: &Keys<'_>, refused: &[String], instead: &str) -> Trouble {
    let keys = keys.not_at_hand();
    let reasons = keys.iter().map(|(scope, reason)| format!("the key of `{}`: {reason}", scope.name()));
    let not_trusted = refused.iter().map(|named| format!("{named}: nobody has said that the ledger may"));
    let reasons: Vec<String> = reasons.chain(not_trusted).collect();
    let what = if refused.is_empty() { "secrets" } else { "values" };
    let help = if refused.is_empty() {
        format!("let a reader do it, or let you in with `cledger key admit`{instead}")
    } else {
        "look at what the ledger names, and say so: cledger trust; or --trust for one run".to_owned()
    };
    let named = units[..units.len().min(MOST_NAMED)].join(", ");
    let more = match units.len().saturating_sub(MOST_NAMED) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    Trouble::refused(format!("nothing is handed out: {what} of {named}{more} are not readable here"))
        .pointed(reasons.join("\n"))
        .help(help)
}

/// Refuses outputs in which one field would take another's place.
pub(crate) fn refuse_clashes(ledger: &Ledger, rendering: &Rendering<'_>) -> Result<(), Trouble> {
    let owner = ledger.owner(rendering.subject);
    let help = format!("`cledger check {owner}` says which");
    for (at, rendered) in rendering.outputs.iter().enumerate() {
        let path = &rendered.path;
        if let Some(fault) = path_fault(path) {
            let message = format!("`{owner}` cannot be rendered to `{path}`: {fault}");
            return Err(Trouble::usage(message).help(help));
        }
        if rendering.outputs[..at].iter().any(|other| other.path == *path) {
            return Err(Trouble::usage(format!("two outputs of `{owner}` have the path `{path}`")).help(help));
        }
        let names = rendered.output.names_in(ledger, rendering.subject, rendering.stage).unwrap_or_default();
        if let Some((name, ..)) = output::clash(&names) {
            let name = name.join(".");
            let message = format!("two fields of `{owner}` are called `{name}` in `{path}`");
            return Err(Trouble::usage(message).help(help));
        }
    }
    Ok(())
}

/// The text of one file.
pub(crate) fn text(
    ledger: &Ledger,
    rendering: &Rendering<'_>,
    rendered: &RenderedOutput<'_>,
) -> Result<OutputText, Trouble> {
    text_of(rendered).map_err(|error| {
        let help = match &error {
            RenderError::Write(_) => {
                "give the field another name there with `as`, or the output another format"
            }
            RenderError::Template { .. } => "mend the template, or give the field a value",
        };
        let owner = ledger.owner(rendering.subject);
        let message = format!("`{owner}` cannot be rendered to `{}`: {error}", rendered.path);
        Trouble::usage(message).help(help)
    })
}
