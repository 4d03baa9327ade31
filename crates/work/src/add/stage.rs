//! New stages and groups.

mod blank_file;
mod copy;

use std::collections::BTreeSet;
use std::path::PathBuf;

use cledger_core::following;
use cledger_core::model::{Class, Follow, Ledger, StageId, When};
use cledger_core::name::Name;
use cledger_core::value::Value;
use cledger_store::vocabulary::STAGE;
use cledger_store::{Beside, Changed, Edit, Item, ListedWhat, MANIFEST, What, apply, literal};
use rayon::prelude::*;

use crate::add::added::{Added, write, written_as_planned};
use crate::change::{Changing, Consent};
use crate::declare::add::pairs;
use crate::declare::{Said, Thing};
use crate::meant::known_stage;
use crate::trouble::Trouble;

/// A stage that is new.
#[derive(Debug, Clone)]
pub struct NewStage {
    /// Its name.
    pub name: Name,
    /// What is said of it. Its class is that of the other stage, or of the first one that it follows, if not said.
    pub said: Vec<Said>,
    /// A stage that it is made like.
    pub like: Option<Name>,
    /// The stages that it follows, weakest first.
    pub follow: Vec<Name>,
    /// Whether it takes over secrets, too, or follows them.
    pub with_secrets: bool,
    /// What it takes over from the other stage, where it is a copy of that.
    pub copy: Option<Copying>,
    /// Its place among the stages.
    pub place: Option<Beside>,
    /// What somebody says to it.
    pub consent: Consent,
}

/// How the settings of another stage are taken over.
#[derive(Debug, Clone, Default)]
pub struct Copying {
    /// Texts in its values, and what stands in their place: old, new, old, new …
    pub swap: Vec<String>,
    /// How many characters secrets have that are made for it; none are made if not given.
    pub generate: Option<usize>,
    /// Whether secrets may stand in plain text where it has no key.
    pub plain_secrets: bool,
    /// The form with the values that it still needs.
    pub answers: Option<PathBuf>,
    /// Do it.
    pub write: bool,
}

/// Adds a stage: with a file that lists what it has to set, or with the settings of another one.
pub fn stage(changing: &Changing, new: &NewStage) -> Result<Added, Trouble> {
    let ledger = changing.ledger();
    must_be_free(ledger, &new.name)?;
    let like = new.like.as_ref().map(|name| known_stage(ledger, name.as_str())).transpose()?;
    let follow = new.follow.iter().map(|name| known_stage(ledger, name.as_str()));
    let follow: Vec<StageId> = follow.collect::<Result<_, _>>()?;
    let left_out =
        if new.with_secrets || follow.is_empty() { Vec::new() } else { following::secrets(ledger) };
    let declared = declaration(new, ledger, like, &follow, &left_out)?;
    let what = ListedWhat::Add("stage".to_owned(), declared);
    let edit = |what| Edit { file: MANIFEST.to_owned(), path: Vec::new(), header: 0, what };
    let mut edits = vec![edit(What::Listed(Vec::new(), what))];
    if let Some(beside) = &new.place {
        let (Beside::Before(other) | Beside::Behind(other)) = beside;
        if let Some((_, Value::Text(name))) = other.has.first() {
            known_stage(ledger, name)?;
        }
        let own = Item::named("stage", new.name.as_str());
        edits.push(edit(What::Listed(vec![own], ListedWhat::Move(beside.clone()))));
    }
    let mut changed = apply(changing.disk(), &edits)?;
    tell_left_out(changing, new, like);
    if !left_out.is_empty() {
        changing.opened.at.telling.notice(&format!(
            "Not followed, since they are secrets: {}. Set those that {} needs, or leave them out of `except`.",
            left_out.join(", "),
            new.name
        ));
    }
    if let (Some(copying), Some(like)) = (&new.copy, like) {
        return copy::copied(changing, new, copying, like, changed);
    }
    let with_stage = changing.read_after(&changed)?;
    let id = known_stage(&with_stage, new.name.as_str())?;
    let file = format!("stages/{}.toml", new.name);
    changed.insert(file, Some(blank_file::to_fill(&with_stage, id, like)));
    let planned = changing.plan_texts_in(changed, Some(&BTreeSet::from([new.name.clone()])))?;
    changing.refuse_bad_rows(&planned)?;
    Ok(written_as_planned(changing, planned, format!("stage {}", new.name))?.0)
}

