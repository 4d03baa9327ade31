//! `cledger promote`: what was delivered to one stage, moved up to the next.

mod answers;
mod live;

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::delivery::{Delivered, FieldChange, field_changes};
use cledger_core::model::{LayerId, Ledger, Note, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::promotion::{self, Candidate, Fate};
use cledger_core::resolve::{FieldId, Outcome, Resolver, Winner};
use cledger_core::search::declared;
use cledger_core::value::Value;
use cledger_store::daybook::{Content, Daybook, Kind, Record, Wanted};
use cledger_store::{Edit, Keys, Target};
use zeroize::Zeroizing;

use super::deliver::plan::{Planner, values};
use super::deliver::{self, DeliverArgs};
use crate::app::{App, known_stage, unit_of};
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::place::Place;
use crate::reality::Around;
use crate::reality::made::field_name;
use crate::setting::{Setter, TextFrom, Written, write};

use self::answers::Answers;

#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(crate) struct PromoteArgs {
    /// From where: @STAGE, UNIT@STAGE, or a delivery as UNIT@STAGE:NUMBER
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "FROM")]
    from: String,
    /// To which stage: @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "@TO")]
    to: String,
    /// Only these units, where FROM is a whole stage
    #[arg(value_name = "UNIT")]
    units: Vec<Name>,
    /// Carry these settings, as patterns of fields without a stage; a secret is named in full
    #[arg(long, value_name = "PATTERN")]
    carry: Vec<String>,
    /// Take values that the stage still needs from this file, or write the form for it where there is none
    #[arg(long, value_name = "FILE")]
    answers: Option<PathBuf>,
    /// Do it; without it is only shown
    #[arg(long)]
    write: bool,
    /// Take the values from the outlets of FROM, where they were edited on purpose
    #[arg(long)]
    live: bool,
    /// Deliver the units there, too: one command for the whole move
    #[arg(long, requires = "write")]
    deliver: bool,
    /// Move although other stages come between; needs a reason
    #[arg(long)]
    skip_stages: bool,
    /// Let secrets stand in plain text where the stage has no key
    #[arg(long)]
    plain_secrets: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

/// What moving one unit up means.
pub(crate) struct Promotion {
    pub(crate) owner: String,
    /// The delivery that moves.
    pub(crate) from: Record,
    /// Fields in which the ledger says something else for the stage below by now.
    pub(crate) moved_on: Vec<String>,
    pub(crate) fields: Vec<Field>,
}

/// A field on its way.
pub(crate) struct Field {
    pub(crate) place: Place,
    pub(crate) fate: Fate,
    pub(crate) secret: bool,
    /// The type, for whoever is asked.
    pub(crate) asks: String,
    /// The values as JSON.
    pub(crate) below: Option<Zeroizing<String>>,
    pub(crate) above: Option<Zeroizing<String>>,
    /// Whether it is carried, or answered.
    pub(crate) is_taken: bool,
}

pub(crate) fn run(args: &PromoteArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (status, owners, stage) = promote(args, app)?;
    if !args.deliver || status != status::CLEAN {
        return Ok(status);
    }
    let mut worst = status;
    for owner in owners {
        let (draft, skip) = (args.change.why.is_none(), args.skip_stages);
        let address = format!("{owner}@{stage}");
        let deliver = DeliverArgs::following(address, draft, skip, args.change.clone());
        worst = worst.max(deliver::run(&deliver, app)?);
    }
    Ok(worst)
}

