//! `cledger deliver`: a unit, or all of a stage, brought to the stage's outlets, and recorded.

mod guards;
mod only;
pub(crate) mod plan;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Pattern};
use cledger_core::delivery::drafted;
use cledger_core::findings::{self, Finding, Severity};
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_store::daybook::{Content, Daybook, Kind, Meta, Packed, Record, Wanted};
use cledger_store::{Keys, Scope, commit_of};
use jiff::Timestamp;

use self::plan::{Plan, Planner, places_of};
use super::{with_stage, without_delivery};
use crate::app::App;
use crate::change::ChangeOptions;
use crate::complete;
use crate::conditions::day;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::bring::{Bringer, Bringing, Brought, masking};
use crate::reality::{Around, Seeing, look};

#[derive(Debug, Args)]
pub(crate) struct DeliverArgs {
    /// What to deliver: UNIT[+INSTANCE]@STAGE, or @STAGE for all that belongs there
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "ADDRESS")]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Deliver; without it is only shown what would change
    #[arg(long)]
    write: bool,
    /// Bring the content of this delivery again, as a new one
    #[arg(long, value_name = "NUMBER")]
    again: Option<u64>,
    /// Bring these fields alone, as ENTRY or ENTRY.FIELD; the rest stays as it was delivered last
    #[arg(long, value_name = "PATTERN", conflicts_with = "again")]
    only: Vec<String>,
    /// Make the reason of what changes: fields by name, without values
    #[arg(long, conflicts_with = "why")]
    draft_why: bool,
    /// Do not ask whether the stages before had a delivery of the same contract; needs a reason
    #[arg(long)]
    skip_stages: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

impl DeliverArgs {
    /// A delivery that follows from another command.
    pub(super) fn following(
        address: String,
        draft_why: bool,
        skip_stages: bool,
        change: ChangeOptions,
    ) -> Self {
        Self {
            address,
            stage: None,
            write: true,
            again: None,
            only: Vec::new(),
            draft_why,
            skip_stages,
            change,
        }
    }
}

/// What came of the delivery of one unit.
pub(crate) struct Delivery {
    pub(crate) plan: Plan,
    /// What the outlets answered; nothing where it was only shown, or left out.
    pub(crate) brought: Vec<Brought>,
    /// The record, where one was made.
    pub(crate) recorded: Option<Record>,
}

/// Everything that a delivery needs.
struct Delivering<'a, 'l> {
    planner: Planner<'a, 'l>,
    around: Around<'a>,
    keys: &'a Keys<'a>,
    book: Box<dyn Daybook>,
}

