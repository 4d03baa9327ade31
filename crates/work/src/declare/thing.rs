//! What can be declared, how it is named on the command line, and where it stands.

use std::collections::BTreeSet;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{EntryRef, Ledger, Subject};
use cledger_core::name::{Name, nearest};
use cledger_core::value::Value;
use cledger_store::vocabulary::{
    ALIGNED, BUNDLE, CHECK, CHORE, CONNECTION, CREDENTIAL, DAYBOOK, ENDPOINT, FIELD, FOLLOW, GROUP, INSTANCE,
    Key, LEDGER, OUTLET, OUTPUT, PROBE, RULE, RULE_DEMANDS, STAGE, TABLE, UNIT,
};
use cledger_store::{Item, MANIFEST};

use super::known_names::{has_routine, in_written_order, name, names, outputs, probes, shared_file_of};
use crate::change::concerned::Concerns;
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// Something that is declared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Thing {
    /// The ledger as a whole.
    Ledger,
    /// A stage.
    Stage(Name),
    /// A group.
    Group(Name),
    /// An outlet.
    Outlet(Name),
    /// A rule.
    Rule(Name),
    /// A routine.
    Routine(Name),
    /// Units that belong together.
    Bundle(Name),
    /// Stages that must agree.
    Aligned(Vec<Name>),
    /// A stage, and one that it follows.
    Follow(Name, Name),
    /// A chore of a stage.
    StageChore(Name, String),
    /// A chore of a unit.
    Chore(Name, String),
    /// A unit.
    Unit(Name),
    /// An instance of a unit.
    Instance(Name, Name),
    /// An output of a unit, by its path.
    Output(Name, String),
    /// What a unit expects of a service, by its name.
    Probe(Name, Name),
    /// A unit, and a shared entry that it uses.
    Use(Name, Name),
    /// An entry, with the table of a contract that it stands in.
    Entry(Owner, &'static str, Name),
    /// A field of an entry.
    Field(Owner, &'static str, Name, Name),
}

/// Where something stands.
#[derive(Debug, Clone)]
pub(crate) struct Where {
    pub(crate) file: String,
    /// The lists of tables on the way.
    pub(crate) items: Vec<Item>,
    /// The steps behind these.
    pub(crate) path: Vec<String>,
}

/// The words in front of what no address names.
const WORDS: [(&str, &str); 10] = [
    ("outlet", "outlet:NAME"),
    ("rule", "rule:NAME"),
    ("routine", "routine:NAME"),
    ("bundle", "bundle:NAME"),
    ("output", "output:UNIT/PATH"),
    ("probe", "probe:UNIT/NAME"),
    ("chore", "chore:UNIT/TEXT or chore:@STAGE/TEXT"),
    ("follow", "follow:STAGE/FOLLOWED"),
    ("aligned", "aligned:STAGE,STAGE"),
    ("use", "use:UNIT/ENTRY"),
];

impl Thing {
    /// What a text names: an address, `ledger.toml`, or a word with what it is of, such as `outlet:NAME`.
    pub fn read(opened: &Opened, text: &str) -> Result<Self, Trouble> {
        let ledger = &opened.ledger;
        if text == MANIFEST {
            return Ok(Self::Ledger);
        }
        let Some((word, of)) =
            text.split_once(':').filter(|(word, _)| WORDS.iter().any(|(known, _)| known == word))
        else {
            return Self::addressed(opened, &Address::parse(text)?);
        };
        let form = WORDS.iter().find(|(known, _)| *known == word).map_or("", |(_, form)| form);
        let two = || {
            let wanted = || Trouble::usage(format!("`{text}` names no {word}")).help(format!("write {form}"));
            of.split_once('/').ok_or_else(wanted)
        };
        let thing = match word {
            "outlet" => Self::Outlet(name(of)?),
            "rule" => Self::Rule(name(of)?),
            "routine" => Self::Routine(name(of)?),
            "bundle" => Self::Bundle(name(of)?),
            "aligned" => {
                let stages = of.split(',').map(|of| name(of.trim())).collect::<Result<Vec<_>, _>>()?;
                Self::Aligned(in_written_order(ledger, stages))
            }
            "follow" => {
                Self::Follow(name(two()?.0.trim_start_matches('@'))?, name(two()?.1.trim_start_matches('@'))?)
            }
            "use" => Self::Use(name(two()?.0)?, name(two()?.1.trim_start_matches("shared/"))?),
            "output" => Self::Output(name(two()?.0)?, two()?.1.to_owned()),
            "probe" => Self::Probe(name(two()?.0)?, name(two()?.1)?),
            _ => match two()? {
                (stage, said) if stage.starts_with('@') => {
                    Self::StageChore(name(&stage[1..])?, said.to_owned())
                }
                (unit, said) => Self::Chore(name(unit)?, said.to_owned()),
            },
        };
        thing.whole_chore(opened)?.known(opened)
    }

    /// A field that an entry is to get.
    pub fn new_field(opened: &Opened, address: &Address) -> Result<Self, Trouble> {
        let (Some(owner), Some(entry), Some(field), None) =
            (&address.owner, &address.entry, &address.field, &address.stage)
        else {
            return Err(Trouble::usage(format!("`{address}` names no field"))
                .help("write UNIT/ENTRY.FIELD or shared/ENTRY.FIELD"));
        };
        match entry_of(opened, owner, entry, None)? {
            Self::Entry(_, "variables" | "tables", _) => {
                Err(Trouble::usage(format!("`{owner}/{entry}` is one value, without fields"))
                    .help(format!("cledger add variable {owner}/{entry}-{field} declares another one")))
            }
            Self::Entry(owner, table, entry) => Ok(Self::Field(owner, table, entry, field.clone())),
            other => Ok(other),
        }
    }

    /// A name, as it stands on the command line.
    pub fn name(text: &str) -> Result<Name, Trouble> {
        name(text)
    }

    /// What an address names.
    fn addressed(opened: &Opened, address: &Address) -> Result<Self, Trouble> {
        let ledger = &opened.ledger;
        match (&address.owner, &address.entry, &address.stage) {
            (None, None, Some(stage)) if ledger.group_id(stage.as_str()).is_some() => {
                Ok(Self::Group(stage.clone()))
            }
            (None, None, Some(stage)) => {
                known_stage(ledger, stage.as_str()).map(|_| Self::Stage(stage.clone()))
            }
            (Some(Owner::Unit(unit, instance)), None, None) => {
                opened.unit(unit, instance.as_ref())?;
                Ok(match instance {
                    None => Self::Unit(unit.clone()),
                    Some(instance) => Self::Instance(unit.clone(), instance.clone()),
                })
            }
            (Some(owner), Some(entry), None) => entry_of(opened, owner, entry, address.field.as_ref()),
            (_, _, Some(stage)) => {
                let message =
                    format!("`{address}` names a stage, and a declaration is the same in all of them");
                Err(Trouble::usage(message).help(format!("leave out @{stage}")))
            }
            _ => Err(Trouble::usage(format!("`{address}` names nothing that is declared")).help(
                "write UNIT, UNIT/ENTRY, UNIT/ENTRY.FIELD, shared/ENTRY, @STAGE, outlet:NAME or ledger.toml",
            )),
        }
    }

    /// The same if the ledger has it.
    fn known(self, opened: &Opened) -> Result<Self, Trouble> {
        let ledger = &opened.ledger;
        if self.is_there(opened)? {
            return Ok(self);
        }
        let known: Vec<String> = match &self {
            Self::Outlet(_) => ledger.outlets.iter().map(|it| it.name.to_string()).collect(),
            Self::Rule(_) => ledger.judging.rules.iter().map(|it| it.name.to_string()).collect(),
            Self::Bundle(_) => ledger.bundles.iter().map(|it| it.name.to_string()).collect(),
            Self::Output(unit, _) => outputs(opened, unit)?.clone(),
            Self::Probe(unit, _) => probes(opened, unit)?.iter().map(Name::to_string).collect(),
            Self::Chore(..) | Self::StageChore(..) => self.chores(opened)?,
            _ => Vec::new(),
        };
        let said = match &self {
            Self::Outlet(name)
            | Self::Rule(name)
            | Self::Routine(name)
            | Self::Bundle(name)
            | Self::Probe(_, name) => name.to_string(),
            Self::Output(_, text) | Self::Chore(_, text) | Self::StageChore(_, text) => text.clone(),
            _ => String::new(),
        };
        let help = match (nearest(&said, known.iter().map(String::as_str)), known.is_empty()) {
            (Some(near), _) => format!("did you mean `{near}`?"),
            (None, false) => format!("there are {}", known.join(", ")),
            (None, true) => "there is none".to_owned(),
        };
        Err(Trouble::usage(format!("there is no {}", self.describe())).help(help))
    }

    /// Whether the ledger has it.
    pub(crate) fn is_there(&self, opened: &Opened) -> Result<bool, Trouble> {
        let ledger = &opened.ledger;
        Ok(match self {
            Self::Ledger => true,
            Self::Stage(name) => ledger.stage_id(name.as_str()).is_some(),
            Self::Group(name) => ledger.group_id(name.as_str()).is_some(),
            Self::Outlet(name) => ledger.outlets.iter().any(|it| it.name == *name),
            Self::Rule(name) => ledger.judging.rules.iter().any(|it| it.name == *name),
            Self::Routine(name) => has_routine(ledger, name),
            Self::Bundle(name) => ledger.bundle(name.as_str()).is_some(),
            Self::Aligned(stages) => ledger.aligned.iter().any(|it| names(ledger, &it.stages) == *stages),
            Self::Follow(stage, followed) => {
                let (stage, followed) =
                    (known_stage(ledger, stage.as_str())?, known_stage(ledger, followed.as_str())?);
                ledger.stage(stage).follows.iter().any(|it| it.stage == followed)
            }
            Self::StageChore(_, text) | Self::Chore(_, text) => self.chores(opened)?.contains(text),
            Self::Unit(name) => ledger.unit_id(name.as_str()).is_some(),
            Self::Instance(unit, instance) => opened.unit(unit, Some(instance)).is_ok(),
            Self::Output(unit, path) => outputs(opened, unit)?.contains(path),
            Self::Probe(unit, name) => probes(opened, unit)?.contains(name),
            Self::Use(unit, entry) => {
                let id = opened.unit_id(unit)?;
                let shared = ledger.shared_id(entry.as_str());
                shared.is_some_and(|shared| ledger.unit(id).uses.contains(&shared))
            }
            Self::Entry(owner, _, name) => entry_of(opened, owner, name, None).is_ok(),
            Self::Field(owner, _, entry, field) => entry_of(opened, owner, entry, Some(field)).is_ok(),
        })
    }

    /// The texts of the chores of its unit or stage.
    fn chores(&self, opened: &Opened) -> Result<Vec<String>, Trouble> {
        let ledger = &opened.ledger;
        let chores = match self {
            Self::StageChore(stage, _) => &ledger.stage(known_stage(ledger, stage.as_str())?).chores,
            Self::Chore(unit, _) => &ledger.unit(opened.unit_id(unit)?).chores,
            _ => return Ok(Vec::new()),
        };
        Ok(chores.iter().map(|chore| chore.text.clone()).collect())
    }

    /// A chore with its whole text, where one begins with what was said of it.
    fn whole_chore(self, opened: &Opened) -> Result<Self, Trouble> {
        let (Self::Chore(_, text) | Self::StageChore(_, text)) = &self else { return Ok(self) };
        let all = self.chores(opened)?;
        let meant: Vec<&String> = all.iter().filter(|known| known.starts_with(text.as_str())).collect();
        let whole = match meant[..] {
            [one] if !all.contains(text) => one.clone(),
            _ => return Ok(self),
        };
        Ok(match self {
            Self::Chore(unit, _) => Self::Chore(unit, whole),
            Self::StageChore(stage, _) => Self::StageChore(stage, whole),
            other => other,
        })
    }

    /// Whether nothing that is said of it changes an effective value.
    pub(crate) fn has_no_values(&self) -> bool {
        matches!(
            self,
            Self::Outlet(_)
                | Self::Rule(_)
                | Self::Routine(_)
                | Self::Bundle(_)
                | Self::Aligned(_)
                | Self::StageChore(..)
                | Self::Probe(..)
                | Self::Ledger
        )
    }

    /// What can be found differently of a ledger before and after something of this was said, where that
    /// [changes no value](Self::has_no_values).
    pub(crate) fn concerns(&self, before: &Ledger, after: &Ledger) -> Concerns {
        match self {
            Self::Rule(name) => Concerns::Rules(BTreeSet::from([name.clone()])),
            Self::Routine(_) | Self::StageChore(..) | Self::Probe(..) => Concerns::Units(BTreeSet::new()),
            Self::Bundle(_) => Concerns::Patterns,
            Self::Outlet(name) => {
                let outlets = || before.outlets.iter().chain(&after.outlets);
                let holds = outlets().any(|outlet| outlet.name == *name && outlet.kind.output().is_some());
                // What such an outlet holds decides what comes nowhere.
                if holds { Concerns::All } else { Concerns::Patterns }
            }
            _ => Concerns::All,
        }
    }

    /// How it is told.
    pub fn describe(&self) -> String {
        match self {
            Self::Ledger => MANIFEST.to_owned(),
            Self::Stage(name) => format!("stage {name}"),
            Self::Group(name) => format!("group {name}"),
            Self::Outlet(name) => format!("outlet {name}"),
            Self::Rule(name) => format!("rule {name}"),
            Self::Routine(name) => format!("routine {name}"),
            Self::Bundle(name) => format!("bundle {name}"),
            Self::Aligned(stages) => {
                let names: Vec<&str> = stages.iter().map(Name::as_str).collect();
                format!("alignment of {}", names.join(", "))
            }
            Self::Follow(stage, followed) => format!("follow of {followed} by {stage}"),
            Self::StageChore(stage, text) => format!("chore of @{stage}: {text}"),
            Self::Chore(unit, text) => format!("chore of {unit}: {text}"),
            Self::Unit(name) => format!("unit {name}"),
            Self::Instance(unit, instance) => format!("instance {unit}+{instance}"),
            Self::Output(unit, path) => format!("output {path} of {unit}"),
            Self::Probe(unit, name) => format!("probe {name} of {unit}"),
            Self::Use(unit, entry) => format!("use of shared/{entry} by {unit}"),
            Self::Entry(owner, _, name) => format!("{owner}/{name}"),
            Self::Field(owner, _, entry, field) => format!("{owner}/{entry}.{field}"),
        }
    }

    /// The keys that can be said of it.
    pub(crate) fn keys(&self) -> Vec<Key> {
        match self {
            Self::Ledger => LEDGER.iter().chain(&CHECK).chain(&DAYBOOK).copied().collect(),
            Self::Stage(_) => STAGE.to_vec(),
            Self::Group(_) => GROUP.to_vec(),
            Self::Outlet(_) => OUTLET.to_vec(),
            Self::Rule(_) => RULE.iter().chain(&RULE_DEMANDS).copied().collect(),
            Self::Routine(_) | Self::Use(..) => Vec::new(),
            Self::Bundle(_) => BUNDLE.to_vec(),
            Self::Aligned(_) => ALIGNED.to_vec(),
            Self::Follow(..) => FOLLOW.to_vec(),
            Self::StageChore(..) | Self::Chore(..) => CHORE.to_vec(),
            Self::Unit(_) => UNIT.to_vec(),
            Self::Instance(..) => INSTANCE.to_vec(),
            Self::Output(..) => OUTPUT.to_vec(),
            Self::Probe(..) => PROBE.to_vec(),
            Self::Entry(_, table, _) => match *table {
                "connections" => CONNECTION.to_vec(),
                "endpoints" => ENDPOINT.to_vec(),
                "credentials" => CREDENTIAL.to_vec(),
                "tables" => TABLE.to_vec(),
                _ => FIELD.to_vec(),
            },
            Self::Field(..) => FIELD.to_vec(),
        }
    }

    /// The keys by which it is known, with what they say: they stand first, and are no options.
    pub(crate) fn own_keys(&self) -> Vec<(&'static str, Value)> {
        let text = |text: &str| Value::text(text);
        match self {
            Self::Stage(name)
            | Self::Group(name)
            | Self::Outlet(name)
            | Self::Rule(name)
            | Self::Routine(name)
            | Self::Bundle(name)
            | Self::Probe(_, name) => {
                vec![("name", text(name.as_str()))]
            }
            Self::Aligned(stages) => {
                vec![("stages", Value::List(stages.iter().map(|name| text(name.as_str())).collect()))]
            }
            Self::Follow(_, followed) => vec![("stage", text(followed.as_str()))],
            Self::StageChore(_, said) | Self::Chore(_, said) => vec![("text", text(said))],
            Self::Output(_, path) => vec![("path", text(path))],
            _ => Vec::new(),
        }
    }

    /// Where it stands.
    pub(crate) fn stands(&self, ledger: &Ledger) -> Where {
        let manifest = |items: Vec<Item>| Where { file: MANIFEST.to_owned(), items, path: Vec::new() };
        let own = |list: &str| Item { list: vec![list.to_owned()], has: self.own_keys() };
        let contract = |unit: &Name| format!("units/{unit}.toml");
        let declared = |owner: &Owner, path: Vec<String>| {
            let file = match owner {
                Owner::Shared => shared_file_of(ledger, &path),
                Owner::Unit(unit, _) => contract(unit),
            };
            Where { file, items: Vec::new(), path }
        };
        match self {
            Self::Ledger => manifest(Vec::new()),
            Self::Stage(_) => manifest(vec![own("stage")]),
            Self::Group(_) => manifest(vec![own("group")]),
            Self::Outlet(_) => manifest(vec![own("outlet")]),
            Self::Rule(_) => manifest(vec![own("rule")]),
            Self::Routine(_) => manifest(vec![own("routine")]),
            Self::Bundle(_) => manifest(vec![own("bundle")]),
            Self::Aligned(_) => manifest(vec![own("aligned")]),
            Self::Follow(stage, _) => manifest(vec![Item::named("stage", stage.as_str()), own("follow")]),
            Self::StageChore(stage, _) => manifest(vec![Item::named("stage", stage.as_str()), own("chore")]),
            Self::Chore(unit, _) => {
                Where { file: contract(unit), items: vec![own("chore")], path: Vec::new() }
            }
            Self::Output(unit, _) => {
                Where { file: contract(unit), items: vec![own("output")], path: Vec::new() }
            }
            Self::Probe(unit, _) => {
                Where { file: contract(unit), items: vec![own("probe")], path: Vec::new() }
            }
            Self::Unit(unit) | Self::Use(unit, _) => {
                Where { file: contract(unit), items: Vec::new(), path: Vec::new() }
            }
            Self::Instance(unit, instance) => Where {
                file: contract(unit),
                items: Vec::new(),
                path: vec!["instances".to_owned(), instance.to_string()],
            },
            Self::Entry(owner, table, name) => declared(owner, vec![(*table).to_owned(), name.to_string()]),
            Self::Field(owner, table, entry, field) => {
                let path = [*table, entry.as_str(), "fields", field.as_str()];
                declared(owner, path.map(str::to_owned).into())
            }
        }
    }
}

/// An entry that somebody declares or uses, or a field of it.
fn entry_of(opened: &Opened, owner: &Owner, name: &Name, field: Option<&Name>) -> Result<Thing, Trouble> {
    let ledger = &opened.ledger;
    let subject = match owner {
        Owner::Shared => Subject::Shared,
        Owner::Unit(_, Some(instance)) => {
            let message = format!("`{owner}` is an instance, and its unit declares its entries");
            return Err(Trouble::usage(message).help(format!("leave out +{instance}")));
        }
        Owner::Unit(unit, None) => Subject::Unit(opened.unit_id(unit)?, None),
    };
    let mut entries = ledger.slots(subject).entries.iter();
    let found = entries.find(|known| ledger.entry(subject, known.entry).name == *name);
    let Some(found) = found else {
        let names = ledger.entry_names(subject);
        let help = nearest(name.as_str(), names).map_or_else(
            || format!("cledger add declares it, such as `cledger add variable {owner}/{name}`"),
            |near| format!("did you mean `{near}`?"),
        );
        return Err(Trouble::usage(format!("`{owner}` has no entry `{name}`")).help(help));
    };
    if let (EntryRef::Shared(_), Owner::Unit(..)) = (found.entry, owner) {
        let message = format!("`{name}` is a shared entry, which is declared once for all units");
        return Err(Trouble::usage(message).help(format!("write shared/{name}")));
    }
    let entry = ledger.entry(subject, found.entry);
    let table = entry.kind.table();
    let Some(field) = field else { return Ok(Thing::Entry(owner.clone(), table, name.clone())) };
    if !entry.fields.iter().any(|known| known.name.as_ref() == Some(field)) {
        let names = entry.fields.iter().filter_map(|known| known.name.as_ref().map(Name::as_str));
        let help = nearest(field.as_str(), names).map_or_else(
            || format!("cledger add field {owner}/{name}.{field} declares it"),
            |near| format!("did you mean `{near}`?"),
        );
        return Err(Trouble::usage(format!("`{owner}/{name}` has no field `{field}`")).help(help));
    }
    Ok(Thing::Field(owner.clone(), table, name.clone(), field.clone()))
}
