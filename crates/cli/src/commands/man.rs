//! `cledger man`: the manual pages, and the same as Markdown.

use std::io;
use std::path::PathBuf;

use clap::{Args, Command};
use clap_mangen::Man;
use cledger_store::{Mode, write_atomically};

use cledger_work::Trouble;

use crate::app::App;
use crate::exit;

/// The width of the text in the Markdown reference.
const WIDTH: usize = 96;

#[derive(Debug, Args)]
pub(crate) struct ManArgs {
    /// Write a page for each command into this folder; without, the first page is printed
    dir: Option<PathBuf>,
    /// Print the reference of all commands as Markdown
    #[arg(long, conflicts_with = "dir")]
    markdown: bool,
}

pub(crate) fn run(args: &ManArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let failed = |error: io::Error| Trouble::outside(format!("the page cannot be made: {error}"));
    let mut root = (app.tree)();
    root.build();
    if args.markdown {
        app.console.raw(&markdown(root));
        return Ok(exit::CLEAN);
    }
    let page = |command: Command, title: &str| -> Result<Vec<u8>, Trouble> {
        let mut text = Vec::new();
        Man::new(command.display_name(title.to_owned())).title(title).render(&mut text).map_err(failed)?;
        Ok(text)
    };
    let Some(dir) = &args.dir else {
        app.console.raw(&String::from_utf8_lossy(&page(root, "cledger")?));
        return Ok(exit::CLEAN);
    };
    for (command, name) in whole_tree(&root) {
        let title = name.replace(' ', "-");
        let path = dir.join(format!("{title}.1"));
        write_atomically(&path, &page(command.clone(), &title)?, Mode::Usual)?;
        app.console.line(path.display().to_string());
    }
    Ok(exit::CLEAN)
}

/// The help of every command, one section each.
fn markdown(root: Command) -> String {
    let mut text = "# Commands\n\nWhat `cledger --help` and `cledger COMMAND --help` say; \
                    `cledger man --markdown` prints this page.\n"
        .to_owned();
    for (command, name) in whole_tree(&root) {
        let help = command.clone().term_width(WIDTH).render_help().to_string();
        let lines: Vec<&str> = help.lines().map(str::trim_end).collect();
        text.push_str(&format!("\n## `{name}`\n\n```text\n{}\n```\n", lines.join("\n").trim_end()));
    }
    text
}

/// A command and all commands below it, each with its whole name.
fn whole_tree(root: &Command) -> Vec<(&Command, String)> {
    let mut found = Vec::new();
    let mut open = vec![(root, root.get_name().to_owned())];
    while let Some((command, name)) = open.pop() {
        let below = command.get_subcommands().filter(|sub| sub.get_name() != "help");
        let below: Vec<_> = below.map(|sub| (sub, format!("{name} {}", sub.get_name()))).collect();
        open.extend(below.into_iter().rev());
        found.push((command, name));
    }
    found
}