pub(crate) fn run(args: &DeliverArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    if address.entry.is_some() {
        let message = format!("`{address}` names an entry, and whole units are delivered");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    let (root, ledger) = app.open(&Scope::Whole)?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    if let Some(because) = &chosen.because {
        app.console.notice(&format!("stage {}, from {because}", ledger.stage(chosen.stage).name));
    }
    let subjects: Vec<Subject> = match &address.owner {
        None if args.again.is_some() => {
            return Err(
                CliError::usage("a number is that of one unit").help("write UNIT@STAGE --again NUMBER")
            );
        }
        None => ledger.subjects_in(chosen.stage).collect(),
        Some(owner) => vec![app.subject_in(&ledger, owner, chosen.stage)?],
    };
    let (outside, keys) = (app.outside(&root), app.keys(&root));
    let mut book = if args.write {
        daybook::open(app, &ledger, &root)?
    } else {
        daybook::planning(app, &ledger, &root)?
    };
    let staying = if args.only.is_empty() {
        Vec::new()
    } else {
        let resolver = Resolver::new(&ledger, &outside, &[]);
        let planner = Planner { resolver: &resolver, keys: &keys };
        only::staying(&planner, &mut *book, &subjects, chosen.stage, &args.only)?
    };
    let resolver = Resolver::new(&ledger, &outside, &staying);
    let mut delivering = Delivering {
        planner: Planner { resolver: &resolver, keys: &keys },
        around: Around::of(app, &root, &outside),
        keys: &keys,
        book,
    };
    let (mut plans, mut gaps) = (Vec::new(), Vec::<Finding>::new());
    // What was delivered before was in order then.
    if args.again.is_none() {
        let owner = address.owner.as_ref().map(ToString::to_string).unwrap_or_default();
        let pattern = Pattern::parse(&format!("{owner}@{}", ledger.stage(chosen.stage).name))?;
        let report = findings::check(&resolver, Some(&pattern), Some(day(None)?));
        let is_error = |finding: &Finding| finding.severity == Severity::Error;
        gaps.extend(report.findings.into_iter().filter(is_error));
    }
    for subject in subjects {
        delivering.finish_open(app, args, &ledger, subject, chosen.stage)?;
        match delivering.plan(app, args, subject, chosen.stage)? {
            Ok(plan) => plans.push(plan),
            Err(found) if gaps.is_empty() => gaps.extend(found),
            // The check has told them.
            Err(_) => {}
        }
    }
    if !gaps.is_empty() {
        if app.console.is_json() {
            app.console.document(&json::deliver::document(&ledger, &[], &gaps, false));
        } else {
            text::render::gaps(app.console, &ledger, &gaps);
            app.console.line("Nothing is delivered.");
        }
        return Ok(status::FOUND);
    }
    let mut deliveries: Vec<Delivery> =
        plans.into_iter().map(|plan| Delivery { plan, brought: Vec::new(), recorded: None }).collect();
    if args.write {
        let stage = ledger.stage(chosen.stage);
        guards::stage(stage, &args.change)?;
        for delivery in deliveries.iter().filter(|delivery| !delivery.plan.is_idle()) {
            guards::order(&mut *delivering.book, &ledger, &delivery.plan, args.skip_stages)?;
            guards::chores(&mut *delivering.book, &ledger, &delivery.plan)?;
        }
        for delivery in deliveries.iter_mut().filter(|delivery| !delivery.plan.is_idle()) {
            let why = why(args, &delivery.plan)?;
            (delivery.brought, delivery.recorded) =
                delivering.deliver(app, args, &ledger, &delivery.plan, &why)?;
        }
    }
    if app.console.is_json() {
        app.console.document(&json::deliver::document(&ledger, &deliveries, &[], args.write));
    } else {
        text::deliver::print(app.console, &ledger, &deliveries, args.write);
    }
    let all_well = deliveries.iter().all(|delivery| delivery.brought.iter().all(Brought::is_well));
    Ok(if all_well { status::CLEAN } else { status::OUTSIDE })
}

/// The reason that is given, or made of what changes.
fn why(args: &DeliverArgs, plan: &Plan) -> Result<String, CliError> {
    let drafted = || match drafted(&plan.changes()) {
        text if text.is_empty() => "The outlets had other values.".to_owned(),
        text => text,
    };
    match &args.change.why {
        Some(why) => Ok(daybook::reason(why)?.to_owned()),
        None if args.draft_why => Ok(drafted()),
        None => {
            let message = format!("the delivery of `{}` has no reason", plan.owner);
            Err(CliError::usage(message)
                .help(format!("add --why TEXT, or --draft-why, which would say: {}", drafted())))
        }
    }
}

impl<'l> Delivering<'_, 'l> {
    /// What a delivery would be, and how the outlets stand.
    fn plan(
        &mut self,
        app: &App<'_>,
        args: &DeliverArgs,
        subject: Subject,
        stage: StageId,
    ) -> Result<Result<Plan, Vec<Finding>>, CliError> {
        let resolver = self.planner.resolver;
        let planned = self.planner.plan(&mut *self.book, subject, stage)?;
        let mut plan = match planned {
            Ok(plan) => plan,
            Err(gaps) => return Ok(Err(gaps)),
        };
        if let Some(number) = args.again {
            let (content, record) = self.earlier(resolver.ledger(), &plan, number)?;
            plan.content = content;
            plan.contract.clone_from(&record.meta.contract);
            plan.version.clone_from(&record.meta.version);
            plan.again = Some(number);
        }
        let places = places_of(resolver.ledger(), &self.around, subject, stage)?;
        let looked = look(places, resolver, day(None)?, Seeing::Live(app.console))?;
        plan.there = looked.into_iter().flat_map(|looked| looked.units).collect();
        Ok(Ok(plan))
    }

    /// The content of an earlier delivery.
    fn earlier(&mut self, ledger: &Ledger, plan: &Plan, number: u64) -> Result<(Content, Record), CliError> {
        let (owner, stage) = (&plan.owner, ledger.stage(plan.stage).name.as_str());
        let wanted = Wanted::numbered(owner, stage, number);
        let record = self.book.records(&wanted)?.pop().filter(|record| record.meta.kind == Kind::Delivered);
        let record = record.ok_or_else(|| {
            CliError::usage(format!("there is no delivery `{owner}@{stage}:{number}`"))
                .help(format!("`cledger history {owner}@{stage}` lists them"))
        })?;
        Ok((self.planner.content(&record)?, record))
    }

    /// Brings a unit to its outlets, and records what came of it.
    fn deliver(
        &mut self,
        app: &App<'_>,
        args: &DeliverArgs,
        ledger: &'l Ledger,
        plan: &Plan,
        why: &str,
    ) -> Result<(Vec<Brought>, Option<Record>), CliError> {
        let stage = ledger.stage(plan.stage);
        let name = stage.name.as_str();
        self.book.hold(&plan.owner, name)?;
        let last = self.book.records(&Wanted::last_of(&plan.owner, name))?.pop();
        let place = |record: Option<&Record>| record.map(|record| record.meta.place);
        if place(last.as_ref()) != place(plan.last.as_ref().map(|(record, _)| record)) {
            let message = format!("somebody else has delivered `{}@{name}` meanwhile", plan.owner);
            return Err(CliError::outside(message).help("look at what changes now, and try again"));
        }
        let scope = ledger.key_scope(cledger_core::model::LayerId::Stage(plan.stage));
        let (packed, hashes) = plan.content.pack(self.keys, &scope, (&plan.owner, name))?;
        let who = daybook::somebody();
        let mut meta = Meta::new(&plan.owner, name, Kind::Delivered, who, why, Timestamp::now().to_string());
        meta.host = daybook::host();
        meta.version.clone_from(&plan.version);
        meta.contract.clone_from(&plan.contract);
        meta.open = hashes.open;
        meta.secrets = hashes.secrets;
        meta.again = plan.again;
        if let Some((commit, uncommitted)) = commit_of(self.around.ledger_folder) {
            (meta.revision, meta.uncommitted) = (Some(commit), Some(uncommitted));
        }
        if args.skip_stages {
            meta.note = Some("stages before it were left out".to_owned());
        }
        self.book.open(&meta, &packed)?;
        let before = plan.delivered();
        let is_of_ledger = plan.again.is_none();
        let bringing = Bringing { content: &plan.content, before, is_of_ledger };
        let (brought, recorded) =
            self.bring_and_record(app, ledger, (plan.subject, plan.stage), meta, (&packed, &bringing))?;
        self.book.let_go(&plan.owner, name)?;
        Ok((brought, recorded))
    }

    fn bring_and_record(
        &mut self,
        app: &App<'_>,
        ledger: &'l Ledger,
        (subject, stage): (Subject, StageId),
        mut meta: Meta,
        (packed, bringing): (&Packed, &Bringing<'_>),
    ) -> Result<(Vec<Brought>, Option<Record>), CliError> {
        let places = places_of(ledger, &self.around, subject, stage)?;
        let looked = look(places, self.planner.resolver, day(None)?, Seeing::Live(app.console))?;
        // What the ledger makes is known value by value; anything else is taken from the text itself.
        let contents: &[&Content] = if bringing.is_of_ledger { &[] } else { &[bringing.content] };
        let bringer = Bringer {
            ledger,
            ledger_folder: self.around.ledger_folder,
            trust: self.around.trust.clone(),
            masking: masking(self.planner.resolver, subject, stage, contents),
        };
        let brought = bringer.bring(looked, subject, bringing)?;
        // Where nothing came anywhere, there was no delivery; nor where all of it was there already.
        let is_old = bringing.before == Some(bringing.content) && brought.iter().all(Brought::was_there);
        if is_old || brought.iter().all(Brought::is_without_effect) {
            self.book.close(&meta.unit, &meta.stage)?;
            return Ok((brought, None));
        }
        meta.outlets = brought.iter().map(Brought::answer).collect();
        let of = format!("{}@{}", meta.unit, meta.stage);
        let recorded = self.book.record(meta, packed).map_err(|error| {
            let told: Vec<String> =
                brought.iter().map(|it| format!("outlet {}: {}", it.outlet, it.word())).collect();
            let message = format!("{error}; what was brought is not recorded yet ({})", told.join(", "));
            CliError::outside(message).help(format!("`cledger deliver {of} --write` finishes it"))
        })?;
        Ok((brought, Some(recorded)))
    }

    /// Finishes a delivery that an interrupted program has left open, or says that there is one.
    fn finish_open(
        &mut self,
        app: &App<'_>,
        args: &DeliverArgs,
        ledger: &'l Ledger,
        subject: Subject,
        stage: StageId,
    ) -> Result<(), CliError> {
        let (owner, name) = (ledger.owner(subject).to_string(), ledger.stage(stage).name.to_string());
        let mut opened = self.book.opened()?.into_iter();
        let Some((mut meta, packed)) = opened.find(|(meta, _)| meta.unit == owner && meta.stage == name)
        else {
            return Ok(());
        };
        let left = format!("A delivery of {owner}@{name} was left open by {} at {}", meta.who, meta.time);
        if !args.write {
            app.console.notice(&format!("{left}. With --write it is finished first."));
            return Ok(());
        }
        guards::stage(ledger.stage(stage), &args.change)?;
        self.book.hold(&owner, &name)?;
        let of = (owner.as_str(), name.as_str());
        let content = daybook::content(of, &packed, meta.secrets.as_deref(), ledger, self.keys)?;
        let last = self.planner.last(&mut *self.book, &owner, stage)?;
        let before = last.as_ref().map(|(_, content)| content);
        meta.note = Some(format!("finished by {}", daybook::somebody()));
        let bringing = Bringing { content: &content, before, is_of_ledger: false };
        let (brought, recorded) =
            self.bring_and_record(app, ledger, (subject, stage), meta, (&packed, &bringing))?;
        self.book.let_go(&owner, &name)?;
        let what = match recorded {
            Some(record) => format!("is finished as number {}", record.meta.number),
            None => "could not be finished, and nothing of it is there".to_owned(),
        };
        let troubles: Vec<&str> = brought.iter().filter_map(Brought::reason).collect();
        let troubles = if troubles.is_empty() { String::new() } else { format!(": {}", troubles.join("; ")) };
        app.console.notice(&format!("{left}, and {what}{troubles}."));
        Ok(())
    }
}
