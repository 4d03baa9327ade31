//! The stand-in for the service that keeps the boards' configuration.

use std::fs;
use std::path::Path;

use cledger_standin::{Fault, Options, StandIn};
use cledger_store::{Mode, write_atomically};
use cledger_work::Trouble;

use crate::output::console::Console;

/// Where the stand-in's documents are, below the demo.
const BOARDS: &str = "boards";

/// The file with the address of the stand-in.
const ADDRESS: &str = "boards.address";

/// The file with the token that it asks for.
const TOKEN: &str = "strongroom/boards";

/// Whether a demo that was written before is in this folder.
pub(crate) fn is_there(dir: &Path) -> bool {
    dir.join(BOARDS).is_dir()
}

/// Starts the stand-in for the service of the boards, and writes down where it listens. The boards of
/// one stage are down.
pub(crate) fn start(dir: &Path) -> Result<StandIn, Trouble> {
    let failed = |error: std::io::Error| Trouble::outside(format!("the stand-in cannot start: {error}"));
    let token = fs::read_to_string(dir.join(TOKEN)).map_err(failed)?;
    let options = Options { folder: dir.join(BOARDS), port: None, token: Some(token.trim_end().to_owned()) };
    let standin = StandIn::start(options).map_err(failed)?;
    standin.set_fault("/prod-south", Some(Fault::Down));
    write_atomically(&dir.join(ADDRESS), format!("{}\n", standin.url()).as_bytes(), Mode::Usual)?;
    Ok(standin)
}

/// Lets the stand-in run until somebody stops the program.
pub(crate) fn serve(standin: &StandIn, console: &mut Console) -> Result<u8, Trouble> {
    console.line(format!("\nThe boards' service answers at {}. Stop it with Ctrl-C.", standin.url()));
    console.flush().map_err(|error| Trouble::outside(format!("the output cannot be written: {error}")))?;
    loop {
        std::thread::park();
    }
}
