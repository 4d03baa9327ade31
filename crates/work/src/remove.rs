//! Something goes, with the settings that are made for it.

pub(crate) mod delivered;

use cledger_core::address::Address;
use cledger_core::cipher::KeyScope;
use cledger_core::effects::Effect;
use cledger_core::findings::{Code, Finding};
use cledger_core::model::Ledger;
use cledger_core::value::Value;
use cledger_store::{
    Changed, Edit, ListedWhat, Mention, Named, Overlay, What, apply, literal, mentions, move_key, references,
    remove as store_remove, without_mentions,
};

use crate::change::{Changing, Concerns, Consent, Planned};
use crate::daybook;
use crate::declare::Thing;
use crate::declare::touches::Touches;
use crate::rename::named;
use crate::touched::{TouchedFile, touched};
use crate::trouble::Trouble;

/// What is to go.
#[derive(Debug, Clone, Default)]
pub struct ToRemove {
    /// Addresses, and what else is declared, such as `outlet:NAME`.
    pub what: Vec<String>,
    /// Whether what mentions it goes along.
    pub with_mentions: bool,
    /// Whether what is still delivered stays where it is.
    pub keep_delivered: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Whether it is done.
    pub write: bool,
}

/// What goes, and what that does.
#[derive(Debug)]
pub struct Removed {
    /// What goes.
    pub what: Vec<String>,
    /// The files that change.
    pub files: Vec<TouchedFile>,
    /// Where it is mentioned, as the files are.
    pub mentions: Vec<Mention>,
    /// Whether these go along.
    pub with_mentions: bool,
    /// The deliveries of it that are still there.
    pub delivered: Vec<String>,
    /// The effective values that change.
    pub effects: Vec<Effect>,
    /// Whether it is done.
    pub written: bool,
}

/// What goes: something that has a name of its own in the ledger, or another declaration.
struct Going {
    named: Option<Named>,
    thing: Option<Thing>,
}

impl Going {
    fn read(changing: &Changing, said: &str) -> Result<Self, Trouble> {
        let opened = &changing.opened;
        let made = |named, thing| Self { named, thing };
        if said.contains(':') {
            let thing = Thing::read(opened, said)?;
            let named = match &thing {
                Thing::Outlet(name) => Some(Named::Outlet(name.clone())),
                Thing::Rule(name) => Some(Named::Rule(name.clone())),
                _ => None,
            };
            return Ok(made(named, Some(thing)));
        }
        let named = named(opened, &Address::parse(said)?)?;
        let thing = match &named {
            Named::Stage(name) => Some(Thing::Stage(name.clone())),
            _ => None,
        };
        Ok(made(Some(named), thing))
    }

    /// The edits that take out what has no name that others mention.
    fn edits(&self, ledger: &Ledger) -> Option<Edit> {
        let thing = self.thing.as_ref().filter(|_| self.named.is_none())?;
        let stands = thing.stands(ledger);
        if let Thing::Use(_, entry) = thing {
            let what = What::Take(literal(&Value::text(entry.as_str()), None));
            return Some(Edit { file: stands.file, path: vec!["uses".to_owned()], header: 0, what });
        }
        let what = What::Listed(stands.items, ListedWhat::Remove);
        Some(Edit { file: stands.file, path: Vec::new(), header: 0, what })
    }
}

/// Takes something out of the ledger, with the settings that are made for it. Refused where something else would be
/// wrong then that is right today, and where it is still delivered.
pub fn remove(changing: &Changing, asked: &ToRemove) -> Result<Removed, Trouble> {
    let ledger = changing.ledger();
    let going: Vec<Going> =
        asked.what.iter().map(|said| Going::read(changing, said)).collect::<Result<_, Trouble>>()?;
    let things: Vec<Named> = going.iter().filter_map(|one| one.named.clone()).collect();
    daybook::refuse_open_of(&changing.opened, &things.iter().collect::<Vec<_>>())?;
    let (changed, mentions) = without(changing, asked, &going, &things)?;
    let beside: Option<Vec<&Thing>> =
        going.iter().map(|one| one.thing.as_ref().filter(|thing| thing.has_no_values())).collect();
    let plan = match beside {
        Some(things) => changing.plan_beside_values(changed, |before, after| {
            let each = things.iter().map(|thing| thing.concerns(before, after));
            each.reduce(Concerns::and).unwrap_or(Concerns::All)
        }),
        None => changing.plan_texts(changed),
    };
    let planned = plan.map_err(|trouble| match trouble {
        Trouble::Spoiling(_) if !mentions.is_empty() && !asked.with_mentions => mentioned(asked, &mentions),
        other => other,
    })?;
    // A group is there as long as a stage lists it.
    let is_left = |thing: &Named| matches!(thing, Named::Group(name) if planned.after.group_id(name.as_str()).is_some());
    if things.iter().any(is_left) {
        return Err(mentioned(asked, &mentions));
    }
    let is_gone = |path: &str| matches!(planned.changed.get(path), Some(None));
    refuse_dependents(changing, &planned, asked, &references(ledger, &things, &is_gone), &mentions)?;
    let delivered = delivered::of(&changing.opened, &things)?;
    let things_touched = going.iter().filter_map(|one| one.thing.as_ref());
    let touches = things_touched.fold(Touches::default(), |all, thing| all.join(Touches::of(ledger, thing)));
    if asked.write && !delivered.is_empty() && !asked.keep_delivered {
        return Err(still_delivered(asked, &delivered));
    }
    touches.guard(changing, &planned.effects, &asked.consent, asked.write)?;
    if asked.write {
        changing.write(&planned)?;
    }
    let files = touched(ledger, &planned.changed);
    Ok(Removed {
        what: asked.what.clone(),
        files,
        mentions,
        with_mentions: asked.with_mentions,
        delivered,
        effects: planned.effects,
        written: asked.write,
    })
}

