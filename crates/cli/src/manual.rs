//! The manual pages, and the reference of all commands as Markdown.

mod facts;

use std::io;

use clap::Command;
use clap::builder::Resettable;
use clap_mangen::Man;
use clap_mangen::roff::{Roff, bold, roman};

use facts::{ENVIRONMENT, EXIT_STATUS, FILES};

use crate::examples;

/// The width of the text in the Markdown reference.
const WIDTH: usize = 96;

/// The page of a command as roff, for `man`.
///
/// # Errors
///
/// What the writer of the page says.
pub(crate) fn page(command: &Command, name: &str) -> io::Result<Vec<u8>> {
    let title = title(name);
    let mut text = Vec::new();
    let examples = examples::of(name);
    let mut command_itself = command.clone().display_name(title.clone());
    if !examples.is_empty() {
        // A page has a section of its own for them.
        command_itself = command_itself.after_help(Resettable::Reset);
    }
    Man::new(command_itself).title(title).render(&mut text)?;
    let mut more = Roff::default();
    if !examples.is_empty() {
        more.control("SH", ["EXAMPLES"]);
        for (line, what) in examples {
            more.control("TP", []);
            more.text([bold(*line)]);
            more.text([roman(*what)]);
        }
    }
    for (heading, facts) in [("EXIT STATUS", EXIT_STATUS), ("FILES", FILES), ("ENVIRONMENT", ENVIRONMENT)] {
        more.control("SH", [heading]);
        for (name, meaning) in facts {
            more.control("TP", []);
            more.text([bold(*name)]);
            more.text([roman(*meaning)]);
        }
    }
    more.control("SH", ["SEE ALSO"]);
    more.text([roman(see_also(command, name))]);
    text.extend_from_slice(more.to_roff().as_bytes());
    Ok(text)
}

/// The help of every command, one section each, and what holds for all.
pub(crate) fn markdown(root: &Command) -> String {
    let mut text =
        "# Commands\n\nWhat `cledger --help` and `cledger COMMAND --help` say, with examples, the exit \
                    status, files and environment; `cledger man --markdown` prints this page.\n"
            .to_owned();
    for (command, name) in whole_tree(root) {
        let help = command.clone().term_width(WIDTH).render_help().to_string();
        let lines: Vec<&str> = help.lines().map(str::trim_end).collect();
        text.push_str(&format!("\n## `{name}`\n\n```text\n{}\n```\n", lines.join("\n").trim_end()));
    }
    for (heading, of, facts) in [
        ("Exit status", "status", EXIT_STATUS),
        ("Files", "file", FILES),
        ("Environment", "variable", ENVIRONMENT),
    ] {
        text.push_str(&format!("\n# {heading}\n\n| {of} | |\n| --- | --- |\n"));
        for (name, meaning) in facts {
            text.push_str(&format!("| `{name}` | {meaning} |\n"));
        }
    }
    text
}

/// A command and all commands below it, each with its whole name.
pub(crate) fn whole_tree(root: &Command) -> Vec<(&Command, String)> {
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

/// What a page is called, and its file but for the section.
pub(crate) fn title(name: &str) -> String {
    name.replace(' ', "-")
}

/// The page above, and those beside it; below the root they are listed already.
fn see_also(command: &Command, name: &str) -> String {
    let mut names = vec!["cledger".to_owned()];
    let subs = command.get_subcommands().filter(|sub| sub.get_name() != "help");
    match name.split_once(' ') {
        None => names.clear(),
        Some((_, own)) => {
            if let Some((above, _)) = own.rsplit_once(' ') {
                names.push(format!("cledger-{}", title(above)));
            }
        }
    }
    names.extend(subs.map(|sub| format!("{}-{}", title(name), sub.get_name())));
    let pages: Vec<String> = names.iter().map(|name| format!("{name}(1)")).collect();
    pages.join(", ")
}
