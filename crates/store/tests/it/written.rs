//! Writes a description as the files of a ledger, and notes where everything stands.

use std::collections::BTreeMap;

use cledger_store::Memory;

use crate::random::{Description, Entry, Field, GROUPS, Kind, Says, Setting, Val, Who, path};

/// File, line and column, the latter two from 1.
pub(crate) type Spot = (String, usize, usize);

/// Where everything stands.
#[derive(Debug, Default)]
pub(crate) struct Spots {
    /// Entries, by their unit (`shared` for shared ones) and name.
    pub(crate) entries: BTreeMap<(String, String), Spot>,
    /// Defaults, likewise with the field's name.
    pub(crate) defaults: BTreeMap<(String, String, Option<String>), Spot>,
    /// Settings, by their position in the description.
    pub(crate) settings: BTreeMap<usize, Spot>,
}

/// A file that is being written.
struct File {
    path: String,
    text: String,
}

impl File {
    fn new(path: String) -> Self {
        Self { path, text: String::new() }
    }

    /// Adds a line, and tells where in it the text after `before` stands.
    fn line(&mut self, before: &str, rest: &str) -> Spot {
        let line = self.text.lines().count() + 1;
        self.text += before;
        self.text += rest;
        self.text.push('\n');
        (self.path.clone(), line, before.chars().count() + 1)
    }
}

/// The files, and where everything in them stands.
pub(crate) fn write(made: &Description) -> (Memory, Spots) {
    let mut spots = Spots::default();
    let mut files = vec![manifest(made)];
    let mut shared = File::new("shared.toml".to_owned());
    for entry in &made.shared {
        declare(&mut shared, "shared", entry, &mut spots);
    }
    files.push(shared);
    for unit in &made.units {
        let mut file = File::new(format!("units/{}.toml", unit.name));
        file.line("", &format!("stages = {}", list(&unit.stages)));
        file.line("", &format!("uses = {}", list(&unit.uses)));
        for (instance, stages) in &unit.instances {
            file.line("", &format!("[instances.{instance}]"));
            file.line("", &format!("stages = {}", list(stages)));
        }
        for entry in &unit.entries {
            declare(&mut file, &unit.name, entry, &mut spots);
        }
        files.push(file);
    }
    settings(made, &mut files, &mut spots);
    (files.into_iter().map(|file| (file.path, file.text)).collect(), spots)
}

fn manifest(made: &Description) -> File {
    let mut file = File::new("ledger.toml".to_owned());
    file.line("", "format = 1\nname = \"Random\"");
    for group in GROUPS {
        file.line("", &format!("[[group]]\nname = {group:?}"));
    }
    for stage in &made.stages {
        file.line("", "[[stage]]");
        file.line("", &format!("name = {:?}\nclass = {:?}", stage.name, stage.class));
        file.line("", &format!("groups = {}", list(&stage.groups)));
        if let Some(label) = &stage.label {
            file.line("", &format!("labels = {{ tier = {label:?} }}"));
        }
        let follows: Vec<String> = stage
            .follows
            .iter()
            .map(|follow| {
                let (only, except) = (list(&follow.only), list(&follow.except));
                let only = if follow.only.is_empty() { String::new() } else { format!(", only = {only}") };
                format!("{{ stage = {:?}{only}, except = {except} }}", follow.stage)
            })
            .collect();
        file.line("", &format!("follow = [{}]", follows.join(", ")));
    }
    file
}

fn declare(file: &mut File, owner: &str, entry: &Entry, spots: &mut Spots) {
    let table = match entry.kind {
        Kind::Variable => "variables",
        Kind::Connection(_) => "connections",
        Kind::Endpoint => "endpoints",
        Kind::Table => "tables",
    };
    let spot = file.line(&format!("[{table}."), &format!("{}]", entry.name));
    spots.entries.insert((owner.to_owned(), entry.name.clone()), spot);
    if let Kind::Connection(protocol) = entry.kind {
        file.line("", &format!("protocol = {protocol:?}"));
    }
    if entry.kind == Kind::Table {
        file.line("", "columns = [\"k\", \"v\"]\nkey = \"k\"");
    }
    for field in &entry.fields {
        let start = field.name.as_ref().map(|name| format!("fields.{name}.")).unwrap_or_default();
        for (attribute, literal) in &field.stated {
            file.line("", &format!("{start}{attribute} = {literal}"));
        }
        if !field.built_in && field.name.is_some() {
            file.line("", &format!("{start}about = \"of its own\""));
        }
        if let Field { default: Some(default), default_is_built_in: false, .. } = field {
            let word = if entry.kind == Kind::Table { "rows" } else { "default" };
            let spot = file.line(&format!("{start}{word} = "), &literal(default));
            spots.defaults.insert((owner.to_owned(), entry.name.clone(), field.name.clone()), spot);
        }
    }
}

/// Settings of one owner in one layer stand together, in the one file or in a file of their own.
fn settings(made: &Description, files: &mut Vec<File>, spots: &mut Spots) {
    let mut grouped: BTreeMap<(&str, &Who), Vec<(usize, &Setting)>> = BTreeMap::new();
    for (at, setting) in made.settings.iter().enumerate() {
        grouped.entry((&setting.layer, &setting.who)).or_default().push((at, setting));
    }
    for ((layer, who), settings) in grouped {
        let kind = if made.stages.iter().any(|stage| stage.name == layer) { "stages" } else { "groups" };
        let name = match who {
            Who::Shared => "shared".to_owned(),
            Who::Unit(unit, None) => unit.clone(),
            Who::Unit(unit, Some(instance)) => format!("{unit}+{instance}"),
        };
        let in_folder = made.folders.iter().any(|folder| folder == layer);
        let place =
            if in_folder { format!("{kind}/{layer}/{name}.toml") } else { format!("{kind}/{layer}.toml") };
        let file = if let Some(at) = files.iter().position(|file| file.path == place) {
            &mut files[at]
        } else {
            files.push(File::new(place));
            let last = files.len() - 1;
            &mut files[last]
        };
        if !in_folder {
            let table = if *who == Who::Shared { "shared".to_owned() } else { format!("units.{name:?}") };
            file.line("", &format!("[{table}]"));
        }
        for (at, setting) in settings {
            let key = path(&setting.entry, setting.field.as_deref());
            let spot = file.line(&format!("{key} = "), &saying(&setting.says));
            spots.settings.insert(at, spot);
        }
    }
}

pub(crate) fn saying(says: &Says) -> String {
    match says {
        Says::Plain(value) => literal(value),
        Says::Noted(value) => format!("{{ value = {}, why = \"on trial\" }}", literal(value)),
        Says::Absent => "{ absent = true }".to_owned(),
        Says::From(source) => format!("{{ from = {source:?} }}"),
    }
}

fn literal(value: &Val) -> String {
    match value {
        Val::Text(text) => format!("{text:?}"),
        Val::Integer(number) => number.to_string(),
        Val::List(items) => list(items),
        Val::Map(pairs) => {
            let pairs: Vec<String> = pairs.iter().map(|(key, text)| format!("{key} = {text:?}")).collect();
            format!("{{ {} }}", pairs.join(", "))
        }
        Val::Rows(rows) => {
            let row = |(key, text): &(String, Option<String>)| match text {
                Some(text) => format!("{key:?} = {{ v = {text:?} }}"),
                None => format!("{key:?} = {{ absent = true }}"),
            };
            format!("{{ {} }}", rows.iter().map(row).collect::<Vec<_>>().join(", "))
        }
    }
}

fn list(items: &[String]) -> String {
    format!("{items:?}")
}
