//! `cledger change`: what a declaration says, said otherwise.

use clap::{ArgMatches, Args, Command, FromArgMatches};
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::vocabulary::{
    ALIGNED, BUNDLE, CHECK, CHORE, CONNECTION, CREDENTIAL, DAYBOOK, FIELD, FOLLOW, Form, INSTANCE, Key,
    LEDGER, OUTLET, OUTPUT, PROBE, RULE, RULE_DEMANDS, STAGE, TABLE, UNIT,
};
use cledger_work::Trouble;
use cledger_work::declare::change::{ToChange, change};
use cledger_work::declare::{Said, Thing};

use crate::app::App;
use crate::commands::add::entry::with_optional;
use crate::complete;
use crate::declared::{arg, said};
use crate::options::{ActOptions, ChangeOptions};

/// A heading, the keys below it, and those by which something is known.
type Changeable = (&'static str, &'static [&'static [Key]], &'static [&'static str]);

/// What can be changed, with its keys and those by which it is known, which are no options.
const ALL: [Changeable; 13] = [
    ("Of a variable or a field", &[&FIELD], &[]),
    ("Of a connection or credential", &[&CONNECTION, &CREDENTIAL], &[]),
    ("Of a lookup table", &[&TABLE], &[]),
    ("Of a stage", &[&STAGE], &["name"]),
    ("Of a follow or an alignment", &[&FOLLOW, &ALIGNED], &["stage", "stages"]),
    ("Of a unit or an instance", &[&UNIT, &INSTANCE], &[]),
    ("Of an output", &[&OUTPUT], &[]),
    ("Of an outlet", &[&OUTLET], &["name"]),
    ("Of a rule", &[&RULE, &RULE_DEMANDS], &["name"]),
    ("Of a bundle", &[&BUNDLE], &["name"]),
    ("Of a chore", &[&CHORE], &[]),
    ("Of a probe", &[&PROBE], &["name"]),
    ("Of the ledger", &[&LEDGER, &CHECK, &DAYBOOK], &["format"]),
];

/// Headings, each with what an option is for below it.
type Headings<'h> = Vec<(&'h str, &'h str)>;

/// Each option once, with its heading and what it is for.
fn options() -> Vec<(String, String, &'static Key)> {
    let mut all: Vec<(String, Headings<'_>, &Key)> = Vec::new();
    for (heading, lists, own) in ALL {
        let is_said = |key: &&Key| {
            !matches!(key.form, Form::Things) && !key.about.is_empty() && !own.contains(&key.name)
        };
        for key in lists.iter().flat_map(|keys| keys.iter()).filter(is_said) {
            let option = key.option();
            match all.iter_mut().find(|(known, ..)| *known == option) {
                Some((_, headings, _)) if headings.iter().any(|(known, _)| *known == heading) => {}
                Some((_, headings, _)) => headings.push((heading, key.about)),
                None => all.push((option, vec![(heading, key.about)], key)),
            }
        }
    }
    let told = |(_, headings, key): (String, Headings<'_>, &'static Key)| match headings[..] {
        [(heading, about)] => (heading.to_owned(), about.to_owned(), key),
        _ if headings.iter().all(|(_, about)| *about == key.about) => {
            ("Of several".to_owned(), key.about.to_owned(), key)
        }
        _ => {
            let each =
                headings.iter().map(|(heading, about)| format!("{}: {about}", heading.replacen('O', "o", 1)));
            ("Of several".to_owned(), each.collect::<Vec<_>>().join("; "), key)
        }
    };
    all.into_iter().map(told).collect()
}

/// What is said of anything.
#[derive(Debug)]
struct AnyKeys(Vec<Said>);

impl Args for AnyKeys {
    fn augment_args(command: Command) -> Command {
        options().into_iter().fold(command, |command, (heading, about, key)| {
            command.arg(arg(key, false).help_heading(heading).help(about))
        })
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl FromArgMatches for AnyKeys {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        Ok(Self(said(matches, options().into_iter().map(|(.., key)| key))))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}

#[derive(Debug, Args)]
pub(crate) struct ChangeArgs {
    /// What is changed: UNIT, UNIT+INSTANCE, UNIT/ENTRY, UNIT/ENTRY.FIELD, shared/ENTRY, @STAGE, @GROUP, outlet:NAME,
    /// rule:NAME, bundle:NAME, output:UNIT/PATH, chore:UNIT/TEXT, follow:STAGE/FOLLOWED, aligned:STAGE,STAGE or ledger.toml
    #[arg(add = ArgValueCompleter::new(complete::address))]
    what: String,
    /// What is said no longer, by its option (`pattern`; `label.NAME` for one of several)
    #[arg(long, value_name = "OPTION", value_delimiter = ',')]
    without: Vec<String>,
    /// Its place among the stages is before this one
    #[arg(long, value_name = "STAGE", conflicts_with = "behind", add = ArgValueCompleter::new(complete::stage))]
    before: Option<Name>,
    /// Its place among the stages is behind this one
    #[arg(long, value_name = "STAGE", add = ArgValueCompleter::new(complete::stage))]
    behind: Option<Name>,
    /// A field need not have a value
    #[arg(long, conflicts_with = "key-required")]
    optional: bool,
    #[command(flatten)]
    keys: AnyKeys,
    #[command(flatten, next_help_heading = None)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &ChangeArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let changing = app.change(&args.change.wait)?;
    let thing = Thing::read(&changing.opened, &args.what)?;
    let asked = ToChange {
        said: with_optional(&args.keys.0, args.optional),
        without: args.without.clone(),
        before: args.before.clone(),
        behind: args.behind.clone(),
    };
    let changed = change(&changing, &thing, &asked, &args.change.consent(), args.act.writes())?;
    Ok(app.show(&changed))
}
