//! `cledger add stage` and `cledger add group`.

use std::fmt::Write as _;

use clap::Args;
use cledger_core::address::Address;
use cledger_core::blanks::{Blank, blanks};
use cledger_core::model::{Class, Declaration, Ledger, Stage, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Outcome, Resolver, Session, Unfetched};
use cledger_core::types::Type;
use cledger_core::value::Value;
use cledger_store::{Changed, Disk, Overlay, Scope, key, literal, read};

use super::{appended, finish, start};
use crate::app::{App, known_stage};
use crate::error::CliError;
use crate::output::values;

#[derive(Debug, Args)]
pub(crate) struct StageArgs {
    /// The new stage's name
    name: Name,
    /// What it is for; as the other stage's if --like is given
    #[arg(long, value_parser = ["development", "test", "production"], required_unless_present = "like")]
    class: Option<String>,
    /// A stage that it is made like: with its class, groups and what comes before it, and its values as comments
    #[arg(long, value_name = "STAGE")]
    like: Option<Name>,
    /// Its groups, weakest first
    #[arg(long, value_name = "GROUP", value_delimiter = ',')]
    groups: Vec<Name>,
    /// The stages that come before it
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    after: Vec<Name>,
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    wait: u64,
}

#[derive(Debug, Args)]
pub(crate) struct GroupArgs {
    /// The new group's name
    name: Name,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    wait: u64,
}

pub(crate) fn stage(args: &StageArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = start(app, args.wait)?;
    let ledger = &changing.ledger;
    must_be_free(ledger, &args.name)?;
    let like = args.like.as_ref().map(|name| known_stage(ledger, name.as_str())).transpose()?;
    let block = declaration(args, ledger, like.map(|id| ledger.stage(id)));
    let mut changed = Changed::from([appended(&changing, "ledger.toml", &block)?]);
    let disk = Disk::new(changing.root().to_owned());
    let with_stage = read(&Overlay::new(&disk, &changed), &Scope::Whole)?;
    let new = known_stage(&with_stage, args.name.as_str())?;
    changed.insert(format!("stages/{}.toml", args.name), Some(to_fill(&with_stage, new, like)));
    finish(&changing, changed, &format!("stage {}", args.name), app)
}

pub(crate) fn group(args: &GroupArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = start(app, args.wait)?;
    must_be_free(&changing.ledger, &args.name)?;
    let mut block = format!("[[group]]\nname = \"{}\"\n", args.name);
    if let Some(about) = &args.about {
        let _ = writeln!(block, "about = {}", literal(&Value::text(about), None));
    }
    let mut changed = Changed::from([appended(&changing, "ledger.toml", &block)?]);
    let text = format!(
        "# Settings of the group {0}: they count in stages that have groups = [\"{0}\"].\n",
        args.name
    );
    changed.insert(format!("groups/{}.toml", args.name), Some(text));
    finish(&changing, changed, &format!("group {}", args.name), app)
}

fn must_be_free(ledger: &Ledger, name: &Name) -> Result<(), CliError> {
    if name.is_taken() {
        let message = format!("`{name}` has a meaning of its own in addresses");
        return Err(CliError::usage(message).help("choose another name"));
    }
    let what = if ledger.stage_id(name.as_str()).is_some() {
        "stage"
    } else if ledger.group_id(name.as_str()).is_some() {
        "group"
    } else {
        return Ok(());
    };
    Err(CliError::usage(format!("there is a {what} `{name}` already"))
        .help("stages and groups share one set of names"))
}

/// The stage's table in `ledger.toml`.
fn declaration(args: &StageArgs, ledger: &Ledger, like: Option<&Stage>) -> String {
    let names = |given: &[Name], other: Vec<String>| -> Vec<String> {
        if given.is_empty() { other } else { given.iter().map(ToString::to_string).collect() }
    };
    let stage_names =
        |stage: &Stage| stage.after.iter().map(|&id| ledger.stage(id).name.to_string()).collect();
    let group_names =
        |stage: &Stage| stage.groups.iter().map(|&id| ledger.group(id).name.to_string()).collect();
    let class = args.class.as_deref().or(like.map(|stage| stage.class.name())).unwrap_or(Class::Test.name());
    let mut block = format!("[[stage]]\nname = \"{}\"\nclass = \"{class}\"\n", args.name);
    for (word, list) in [
        ("groups", names(&args.groups, like.map(group_names).unwrap_or_default())),
        ("after", names(&args.after, like.map(stage_names).unwrap_or_default())),
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
        Some(value) if !effective.secret && values::is_rows(value) => values::one_line(value),
        Some(value) if !effective.secret => literal(value, None),
        _ => values::MASK.to_owned(),
    };
    let address: Address = ledger.address(there);
    Some(format!("in {}: {value}", address.stage.as_ref().map(Name::as_str).unwrap_or_default()))
}
