//! Something new, with what is said of it.

use std::collections::BTreeMap;

use cledger_core::effects::{Effect, Seen};
use cledger_core::model::Ledger;
use cledger_core::types::Type;
use cledger_store::vocabulary::Key;
use cledger_store::{Edit, ListedWhat, What, apply, literal};

use super::literal::literal_of;
use super::touches::Touches;
use super::{Declared, DeclaredKey, Said, Thing, ToDo};
use crate::change::{Changing, Consent, Planned};
use crate::touched::touched;
use crate::trouble::Trouble;

/// Declares something that is new, at once where no effective value changes that is there.
pub fn add(
    changing: &Changing,
    thing: &Thing,
    said: &[Said],
    consent: &Consent,
    write: bool,
) -> Result<Declared, Trouble> {
    must_be_new(changing, thing)?;
    let pairs = pairs(thing, said)?;
    let edits = edits(changing.ledger(), thing, &pairs);
    added(changing, (thing, thing.describe()), pairs, &edits, (consent, write))
}

/// Declares several things of which nothing else is said, all or none.
pub fn add_all(
    changing: &Changing,
    things: &[Thing],
    consent: &Consent,
    write: bool,
) -> Result<Declared, Trouble> {
    things.iter().try_for_each(|thing| must_be_new(changing, thing))?;
    let Some(first) = things.first() else { return Err(Trouble::usage("nothing is named")) };
    let edits: Vec<Edit> = things.iter().flat_map(|thing| edits(changing.ledger(), thing, &[])).collect();
    let names: Vec<String> = things.iter().map(Thing::describe).collect();
    added(changing, (first, names.join(", ")), Vec::new(), &edits, (consent, write))
}

fn added(
    changing: &Changing,
    (thing, what): (&Thing, String),
    pairs: Vec<(String, String)>,
    edits: &[Edit],
    (consent, write): (&Consent, bool),
) -> Result<Declared, Trouble> {
    let planned = planned_of(changing, thing, edits)?;
    changing.refuse_bad_rows(&planned)?;
    let touches = Touches::of(changing.ledger(), thing).and(changing.ledger(), &planned.after, thing);
    let changes = planned.effects.iter().any(|effect| effect.before != Seen::NotThere);
    let writes = write || !changes;
    // What is new is nothing that somebody relies on yet.
    let there = planned.effects.iter().filter(|effect| effect.before != Seen::NotThere).cloned();
    touches.guard(changing, &there.collect::<Vec<_>>(), consent, writes)?;
    if writes {
        changing.write(&planned)?;
    }
    let keys = pairs.into_iter().map(|(name, after)| DeclaredKey { name, before: None, after: Some(after) });
    let written = writes && changing.writes();
    let to_do = if writes { ToDo::NoDryRun } else { ToDo::Write };
    Ok(declared(
        changing,
        planned,
        Declared { what, keys: keys.collect(), is_new: true, ..blank(thing, written, to_do) },
    ))
}

/// What the edits of something come to. What has no values changes none.
pub(super) fn planned_of(changing: &Changing, thing: &Thing, edits: &[Edit]) -> Result<Planned, Trouble> {
    let changed = apply(changing.disk(), edits)?;
    if thing.has_no_values() {
        changing.plan_beside_values(changed, |before, after| thing.concerns(before, after))
    } else {
        changing.plan_texts(changed)
    }
}

/// What is told of something, with nothing in it yet.
pub(super) fn blank(thing: &Thing, written: bool, to_do: ToDo) -> Declared {
    Declared {
        what: thing.describe(),
        is_new: false,
        keys: Vec::new(),
        files: Vec::new(),
        settings: None,
        effects: Vec::new(),
        caused: Vec::new(),
        cured: Vec::new(),
        written,
        to_do,
    }
}

