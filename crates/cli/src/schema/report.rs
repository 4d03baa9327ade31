//! The schema of what `check --json` prints.

use cledger_core::findings::Code;
use serde_json::{Value, json};

use super::{document, table, text};

pub(crate) fn report() -> Value {
    let codes: Vec<&str> = Code::ALL.iter().map(|code| code.name()).collect();
    let place = |about: &str| json!({ "type": ["integer", "null"], "minimum": 1, "description": about });
    let of_finding = json!({
        "code": { "enum": &codes },
        "severity": { "enum": ["error", "warning"] },
        "address": text("What it is about"),
        "message": text("What is wrong"),
        "file": { "type": ["string", "null"], "description": "From the ledger's folder" },
        "line": place("From 1"),
        "column": place("From 1, in characters"),
        "help": text("What to type"),
        "rule": text("The name of the rule that is broken"),
    });
    let mut of_waived = of_finding.clone();
    of_waived["why"] = text("Why it is accepted");
    of_waived["until"] = json!({ "type": "string", "pattern": "^\\d{4}-\\d{2}-\\d{2}$" });
    of_waived["by"] = json!({ "type": ["string", "null"] });
    let required = ["code", "severity", "address", "message", "file", "line", "column", "help"];
    let count = json!({ "type": "integer", "minimum": 0 });
    let mut schema = document(
        "cledger check --json",
        json!({
            "format": { "const": 1 },
            "findings": { "type": "array", "items": table(of_finding, &required) },
            "counts": table(json!({ "error": count, "warning": count }), &["error", "warning"]),
            "waived": { "type": "array", "items": table(of_waived, &[&required[..], &["why", "until", "by"]].concat()) },
            "unreadable": { "type": "array", "items": text("The address of a secret that could not be judged") },
            "not_judged": { "type": "array", "items": { "enum": codes } },
            "older": count,
        }),
    );
    schema["required"] = json!(["format", "findings", "counts"]);
    schema
}
