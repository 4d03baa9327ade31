//! `cledger init`: a small new ledger with comments that teach.

use std::path::PathBuf;

use clap::Args;
use cledger_core::model::Class;
use cledger_core::name::Name;
use cledger_store::{MANIFEST, Mode, write_atomically};

use crate::app::App;
use crate::error::{CliError, status};
use crate::granted::trust_own;

#[derive(Debug, Args)]
pub(crate) struct InitArgs {
    /// The folder of the new ledger
    dir: PathBuf,
    /// What the ledger is called
    #[arg(long)]
    name: String,
    /// The stages, in the order in which changes move up
    #[arg(long, value_delimiter = ',', value_name = "STAGE,…", default_value = "dev,test,prod")]
    stages: Vec<Name>,
}

const CONTRACT: &str = include_str!("init/example.toml");
const SHARED: &str = include_str!("init/shared.toml");

/// What version control leaves out: local state, and rendered files, which hold secrets.
const IGNORED: &str = "/.cledger/\n/rendered/\n";

pub(crate) fn run(args: &InitArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    check(args)?;
    let classes: Vec<(&Name, Class, bool)> = args
        .stages
        .iter()
        .map(|name| {
            let guess = guess(name.as_str());
            (name, guess.unwrap_or(Class::Production), guess.is_some())
        })
        .collect();
    let mut files = vec![
        (MANIFEST.to_owned(), manifest(&args.name, &classes)),
        ("shared.toml".to_owned(), SHARED.to_owned()),
        ("units/example.toml".to_owned(), CONTRACT.to_owned()),
        (".gitignore".to_owned(), IGNORED.to_owned()),
    ];
    for (name, class, _) in &classes {
        files.push((format!("stages/{name}.toml"), settings(name, *class)));
    }
    for (path, content) in &files {
        write_atomically(&args.dir.join(path), content.as_bytes(), Mode::Usual)?;
    }
    trust_own(&args.dir, app);
    let console = &mut *app.console;
    if console.is_json() {
        let paths: Vec<&String> = files.iter().map(|(path, _)| path).collect();
        let stages: Vec<_> = classes
            .iter()
            .map(|(name, class, guessed)| {
                serde_json::json!({ "name": name.as_str(), "class": class.name(), "guessed": guessed })
            })
            .collect();
        console.document(&serde_json::json!({ "format": 1, "files": paths, "stages": stages }));
        return Ok(status::CLEAN);
    }
    console.line(format!("Made the ledger `{}` in {}:", args.name, args.dir.display()));
    for (path, _) in &files {
        console.line(format!("  {path}"));
    }
    console.line("\nThe classes of the stages are guesses by their names; mend them in ledger.toml:");
    for (name, class, guessed) in &classes {
        let why = if *guessed { "" } else { "  (the name says nothing, so the careful choice)" };
        console.line(format!("  {name:<12} {}{why}", class.name()));
    }
    let dir = args.dir.display();
    console.line(format!("\nNext: cledger -C {dir} check, then cledger -C {dir} show example"));
    Ok(status::CLEAN)
}

fn check(args: &InitArgs) -> Result<(), CliError> {
    let manifest = args.dir.join(MANIFEST);
    if manifest.symlink_metadata().is_ok() {
        let message = format!("`{}` holds a ledger already", args.dir.display());
        return Err(CliError::usage(message).help(format!("cledger -C {} list", args.dir.display())));
    }
    for folder in ["units", "stages", "shared.toml"] {
        if args.dir.join(folder).symlink_metadata().is_ok() {
            let message = format!(
                "`{}` is there already, and would become part of the ledger",
                args.dir.join(folder).display()
            );
            return Err(CliError::usage(message).help("name an empty folder, or move it away"));
        }
    }
    if args.name.trim().is_empty() || args.name.contains(char::is_control) {
        return Err(CliError::usage("the ledger's name must be one line of text"));
    }
    for (at, stage) in args.stages.iter().enumerate() {
        if stage.is_taken() {
            return Err(CliError::usage(format!(
                "`{stage}` has a meaning of its own and cannot name a stage"
            )));
        }
        if args.stages[..at].contains(stage) {
            return Err(CliError::usage(format!("`{stage}` is there twice")).help("name each stage once"));
        }
    }
    Ok(())
}

