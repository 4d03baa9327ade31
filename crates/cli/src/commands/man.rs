//! `cledger man`: the manual pages, and the same as Markdown.

use std::path::PathBuf;

use clap::Args;
use cledger_store::{Mode, write_atomically};

use cledger_work::Trouble;

use crate::app::App;
use crate::options::DryRunOptions;
use crate::output::text::change::ONLY_SHOWN;
use crate::{exit, manual};

#[derive(Debug, Args)]
pub(crate) struct ManArgs {
    /// Write a page for each command into this folder; without, the first page is printed
    dir: Option<PathBuf>,
    /// Print the reference of all commands as Markdown
    #[arg(long, conflicts_with = "dir")]
    markdown: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
}

pub(crate) fn run(args: &ManArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let failed = |error: std::io::Error| Trouble::outside(format!("the page cannot be made: {error}"));
    let mut root = (app.tree)();
    root.build();
    if args.markdown {
        app.console.raw(&manual::markdown(&root));
        return Ok(exit::CLEAN);
    }
    let Some(dir) = &args.dir else {
        let page = manual::page(&root, root.get_name()).map_err(failed)?;
        app.console.raw(&String::from_utf8_lossy(&page));
        return Ok(exit::CLEAN);
    };
    if let Some(name) = dir.to_str().filter(|name| root.find_subcommand(name).is_some() && !dir.is_dir()) {
        return Err(Trouble::usage(format!("`{name}` is a command, and pages are written into a folder"))
            .help(format!("cledger {name} --help, or, for a folder of that name: cledger man ./{name}")));
    }
    for (command, name) in manual::whole_tree(&root) {
        let path = dir.join(format!("{}.1", manual::title(&name)));
        let page = manual::page(command, &name).map_err(failed)?;
        if !args.dry_run.is_given {
            write_atomically(&path, &page, Mode::Usual)?;
        }
        app.console.line(path.display().to_string());
    }
    if args.dry_run.is_given {
        app.console.line(ONLY_SHOWN);
    }
    Ok(exit::CLEAN)
}
