//! New stages and groups.

use std::fmt::Write as _;

use cledger_core::address::Address;
use cledger_core::blanks::{Blank, blanks};
use cledger_core::following;
use cledger_core::model::{Class, Declaration, Ledger, Stage, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Outcome, Resolver, Session, Unfetched};
use cledger_core::types::Type;
use cledger_core::value::Value;
use cledger_store::{Changed, Overlay, Scope, key, literal, read};

use crate::add::added::{Added, appended, write};
use crate::change::Changing;
use crate::meant::known_stage;
use crate::shown;
use crate::trouble::Trouble;

/// A stage that is new.
#[derive(Debug, Clone)]
pub struct NewStage {
    /// Its name.
    pub name: Name,
    /// What it is for: development, test or production; as the other stage's, or that of the first one that it
    /// follows, if not given.
    pub class: Option<String>,
    /// A stage that it is made like.
    pub like: Option<Name>,
    /// Its groups, weakest first.
    pub groups: Vec<Name>,
    /// The stages that come before it.
    pub after: Vec<Name>,
    /// The stages that it follows, weakest first.
    pub follow: Vec<Name>,
    /// Whether it follows their secrets, too.
    pub with_secrets: bool,
}

/// Adds a stage, with a file that lists what it has to set.
pub fn stage(changing: &Changing, new: &NewStage) -> Result<Added, Trouble> {
    let ledger = changing.ledger();
    must_be_free(ledger, &new.name)?;
    let like = new.like.as_ref().map(|name| known_stage(ledger, name.as_str())).transpose()?;
    let follow = new.follow.iter().map(|name| known_stage(ledger, name.as_str()));
    let follow: Vec<StageId> = follow.collect::<Result<_, _>>()?;
    let left_out =
        if new.with_secrets || follow.is_empty() { Vec::new() } else { following::secrets(ledger) };
    let as_is = like.or(follow.first().copied()).map(|id| ledger.stage(id).class);
    let block = declaration(new, ledger, like.map(|id| ledger.stage(id)), as_is) + &follows(new, &left_out);
    let mut changed = Changed::from([appended(changing, "ledger.toml", &block)?]);
    let with_stage = read(&Overlay::new(changing.disk(), &changed), &Scope::Whole)?;
    let id = known_stage(&with_stage, new.name.as_str())?;
    changed.insert(format!("stages/{}.toml", new.name), Some(to_fill(&with_stage, id, like)));
    let added = write(changing, changed, format!("stage {}", new.name))?;
    if !left_out.is_empty() {
        changing.opened.at.telling.notice(&format!(
            "Not followed, since they are secrets: {}. Set those that {} needs, or leave them out of `except`.",
            left_out.join(", "),
            new.name
        ));
    }
    Ok(added)
}

/// What the stage follows, and what it leaves out of that.
fn follows(new: &NewStage, left_out: &[String]) -> String {
    if new.follow.is_empty() {
        return String::new();
    }
    let list: Vec<String> = left_out.iter().map(|pattern| format!("    {pattern:?},\n")).collect();
    let except = if list.is_empty() { String::new() } else { format!(", except = [\n{}]", list.concat()) };
    let follows: Vec<String> =
        new.follow.iter().map(|name| format!("{{ stage = \"{name}\"{except} }}")).collect();
    format!("follow = [{}]\n", follows.join(", "))
}

