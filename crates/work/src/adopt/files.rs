//! The files that are adopted, and the outputs that they become.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

use cledger_core::adopt::{NotPlaced, OldFile, OldPlace, flattened, with_stage};
use cledger_core::model::{Ledger, OutputFormat, StageId, Subject, Unit};
use cledger_core::name::Name;
use cledger_core::output::OutputName;
use cledger_core::reference;
use cledger_core::tree::{Branch, Tree};
use cledger_core::value::Value;
use cledger_formats::{ELEMENT, Found, Particulars, comments_of, detect, format};

use cledger_outlets::file::FileError;
use zeroize::Zeroizing;

use crate::adopt::digits::LongNumbers;
use crate::adopt::not_read::NotRead;
use crate::adopt::tables::TableThere;
use crate::adopt::there::{FoundAt, There};
use crate::existing;
use crate::meant::known_stage;
use crate::trouble::Trouble;

/// The files, and what was found on the way to them.
#[derive(Debug, Default)]
pub(crate) struct Files {
    pub(crate) old: Vec<OldFile>,
    /// The path of each as it was named.
    pub(crate) paths: Vec<String>,
    /// The stages, in their order.
    pub(crate) stages: Vec<StageId>,
    pub(crate) outputs: Vec<Seen>,
    /// Values that their format could not give back.
    pub(crate) not_placed: Vec<NotPlaced>,
    /// Texts of YAML that readers of its version 1.1 take for something else: name, file and line.
    pub(crate) other_in_old_yaml: Vec<(OutputName, OldPlace)>,
    /// Of which outlet a file is that was found at one, by its position.
    pub(crate) found: BTreeMap<usize, FoundAt>,
    /// The lookup tables that have a table of their own at an outlet.
    pub(crate) tables: Vec<(StageId, TableThere)>,
    /// Files in folders that are not read.
    pub(crate) not_read: Vec<NotRead>,
    /// The texts of the files, by path.
    pub(crate) texts: BTreeMap<String, Zeroizing<String>>,
    /// What files say beside their values, by file.
    pub(crate) beside: BTreeMap<usize, Beside>,
}

/// What a file says beside its values.
#[derive(Debug, Default)]
pub(crate) struct Beside {
    /// What it is called among several in one file; nothing where it is alone there.
    pub(crate) document: Option<String>,
    /// The names that begin with `/`.
    pub(crate) names: Tree,
}

/// An output that files of several stages become.
#[derive(Debug)]
pub(crate) struct Seen {
    /// Its path, as a contract has it.
    pub(crate) path: String,
    pub(crate) format: OutputFormat,
    /// The name of the manifest that it is, as a contract has it; `None` where files differ in it.
    pub(crate) manifest_name: Option<String>,
    /// The output of the unit that it is, if the unit has it already.
    pub(crate) known: Option<usize>,
    /// The stages that have a file of it.
    pub(crate) stages: Vec<StageId>,
    /// What the file says beside its values, as a contract has it.
    pub(crate) beside: Branch,
}

/// Reads `STAGE=FILE`, `STAGE=FOLDER`, `STAGE=outlet:NAME` and `STAGE=capture:FILE` arguments.
pub(crate) fn read(
    ledger: &Ledger,
    unit: Option<(Subject, &Unit)>,
    sources: &[String],
    said: Option<OutputFormat>,
    there: &There<'_>,
) -> Result<Files, Trouble> {
    let mut files = Files::default();
    for source in sources {
        let Some((stage, path)) = source.split_once('=').filter(|(_, path)| !path.is_empty()) else {
            let message = format!("`{source}` does not say which stage it is of");
            let help = "write STAGE=FILE, STAGE=FOLDER, STAGE=outlet:NAME or STAGE=capture:FILE";
            return Err(Trouble::usage(message).help(help));
        };
        let id = known_stage(ledger, stage)?;
        let stage = Name::parse(stage).map_err(|error| Trouble::usage(error.to_string()))?;
        if let Some(there) = there.texts(path, id)? {
            // Several stages have the same.
            let known: BTreeSet<String> = files.not_read.iter().map(|it| it.path.clone()).collect();
            files.not_read.extend(there.not_read.into_iter().filter(|it| !known.contains(&it.path)));
            files.tables.extend(there.tables.into_iter().map(|table| (id, table)));
            for (at, below, text) in there.texts {
                let (shown, file) = (format!("{path} {below}"), files.old.len());
                files.add_text(ledger, unit, (id, &stage), (&shown, &below, &text), said, false)?;
                // Several documents may be of one file.
                files.found.extend((file..files.old.len()).map(|file| (file, at.clone())));
            }
            if !files.stages.contains(&id) {
                files.stages.push(id);
            }
            continue;
        }
        let path = Path::new(path);
        if path.is_dir() {
            let mut found = Vec::new();
            walk(path, "", &mut found)?;
            for below in found {
                files.add(ledger, unit, (id, &stage), &path.join(&below), &below, said, false)?;
            }
        } else {
            let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            files.add(ledger, unit, (id, &stage), path, &name, said, true)?;
        }
        if !files.stages.contains(&id) {
            files.stages.push(id);
        }
    }
    files.stages.sort_unstable();
    files.settle_beside();
    if files.old.is_empty() && files.tables.is_empty() {
        return Err(Trouble::usage("there is nothing in there that could be adopted")
            .help("name files whose names tell their format, such as app.properties, or add --format"));
    }
    Ok(files)
}

