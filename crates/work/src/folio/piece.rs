//! What a folio is made of: pieces that come, stay or clash as a whole, each with its text.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::path::{Component, Path};

use cledger_core::address::Pattern;
use cledger_core::model::{Bundle, Ledger, SharedId, UnitId};
use cledger_core::name::Name;
use cledger_core::reference::Target;
use cledger_store::{MANIFEST, table_text};

use super::form::Manifest;
use crate::trouble::Trouble;

/// What comes, stays or clashes as a whole.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Piece {
    /// A unit's contract.
    Unit(Name),
    /// A shared entry.
    Shared(Name),
    /// A template, or the rows of a lookup table.
    File(String),
    /// A rule.
    Rule(Name),
    /// A bundle.
    Bundle(Name),
}

/// The text of each piece: a contract or file as it is, of all others a table without its header.
pub(crate) type Texts = BTreeMap<Piece, String>;

/// The pieces of a folio.
#[derive(Debug, Clone, Default)]
pub(crate) struct Pieces(pub(crate) Texts);

impl fmt::Display for Piece {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unit(name) => f.pad(name.as_str()),
            Self::Shared(name) => f.pad(&format!("shared/{name}")),
            Self::File(path) => f.pad(path),
            Self::Rule(name) => f.pad(&format!("rule:{name}")),
            Self::Bundle(name) => f.pad(&format!("{}{name}", Bundle::WORD)),
        }
    }
}

impl Piece {
    /// The member of the container that holds it.
    pub(super) fn member(&self) -> String {
        match self {
            Self::Unit(name) => format!("units/{name}.toml"),
            Self::Shared(name) => format!("shared/{name}.toml"),
            Self::File(path) => format!("files/{path}"),
            Self::Rule(name) => format!("rules/{name}.toml"),
            Self::Bundle(name) => format!("bundles/{name}.toml"),
        }
    }

    /// Which piece a member of the container holds.
    fn of_member(path: &str) -> Option<Self> {
        let (folder, rest) = path.split_once('/')?;
        let name = || Name::parse(rest.strip_suffix(".toml")?).ok();
        match folder {
            "units" => name().map(Self::Unit),
            "shared" => name().map(Self::Shared),
            "rules" => name().map(Self::Rule),
            "bundles" => name().map(Self::Bundle),
            "files" => may_be_a_file(rest).then(|| Self::File(rest.to_owned())),
            _ => None,
        }
    }

    /// Whether a pattern of names covers it: `ticket-desk`, `shared/*`, `rule:*`, `templates/*`.
    pub(super) fn is_covered(&self, pattern: &str) -> bool {
        wildmatch::WildMatch::new(pattern).matches(&self.to_string())
    }
}

/// Whether a path may be that of a template or of rows: below the ledger's folder, and nothing that the ledger, its keys
/// or this program keep there.
fn may_be_a_file(path: &str) -> bool {
    const OURS: [&str; 10] = [
        "units",
        "shared",
        "stages",
        "groups",
        "keys",
        "captures",
        "ledger.toml",
        "shared.toml",
        "waivers.toml",
        super::CAME,
    ];
    let parts: Vec<Component<'_>> = Path::new(path).components().collect();
    let are_plain = parts
        .iter()
        .all(|part| matches!(part, Component::Normal(name) if !name.to_string_lossy().starts_with('.')));
    let first = path.split('/').next().unwrap_or_default();
    !path.is_empty() && are_plain && !OURS.contains(&first) && !path.contains(['\\', '\0'])
}

impl Pieces {
    /// The pieces of these units and bundles: with the shared entries that they use or refer to, over shared text as
    /// well, the rules about all these, and the files that they name.
    pub(super) fn of_ledger(ledger: &Ledger, units: &[UnitId], bundles: &[&Bundle]) -> Result<Self, Trouble> {
        let shared = shared_of(ledger, units);
        let mut pieces: BTreeSet<Piece> = BTreeSet::new();
        pieces.extend(units.iter().map(|&unit| Piece::Unit(ledger.unit(unit).name.clone())));
        pieces.extend(shared.iter().map(|&id| Piece::Shared(ledger.shared_entry(id).name.clone())));
        pieces.extend(bundles.iter().map(|bundle| Piece::Bundle(bundle.name.clone())));
        pieces.extend(rules_about(ledger, units, &shared).map(Piece::Rule));
        let mut texts = Texts::new();
        for piece in pieces {
            let text = text_of(ledger, &piece).ok_or_else(|| {
                Trouble::usage(format!("`{piece}` does not stand where it can be taken from"))
            })?;
            for path in files_in(&text) {
                let file = Piece::File(path);
                if let Some(text) = text_of(ledger, &file) {
                    texts.insert(file, text);
                }
            }
            texts.insert(piece, text);
        }
        Ok(Self(texts))
    }