/// Moves the settings, and gives the units that moved, with the stage above.
fn promote(args: &PromoteArgs, app: &mut App<'_>) -> Result<(u8, Vec<String>, Name), CliError> {
    let (from, to) = (Address::parse(&args.from)?, Address::parse(&args.to)?);
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    let (below, above) = (stage_of(ledger, &from, "FROM")?, stage_of(ledger, &to, "TO")?);
    order(ledger, below, above, args)?;
    let outside = app.outside(changing.root());
    let keys = changing.keys(&NO_CHANGE);
    let resolver = Resolver::new(ledger, &outside, &[]);
    let planner = Planner { resolver: &resolver, keys: &keys };
    let Some(mut book) = daybook::reading(app, ledger, changing.root())? else {
        return Err(nothing_delivered(&args.from));
    };
    let carry: Vec<Pattern> = args.carry.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let mut promotions = Vec::new();
    for subject in subjects(app, args, ledger, &from, (below, above))? {
        let owner = ledger.owner(subject).to_string();
        let Some(record) = delivered(&mut *book, &from, &owner, ledger.stage(below).name.as_str())? else {
            continue;
        };
        let mut content = planner.content(&record)?;
        if args.live {
            let around = Around::of(app, changing.root(), &outside);
            live::overlay(&planner, &around, (subject, below), &mut content, app.console)?;
        }
        promotions.push(of_unit(&planner, args, &carry, (subject, below, above), (record, &content)));
    }
    if promotions.is_empty() {
        return Err(nothing_delivered(&args.from));
    }
    let answers = Answers::read(args.answers.as_deref(), args.write, &promotions)?;
    if let Answers::Form(path, count) = &answers {
        let message = format!(
            "Wrote the form for {} to {}. Fill it in, and try again.",
            text::check::counted(*count, "value"),
            path.display()
        );
        app.console.line(message);
        return Ok((status::FOUND, Vec::new(), ledger.stage(above).name.clone()));
    }
    let (edits, layers, written) = edits(args, (ledger, &keys), above, &mut promotions, &answers)?;
    let change = changing.plan(&edits)?;
    changing.refuse_bad_rows(&change)?;
    if args.write && !edits.is_empty() {
        changing.guard(&layers, &change, &args.change)?;
        changing.write(&change)?;
    }
    let names = (ledger.stage(below).name.as_str(), ledger.stage(above).name.as_str());
    if app.console.is_json() {
        app.console.document(&json::promote::document(names, &promotions, &written, args.write));
    } else {
        text::promote::print(app.console, names, &promotions, &written, args.write);
    }
    let needed = |field: &Field| field.fate == Fate::Needed && !field.is_taken;
    let open = promotions.iter().any(|promotion| promotion.fields.iter().any(needed));
    let owners = promotions.iter().map(|promotion| promotion.owner.clone()).collect();
    let stage = ledger.stage(above).name.clone();
    Ok((if open { status::FOUND } else { status::CLEAN }, owners, stage))
}

fn nothing_delivered(from: &str) -> CliError {
    CliError::usage(format!("`{from}` has no delivery that could move up"))
        .help("what moves up is what was delivered: cledger deliver UNIT@STAGE")
}

fn stage_of(ledger: &Ledger, address: &Address, what: &str) -> Result<StageId, CliError> {
    let named = address.stage.as_ref().filter(|_| address.entry.is_none());
    let Some(stage) = named else {
        return Err(CliError::usage(format!("{what} names no stage: `{address}`"))
            .help("cledger promote @test @staging"));
    };
    known_stage(ledger, stage.as_str())
}

/// Whether a move is one step up, as `after` says.
fn order(ledger: &Ledger, below: StageId, above: StageId, args: &PromoteArgs) -> Result<(), CliError> {
    if ledger.stage(above).after.contains(&below) {
        return Ok(());
    }
    let (from, to) = (&ledger.stage(below).name, &ledger.stage(above).name);
    if args.skip_stages {
        if args.change.why.is_none() {
            return Err(CliError::refused("leaving stages out needs a reason").help("add --why TEXT"));
        }
        return Ok(());
    }
    let after: Vec<&str> =
        ledger.stage(above).after.iter().map(|&id| ledger.stage(id).name.as_str()).collect();
    let message = match &after[..] {
        [] => format!("`{to}` comes after no stage, so nothing moves up there"),
        after => format!("`{to}` comes after {}, not after `{from}`", after.join(", ")),
    };
    Err(CliError::refused(message).help("move it step by step, or add --skip-stages --why TEXT"))
}