/// Where a file belongs: the ledger, the unit if it is there already, the stage, and whether it was named by itself.
type At<'a> = (&'a Ledger, Option<(Subject, &'a Unit)>, (StageId, &'a Name), bool);

/// The documents of a file: itself, or the manifests in it, each with its format and what it is called among them.
fn documents(format: OutputFormat, found: Found) -> Vec<(OutputFormat, Option<String>, Found)> {
    let kind_of = |id: &str| {
        let (kind, name) = id.split_once('/').filter(|(kind, _)| !kind.is_empty())?;
        let of_kind = [OutputFormat::K8sConfig, OutputFormat::K8sSecret].into_iter();
        of_kind.filter(|it| it.manifest_kind() == Some(kind)).map(|it| (it, name.to_owned())).next()
    };
    if !format.is_manifest()
        || found.manifest_name.is_some()
        || !found.tree.0.keys().all(|id| kind_of(id).is_some())
    {
        return vec![(format, None, found)];
    }
    let mut all = Vec::new();
    for (id, value) in &found.tree.0 {
        let (Some((format, name)), Value::Map(level)) = (kind_of(id), value) else { continue };
        let of_it = found.lines.iter().filter(|(steps, _)| steps.first().is_some_and(|first| *first == **id));
        let document = Found {
            tree: Tree(level.clone()),
            lines: of_it.map(|(steps, line)| (steps[1..].to_vec(), *line)).collect(),
            manifest_name: Some(name),
        };
        all.push((format, Some(id.to_string()), document));
    }
    all
}

/// A value with the stage in place of its name, as a contract has it.
fn carried(value: &Value, stage: &str) -> Value {
    match value {
        Value::Text(text) => Value::text(&with_stage(&reference::escape(text), stage)),
        other => other.clone(),
    }
}

/// The files below a folder, by name; folders that are hidden are left out.
fn walk(root: &Path, below: &str, found: &mut Vec<String>) -> Result<(), Trouble> {
    let wrong = |error: std::io::Error| {
        Trouble::usage(format!("`{}` cannot be read: {error}", root.join(below).display()))
    };
    let mut names = Vec::new();
    for entry in fs::read_dir(root.join(below)).map_err(wrong)? {
        let entry = entry.map_err(wrong)?;
        names.push((entry.file_name().to_string_lossy().into_owned(), entry.file_type().map_err(wrong)?));
    }
    names.sort_by(|one, other| one.0.cmp(&other.0));
    for (name, kind) in names {
        let path = if below.is_empty() { name.clone() } else { format!("{below}/{name}") };
        if kind.is_dir() && !name.starts_with('.') {
            walk(root, &path, found)?;
        } else if kind.is_file() {
            found.push(path);
        }
    }
    Ok(())
}

pub(super) fn wrong(shown: &str, error: &existing::ExistingError) -> Trouble {
    let message = match error {
        existing::ExistingError::Form(form) => format!("{shown}:{}: {}", form.line, form.reason),
        other => format!("`{shown}` cannot be read: {other}"),
    };
    Trouble::usage(message).help("mend it, or leave it out")
}

