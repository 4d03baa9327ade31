//! What a delivery of a unit to a stage consists of, made from the ledger.

use cledger_core::model::{Declaration, Ledger, OutletKind, OutputFormat, StageId, Subject, Vary};
use cledger_core::name::Name;
use cledger_core::render::{Rendering, content};
use cledger_core::resolve::{FieldId, Outcome, Resolver};
use cledger_formats::{Particulars, format};
use cledger_store::daybook::{Content, Stored};
use zeroize::Zeroizing;

use crate::app::unit_of;
use crate::error::CliError;
use crate::rendered;

/// The name of a field within its unit: `ENTRY[.FIELD]`.
pub(crate) fn field_name(entry: &Name, field: &Declaration) -> String {
    field.name.as_ref().map_or_else(|| entry.to_string(), |field| format!("{entry}.{field}"))
}

/// Everything that the outlets of a stage are to have of a unit. Nothing may be missing or unreadable.
pub(crate) fn made(
    resolver: &Resolver<'_>,
    rendering: &Rendering<'_>,
    subject: Subject,
    stage: StageId,
) -> Result<Content, CliError> {
    let ledger = resolver.ledger();
    let mut made = Content::default();
    let mut session = resolver.session(unit_of(subject));
    for slot in ledger.slots(subject).all() {
        let (entry, field) = ledger.field(subject, slot);
        let name = field_name(&entry.name, field);
        if let Outcome::Value(effective) = session.outcome(FieldId { subject, stage, slot })
            && let Some(value) = effective.expose()
        {
            let text = Zeroizing::new(value.to_json().to_string());
            made.values.insert(name.clone(), Stored::new(&text, effective.secret));
        }
        made.fields.insert(name);
    }
    rendered::refuse_clashes(ledger, rendering)?;
    for output in &rendering.outputs {
        let text = rendered::text(ledger, rendering, output)?;
        made.files.insert(output.path.clone(), Stored::new(&text.text, text.secret));
    }
    let owner = ledger.owner(subject);
    for outlet in ledger.outlets.iter().filter(|outlet| outlet.takes(stage, owner.names())) {
        let Some(output) = outlet.kind.output() else { continue };
        let wrong = |reason: String| CliError::usage(format!("outlet `{}`: {reason}", outlet.name));
        let output =
            content(&mut session, output, subject, stage).map_err(|error| wrong(error.to_string()))?;
        let secret = output.is_secret();
        if let OutletKind::Postgres(_) = &outlet.kind {
            let rows = output.values.iter().filter_map(|(name, (_, effective))| {
                Some((name.join("."), serde_json::Value::from(effective.expose()?.to_text().as_str())))
            });
            let rows: serde_json::Map<String, serde_json::Value> = rows.collect();
            let text = Zeroizing::new(serde_json::Value::Object(rows).to_string());
            made.rows.insert(outlet.name.to_string(), Stored::new(&text, secret));
        } else {
            let json = format(OutputFormat::Json, Particulars::default());
            let text = json.map(|json| json.write(&output.tree())).transpose();
            let text = Zeroizing::new(text.map_err(|error| wrong(error.to_string()))?.unwrap_or_default());
            made.documents.insert(outlet.name.to_string(), Stored::new(&text, secret));
        }
    }
    Ok(made)
}

/// The hash of a unit's contract: of all that its fields declare, whatever stands around it.
pub(crate) fn contract_hash(ledger: &Ledger, subject: Subject) -> String {
    let mut hasher = blake3::Hasher::new();
    for slot in ledger.slots(subject).all() {
        let (entry, field) = ledger.field(subject, slot);
        let default = field.default.as_ref().map(|default| default.value.expose().to_text());
        let vary = match field.vary {
            Vary::Never => "never",
            Vary::May => "may",
            Vary::Must => "must",
        };
        let parts = [
            field_name(&entry.name, field),
            field.this_type.name().to_owned(),
            vary.to_owned(),
            field.secret.to_string(),
            default.map(|text| text.to_string()).unwrap_or_default(),
        ];
        for part in parts {
            hasher.update(&part.len().to_le_bytes());
            hasher.update(part.as_bytes());
        }
    }
    hasher.finalize().to_hex().to_string()
}