/// The files that change, and where what goes is mentioned in those that stay.
fn without(
    changing: &Changing,
    asked: &ToRemove,
    going: &[Going],
    things: &[Named],
) -> Result<(Changed, Vec<Mention>), Trouble> {
    let ledger = changing.ledger();
    let mut changed = store_remove(changing.disk(), ledger, things)?;
    // What goes says nothing of others any more.
    let is_gone = |path: &str| matches!(changed.get(path), Some(None));
    let is_left = |mention: &Mention| {
        let text = changed.get(&mention.file).and_then(Option::as_ref);
        text.is_none_or(|text| text.lines().any(|line| line.trim() == mention.text))
    };
    let mut mentions = mentions(ledger, things, &is_gone);
    mentions.retain(is_left);
    if asked.with_mentions {
        let more = without_mentions(ledger, &changed, things)?;
        changed.extend(more);
    }
    let edits: Vec<Edit> = going.iter().filter_map(|one| one.edits(ledger)).collect();
    let more = apply(&Overlay::new(changing.disk(), &changed), &edits)?;
    changed.extend(more);
    for thing in things {
        let scope = match thing {
            Named::Stage(name) => KeyScope::Stage(name.clone()),
            Named::Group(name) => KeyScope::Group(name.clone()),
            _ => continue,
        };
        let more = move_key(&changing.keys(&changed), &scope, None)?;
        changed.extend(more);
    }
    Ok((changed, mentions))
}

fn lines(mentions: &[Mention]) -> String {
    let lines = mentions.iter().map(|it| format!("{}:{}  {}", it.file, it.line, it.text));
    lines.collect::<Vec<_>>().join("\n")
}

fn mentioned(asked: &ToRemove, mentions: &[Mention]) -> Trouble {
    Trouble::refused(format!("{} cannot go: it is mentioned elsewhere", asked.what.join(", ")))
        .pointed(lines(mentions))
        .help("--with-mentions takes these along; or let go what they stand in, too")
}

fn still_delivered(asked: &ToRemove, delivered: &[String]) -> Trouble {
    let (first, what) = (&delivered[0], asked.what.join(", "));
    let of = first.rsplit_once(':').map_or(first.as_str(), |(of, _)| of);
    Trouble::refused(format!("{what} cannot go: it is still delivered")).pointed(delivered.join("\n")).help(
        format!("take it off first: cledger withdraw {of} --write; or --keep-delivered leaves it there"),
    )
}

/// Refuses what would leave something behind that depends on what goes.
fn refuse_dependents(
    changing: &Changing,
    planned: &Planned,
    asked: &ToRemove,
    references: &[Mention],
    mentions: &[Mention],
) -> Result<(), Trouble> {
    let (caused, _) = changing.differing(planned);
    // What a removed thing no longer clashes or agrees with is no reason to keep it.
    let depends = |finding: &&Finding| {
        matches!(
            finding.code,
            Code::ReferenceUnknown
                | Code::MissingValue
                | Code::UnknownName
                | Code::UnusedSetting
                | Code::WrongType
        )
    };
    let mut dependents: Vec<String> = caused
        .iter()
        .filter(depends)
        .map(|finding| format!("{}[{}] {}", finding.severity.name(), finding.kind(), finding.address))
        .collect();
    if dependents.is_empty() {
        return Ok(());
    }
    if !references.is_empty() {
        dependents.push(lines(references));
    }
    if !asked.with_mentions && !mentions.is_empty() {
        dependents.push(lines(mentions));
    }
    let help = if asked.with_mentions || mentions.is_empty() {
        "change these first, or let them go too: name them in the same command"
    } else {
        "change these first, or let them go too: name them in the same command, or add --with-mentions"
    };
    Err(Trouble::refused(format!("{} cannot go: something depends on it", asked.what.join(", ")))
        .pointed(dependents.join("\n"))
        .help(help))
}