/// Tells which units a stage like another leaves out, since their `stages` name the other alone.
fn tell_left_out(changing: &Changing, new: &NewStage, like: Option<StageId>) {
    let ledger = changing.ledger();
    let Some(like) = like else { return };
    let names = |unit: &cledger_core::model::Unit| {
        // Most say nothing of it; a key can hide only behind escapes.
        let may_say = |text: &str| text.contains("stages") || text.contains('\\');
        let file = ledger.files.get(unit.place.file).filter(|file| may_say(&file.text))?;
        cledger_store::said(&file.text, &[], &["stages".to_owned()])
    };
    let covers = |said: &str| {
        let patterns = cledger_store::parse_value(said);
        let Some(Value::List(patterns)) = patterns else { return true };
        patterns.iter().filter_map(Value::as_text).any(|text| {
            cledger_core::address::Pattern::parse(&format!("@{text}"))
                .is_ok_and(|pattern| pattern.covers_stage(new.name.as_str()))
        })
    };
    let left_out: Vec<String> = ledger
        .units
        .par_iter()
        .filter(|unit| unit.belongs.get(usize::from(like.0)).copied().unwrap_or(false))
        .filter_map(|unit| {
            names(unit).filter(|said| !covers(said)).map(|said| format!("{} ({said})", unit.name))
        })
        .collect();
    if !left_out.is_empty() {
        changing.opened.at.telling.notice(&format!(
            "Not in {}, by their `stages`: {}. `cledger change UNIT --stages …` lets them in.",
            new.name,
            left_out.join(", ")
        ));
    }
}

/// The keys of the stage's table in `ledger.toml`, in the vocabulary's order: what is said, else what the other one has.
fn declaration(
    new: &NewStage,
    ledger: &Ledger,
    like: Option<StageId>,
    follow: &[StageId],
    left_out: &[String],
) -> Result<Vec<(String, String)>, Trouble> {
    let mut said = pairs(&Thing::Stage(new.name.clone()), &new.said)?;
    let mut add = |name: &str, text: String| {
        if !said.iter().any(|(known, _)| known == name) {
            said.push((name.to_owned(), text));
        }
    };
    let names = |names: Vec<&Name>| {
        literal(&Value::List(names.into_iter().map(|name| Value::text(name.as_str())).collect()), None)
    };
    let text = |text: &str| literal(&Value::text(text), None);
    let as_is = like.or(follow.first().copied()).map_or(Class::Test, |id| ledger.stage(id).class);
    add("class", text(as_is.name()));
    if !follow.is_empty() {
        add("follow", follows(ledger, follow, left_out));
    }
    if let Some(other) = like.map(|id| ledger.stage(id)) {
        if !other.groups.is_empty() {
            add("groups", names(other.groups.iter().map(|&id| &ledger.group(id).name).collect()));
        }
        if !other.after.is_empty() {
            add("after", names(other.after.iter().map(|&id| &ledger.stage(id).name).collect()));
        }
        if other.locked {
            add("locked", "true".to_owned());
        }
        if let Some(copying) = &new.copy {
            if other.as_tested {
                add("as_tested", "true".to_owned());
            }
            if !other.own.is_empty() {
                add("own", patterns(&other.own));
            }
            if !other.labels.is_empty() {
                let swapped = |label: &String| copy::swap(label, &copying.swap);
                let labels = other
                    .labels
                    .iter()
                    .map(|(name, label)| (name.as_str().into(), Value::text(&swapped(label))));
                add("labels", literal(&Value::Map(labels.collect()), None));
            }
            if !other.follows.is_empty() {
                let all: Vec<String> = other.follows.iter().map(|it| follow_of(ledger, it)).collect();
                add("follow", format!("[{}]", all.join(", ")));
            }
            if !other.chores.is_empty() {
                let all: Vec<String> = other.chores.iter().map(|it| chore(&it.text, &it.when)).collect();
                add("chore", format!("[{}]", all.join(", ")));
            }
        }
    }
    let rank = |name: &str| STAGE.iter().position(|key| key.name == name);
    said.sort_by_key(|(name, _)| rank(name));
    Ok(said)
}