impl Files {
    #[expect(clippy::too_many_arguments, reason = "a file is all of this")]
    fn add(
        &mut self,
        ledger: &Ledger,
        unit: Option<(Subject, &Unit)>,
        (stage, stage_name): (StageId, &Name),
        path: &Path,
        below: &str,
        said: Option<OutputFormat>,
        is_named: bool,
    ) -> Result<(), Trouble> {
        let shown = path.display().to_string();
        let text = match existing::text(path) {
            Err(FileError::NotText) if !is_named => {
                self.not_read.push(NotRead { path: shown, reason: FileError::NotText.to_string() });
                return Ok(());
            }
            text => text.map_err(|error| wrong(&shown, &error.into()))?,
        };
        self.add_text(ledger, unit, (stage, stage_name), (&shown, below, &text), said, is_named)
    }

    fn add_text(
        &mut self,
        ledger: &Ledger,
        unit: Option<(Subject, &Unit)>,
        (stage, stage_name): (StageId, &Name),
        (shown, below, text): (&str, &str, &str),
        said: Option<OutputFormat>,
        is_named: bool,
    ) -> Result<(), Trouble> {
        let found =
            said.filter(|_| is_named || detect(below, text).is_none()).or_else(|| detect(below, text));
        let Some(format) = found else {
            if is_named {
                let message = format!("the name of `{shown}` does not tell its format");
                return Err(Trouble::usage(message).help("add --format FORMAT"));
            }
            let reason = "its name does not tell its format".to_owned();
            self.not_read.push(NotRead { path: shown.to_owned(), reason });
            return Ok(());
        };
        let found = existing::read(text, format, Particulars::default());
        let found = found.map_err(|error| wrong(shown, &error))?;
        self.texts.insert(shown.to_owned(), Zeroizing::new(text.to_owned()));
        for (format, document, found) in documents(format, found) {
            let at = (ledger, unit, (stage, stage_name), is_named);
            self.add_document(at, (shown, below, text), (format, document), found);
        }
        Ok(())
    }

    /// Adds a file, or a document of one.
    fn add_document(
        &mut self,
        (ledger, unit, (stage, stage_name), is_named): At<'_>,
        (shown, below, text): (&str, &str, &str),
        (format, document): (OutputFormat, Option<String>),
        found: Found,
    ) {
        let is_named = is_named && document.is_none();
        let name = found.manifest_name.as_deref();
        let output = self.output(ledger, unit, (stage, stage_name), (below, format), name, is_named);
        let file = self.old.len();
        let (mut tree, mut names) = (Tree::default(), Tree::default());
        let is_beside = |name: &OutputName| match format {
            OutputFormat::Xml => *name == [ELEMENT],
            format => format.is_manifest() && name[0].starts_with('/'),
        };
        let long = LongNumbers::of(format, text);
        let has_beside = format.is_manifest() || format == OutputFormat::Xml;
        for (name, value) in flattened(&found.tree.0) {
            let place = OldPlace { file, line: found.line_of(&name).unwrap_or(1) };
            if is_beside(&name) {
                names.insert(&name, value);
                continue;
            }
            if format == OutputFormat::Yaml && is_other_in_old_yaml(&value, text, place.line) {
                self.other_in_old_yaml.push((name.clone(), place));
            }
            let digits = "so long a number is not held to its last digit";
            let refusal = if long.has(&value) {
                Some(digits.to_owned())
            } else {
                refusal(format, &name, value.clone())
            };
            match refusal {
                None => tree.insert(&name, value),
                Some(reason) => {
                    self.not_placed.push(NotPlaced { names: [(output, name)].into(), place, reason });
                }
            }
        }
        if has_beside {
            self.beside.insert(file, Beside { document, names });
        }
        let stage_name = stage_name.clone();
        let comments = comments_of(format, text, &found.lines);
        self.old.push(OldFile {
            stage,
            stage_name,
            output,
            format,
            tree,
            lines: found.lines,
            comments,
            base: BTreeSet::new(),
        });
        self.paths.push(shown.to_owned());
    }

