//! A base file, over which the files of the stages are laid: what it says and no stage says otherwise are defaults.

use std::path::Path;

use cledger_core::model::OutputFormat;
use cledger_formats::{Found, Particulars, comments_of, detect};

use crate::adopt::files::{Files, wrong};
use crate::existing;
use crate::meant::DEFAULT;
use crate::trouble::Trouble;

/// Parts the base files, named `default=FILE`, from all others.
pub(super) fn parted(sources: &[String]) -> (Vec<&str>, Vec<String>) {
    let base = |source: &&String| source.strip_prefix(DEFAULT).is_some_and(|rest| rest.starts_with('='));
    let bases = sources.iter().filter(base).map(|source| &source[DEFAULT.len() + 1..]).collect();
    (bases, sources.iter().filter(|source| !base(source)).cloned().collect())
}

/// A base file.
pub(super) struct Base {
    path: String,
    format: OutputFormat,
    found: Found,
    text: zeroize::Zeroizing<String>,
}

impl Base {
    /// Reads one.
    pub(super) fn read(path: &str, said: Option<OutputFormat>) -> Result<Self, Trouble> {
        let text = existing::text(Path::new(path)).map_err(|error| wrong(path, &error.into()))?;
        let format = detect(path, &text).or(said).ok_or_else(|| {
            Trouble::usage(format!("the name of `{path}` does not tell its format"))
                .help("add --format FORMAT")
        })?;
        if format.is_manifest() {
            let message = format!("`{path}` is a manifest, over which nothing is laid");
            return Err(Trouble::usage(message).help("name it for each stage"));
        }
        let found =
            existing::read(&text, format, Particulars::default()).map_err(|error| wrong(path, &error))?;
        Ok(Self { path: path.to_owned(), format, found, text })
    }
}

impl Files {
    /// Lays the files of the stages over base files of the same format: what a file does not say, the base does.
    pub(super) fn lay_over(&mut self, bases: &[Base]) -> Result<(), Trouble> {
        for base in bases {
            let comments = comments_of(base.format, &base.text, &base.found.lines);
            let mut is_met = false;
            for (old, path) in
                self.old.iter_mut().zip(&mut self.paths).filter(|(old, _)| old.format == base.format)
            {
                is_met = true;
                for (name, value) in base.found.tree.leaves() {
                    if old.tree.get(&name) == Some(value) {
                        // Said once more.
                        old.base.insert(name);
                        continue;
                    }
                    // A level in place of a value, or the other way round, is another word on the same.
                    let is_said = old.tree.get(&name).is_some()
                        || (1..name.len())
                            .any(|length| old.tree.get(&name[..length]).is_some_and(|it| !is_level(it)));
                    if is_said {
                        continue;
                    }
                    old.tree.insert(&name, value.clone());
                    old.lines.extend(base.found.line_of(&name).map(|line| (name.clone(), line)));
                    if let Some(comment) = comments.get(&name) {
                        old.comments.entry(name.clone()).or_insert_with(|| comment.clone());
                    }
                    old.base.insert(name);
                }
                *path = format!("{path} over {}", base.path);
            }
            if !is_met {
                let message = format!(
                    "no stage has a file of the format {} to lay over `{}`",
                    base.format.name(),
                    base.path
                );
                return Err(Trouble::usage(message).help("name the file of each stage, too: STAGE=FILE"));
            }
        }
        Ok(())
    }
}

fn is_level(value: &cledger_core::value::Value) -> bool {
    matches!(value, cledger_core::value::Value::Map(_))
}
