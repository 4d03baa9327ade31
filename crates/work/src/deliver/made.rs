//! What a delivery of a unit to a stage consists of, made from the ledger.

use cledger_core::kept::Kept;
use cledger_core::model::{OutletKind, OutputFormat, StageId, Subject};
use cledger_core::render::{Rendering, content};
use cledger_core::resolve::{FieldId, Outcome, Resolver};
use cledger_formats::{Particulars, format};
use cledger_store::daybook::Content;
use zeroize::Zeroizing;

use crate::bringing::part::Form;
use crate::meant::unit_of;
use crate::rendered;
use crate::trouble::Trouble;

/// Everything that the outlets of a stage are to have of a unit. Nothing may be missing or unreadable.
pub(crate) fn made(
    resolver: &Resolver<'_>,
    rendering: &Rendering<'_>,
    subject: Subject,
    stage: StageId,
) -> Result<Content, Trouble> {
    let ledger = resolver.ledger();
    let mut made = Content::default();
    let mut session = resolver.session(unit_of(subject));
    for slot in ledger.slots(subject).all() {
        let name = ledger.field_name(subject, slot);
        if let Outcome::Value(effective) = session.outcome(FieldId { subject, stage, slot }) {
            made.values.insert(name.clone(), Kept::of_effective(&effective));
        }
        made.fields.insert(name);
    }
    rendered::refuse_clashes(ledger, rendering)?;
    for output in &rendering.outputs {
        let text = rendered::text(ledger, rendering, output)?;
        made.files.insert(output.path.clone(), Kept::new(text.text, text.secret));
    }
    let owner = ledger.owner(subject);
    for outlet in ledger.outlets.iter().filter(|outlet| outlet.takes(stage, owner.names())) {
        let Some(output) = outlet.kind.output() else { continue };
        let wrong = |reason: String| Trouble::usage(format!("outlet `{}`: {reason}", outlet.name));
        let output =
            content(&mut session, output, subject, stage).map_err(|error| wrong(error.to_string()))?;
        let secret = output.is_secret();
        if let OutletKind::Rows(_) = &outlet.kind {
            let text = Form::Rows(&[]).write(&output.tree()).map_err(wrong)?;
            made.rows.insert(outlet.name.to_string(), Kept::new(text, secret));
        } else {
            let json = format(OutputFormat::Json, Particulars::default());
            let text = json.map(|json| json.write(&output.tree())).transpose();
            let text = Zeroizing::new(text.map_err(|error| wrong(error.to_string()))?.unwrap_or_default());
            made.documents.insert(outlet.name.to_string(), Kept::new(text, secret));
        }
    }
    Ok(made)
}
