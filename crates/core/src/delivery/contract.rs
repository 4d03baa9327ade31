//! What counts as one contract: all that its fields declare, whatever stands around it.

use crate::model::{Ledger, StageText, Subject, Vary};

/// The hash of a unit's contract (BLAKE3, hexadecimal). It covers all that its fields and outputs declare; not
/// descriptions and chores. Some parts are covered as Rust prints them: where that changes, a contract counts as
/// another one, and is delivered anew.
pub fn contract_hash(ledger: &Ledger, subject: Subject) -> String {
    let mut hasher = blake3::Hasher::new();
    for slot in ledger.slots(subject).all() {
        let field = ledger.field(subject, slot).1;
        let default = field.default.as_ref().map(|default| default.value.expose().to_text());
        let vary = match field.vary {
            Vary::Never => "never",
            Vary::May => "may",
            Vary::Must => "must",
        };
        let parts = [
            ledger.field_name(subject, slot),
            field.this_type.name().to_owned(),
            vary.to_owned(),
            field.secret.to_string(),
            default.map(|text| text.to_string()).unwrap_or_default(),
            format!("{:?} {:?} {:?}", field.required, field.distinct, field.constraints),
            format!("{:?}", field.output_names()),
        ];
        for part in &parts {
            add(&mut hasher, part);
        }
    }
    let unit = match subject {
        Subject::Unit(unit, _) => Some(ledger.unit(unit)),
        Subject::Shared => None,
    };
    for output in unit.into_iter().flat_map(|unit| &unit.outputs) {
        let text = |text: Option<&StageText>| text.map(StageText::as_written).unwrap_or_default().to_owned();
        let parts = [
            text(Some(&output.path)),
            output.format.name().to_owned(),
            text(output.prefix.as_ref()),
            text(output.manifest_name.as_ref()),
            format!("{:?} {:?} {:?}", output.naming, output.secrets, output.header),
            output.only.texts().join(" "),
            output.except.texts().join(" "),
            output.table.as_ref().map(|table| table.entry.to_string()).unwrap_or_default(),
            output.template.as_ref().map(|template| template.text.to_string()).unwrap_or_default(),
        ];
        for part in &parts {
            add(&mut hasher, part);
        }
        // Where nothing is said, the hash is what it was before anything could be.
        if let Some(stages) = &output.stages {
            add(&mut hasher, &stages.said.join(" "));
        }
    }
    hasher.finalize().to_hex().to_string()
}

/// Adds a part. Its length keeps what stands in two parts from being taken for what stands in one.
fn add(hasher: &mut blake3::Hasher, part: &str) {
    hasher.update(&part.len().to_le_bytes());
    hasher.update(part.as_bytes());
}