    /// The pieces of a container; says what is wrong with them.
    pub(super) fn of_members(manifest: &Manifest, members: BTreeMap<String, String>) -> Result<Self, String> {
        let mut texts = Texts::new();
        for (path, text) in members {
            let piece = Piece::of_member(&path)
                .ok_or_else(|| format!("its member `{path}` has no place in a ledger"))?;
            texts.insert(piece, text);
        }
        let listed = |piece: &Piece| match piece {
            Piece::Unit(name) => manifest.units.iter().any(|unit| unit.name == name.as_str()),
            Piece::Shared(name) => manifest.shared.iter().any(|it| it == name.as_str()),
            Piece::Rule(name) => manifest.rules.iter().any(|it| it == name.as_str()),
            Piece::Bundle(name) => manifest.bundles.iter().any(|it| it.name == name.as_str()),
            Piece::File(path) => manifest.files.contains(path),
        };
        match texts.keys().find(|piece| !listed(piece)) {
            Some(piece) => Err(format!("it does not say that `{piece}` is inside")),
            None => Ok(Self(texts)),
        }
    }

    /// What a folio of these pieces says of what is inside.
    pub(super) fn manifest(&self, ledger: &Ledger) -> Manifest {
        use super::form::{BundleInside, UnitInside};
        let mut manifest = Manifest::new(&ledger.name);
        for piece in self.0.keys() {
            match piece {
                Piece::Unit(name) => {
                    let unit = ledger.unit_id(name.as_str()).map(|id| ledger.unit(id));
                    let (version, about) =
                        unit.map(|unit| (unit.version.clone(), unit.about.clone())).unwrap_or_default();
                    manifest.units.push(UnitInside { name: name.to_string(), version, about });
                }
                Piece::Shared(name) => manifest.shared.push(name.to_string()),
                Piece::Rule(name) => manifest.rules.push(name.to_string()),
                Piece::File(path) => manifest.files.push(path.clone()),
                Piece::Bundle(name) => {
                    let Some(bundle) = ledger.bundle(name.as_str()) else { continue };
                    let members = self.0.keys().filter_map(|piece| match piece {
                        Piece::Unit(name) => ledger.unit_id(name.as_str()).map(|id| ledger.unit(id)),
                        _ => None,
                    });
                    let units = members.filter(|unit| bundle.has_of(unit)).map(|unit| unit.name.to_string());
                    let version = bundle.version.clone();
                    manifest.bundles.push(BundleInside {
                        name: name.to_string(),
                        units: units.collect(),
                        version,
                    });
                }
            }
        }
        manifest
    }

    /// The names of the units.
    pub(super) fn units(&self) -> impl Iterator<Item = &Name> {
        self.0.keys().filter_map(|piece| match piece {
            Piece::Unit(name) => Some(name),
            _ => None,
        })
    }
}

/// The shared entries that units use or refer to by their declarations, and those that these are made of in turn.
fn shared_of(ledger: &Ledger, units: &[UnitId]) -> BTreeSet<SharedId> {
    let mut found: BTreeSet<SharedId> = BTreeSet::new();
    let mut open: Vec<SharedId> = Vec::new();
    for &unit in units {
        open.extend(&ledger.unit(unit).uses);
        ledger.unit(unit).each_declared_target(&mut |target| {
            if let Target::OfShared(field) = target {
                open.extend(ledger.shared_id(field.entry.as_str()));
            }
        });
    }
    while let Some(id) = open.pop() {
        if !found.insert(id) {
            continue;
        }
        ledger.shared_entry(id).each_declared_target(&mut |target| {
            if let Target::Own(field) | Target::OfShared(field) = target {
                open.extend(ledger.shared_id(field.entry.as_str()));
            }
        });
    }
    found
}

/// The rules that cover a field of these units or shared entries.
fn rules_about<'l>(
    ledger: &'l Ledger,
    units: &'l [UnitId],
    shared: &'l BTreeSet<SharedId>,
) -> impl Iterator<Item = Name> + 'l {
    let of_units = move |pattern: &Pattern| {
        units.iter().flat_map(|&unit| ledger.subjects_of(unit)).any(|subject| {
            let owner = ledger.owner(subject);
            let (unit, instance) = owner.names();
            pattern.covers_owner(unit, instance)
                && ledger.slots(subject).all().any(|slot| {
                    let (entry, field) = ledger.field(subject, slot);
                    pattern.covers_field(entry.name.as_str(), field.name.as_ref().map(Name::as_str))
                })
        })
    };
    let of_shared = move |pattern: &Pattern| {
        pattern.covers_owner("shared", None)
            && shared.iter().map(|&id| ledger.shared_entry(id)).any(|entry| {
                let mut fields = entry.fields.iter().map(|field| field.name.as_ref().map(Name::as_str));
                fields.any(|field| pattern.covers_field(entry.name.as_str(), field))
            })
    };
    let rules = ledger.judging.rules.iter();
    let about = rules.filter(move |rule| rule.fields.iter().any(|it| of_units(it) || of_shared(it)));
    about.map(|rule| rule.name.clone())
}

