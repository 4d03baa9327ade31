//! The schema of `folio.json`, in which a folio says what is inside.

use serde_json::{Value, json};

use super::{document, name, table, text, texts};

pub(crate) fn folio() -> Value {
    let or_null = |of: Value| json!({ "anyOf": [of, { "type": "null" }] });
    let list = |items: Value| json!({ "type": "array", "items": items });
    let count = || json!({ "type": "integer", "minimum": 0 });
    let unit = table(
        json!({ "name": name(), "version": or_null(text("Its version")), "about": or_null(text("What it is for")) }),
        &["name", "version", "about"],
    );
    let bundle = table(
        json!({ "name": name(), "units": texts(), "version": or_null(text("Its version")) }),
        &["name", "units", "version"],
    );
    let tested = table(
        json!({
            "unit": text("The unit or instance"), "number": count(),
            "version": or_null(text("The version that was delivered")),
            "contract": text("The hash of its contract"),
            "fingerprint": text("The hash of the delivery's record"),
        }),
        &["unit", "number", "version", "contract", "fingerprint"],
    );
    let from = table(
        json!({
            "stage": name(), "class": { "enum": ["development", "test", "production"] },
            "sets": texts(), "tested": list(tested),
        }),
        &["stage", "class", "sets", "tested"],
    );
    let member = table(
        json!({
            "path": text("Its path in the archive"), "bytes": count(),
            "hash": or_null(text("BLAKE3, hexadecimal; null for what is encrypted, unless it is signed")),
        }),
        &["path", "bytes", "hash"],
    );
    let mut schema = document(
        "folio.json",
        json!({
            "format": { "const": 1 }, "ledger": text("The ledger that it was made of"),
            "units": list(unit), "shared": list(name()), "rules": list(name()), "bundles": list(bundle),
            "files": texts(), "from": or_null(from), "values": { "type": "boolean" }, "secrets_for": texts(),
            "members": list(member),
        }),
    );
    schema["required"] = json!([
        "format",
        "ledger",
        "units",
        "shared",
        "rules",
        "bundles",
        "files",
        "from",
        "values",
        "secrets_for",
        "members"
    ]);
    schema
}