/// What a stage is for, by its name.
fn guess(name: &str) -> Option<Class> {
    const WORDS: [(Class, &[&str]); 3] = [
        (
            Class::Test,
            &[
                "test",
                "qa",
                "uat",
                "stag",
                "accept",
                "integration",
                "int",
                "preprod",
                "pre-prod",
                "demo",
                "perf",
                "load",
                "ci",
            ],
        ),
        (Class::Development, &["dev", "local", "sandbox", "play"]),
        (Class::Production, &["prod", "live"]),
    ];
    let begins = |word: &&&str| {
        name.split(['-', '_']).any(|part| part.starts_with(**word)) || name.starts_with(**word)
    };
    WORDS.iter().find(|(_, words)| words.iter().any(|word| begins(&word))).map(|&(class, _)| class)
}

fn manifest(name: &str, stages: &[(&Name, Class, bool)]) -> String {
    let name = toml_text(name);
    let mut text = format!(
        "# A ledger holds every value that differs, or must not differ, between the stages of each unit.\n\
         format = 1\n\
         name = {name}\n"
    );
    if let Some((stage, ..)) = stages.iter().find(|(_, class, _)| *class != Class::Production) {
        text.push_str(&format!(
            "default_stage = \"{stage}\"   # meant where no stage is named; never of class production\n"
        ));
    }
    text.push_str("\n# The stages, in the order in which changes move up. Their settings are in stages/.\n");
    let mut before: Option<&Name> = None;
    for (stage, class, _) in stages {
        text.push_str(&format!("\n[[stage]]\nname = \"{stage}\"\nclass = \"{}\"", class.name()));
        if before.is_none() {
            text.push_str("   # or \"development\", \"test\", \"production\"");
        }
        text.push('\n');
        if let Some(before) = before {
            text.push_str(&format!("after = [\"{before}\"]\n"));
        }
        before = Some(stage);
    }
    text
}

/// A TOML basic string.
fn toml_text(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

fn settings(stage: &Name, class: Class) -> String {
    let (host, password) = match class {
        Class::Development => (
            "localhost".to_owned(),
            "password = \"dev\"   # in plain text: `cledger check` warns of it".to_owned(),
        ),
        Class::Test | Class::Production => (
            format!("db.{stage}.example"),
            format!(
                "password = {{ from = \"env:{}_DB_PASSWORD\" }}   # fetched when it is used",
                variable(stage)
            ),
        ),
    };
    format!(
        "# What stage {stage} says for itself. A setting here is stronger than a group's and a default.\n\
         \n\
         # For a shared entry: all units that use it get this.\n\
         [shared.main-db]\n\
         host = \"{host}\"\n\
         user = \"{stage}\"\n\
         {password}\n\
         \n\
         # For one unit alone.\n\
         [units.example]\n\
         public_url = \"https://example.{stage}.example\"\n"
    )
}

fn variable(stage: &Name) -> String {
    let name = stage.as_str().replace('-', "_").to_ascii_uppercase();
    if name.starts_with(|first: char| first.is_ascii_digit()) { format!("_{name}") } else { name }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_are_guessed_by_the_words_in_a_name() {
        for (name, class) in [
            ("dev", Some(Class::Development)),
            ("local", Some(Class::Development)),
            ("test", Some(Class::Test)),
            ("staging", Some(Class::Test)),
            ("preprod", Some(Class::Test)),
            ("prod-north", Some(Class::Production)),
            ("eu-live", Some(Class::Production)),
            ("blue", None),
        ] {
            assert_eq!(guess(name), class, "{name}");
        }
    }
}
