//! `cledger demo`: the demo ledger with a pretend live system, and a walk through the work.

use std::env;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use clap::Args;
use cledger_standin::{Fault, Options, StandIn};
use cledger_store::{Mode, write_atomically};
use include_dir::{Dir, DirEntry, include_dir};

use cledger_work::{Trouble, trust_own};

use crate::app::App;
use crate::exit;
use crate::output::style;

/// The demo's files: `ledger`, `vault`, `live`, `boards`, `legacy` and `exports`.
static FILES: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// The folder to write to; it must not exist yet
    #[arg(default_value = "brackwater-demo")]
    dir: PathBuf,
    /// Write the files, and leave the walk out
    #[arg(long)]
    files_only: bool,
    /// Keep the stand-in for the boards' service running, also for a demo that was written before
    #[arg(long)]
    serve: bool,
}

/// Where the stand-in's documents are, below the demo.
const BOARDS: &str = "boards";

/// The file with the address of the stand-in.
const ADDRESS: &str = "boards.address";

/// The file with the token that it asks for.
const TOKEN: &str = "vault/boards";

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

pub(crate) fn run(args: &DemoArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if app.console.is_json() {
        return Err(Trouble::usage("the demo is a walk for people, and has no JSON document")
            .help("add --json to the commands that it shows"));
    }
    let dir = &args.dir;
    if args.serve && dir.join(BOARDS).is_dir() {
        return serve(&stand_in(dir)?, app);
    }
    if dir.symlink_metadata().is_ok() {
        let message = format!("`{}` is there already, and the demo writes over nothing", dir.display());
        return Err(Trouble::usage(message).help("name another folder: cledger demo DIR"));
    }
    write(&FILES, dir)?;
    let ledger = dir.join("ledger");
    trust_own(&app.at, &ledger);
    app.console.line(format!(
        "The demo is in {}: a ledger, a vault, a pretend live system, and files from before.",
        dir.display()
    ));
    let standin = if args.files_only && !args.serve { None } else { Some(stand_in(dir)?) };
    if !args.files_only {
        walk(&ledger, app)?;
    }
    app.console.line(format!("\n{}", style::heading("To go on by yourself")));
    if let Some(program) = program_to_name() {
        app.console.line(format!("  alias cledger={}", program.display()));
    }
    for line in [
        format!("cd {}", ledger.display()),
        "cledger check                              # everything that was put in wrong on purpose".to_owned(),
        "cledger show ticket-desk+kiosk@prod-north  # an instance".to_owned(),
        "cledger compare @prod-north @prod-south    # two whole stages".to_owned(),
        "cledger show ticket-desk@test --json       # the same for programs".to_owned(),
        "cledger demo .. --serve                    # the boards' service again, in another terminal"
            .to_owned(),
        "export CLEDGER_IDENTITY=../identity        # a private key for the demo alone; then:".to_owned(),
        "cledger key identity && cledger key make @test --write".to_owned(),
        "cledger key protect @test --write".to_owned(),
    ] {
        app.console.line(format!("  {line}"));
    }
    app.console.line("Then mend a file in stages/, and check again. `cledger --help` has all commands.");
    match standin {
        Some(standin) if args.serve => serve(&standin, app),
        _ => Ok(exit::CLEAN),
    }
}

/// Starts the stand-in for the service of the boards, and writes down where it listens. The boards of
/// one stage are down.
fn stand_in(dir: &Path) -> Result<StandIn, Trouble> {
    let failed = |error: std::io::Error| Trouble::outside(format!("the stand-in cannot start: {error}"));
    let token = fs::read_to_string(dir.join(TOKEN)).map_err(failed)?;
    let options = Options { folder: dir.join(BOARDS), port: None, token: Some(token.trim_end().to_owned()) };
    let standin = StandIn::start(options).map_err(failed)?;
    standin.set_fault("/prod-south", Some(Fault::Down));
    write_atomically(&dir.join(ADDRESS), format!("{}\n", standin.url()).as_bytes(), Mode::Usual)?;
    Ok(standin)
}

/// Lets the stand-in run until somebody stops the program.
fn serve(standin: &StandIn, app: &mut App<'_>) -> Result<u8, Trouble> {
    app.console.line(format!("\nThe boards' service answers at {}. Stop it with Ctrl-C.", standin.url()));
    app.console
        .flush()
        .map_err(|error| Trouble::outside(format!("the output cannot be written: {error}")))?;
    loop {
        std::thread::park();
    }
}

/// The program's path, where `cledger` alone would not start it.
fn program_to_name() -> Option<PathBuf> {
    let path = env::var_os("PATH").unwrap_or_default();
    let found = env::split_paths(&path).any(|folder| folder.join("cledger").is_file());
    if found { None } else { env::current_exe().ok() }
}

fn write(folder: &Dir<'_>, to: &Path) -> Result<(), Trouble> {
    for entry in folder.entries() {
        let path = to.join(entry.path());
        match entry {
            DirEntry::Dir(folder) => write(folder, to)?,
            DirEntry::File(file) => {
                // Nothing in the demo is a real secret, but its files set the example.
                let secret = entry.path().starts_with("vault");
                let mode = if secret { Mode::OwnerOnly } else { Mode::Usual };
                write_atomically(&path, file.contents(), mode)?;
            }
        }
    }
    Ok(())
}

/// Runs each step as one would type it, and shows what comes back.
fn walk(ledger: &Path, app: &mut App<'_>) -> Result<(), Trouble> {
    let outside = |error: std::io::Error| Trouble::outside(format!("the demo cannot go on: {error}"));
    let program = env::current_exe().map_err(outside)?;
    let ledger = fs::canonicalize(ledger).map_err(outside)?;
    let width = app.console.width().unwrap_or(80).to_string();
    for (number, step) in (1..).zip(&WALK) {
        app.console.line(format!("\n{}", style::heading(&format!("{number}. {}", step.about))));
        app.console.line(format!("$ cledger {}", step.arguments.join(" ")));
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
        app.console.raw(&String::from_utf8_lossy(&output.stdout));
        app.console.raw(&String::from_utf8_lossy(&output.stderr));
        if let Some(code) = output.status.code().filter(|&code| code != 0) {
            app.console.line(format!("(exit status {code})"));
        }
    }
    Ok(())
}
