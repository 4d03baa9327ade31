//! `cledger-standin`: a stand-in for a service that keeps JSON documents.

use std::io::{self, Write as _};
use std::path::PathBuf;
use std::process::ExitCode;
use std::{fs, thread};

use clap::Parser;
use cledger_standin::{Fault, Options, StandIn};

/// A stand-in for a service that keeps JSON documents, for the demo and for trying things out
///
/// GET, PUT, POST and DELETE on 127.0.0.1, with entity tags. The document `/a/b` is the file `FOLDER/a/b.json`; `/a` lists
/// those of a folder, three on a page, and takes new ones.
#[derive(Debug, Parser)]
#[command(version)]
struct Arguments {
    /// The folder with the documents
    folder: PathBuf,
    /// The port; any that is free if not given
    #[arg(long)]
    port: Option<u16>,
    /// Ask for the bearer token in this file
    #[arg(long, value_name = "PATH")]
    token_file: Option<PathBuf>,
    /// Write the address to this file
    #[arg(long, value_name = "PATH")]
    address_file: Option<PathBuf>,
    /// Be bad below a path: `/prod-south=down`, or slow:MILLISECONDS, hang, refuse, lose-writes,
    /// hang-writes, down-writes, garbage, huge, loop
    #[arg(long, value_name = "PATH=FAULT", value_parser = fault)]
    fault: Vec<(String, Fault)>,
}

fn fault(text: &str) -> Result<(String, Fault), String> {
    let (path, fault) = text.split_once('=').ok_or("write PATH=FAULT")?;
    Ok((path.to_owned(), fault.parse::<Fault>().map_err(|error| error.to_string())?))
}

fn main() -> ExitCode {
    match run(Arguments::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            // Standard error is the last place where anything can be told.
            let _ = writeln!(io::stderr(), "error: {error}");
            ExitCode::from(3)
        }
    }
}

fn run(arguments: Arguments) -> io::Result<()> {
    let token = arguments.token_file.map(fs::read_to_string).transpose()?;
    let token = token.map(|token| token.trim_end().to_owned());
    let standin = StandIn::start(Options { folder: arguments.folder, port: arguments.port, token })?;
    for (path, fault) in arguments.fault {
        standin.set_fault(&path, Some(fault));
    }
    if let Some(path) = arguments.address_file {
        fs::write(path, format!("{}\n", standin.url()))?;
    }
    writeln!(io::stdout(), "{}", standin.url())?;
    io::stdout().flush()?;
    loop {
        thread::park();
    }
}
