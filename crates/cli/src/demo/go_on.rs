//! What somebody may type next.

use std::env;
use std::path::{Path, PathBuf};

use crate::output::console::Console;
use crate::output::style;

/// Tells it, from the demo's ledger on.
pub(crate) fn tell(ledger: &Path, console: &mut Console) {
    console.line(format!("\n{}", style::heading("To go on by yourself")));
    if let Some(program) = program_to_name() {
        console.line(format!("  alias cledger={}", program.display()));
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
        console.line(format!("  {line}"));
    }
    console.line("Then mend a file in stages/, and check again. `cledger --help` has all commands.");
}

/// The program's path, where `cledger` alone would not start it.
fn program_to_name() -> Option<PathBuf> {
    let path = env::var_os("PATH").unwrap_or_default();
    let found = env::split_paths(&path).any(|folder| folder.join("cledger").is_file());
    if found { None } else { env::current_exe().ok() }
}
