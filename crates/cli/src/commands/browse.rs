//! `cledger browse`: the matrix as a view in the terminal.

use std::io::{self, IsTerminal as _};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_view::{Look, browse};
use cledger_work::Trouble;
use cledger_work::browse::Browser;
use cledger_work::matrix::ToTabulate;

use crate::app::App;
use crate::complete;
use crate::exit;
use crate::terminal::given_passphrase;

#[derive(Debug, Args)]
pub(crate) struct BrowseArgs {
    /// Which fields and stages, as a pattern of addresses, like `ticket-desk` or `*/bookings-db.*@prod-*`
    #[arg(add = ArgValueCompleter::new(complete::address))]
    pattern: Option<String>,
}

pub(crate) fn run(args: &BrowseArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let instead = args.pattern.as_deref().map(|pattern| format!(" '{pattern}'")).unwrap_or_default();
    if app.console.is_json() {
        let message = "a view in the terminal is no document";
        return Err(Trouble::usage(message).help(format!("cledger matrix{instead} --json has the same")));
    }
    if !io::stdin().is_terminal() || !io::stdout().is_terminal() {
        return Err(Trouble::usage("there is no terminal here to show a view in")
            .help(format!("cledger matrix{instead} prints the same")));
    }
    // What is wrong with these is told before anything is drawn.
    args.pattern.as_deref().map(Pattern::parse).transpose()?;
    app.at.root()?;
    let asked = ToTabulate { pattern: args.pattern.clone(), ..ToTabulate::default() };
    let browser = Browser::start(&app.at, asked, given_passphrase());
    let ended = browse(&browser, Look { colours: app.console.has_colours() })
        .map_err(|error| Trouble::outside(format!("the terminal cannot be used: {error}")))?;
    for line in &ended.made {
        app.console.line(line);
    }
    if let Some(trouble) = ended.trouble {
        return Err(trouble);
    }
    if ended.by_signal {
        return Err(Trouble::outside("a signal ended the view"));
    }
    Ok(exit::CLEAN)
}
