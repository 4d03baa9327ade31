//! What a declaration says, said otherwise.

use cledger_core::address::Owner;
use cledger_core::impact::Written;
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::{Name, nearest};
use cledger_core::resolve::Unfetched;
use cledger_core::search::{self, Conditions};
use cledger_core::types::Type;
use cledger_store::vocabulary::{CHECK, DAYBOOK, Form, Key};
use cledger_store::{Beside, Edit, Item, ListedWhat, What, said as said_in};

use super::add::{blank, declared, of_field, planned_of, said_type};
use super::literal::{Literal, literal_of};
use super::thing::Where;
use super::touches::Touches;
use super::{Declared, DeclaredKey, Said, Thing, ToDo};
use crate::change::{Changing, Consent};
use crate::trouble::Trouble;

/// What is to be said otherwise.
#[derive(Debug, Clone, Default)]
pub struct ToChange {
    /// What is said, by option.
    pub said: Vec<Said>,
    /// What is said no longer, by option or key; for a name in a table of a key `KEY.NAME`.
    pub without: Vec<String>,
    /// The stage before which a stage has its place.
    pub before: Option<Name>,
    /// The stage behind which it has it.
    pub behind: Option<Name>,
}

/// A change of one key.
struct KeyChange {
    steps: Vec<String>,
    /// What is written; nothing where the key goes.
    literal: Option<String>,
}

/// Changes what is said of something; nothing but that.
pub fn change(
    changing: &Changing,
    thing: &Thing,
    asked: &ToChange,
    consent: &Consent,
    write: bool,
) -> Result<Declared, Trouble> {
    let ledger = changing.ledger();
    let stands = thing.stands(ledger);
    let mut changes = key_changes(ledger, thing, asked)?;
    // It is found by these as long as the others change.
    let own = thing.own_keys();
    changes.sort_by_key(|change| {
        own.iter().any(|(name, _)| change.steps.first().is_some_and(|step| step == name))
    });
    let mut edits = Vec::new();
    if let Thing::Group(name) = thing
        && !is_listed(ledger, &stands)
    {
        let pairs = vec![("name".to_owned(), format!("\"{name}\""))];
        let what = What::Listed(Vec::new(), ListedWhat::Add("group".to_owned(), pairs));
        edits.push(Edit { file: stands.file.clone(), path: Vec::new(), header: 0, what });
    }
    edits.extend(changes.iter().map(|change| edit(&stands, change)));
    edits.extend(moved(changing, thing, &stands, asked)?);
    if edits.is_empty() {
        let message = format!("nothing is said of {}", thing.describe());
        let keys: Vec<String> =
            thing.keys().iter().filter(|key| is_option(thing, key)).map(option_of).collect();
        return Err(Trouble::usage(message).help(format!("what can be said of it: {}", keys.join(", "))));
    }
    let planned = planned_of(changing, thing, &edits)?;
    changing.refuse_bad_rows(&planned)?;
    let touches = Touches::of(ledger, thing).and(ledger, &planned.after, thing);
    touches.guard(changing, &planned.effects, consent, write)?;
    if write {
        changing.write(&planned)?;
    }
    let text = |ledger: &Ledger, steps: &[String]| {
        let file = ledger.files.0.iter().find(|file| file.path == stands.file)?;
        said_in(&file.text, &stands.items, &[&stands.path[..], steps].concat())
    };
    let key = |change: &KeyChange| DeclaredKey {
        name: change.steps.join("."),
        before: text(ledger, &change.steps),
        after: change.literal.clone(),
    };
    let mut keys: Vec<DeclaredKey> = changes.iter().map(key).collect();
    if let Some((word, other)) =
        asked.before.as_ref().map(|it| ("before", it)).or(asked.behind.as_ref().map(|it| ("behind", it)))
    {
        keys.push(DeclaredKey {
            name: "place".to_owned(),
            before: None,
            after: Some(format!("{word} {other}")),
        });
    }
    let settings = settings_of(ledger, thing);
    let told = Declared { keys, settings, ..blank(thing, write, ToDo::Write) };
    Ok(declared(changing, planned, told))
}