/// The units that are meant, as far as they belong to both stages.
fn subjects(
    app: &App<'_>,
    args: &PromoteArgs,
    ledger: &Ledger,
    from: &Address,
    (below, above): (StageId, StageId),
) -> Result<Vec<Subject>, CliError> {
    let in_both = |subject: &Subject| match subject {
        Subject::Unit(unit, instance) => ledger.unit(*unit).belongs_to(above, *instance),
        Subject::Shared => false,
    };
    if let Some(owner) = &from.owner {
        let subject = app.subject_in(ledger, owner, below)?;
        return Ok(vec![app.subject_in(ledger, owner, above).map(|_| subject)?]);
    }
    if from.delivery.is_some() {
        return Err(CliError::usage("a number is that of one unit").help("write UNIT@STAGE:NUMBER"));
    }
    let mut subjects: Vec<Subject> = ledger.subjects_in(below).filter(in_both).collect();
    if !args.units.is_empty() {
        for unit in &args.units {
            app.subject_in(ledger, &Owner::Unit(unit.clone(), None), below)?;
        }
        subjects.retain(|&subject| {
            args.units.iter().any(|unit| ledger.owner(subject).names().0 == unit.as_str())
        });
    }
    Ok(subjects)
}

/// The delivery that moves: the one that is named, else the last.
fn delivered(
    book: &mut dyn Daybook,
    from: &Address,
    owner: &str,
    stage: &str,
) -> Result<Option<Record>, CliError> {
    use cledger_core::address::Delivery;
    let wanted = match from.delivery {
        Some(Delivery::Number(number)) => Wanted::numbered(owner, stage, number.into()),
        Some(Delivery::Last) | None => Wanted::last_of(owner, stage),
    };
    Ok(book.records(&wanted)?.pop().filter(|record| record.meta.kind == Kind::Delivered))
}

