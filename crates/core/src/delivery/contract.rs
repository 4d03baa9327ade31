//! What counts as one contract: all that its fields declare, whatever stands around it.

use crate::model::{Ledger, Subject, Vary};

/// The hash of a unit's contract (BLAKE3, hexadecimal). It covers names, types, what may vary, what is secret and
/// the defaults; not descriptions, bounds, outputs or chores.
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
        ];
        for part in parts {
            // The length keeps what stands in two parts from being taken for what stands in one.
            hasher.update(&part.len().to_le_bytes());
            hasher.update(part.as_bytes());
        }
    }
    hasher.finalize().to_hex().to_string()
}