    /// Works out what the files of each output say beside their values in every stage; what differs has no place.
    fn settle_beside(&mut self) {
        for at in 0..self.outputs.len() {
            let said: Vec<(usize, BTreeMap<OutputName, Value>)> = self
                .beside
                .iter()
                .filter(|(file, _)| self.old[**file].output == at)
                .map(|(file, beside)| {
                    let names = beside.names.leaves().into_iter();
                    (*file, names.map(|(name, value)| (name, value.clone())).collect())
                })
                .collect();
            let Some((first, names)) = said.first() else { continue };
            let of_stage = |file: usize, value: &Value| carried(value, self.old[file].stage_name.as_str());
            let mut agreed = Tree::default();
            let all: BTreeSet<&OutputName> = said.iter().flat_map(|(_, names)| names.keys()).collect();
            for name in all {
                let is_same =
                    |(_, other): &(usize, BTreeMap<OutputName, Value>)| other.get(name) == names.get(name);
                let is_carried = |(file, other): &(usize, BTreeMap<OutputName, Value>)| {
                    other.get(name).map(|it| of_stage(*file, it))
                        == names.get(name).map(|it| of_stage(*first, it))
                };
                let value = match names.get(name) {
                    Some(value) if said.iter().all(is_same) => value.escaped(),
                    Some(value) if said.iter().all(is_carried) => of_stage(*first, value),
                    _ => {
                        let reason = "it differs from stage to stage, and such things are said once for all";
                        let place = OldPlace { file: *first, line: 1 };
                        let (names, reason) = ([(at, name.clone())].into(), reason.to_owned());
                        self.not_placed.push(NotPlaced { names, place, reason });
                        continue;
                    }
                };
                agreed.insert(name, value);
            }
            let said = agreed.0.into_iter().map(|(name, value)| (name.trim_start_matches('/').into(), value));
            self.outputs[at].beside = said.collect();
        }
    }

    /// The output that a file becomes: one with its path, else, of files that are named one by one, the
    /// one of its format that lacks a file of the stage.
    fn output(
        &mut self,
        ledger: &Ledger,
        unit: Option<(Subject, &Unit)>,
        (stage, stage_name): (StageId, &Name),
        (below, format): (&str, OutputFormat),
        manifest_name: Option<&str>,
        is_named: bool,
    ) -> usize {
        let manifest_name =
            manifest_name.map(|name| with_stage(&reference::escape(name), stage_name.as_str()));
        let path = with_stage(&reference::escape(below), stage_name.as_str());
        let known = unit.and_then(|(subject, unit)| {
            let of_format = || unit.outputs.iter().enumerate().filter(|(_, output)| output.format == format);
            let at_path = of_format().find(|(_, output)| {
                output.path.expand(ledger, subject, stage).is_ok_and(|known| known == below)
            });
            let only = || is_named.then(of_format).filter(|all| all.clone().count() == 1)?.next();
            at_path.or_else(only).map(|(at, _)| at)
        });
        let is_named_alike =
            |seen: &Seen| is_named || seen.manifest_name == manifest_name || !format.is_manifest();
        let seen = self.outputs.iter().position(|seen| match (known, seen.known) {
            (Some(known), Some(other)) => known == other,
            (None, None) => seen.format == format && seen.path == path && is_named_alike(seen),
            _ => false,
        });
        let of_format = || {
            let lacks =
                |seen: &Seen| seen.known.is_none() && seen.format == format && !seen.stages.contains(&stage);
            self.outputs.iter().position(lacks).filter(|_| is_named && known.is_none())
        };
        let at = seen.or_else(of_format).unwrap_or_else(|| {
            self.outputs.push(Seen {
                path,
                format,
                known,
                manifest_name: manifest_name.clone(),
                stages: Vec::new(),
                beside: Branch::new(),
            });
            self.outputs.len() - 1
        });
        let seen = &mut self.outputs[at];
        seen.stages.push(stage);
        if seen.manifest_name != manifest_name {
            seen.manifest_name = None;
        }
        at
    }
}

/// Whether readers of YAML 1.1 take a text for a truth, a day or a number: `yes`, `2027-01-31`, `12:30`. One
/// in quotes is text for all.
fn is_other_in_old_yaml(value: &Value, text: &str, line: usize) -> bool {
    let Some(value) = value.as_text() else { return false };
    let words = ["y", "n", "yes", "no", "on", "off"];
    let is_word = words.contains(&value.to_ascii_lowercase().as_str());
    let is_number = value.starts_with(|c: char| c.is_ascii_digit())
        && value.chars().all(|c| c.is_ascii_digit() || "-:._".contains(c));
    let is_quoted = text.lines().nth(line.saturating_sub(1)).is_some_and(|line| line.contains(['"', '\'']));
    (is_word || is_number) && !is_quoted
}

/// Why a value could not be written to a file of this format again, if it could not.
fn refusal(this: OutputFormat, name: &OutputName, value: Value) -> Option<String> {
    let mut alone = Tree::default();
    alone.insert(name, value);
    let particulars = Particulars { manifest_name: "x", ..Particulars::default() };
    let error = format(this, particulars)?.write(&alone).err()?;
    Some(format!("it could not be written again as {}: it {}", this.name(), error.reason))
}
