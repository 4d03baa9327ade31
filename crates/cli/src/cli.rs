//! The command line: its options, its help, and what happens before and after a command.

use std::ffi::OsString;
use std::io::Write as _;
use std::process::ExitCode;

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{CommandFactory, FromArgMatches, Parser};

use clap_complete::CompleteEnv;

use cledger_work::Trouble;

use crate::app::App;
use crate::commands::{self, Command};
use crate::complete::COMPLETE_VARIABLE;
use crate::examples::with_examples;
use crate::globals::Globals;
use crate::output::console::Console;
use crate::{exit, memory, trade_words};

/// Keeps, checks, renders and compares the configuration of units across their stages.
#[derive(Debug, Parser)]
#[command(name = "cledger", version, max_term_width = 100)]
pub(crate) struct Cli {
    #[command(flatten)]
    globals: Globals,
    #[command(subcommand)]
    command: Command,
}

/// The commands in the order of the work, under the headings that `--help` shows.
const GROUPS: [(&str, &[&str]); 11] = [
    ("Start", &["init", "demo", "adopt", "trust"]),
    ("Declare", &["add", "change", "list", "share", "rename", "remove"]),
    ("Fill", &["set", "unset", "fill", "search", "replace", "key", "resume"]),
    ("Understand", &["show", "get", "matrix", "trace", "impact", "browse"]),
    ("Judge", &["check", "waive", "compare"]),
    ("Hand out", &["render", "run", "rehome"]),
    ("Move up", &["promote", "deliver", "withdraw", "chores"]),
    ("Reality", &["outlet", "probe", "capture", "drift"]),
    ("Look back", &["status", "history", "report"]),
    ("Carry", &["folio"]),
    ("Help", &["completions", "man", "schema"]),
];

/// The whole command tree, with its help in groups.
pub(crate) fn command() -> clap::Command {
    let command = with_examples(Cli::command());
    let mut listed = String::new();
    for (heading, names) in GROUPS {
        listed.push_str(heading);
        listed.push_str(":\n");
        for name in names {
            let about = command.find_subcommand(name).and_then(clap::Command::get_about);
            let about = about.map(ToString::to_string).unwrap_or_default();
            listed.push_str(&format!("  {name:<11} {about}\n"));
        }
        listed.push('\n');
    }
    let template =
        format!("{{about}}\n\n{{usage-heading}} {{usage}}\n\n{listed}Everywhere:\n{{options}}{{after-help}}");
    command
        .help_template(template)
        .after_help("`cledger COMMAND --help` says more of a command; `cledger demo` walks through the work.")
}

/// Runs the program and gives its exit status.
pub(crate) fn run(arguments: impl IntoIterator<Item = OsString>) -> ExitCode {
    CompleteEnv::with_factory(command).var(COMPLETE_VARIABLE).complete();
    let parsed =
        command().try_get_matches_from(arguments).and_then(|matches| Cli::from_arg_matches(&matches));
    let cli = match parsed {
        Ok(cli) => cli,
        Err(error) => return refuse(&error),
    };
    let mut console = Console::new(&cli.globals);
    memory::no_dumps();
    let mut app = App::new(cli.globals, &mut console, command);
    let status = match commands::run(cli.command, &mut app) {
        Ok(status) => status,
        Err(error) => {
            let status = exit::of(error.kind());
            console.fail(&error);
            status
        }
    };
    match console.flush() {
        Ok(()) => ExitCode::from(status),
        // Whoever reads has read enough.
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::from(status),
        Err(error) => {
            let error = Trouble::outside(format!("the output cannot be written: {error}"));
            console.fail(&error);
            ExitCode::from(exit::of(error.kind()))
        }
    }
}

/// Answers a command line that cannot be read, help and version included.
fn refuse(error: &clap::Error) -> ExitCode {
    if error.kind() == ErrorKind::InvalidSubcommand
        && let Some(ContextValue::String(word)) = error.get(ContextKind::InvalidSubcommand)
        && let Some(answer) = trade_words::answer(word)
    {
        let mut stderr = anstream::stderr();
        let _ = writeln!(stderr, "error: cledger has no command `{word}`\nhelp: {answer}");
        return ExitCode::from(2);
    }
    let _ = error.print();
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}

#[cfg(test)]
mod tests {
    use clap::ArgAction;

    use super::*;

    #[test]
    fn the_command_tree_is_sound() {
        command().debug_assert();
    }

    #[test]
    fn help_lists_every_command_once() {
        let mut listed: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        let command = Cli::command();
        let mut known: Vec<&str> = command.get_subcommands().map(clap::Command::get_name).collect();
        listed.sort_unstable();
        known.sort_unstable();
        assert_eq!(listed, known);
    }

    /// What stands for names, and never for values that may have commas in them.
    const NAMES: [&str; 13] = [
        "NAME", "STAGE", "@STAGE", "UNIT", "GROUP", "ENTRY", "FIELD", "PATTERN", "ADDRESS", "OUTLET",
        "COLUMN", "OPTION", "FORMAT",
    ];

    #[test]
    fn lists_of_names_take_commas_everywhere() {
        let mut root = command();
        // The options of a command are added when it is built.
        root.build();
        let mut open = vec![root];
        let mut seen = 0;
        while let Some(command) = open.pop() {
            open.extend(command.get_subcommands().cloned());
            for arg in command.get_arguments() {
                let is_many = matches!(arg.get_action(), ArgAction::Append)
                    || arg.get_num_args().is_some_and(|range| range.max_values() > 2);
                let names = arg.get_value_names().unwrap_or_default();
                // The keys of declarations are parted where it is known what each takes.
                let is_key = arg.get_id().as_str().starts_with("key-");
                if is_many && !is_key && names.iter().any(|name| NAMES.contains(&name.as_str())) {
                    seen += 1;
                    let of = format!("{} {}", command.get_name(), arg.get_id());
                    assert_eq!(arg.get_value_delimiter(), Some(','), "{of}");
                }
            }
        }
        assert!(seen > 20, "{seen}");
    }
}