/// Whether one of a list is written there.
fn is_listed(ledger: &Ledger, stands: &Where) -> bool {
    let file = ledger.files.0.iter().find(|file| file.path == stands.file);
    file.is_some_and(|file| said_in(&file.text, &stands.items, &["name".to_owned()]).is_some())
}

/// The option by which a key is said.
fn option_of(key: &Key) -> String {
    format!("--{}", key.option())
}

/// Whether a key can be said with an option of `change`.
fn is_option(thing: &Thing, key: &Key) -> bool {
    let is_format = matches!(thing, Thing::Ledger) && key.name == "format";
    let is_name = matches!(thing, Thing::Chore(..) | Thing::StageChore(..) | Thing::Output(..));
    !matches!(key.form, Form::Things | Form::Some([_, ..]) if key.about.is_empty())
        && !is_format
        && key.name != "format_of_ledger"
        && (is_name || !thing.own_keys().iter().any(|(own, _)| *own == key.name))
}

/// The changes of keys that are asked for.
fn key_changes(ledger: &Ledger, thing: &Thing, asked: &ToChange) -> Result<Vec<KeyChange>, Trouble> {
    let keys = thing.keys();
    let options: Vec<&Key> = keys.iter().filter(|key| is_option(thing, key)).collect();
    let this = of_field(&keys, type_after(ledger, thing, &asked.said));
    let find = |said: &str| {
        let found = options.iter().find(|key| key.option() == said || key.name == said);
        found.copied().ok_or_else(|| {
            let names: Vec<String> = options.iter().map(|key| key.option()).collect();
            let help = nearest(said, names.iter().map(String::as_str))
                .map_or_else(|| all_of(thing, &options), |near| format!("did you mean --{near}?"));
            Trouble::usage(format!("--{said} means nothing for {}", thing.describe())).help(help)
        })
    };
    let mut changes = Vec::new();
    for said in &asked.said {
        let known = find(&said.option)?;
        let base = steps_of(thing, known);
        match literal_of(known, said, this)? {
            Literal::Whole(text) => changes.push(KeyChange { steps: base, literal: Some(text) }),
            Literal::Each(pairs) => changes.extend(pairs.into_iter().map(|(name, text)| {
                let steps = base.iter().cloned().chain([name]).collect();
                KeyChange { steps, literal: Some(text) }
            })),
        }
    }
    for text in &asked.without {
        let (name, of) = text.split_once('.').map_or((text.as_str(), None), |(name, of)| (name, Some(of)));
        let known = find(name)?;
        let steps: Vec<String> = steps_of(thing, known).into_iter().chain(of.map(str::to_owned)).collect();
        if changes.iter().any(|change| change.steps == steps) {
            let message = format!("{} is both said and left out", option_of(known));
            return Err(Trouble::usage(message).help("take one of the two out"));
        }
        let stands = thing.stands(ledger);
        let file = ledger.files.0.iter().find(|file| file.path == stands.file);
        let path = [&stands.path[..], &steps].concat();
        if file.is_none_or(|file| said_in(&file.text, &stands.items, &path).is_none()) {
            let message = format!("{} says no `{}` in {}", thing.describe(), steps.join("."), stands.file);
            return Err(Trouble::usage(message).help("nothing is changed"));
        }
        changes.push(KeyChange { steps, literal: None });
    }
    Ok(changes)
}

fn all_of(thing: &Thing, options: &[&Key]) -> String {
    let all: Vec<String> = options.iter().map(|key| option_of(key)).collect();
    match thing {
        Thing::Entry(..) if all.len() < 4 => {
            format!(
                "what can be said of it: {}; the rest is said of its fields, UNIT/ENTRY.FIELD",
                all.join(", ")
            )
        }
        _ => format!("what can be said of it: {}", all.join(", ")),
    }
}

/// The type that the values of a field have after the change.
fn type_after(ledger: &Ledger, thing: &Thing, said: &[Said]) -> Type {
    if said.iter().any(|it| it.option == "type") {
        return said_type(said);
    }
    let (owner, entry, field) = match thing {
        Thing::Entry(owner, _, entry) => (owner, entry, None),
        Thing::Field(owner, _, entry, field) => (owner, entry, Some(field)),
        _ => return Type::Text,
    };
    let Some(subject) = subject(ledger, owner) else { return Type::Text };
    let slot = ledger.find_slot(subject, entry.as_str(), field.map(Name::as_str));
    slot.map_or(Type::Text, |slot| ledger.field(subject, slot).1.this_type)
}