fn patterns(patterns: &[cledger_core::address::Pattern]) -> String {
    literal(&Value::List(patterns.iter().map(|it| Value::text(&it.to_string())).collect()), None)
}

fn follow_of(ledger: &Ledger, follow: &Follow) -> String {
    let mut said = format!("{{ stage = \"{}\"", ledger.stage(follow.stage).name);
    for (key, list) in [("only", &follow.only), ("except", &follow.except)] {
        if !list.is_empty() {
            said.push_str(&format!(", {key} = {}", patterns(list)));
        }
    }
    said + " }"
}

fn chore(text: &str, when: &When) -> String {
    let text = literal(&Value::text(text), None);
    let when = match when {
        When::EachDelivery => return format!("{{ text = {text} }}"),
        When::FirstDelivery => "\"first-delivery\"".to_owned(),
        When::AfterFirstDelivery => "\"after-first-delivery\"".to_owned(),
        When::Changed(fields) => {
            let fields = Value::List(fields.iter().map(|field| Value::text(field)).collect());
            format!("{{ changed = {} }}", literal(&fields, None))
        }
    };
    format!("{{ text = {text}, when = {when} }}")
}

/// What the stage follows, and what it leaves out of that.
fn follows(ledger: &Ledger, follow: &[StageId], left_out: &[String]) -> String {
    let list: Vec<String> = left_out.iter().map(|pattern| format!("    {pattern:?},\n")).collect();
    let except = if list.is_empty() { String::new() } else { format!(", except = [\n{}]", list.concat()) };
    let one = |&id: &StageId| format!("{{ stage = \"{}\"{except} }}", ledger.stage(id).name);
    let follows: Vec<String> = follow.iter().map(one).collect();
    format!("[{}]", follows.join(", "))
}

/// Adds a group of settings for several stages.
pub fn group(changing: &Changing, name: &Name, said: &[Said]) -> Result<Added, Trouble> {
    must_be_free(changing.ledger(), name)?;
    let pairs = pairs(&Thing::Group(name.clone()), said)?;
    let what = What::Listed(Vec::new(), ListedWhat::Add("group".to_owned(), pairs));
    let edit = Edit { file: MANIFEST.to_owned(), path: Vec::new(), header: 0, what };
    let mut changed: Changed = apply(changing.disk(), &[edit])?;
    let text =
        format!("# Settings of the group {name}: they count in stages that have groups = [\"{name}\"].\n");
    changed.insert(format!("groups/{name}.toml"), Some(text));
    write(changing, changed, format!("group {name}"))
}

fn must_be_free(ledger: &Ledger, name: &Name) -> Result<(), Trouble> {
    if name.is_taken() {
        let message = format!("`{name}` has a meaning of its own in addresses");
        return Err(Trouble::usage(message).help("choose another name"));
    }
    let what = if ledger.stage_id(name.as_str()).is_some() {
        "stage"
    } else if ledger.group_id(name.as_str()).is_some() {
        "group"
    } else {
        return Ok(());
    };
    Err(Trouble::usage(format!("there is a {what} `{name}` already"))
        .help("stages and groups share one set of names"))
}