/// Adds a group of settings for several stages.
pub fn group(changing: &Changing, name: &Name, about: Option<&str>) -> Result<Added, Trouble> {
    must_be_free(changing.ledger(), name)?;
    let mut block = format!("[[group]]\nname = \"{name}\"\n");
    if let Some(about) = about {
        let _ = writeln!(block, "about = {}", literal(&Value::text(about), None));
    }
    let mut changed = Changed::from([appended(changing, "ledger.toml", &block)?]);
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

/// The stage's table in `ledger.toml`.
fn declaration(new: &NewStage, ledger: &Ledger, like: Option<&Stage>, as_is: Option<Class>) -> String {
    let names = |given: &[Name], other: Vec<String>| -> Vec<String> {
        if given.is_empty() { other } else { given.iter().map(ToString::to_string).collect() }
    };
    let stage_names =
        |stage: &Stage| stage.after.iter().map(|&id| ledger.stage(id).name.to_string()).collect();
    let group_names =
        |stage: &Stage| stage.groups.iter().map(|&id| ledger.group(id).name.to_string()).collect();
    let class = new.class.as_deref().or(as_is.map(Class::name)).unwrap_or(Class::Test.name());
    let mut block = format!("[[stage]]\nname = \"{}\"\nclass = \"{class}\"\n", new.name);
    for (word, list) in [
        ("groups", names(&new.groups, like.map(group_names).unwrap_or_default())),
        ("after", names(&new.after, like.map(stage_names).unwrap_or_default())),
    ] {
        if !list.is_empty() {
            let _ = writeln!(block, "{word} = {list:?}");
        }
    }
    if like.is_some_and(|stage| stage.locked) {
        block.push_str("locked = true\n");
    }
    block
}

/// The stage's file: everything that it has to set, and apart what it could, as comments.
fn to_fill(ledger: &Ledger, stage: StageId, like: Option<StageId>) -> String {
    let known = ledger.stage(stage);
    let mut text = format!(
        "# Settings of {} (class {}). What stands behind # is not set: fill it in, and take the # away.\n",
        known.name,
        known.class.name()
    );
    let resolver = Resolver::new(ledger, &Unfetched, &[]);
    let mut session = resolver.session(None);
    let all = blanks(&resolver, stage);
    for (needed, heading) in [(true, "Needed"), (false, "With a default that can be changed")] {
        let blanks = all.iter().filter(|blank| blank.needed == needed);
        let mut listed: Vec<(String, String, &Blank)> = blanks
            .map(|blank| {
                let (table, key) = place(ledger, blank.field);
                (table, key, blank)
            })
            .collect();
        if listed.is_empty() {
            continue;
        }
        // A header twice would be a mistake: shared variables and tables have one in common, and those
        // of defaults are comments.
        listed.sort_by_key(|(table, ..)| table != "shared");
        let mark = if needed { "" } else { "# " };
        let _ = write!(text, "\n# {heading}\n");
        let mut before = String::new();
        for (table, key, blank) in listed {
            if table != before {
                let _ = write!(text, "\n{mark}[{table}]\n");
            }
            text.push_str(&line(&mut session, blank, &key, like));
            before = table;
        }
    }
    text
}

/// The table that a field's setting stands in, and its key there.
fn place(ledger: &Ledger, field: FieldId) -> (String, String) {
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let own = declaration.name.as_ref();
    match (field.subject, own) {
        (Subject::Shared, Some(name)) => (format!("shared.{}", entry.name), name.to_string()),
        (Subject::Shared, None) => ("shared".to_owned(), entry.name.to_string()),
        (unit, Some(name)) => {
            (format!("units.{}", key(&ledger.owner(unit).to_string())), format!("{}.{name}", entry.name))
        }
        (unit, None) => (format!("units.{}", key(&ledger.owner(unit).to_string())), entry.name.to_string()),
    }
}

/// One field as a comment: its key, a value to start from, its type and what it is for, and what the
/// other stage has.
fn line(session: &mut Session<'_, '_>, blank: &Blank, key: &str, like: Option<StageId>) -> String {
    let ledger = session.ledger();
    let (entry, declaration) = ledger.field(blank.field.subject, blank.field.slot);
    let value = match &declaration.default {
        Some(default) if !blank.needed && !declaration.secret && declaration.this_type != Type::Table => {
            literal(default.value.expose(), None)
        }
        _ => start_of(declaration),
    };
    let about = declaration.about.as_deref().or(entry.about.as_deref());
    let mut said = declaration.this_type.name().to_owned();
    if let Some(about) = about {
        let _ = write!(said, "; {about}");
    }
    if let Some(other) = like.and_then(|like| other_value(session, blank.field, like)) {
        let _ = write!(said, "; {other}");
    }
    format!("# {key} = {value}  # {}\n", said.replace(['\n', '\r'], " "))
}

/// A value of the right form to be filled in.
fn start_of(declaration: &Declaration) -> String {
    if declaration.secret {
        return "{ from = \"env:\" }".to_owned();
    }
    match declaration.this_type {
        Type::Integer | Type::Port => "0",
        Type::Number => "0.0",
        Type::Boolean => "false",
        Type::List => "[]",
        Type::Map => "{}",
        Type::Table => "\"tables/….csv\"",
        _ => "\"\"",
    }
    .to_owned()
}

/// What another stage has for the field, secrets masked.
fn other_value(session: &mut Session<'_, '_>, field: FieldId, like: StageId) -> Option<String> {
    let ledger = session.ledger();
    let there = FieldId { stage: like, ..field };
    if let Subject::Unit(unit, instance) = field.subject
        && !ledger.unit(unit).belongs_to(like, instance)
    {
        return None;
    }
    let Outcome::Value(effective) = session.outcome(there) else { return None };
    let value = match effective.expose() {
        Some(value) if !effective.is_secret() && shown::is_rows(value) => shown::one_line(value),
        Some(value) if !effective.is_secret() => literal(value, None),
        _ => shown::MASK.to_owned(),
    };
    let address: Address = ledger.address(there);
    Some(format!("in {}: {value}", address.stage.as_ref().map(Name::as_str).unwrap_or_default()))
}