fn subject(ledger: &Ledger, owner: &Owner) -> Option<Subject> {
    match owner {
        Owner::Shared => Some(Subject::Shared),
        Owner::Unit(unit, _) => ledger.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None)),
    }
}

/// The steps to a key, from where the thing stands.
fn steps_of(thing: &Thing, key: &Key) -> Vec<String> {
    let own = key.name.to_owned();
    let is_in = |keys: &[Key]| matches!(thing, Thing::Ledger) && keys.iter().any(|it| it.name == key.name);
    if is_in(&CHECK) {
        vec!["check".to_owned(), own]
    } else if is_in(&DAYBOOK) {
        vec!["daybook".to_owned(), own]
    } else {
        vec![own]
    }
}

fn edit(stands: &Where, change: &KeyChange) -> Edit {
    let (file, steps) = (stands.file.clone(), change.steps.clone());
    if stands.items.is_empty() {
        let path = [&stands.path[..], &steps].concat();
        // `[connections.events]`, and the field in front of the key; `[check]`.
        let header = if stands.path.is_empty() { path.len() - 1 } else { 2 }.min(2);
        let header = if stands.path.is_empty() { header.min(1) } else { header };
        let what = change.literal.clone().map_or(What::RemoveInside(stands.path.len()), What::Set);
        return Edit { file, path, header, what };
    }
    let what = match &change.literal {
        Some(text) => ListedWhat::Set(steps, text.clone()),
        None => ListedWhat::Unset(steps),
    };
    Edit { file, path: Vec::new(), header: 0, what: What::Listed(stands.items.clone(), what) }
}

/// The edit that gives a stage another place among the others.
fn moved(
    changing: &Changing,
    thing: &Thing,
    stands: &Where,
    asked: &ToChange,
) -> Result<Option<Edit>, Trouble> {
    let (Some(other), is_before) = (asked.before.as_ref().or(asked.behind.as_ref()), asked.before.is_some())
    else {
        return Ok(None);
    };
    let Thing::Stage(name) = thing else {
        let message = format!("only a stage has a place among others, and this is {}", thing.describe());
        return Err(Trouble::usage(message).help("leave --before and --behind out"));
    };
    crate::meant::known_stage(changing.ledger(), other.as_str())?;
    if other == name {
        return Err(Trouble::usage(format!("`{name}` cannot stand beside itself")).help("name another stage"));
    }
    let item = Item::named("stage", other.as_str());
    let beside = if is_before { Beside::Before(item) } else { Beside::Behind(item) };
    let what = What::Listed(stands.items.clone(), ListedWhat::Move(beside));
    Ok(Some(Edit { file: stands.file.clone(), path: Vec::new(), header: 0, what }))
}

/// How many settings are written for an entry or a field.
fn settings_of(ledger: &Ledger, thing: &Thing) -> Option<usize> {
    let (owner, entry, field) = match thing {
        Thing::Entry(owner, _, entry) => (owner, entry, None),
        Thing::Field(owner, _, entry, field) => (owner, entry, Some(field)),
        _ => return None,
    };
    let id = match owner {
        Owner::Shared => ledger.shared_id(entry.as_str()),
        Owner::Unit(..) => None,
    };
    let is_of = |subject: Subject| match (subject, owner) {
        (Subject::Shared, Owner::Shared) => true,
        (Subject::Unit(unit, _), Owner::Shared) => id.is_some_and(|id| ledger.unit(unit).uses.contains(&id)),
        (Subject::Unit(unit, _), Owner::Unit(name, _)) => ledger.unit(unit).name == *name,
        (Subject::Shared, Owner::Unit(..)) => false,
    };
    let all = search::settings(ledger, &Unfetched, &Conditions::default());
    let count = all.iter().filter(|found| {
        let (declared, declaration) = ledger.field(found.subject, found.slot);
        matches!(found.written, Written::In(_))
            && declared.name == *entry
            && field.is_none_or(|field| declaration.name.as_ref() == Some(field))
            && is_of(found.subject)
    });
    Some(count.count())
}
