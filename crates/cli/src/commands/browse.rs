//! `cledger browse`: the matrix as a view in the terminal.

use std::io::{self, IsTerminal as _};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_view::{Ended, Look, browse};
use cledger_work::browse::Browser;
use cledger_work::matrix::ToTabulate;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::output::console::Console;
use crate::output::shown::Shown;
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
    let ended = browse(&browser, Look { colors: app.console.has_colors() });
    Ok(app.show(&View(ended)))
}

/// What was set on the way, and what ended it.
struct View(Ended);

impl Shown for View {
    fn print(&self, console: &mut Console) {
        self.0.made.iter().for_each(|line| console.line(line));
    }

    fn document(&self) -> impl Serialize {}

    fn kind(&self) -> Option<Kind> {
        self.0.trouble.as_ref().map(Trouble::kind)
    }

    fn trouble(&self) -> Option<&Trouble> {
        self.0.trouble.as_ref()
    }
}
