//! The walk through the work.

use std::path::Path;
use std::process::Command;
use std::{env, fs};

use cledger_work::Trouble;

use crate::output::console::Console;
use crate::output::style;

/// A step of the walk: what it is about, and what is typed.
struct Step {
    about: &'static str,
    arguments: &'static [&'static str],
}

/// The walk, in the order of the work.
const WALK: [Step; 9] = [
    Step { about: "What the ledger has: units, and the stages that they belong to.", arguments: &["list"] },
    Step {
        about: "What one unit gets in one stage, and where each value comes from.",
        arguments: &["show", "ticket-desk@staging"],
    },
    Step {
        about: "One bare value, for a script.",
        arguments: &["get", "fare-engine/bookings-db.host@prod-north"],
    },
    Step {
        about: "What is missing or wrong, with what to type to mend it.",
        arguments: &["check", "crew-roster"],
    },
    Step {
        about: "How a unit differs between two stages, and whether that is meant.",
        arguments: &["compare", "fare-engine@staging", "fare-engine@prod-north"],
    },
    Step {
        about: "A trial value, stronger than every setting, for this once.",
        arguments: &["get", "ticket-desk/fare_service@test", "--assume", "fare-engine/listen.port=9999"],
    },
    Step {
        about: "The files of a whole stage, those with secrets for their owner alone.",
        arguments: &[
            "render",
            "@prod-north",
            "--out",
            "../rendered/prod-north",
            "--countersign",
            "prod-north",
        ],
    },
    Step {
        about: "A stage that is not complete is not rendered.",
        arguments: &["render", "ticket-desk@prod-south"],
    },
    Step {
        about: "What really runs, compared with the ledger: somebody has been there by hand.",
        arguments: &["drift", "@prod-north"],
    },
];

/// Runs each step as one would type it, and shows what comes back.
pub(crate) fn walk(ledger: &Path, console: &mut Console) -> Result<(), Trouble> {
    let outside = |error: std::io::Error| Trouble::outside(format!("the demo cannot go on: {error}"));
    let program = env::current_exe().map_err(outside)?;
    let ledger = fs::canonicalize(ledger).map_err(outside)?;
    let width = console.width().unwrap_or(80).to_string();
    for (number, step) in (1..).zip(&WALK) {
        console.line(format!("\n{}", style::heading(&format!("{number}. {}", step.about))));
        console.line(format!("$ cledger {}", step.arguments.join(" ")));
        let output = Command::new(&program)
            .args(step.arguments)
            .args(["--color", "always"])
            .current_dir(&ledger)
            .env("COLUMNS", &width)
            .env_remove("CLEDGER_STAGE")
            // It was trusted when it was made; this serves where that cannot be remembered.
            .env("CLEDGER_TRUST", "1")
            .output()
            .map_err(outside)?;
        console.raw(&String::from_utf8_lossy(&output.stdout));
        console.raw(&String::from_utf8_lossy(&output.stderr));
        if let Some(code) = output.status.code().filter(|&code| code != 0) {
            console.line(format!("(exit status {code})"));
        }
    }
    Ok(())
}