/// The same with what a plan does.
pub(super) fn declared(changing: &Changing, planned: Planned, told: Declared) -> Declared {
    let (caused, cured) = changing.differing(&planned);
    let files = touched(changing.ledger(), &planned.changed);
    let is_news = |effect: &Effect| !matches!((&effect.before, &effect.after), (Seen::NotThere, Seen::Unset));
    let effects = planned.effects.into_iter().filter(is_news).collect();
    Declared { files, effects, caused, cured, ..told }
}

fn must_be_new(changing: &Changing, thing: &Thing) -> Result<(), Trouble> {
    if thing.is_there(&changing.opened)? {
        let message = format!("there is the {} already", thing.describe());
        return Err(Trouble::usage(message).help("`cledger change` changes what it says"));
    }
    if let Thing::Use(_, entry) = thing
        && changing.ledger().shared_id(entry.as_str()).is_none()
    {
        let names = changing.ledger().shared.iter().map(|entry| entry.name.as_str());
        let help = cledger_core::name::nearest(entry.as_str(), names).map_or_else(
            || "`cledger list shared` lists them".to_owned(),
            |near| format!("did you mean `{near}`?"),
        );
        return Err(Trouble::usage(format!("there is no shared entry `{entry}`")).help(help));
    }
    Ok(())
}

/// The keys of something new with their values: those by which it is known, and the others in the vocabulary's order.
pub(crate) fn pairs(thing: &Thing, said: &[Said]) -> Result<Vec<(String, String)>, Trouble> {
    let own = thing.own_keys();
    let mut pairs: Vec<(String, String)> =
        own.iter().map(|(name, value)| ((*name).to_owned(), literal(value, None))).collect();
    let this = said_type(said);
    let given: BTreeMap<&str, &Said> = said.iter().map(|it| (it.option.as_str(), it)).collect();
    let keys = thing.keys();
    for known in keys.iter().filter(|known| !own.iter().any(|(name, _)| *name == known.name)) {
        if let Some(said) = given.get(known.option().as_str()) {
            let literal = literal_of(known, said, of_field(&keys, this))?;
            pairs.push((known.name.to_owned(), literal.in_one()));
        }
    }
    Ok(pairs)
}

/// The type that values of a field have; rules are of fields of any.
pub(super) fn of_field(keys: &[Key], this: Type) -> Option<Type> {
    keys.iter().any(|key| key.name == "vary").then_some(this)
}

pub(super) fn said_type(said: &[Said]) -> Type {
    let given = said.iter().find(|it| it.option == "type").and_then(|it| it.values.first());
    given.and_then(|name| Type::by_name(name)).unwrap_or(Type::Text)
}

fn edits(ledger: &Ledger, thing: &Thing, pairs: &[(String, String)]) -> Vec<Edit> {
    let stands = thing.stands(ledger);
    let edit =
        |path: Vec<String>, header: usize, what: What| Edit { file: stands.file.clone(), path, header, what };
    match thing {
        Thing::Use(_, entry) => {
            let text = literal(&cledger_core::value::Value::text(entry.as_str()), None);
            vec![edit(vec!["uses".to_owned()], 0, What::Add(text))]
        }
        Thing::Field(..) => {
            let (_, last) = stands.path.split_at(2);
            let table: Vec<String> = pairs.iter().map(|(name, text)| format!("{name} = {text}")).collect();
            let literal =
                if table.is_empty() { "{}".to_owned() } else { format!("{{ {} }}", table.join(", ")) };
            let path = [&stands.path[..2], last].concat();
            vec![edit(path, 2, What::Set(literal))]
        }
        _ => {
            let (mut items, list) =
                (stands.items.clone(), stands.items.last().map(|item| item.list[0].clone()));
            items.pop();
            let list = list.unwrap_or_default();
            let what = if matches!(thing, Thing::Follow(..)) {
                ListedWhat::AddInBrackets(list, pairs.to_vec())
            } else {
                ListedWhat::Add(list, pairs.to_vec())
            };
            vec![edit(Vec::new(), 0, What::Listed(items, what))]
        }
    }
}
