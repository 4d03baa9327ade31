//! A small new ledger with comments that teach.

use std::path::Path;

use cledger_core::model::Class;
use cledger_core::name::Name;
use cledger_store::{MANIFEST, Mode, write_atomically};

use crate::known::trust_own;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

const CONTRACT: &str = include_str!("init/example.toml");
const SHARED: &str = include_str!("init/shared.toml");

/// What version control leaves out: local state, and rendered files, which hold secrets.
const IGNORED: &str = "/.cledger/\n/rendered/\n";

/// A ledger that was made.
#[derive(Debug)]
pub struct Made {
    /// Its files, from its folder.
    pub files: Vec<String>,
    /// Its stages, with what each is for, and whether its name says so.
    pub stages: Vec<(Name, Class, bool)>,
    /// Whether it has no example in it.
    pub is_empty: bool,
    /// Whether it is made, and not only shown.
    pub written: bool,
}

/// What ledger is to be made.
#[derive(Debug, Clone, Default)]
pub struct NewLedger {
    /// What it is called.
    pub name: String,
    /// Its stages, in the order in which changes move up.
    pub stages: Vec<Name>,
    /// What stages are for whose names do not tell it: `NAME=CLASS`.
    pub classes: Vec<String>,
    /// Whether it has no example in it.
    pub empty: bool,
    /// Only say what would be made.
    pub dry_run: bool,
}

/// Makes a ledger in a folder.
pub fn init(at: &Workplace, dir: &Path, new: &NewLedger) -> Result<Made, Trouble> {
    let NewLedger { name, stages, .. } = new;
    refuse(dir, name, stages)?;
    let said = said_classes(new)?;
    let class = |stage: &Name| {
        let said = said.iter().find(|(known, _)| *known == stage.as_str()).map(|(_, class)| *class);
        let told = said.or_else(|| guess(stage.as_str()));
        (stage.clone(), told.unwrap_or(Class::Production), told.is_some())
    };
    let stages: Vec<(Name, Class, bool)> = stages.iter().map(class).collect();
    let classes: Vec<(&Name, Class, bool)> =
        stages.iter().map(|(stage, class, told)| (stage, *class, *told)).collect();
    let mut files =
        vec![(MANIFEST.to_owned(), manifest(name, &classes)), (".gitignore".to_owned(), IGNORED.to_owned())];
    if !new.empty {
        files.push(("shared.toml".to_owned(), SHARED.to_owned()));
        files.push(("units/example.toml".to_owned(), CONTRACT.to_owned()));
        for (stage, class, _) in &classes {
            files.push((format!("stages/{stage}.toml"), settings(stage, *class)));
        }
    }
    if !new.dry_run {
        for (path, content) in &files {
            write_atomically(&dir.join(path), content.as_bytes(), Mode::Usual)?;
        }
        trust_own(at, dir);
    }
    Ok(Made {
        written: !new.dry_run,
        files: files.into_iter().map(|(path, _)| path).collect(),
        stages,
        is_empty: new.empty,
    })
}

/// The classes that somebody said.
fn said_classes(new: &NewLedger) -> Result<Vec<(&str, Class)>, Trouble> {
    let mut said: Vec<(&str, Class)> = Vec::new();
    for text in &new.classes {
        let (name, class) = said_class(text, &new.stages)?;
        if said.iter().any(|(known, _)| *known == name) {
            return Err(Trouble::usage(format!("the class of `{name}` is there twice")).help("say it once"));
        }
        said.push((name, class));
    }
    Ok(said)
}

fn said_class<'a>(text: &'a str, stages: &[Name]) -> Result<(&'a str, Class), Trouble> {
    let (name, word) = text
        .split_once('=')
        .ok_or_else(|| Trouble::usage(format!("`{text}` does not say a class")).help("write STAGE=CLASS"))?;
    if !stages.iter().any(|stage| stage.as_str() == name) {
        let known: Vec<&str> = stages.iter().map(Name::as_str).collect();
        return Err(Trouble::usage(format!("there is no stage `{name}` among those of --stages"))
            .help(format!("they are {}", known.join(", "))));
    }
    let class = Class::ALL.iter().find(|(_, known)| *known == word).map(|(class, _)| *class);
    let class = class.ok_or_else(|| {
        Trouble::usage(format!("there is no class `{word}`"))
            .help("the classes are development, test, production")
    })?;
    Ok((name, class))
}

fn refuse(dir: &Path, name: &str, stages: &[Name]) -> Result<(), Trouble> {
    let manifest = dir.join(MANIFEST);
    if manifest.symlink_metadata().is_ok() {
        let message = format!("`{}` holds a ledger already", dir.display());
        return Err(Trouble::usage(message).help(format!("cledger -C {} list", dir.display())));
    }
    for folder in ["units", "stages", "shared.toml"] {
        if dir.join(folder).symlink_metadata().is_ok() {
            let message = format!(
                "`{}` is there already, and would become part of the ledger",
                dir.join(folder).display()
            );
            return Err(Trouble::usage(message).help("name an empty folder, or move it away"));
        }
    }
    if name.trim().is_empty() || name.contains(char::is_control) {
        return Err(Trouble::usage("the ledger's name must be one line of text"));
    }
    for (at, stage) in stages.iter().enumerate() {
        if stage.is_taken() {
            return Err(Trouble::usage(format!(
                "`{stage}` has a meaning of its own and cannot name a stage"
            )));
        }
        if stages[..at].contains(stage) {
            return Err(Trouble::usage(format!("`{stage}` is there twice")).help("name each stage once"));
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