/// What moving one unit up means for each of its fields.
fn of_unit(
    planner: &Planner<'_, '_>,
    args: &PromoteArgs,
    carry: &[Pattern],
    (subject, below, above): (Subject, StageId, StageId),
    (from, content): (Record, &Content),
) -> Promotion {
    let ledger = planner.resolver.ledger();
    let owner = ledger.owner(subject);
    let mut session = planner.resolver.session(unit_of(subject));
    let stage = ledger.stage(above).name.clone();
    let (mut fields, mut now_below) = (Vec::new(), BTreeMap::new());
    for slot in ledger.slots(subject).all() {
        let (entry, declaration) = ledger.field(subject, slot);
        let name = field_name(&entry.name, declaration);
        let json = |outcome: &Outcome<'_>| {
            let value = outcome.value()?.expose()?;
            Some(Zeroizing::new(value.to_json().to_string()))
        };
        let (here, there) = (
            session.outcome(FieldId { subject, stage: below, slot }),
            session.outcome(FieldId { subject, stage: above, slot }),
        );
        if let Some(text) = json(&here) {
            now_below.insert(name.clone(), (text, declaration.secret));
        }
        let (is_set_below, is_shared) = match session.winners(subject, below)[slot.0 as usize] {
            Winner::Set(_, _, is_shared) => (true, is_shared),
            Winner::Assumed(_) => (true, false),
            Winner::Nothing | Winner::Default(..) => (false, false),
        };
        let before = content.values.get(&name).and_then(|stored| stored.text.clone());
        let now = json(&there);
        let (target, target_slot) = if is_shared { declared(ledger, subject, slot) } else { (subject, slot) };
        let address = Address::of_field(
            if is_shared { Owner::Shared } else { owner.clone() },
            &entry.name,
            declaration.name.as_ref(),
            Some(&stage),
        );
        let own = Address::of_field(owner.clone(), &entry.name, declaration.name.as_ref(), Some(&stage));
        let is_missing = matches!(there, Outcome::Missing(..)) && !declaration.derived;
        let below_value = content.values.get(&name).map(|stored| Delivered {
            text: stored.text.as_ref().map(|text| text.as_str()),
            secret: stored.secret,
        });
        let above_value = matches!(there, Outcome::Value(_))
            .then(|| Delivered { text: now.as_ref().map(|text| text.as_str()), secret: declaration.secret });
        let covers = |pattern: &Pattern| pattern.covers(&address) || pattern.covers(&own);
        // A whole unit or entry is no name of a field.
        let bare = |address: &Address| Address { stage: None, ..address.clone() };
        let mut exact = args.carry.iter().filter_map(|text| Address::parse(text).ok());
        let named = exact.any(|it| bare(&it) == bare(&address) || bare(&it) == bare(&own));
        let candidate = Candidate {
            address: &own,
            declaration,
            below: below_value,
            above: above_value,
            is_missing,
            is_set_below,
        };
        let mut fate = promotion::fate(ledger, above, &candidate, named);
        // What is needed may be carried like anything else.
        let given = Candidate { is_missing: false, ..candidate };
        if fate == Fate::Needed
            && carry.iter().any(covers)
            && promotion::fate(ledger, above, &given, named) == Fate::MayBeCarried
        {
            fate = Fate::MayBeCarried;
        }
        if matches!(fate, Fate::Same | Fate::Follows) {
            continue;
        }
        let is_taken = fate == Fate::MayBeCarried && carry.iter().any(covers);
        let place = Place {
            address,
            subject: target,
            slot: target_slot,
            target: Target::Layer(LayerId::Stage(above)),
        };
        let asks = declaration.this_type.describe().to_owned();
        fields.push(Field {
            place,
            fate,
            secret: declaration.secret,
            asks,
            below: before,
            above: now,
            is_taken,
        });
    }
    let then = values(content);
    let now: BTreeMap<String, Delivered<'_>> = now_below
        .iter()
        .map(|(name, (text, secret))| {
            (name.clone(), Delivered { text: Some(text.as_str()), secret: *secret })
        })
        .collect();
    let moved_on = field_changes(&then, &now).into_iter();
    let moved_on =
        moved_on.filter(|(_, change)| !matches!(change, FieldChange::NotKnown)).map(|(name, _)| name);
    Promotion { owner: owner.to_string(), moved_on: moved_on.collect(), from, fields }
}

/// The edits, the layers that they are of, and the settings that they write.
type Changes = (Vec<Edit>, Vec<LayerId>, Vec<Written>);

/// The settings that are written, each field once however many units share it.
fn edits(
    args: &PromoteArgs,
    (ledger, keys): (&Ledger, &Keys<'_>),
    above: StageId,
    promotions: &mut [Promotion],
    answers: &Answers,
) -> Result<Changes, CliError> {
    let layer = LayerId::Stage(above);
    let setter = Setter { ledger, keys, plain_secrets: args.plain_secrets };
    let note = Note { why: args.change.why.clone(), ..Note::default() };
    let mut made: BTreeMap<String, (Option<Edit>, Written)> = BTreeMap::new();
    for field in promotions.iter_mut().flat_map(|promotion| &mut promotion.fields) {
        let address = field.place.address.to_string();
        let (text, from) = if field.is_taken {
            let json = field.below.as_ref().and_then(|text| serde_json::from_str(text).ok());
            let Some(value) = json.and_then(Value::from_json) else { continue };
            (Zeroizing::new(value.to_text().to_string()), TextFrom::System)
        } else if let Some(answer) = answers.of(field)? {
            field.is_taken = true;
            (answer, TextFrom::Hand)
        } else {
            continue;
        };
        if made.contains_key(&address) {
            continue;
        }
        let before = ledger.setting_at(layer, field.place.subject, field.place.slot);
        let said = setter.said(&field.place, &text, from, before)?;
        made.insert(address, write(ledger, &field.place, layer, &said, &note));
    }
    let (edits, written): (Vec<_>, Vec<_>) = made.into_values().unzip();
    let layers = if written.is_empty() { Vec::new() } else { vec![layer] };
    Ok((edits.into_iter().flatten().collect(), layers, written))
}
