//! `cledger compare`: two stages, a unit in two stages, the ledger at two times, or files.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Pattern;
use cledger_core::effects::Effect;
use cledger_core::model::{Ledger, OutputFormat};
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::compare::{
    ComparedStages, NamedSides, Side, Structure, named_sides, stages, units, with_revision,
};
use cledger_work::meant::scope_of;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use super::adopt::format;
use crate::app::App;
use crate::complete;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The first: @STAGE, UNIT[+INSTANCE]@STAGE, bundle:NAME@STAGE or a pattern of units, a delivery as UNIT@STAGE:NUMBER, `file:PATH`, `capture:PATH`, `folio:PATH` or `ledger:DIR`; with --against a pattern of what to compare
    #[arg(add = ArgValueCompleter::new(complete::address), required_unless_present = "against")]
    left: Option<String>,
    /// The second: @STAGE, UNIT[+INSTANCE]@STAGE, a delivery as UNIT@STAGE:NUMBER, `file:PATH`, `capture:PATH`, `folio:PATH` or `ledger:DIR`
    #[arg(add = ArgValueCompleter::new(complete::address), required_unless_present = "against", conflicts_with = "against")]
    right: Option<String>,
    /// Compare the ledger with what it was at a git revision: which effective values change
    #[arg(long, value_name = "REV")]
    against: Option<String>,
    /// The format of files whose names do not tell it
    #[arg(long, value_name = "FORMAT", value_parser = OutputFormat::ALL.map(|(_, name)| name))]
    format: Option<String>,
    /// Tell rows and maps in lists apart by this column or name; else by `name`, `id` or `key`, where that does
    #[arg(long = "match", value_name = "KEY")]
    key: Option<String>,
    /// Compare the names in two files alone, whatever their values are
    #[arg(long)]
    structure: bool,
    /// The stage of the other ledger, where it has another name there
    #[arg(long, value_name = "STAGE")]
    their_stage: Option<Name>,
    /// Show also what is the same
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(args: &CompareArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if let Some(revision) = &args.against {
        let pattern = args.left.as_deref().map(Pattern::parse).transpose()?;
        let effects = with_revision(&app.at, revision, pattern.as_ref())?;
        return Ok(app.show(&Revision { revision, effects }));
    }
    let (Some(left), Some(right)) = (&args.left, &args.right) else {
        return Err(Trouble::usage("two sides are needed").help("cledger compare @test @prod-north"));
    };
    let texts = (left.as_str(), right.as_str());
    let sides = (Side::parse(left)?, Side::parse(right)?);
    let (Side::Ledger(_) | Side::Units(_), Side::Ledger(right)) = &sides else {
        let how = Structure {
            format: args.format.as_deref().and_then(format),
            key: args.key.clone(),
            names_only: args.structure,
        };
        let compared = named_sides(&app.at, (&sides.0, &sides.1), (&how, args.their_stage.as_ref()))?;
        return Ok(app.show(&Names { compared, texts, all: args.all }));
    };
    if args.structure || args.key.is_some() {
        return Err(
            Trouble::usage("--match and --structure are for two files").help("write file:PATH file:PATH")
        );
    }
    let scope = if let Side::Ledger(left) = &sides.0 { scope_of([left, right]) } else { Scope::Whole };
    let opened = app.open_partly(&scope)?;
    let resolver = opened.resolver();
    let compared = match &sides.0 {
        Side::Units(left) => units(&opened, &resolver, left, right)?,
        Side::Ledger(left) => stages(&opened, &resolver, left, right)?,
        _ => return Err(Trouble::usage("the first side is no stage")),
    };
    let status = app.show(&Stages { ledger: &opened.ledger, compared, texts, all: args.all });
    resolver.let_go();
    opened.tell_unread();
    Ok(status)
}

/// Two stages.
struct Stages<'l> {
    ledger: &'l Ledger,
    compared: ComparedStages<'l>,
    /// The sides as they were typed.
    texts: (&'l str, &'l str),
    /// Whether what is the same is shown, too.
    all: bool,
}

impl Shown for Stages<'_> {
    fn print(&self, console: &mut Console) {
        text::compare::print(console, self.ledger, &self.compared, self.all);
    }

    fn document(&self) -> impl Serialize {
        json::compare::document(self.ledger, &self.compared.subjects, self.texts)
    }

    fn kind(&self) -> Option<Kind> {
        self.compared.kind()
    }
}

/// Two sides with names.
struct Names<'t> {
    compared: NamedSides,
    texts: (&'t str, &'t str),
    all: bool,
}

impl Shown for Names<'_> {
    fn print(&self, console: &mut Console) {
        text::compare::files(console, &self.compared.names, self.texts, self.all);
    }

    fn document(&self) -> impl Serialize {
        json::compare::files(&self.compared.names, self.texts)
    }

    fn kind(&self) -> Option<Kind> {
        self.compared.kind()
    }
}

/// The ledger now, and at a revision.
struct Revision<'t> {
    revision: &'t str,
    effects: Vec<Effect>,
}

impl Shown for Revision<'_> {
    fn print(&self, console: &mut Console) {
        text::change::effects(console, &self.effects);
    }

    fn document(&self) -> impl Serialize {
        json::compare::with_revision(self.revision, &self.effects)
    }
}