/// The text of a piece in a ledger, if it has it.
pub(super) fn text_of(ledger: &Ledger, piece: &Piece) -> Option<String> {
    let file =
        |path: &str| ledger.files.0.iter().find(|file| file.path == path).map(|file| file.text.as_str());
    match piece {
        Piece::Unit(name) => file(&format!("units/{name}.toml")).map(str::to_owned),
        Piece::File(path) => file(path).map(str::to_owned),
        Piece::Shared(name) => {
            let entry = ledger.shared_entry(ledger.shared_id(name.as_str())?);
            let text = ledger.files.get(entry.place.file)?.text.as_str();
            let path = [entry.kind.table().to_owned(), name.to_string()];
            let whole = || {
                let table: toml::Table = text.parse().ok()?;
                let entry = table.get(&path[0])?.get(&path[1])?.clone();
                let kind = toml::Table::from_iter([(path[1].clone(), entry)]);
                toml::to_string(&toml::Table::from_iter([(path[0].clone(), toml::Value::Table(kind))])).ok()
            };
            table_text(text, &path).or_else(whole)
        }
        Piece::Rule(name) => listed(file(MANIFEST)?, "rule", name),
        Piece::Bundle(name) => listed(file(MANIFEST)?, "bundle", name),
    }
}

/// What a list of `ledger.toml` says of the one with this name.
fn listed(manifest: &str, list: &str, name: &Name) -> Option<String> {
    let table: toml::Table = manifest.parse().ok()?;
    let items = table.get(list)?.as_array()?;
    let is_it = |item: &&toml::Value| item.get("name").and_then(toml::Value::as_str) == Some(name.as_str());
    toml::to_string(items.iter().find(is_it)?).ok()
}

/// The files that a contract or a shared entry names: templates, and the rows of lookup tables.
fn files_in(text: &str) -> BTreeSet<String> {
    let Ok(table) = text.parse::<toml::Table>() else { return BTreeSet::new() };
    let outputs = table.get("output").and_then(toml::Value::as_array).into_iter().flatten();
    let templates = outputs.filter_map(|output| output.get("template")?.as_str());
    let tables = table.get("tables").and_then(toml::Value::as_table).into_iter().flatten();
    let rows = tables.filter_map(|(_, table)| table.get("rows")?.as_str());
    templates.chain(rows).map(str::to_owned).collect()
}

/// The lists of a contract whose items may be for some stages only, each with the key by which an item is known.
pub(super) const OF_STAGES: [(&str, &str); 2] = [("output", "path"), ("probe", "name")];

/// A contract without what it says of stages, and of names that the unit had before: that is of its ledger alone.
pub(super) fn without_stages(contract: &mut toml::Table) {
    contract.remove("stages");
    contract.remove("formerly");
    if let Some(instances) = contract.get_mut("instances").and_then(toml::Value::as_table_mut) {
        for (_, instance) in instances.iter_mut() {
            instance.as_table_mut().map(|instance| instance.remove("stages"));
        }
    }
    for (list, _) in OF_STAGES {
        for item in contract.get_mut(list).and_then(toml::Value::as_array_mut).into_iter().flatten() {
            item.as_table_mut().map(|item| item.remove("stages"));
        }
    }
}

/// What makes two texts of a piece the same: the hash of what they say, whatever their order and comments.
pub(super) fn likeness(piece: &Piece, text: &str) -> String {
    let said = match text.parse::<toml::Table>() {
        Ok(mut table) if !matches!(piece, Piece::File(_)) => {
            if matches!(piece, Piece::Unit(_)) {
                without_stages(&mut table);
            }
            toml::to_string(&sorted(toml::Value::Table(table))).unwrap_or_default()
        }
        _ => text.to_owned(),
    };
    blake3::hash(said.as_bytes()).to_hex().to_string()
}

fn sorted(value: toml::Value) -> toml::Value {
    match value {
        toml::Value::Table(table) => {
            let ordered: BTreeMap<String, toml::Value> =
                table.into_iter().map(|(key, value)| (key, sorted(value))).collect();
            toml::Value::Table(ordered.into_iter().collect())
        }
        toml::Value::Array(items) => toml::Value::Array(items.into_iter().map(sorted).collect()),
        other => other,
    }
}
