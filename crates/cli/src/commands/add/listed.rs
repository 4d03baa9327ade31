//! `cledger add outlet`, `output`, `rule`, `bundle`, `probe`, `chore`, `follow`, `aligned` and `use`.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::vocabulary::{
    ALIGNED, BUNDLE, CHORE, FOLLOW, Key, OUTLET, OUTPUT, PROBE, RULE, RULE_DEMANDS,
};
use cledger_work::Trouble;
use cledger_work::declare::add::{add, add_all};
use cledger_work::declare::{Declared, Said, Thing};

use crate::app::App;
use crate::complete;
use crate::declared::{Declarable, Keys};
use crate::options::AddOptions;

fn declare(
    app: &App<'_>,
    things: &[Thing],
    said: &[Said],
    options: &AddOptions,
) -> Result<Declared, Trouble> {
    let changing = app.change(&options.change.wait)?.dry_run(options.dry_run.is_given);
    match things {
        [thing] => add(&changing, thing, said, &options.change.consent(), options.write),
        things => add_all(&changing, things, &options.change.consent(), options.write),
    }
}

#[derive(Debug)]
struct Outlet;

impl Declarable for Outlet {
    const KEYS: &'static [Key] = &OUTLET;
    const OWN: &'static [&'static str] = &["name"];
    const NEEDED: &'static [&'static str] = &["kind", "stages"];
}

#[derive(Debug, Args)]
pub(crate) struct OutletArgs {
    /// The new outlet's name
    name: Name,
    #[command(flatten)]
    keys: Keys<Outlet>,
    #[command(flatten)]
    options: AddOptions,
}

impl OutletArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        declare(app, &[Thing::Outlet(self.name.clone())], &self.keys.0, &self.options)
    }
}

#[derive(Debug)]
struct Output;

impl Declarable for Output {
    const KEYS: &'static [Key] = &OUTPUT;
    const OWN: &'static [&'static str] = &["path"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct OutputArgs {
    /// The unit
    #[arg(add = ArgValueCompleter::new(complete::address))]
    unit: Name,
    /// The new file's path below the unit's folder; may refer to the stage and the unit
    path: String,
    #[command(flatten)]
    keys: Keys<Output>,
    #[command(flatten)]
    options: AddOptions,
}

impl OutputArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        declare(app, &[Thing::Output(self.unit.clone(), self.path.clone())], &self.keys.0, &self.options)
    }
}

#[derive(Debug)]
struct Rule;

/// All that a rule says.
const RULE_KEYS: [Key; RULE.len() + RULE_DEMANDS.len()] = {
    let mut keys = [RULE[0]; RULE.len() + RULE_DEMANDS.len()];
    let mut at = 0;
    while at < keys.len() {
        keys[at] = if at < RULE.len() { RULE[at] } else { RULE_DEMANDS[at - RULE.len()] };
        at += 1;
    }
    keys
};

impl Declarable for Rule {
    const KEYS: &'static [Key] = &RULE_KEYS;
    const OWN: &'static [&'static str] = &["name"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct RuleArgs {
    /// The new rule's name
    name: Name,
    #[command(flatten)]
    keys: Keys<Rule>,
    #[command(flatten)]
    options: AddOptions,
}

impl RuleArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        declare(app, &[Thing::Rule(self.name.clone())], &self.keys.0, &self.options)
    }
}

#[derive(Debug)]
struct Bundle;

impl Declarable for Bundle {
    const KEYS: &'static [Key] = &BUNDLE;
    const OWN: &'static [&'static str] = &["name"];
    const NEEDED: &'static [&'static str] = &["units"];
}

#[derive(Debug, Args)]
pub(crate) struct BundleArgs {
    /// The new bundle's name
    name: Name,
    #[command(flatten)]
    keys: Keys<Bundle>,
    #[command(flatten)]
    options: AddOptions,
}

impl BundleArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        declare(app, &[Thing::Bundle(self.name.clone())], &self.keys.0, &self.options)
    }
}

#[derive(Debug)]
struct Probe;

impl Declarable for Probe {
    const KEYS: &'static [Key] = &PROBE;
    const OWN: &'static [&'static str] = &["name"];
    const NEEDED: &'static [&'static str] = &["entry"];
}

#[derive(Debug, Args)]
pub(crate) struct ProbeArgs {
    /// The unit
    #[arg(add = ArgValueCompleter::new(complete::address))]
    unit: Name,
    /// The new probe's name
    name: Name,
    #[command(flatten)]
    keys: Keys<Probe>,
    #[command(flatten)]
    options: AddOptions,
}

impl ProbeArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        declare(app, &[Thing::Probe(self.unit.clone(), self.name.clone())], &self.keys.0, &self.options)
    }
}

#[derive(Debug)]
struct Chore;

impl Declarable for Chore {
    const KEYS: &'static [Key] = &CHORE;
    const OWN: &'static [&'static str] = &["text"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct ChoreArgs {
    /// Whose chore it is: UNIT or @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    of: String,
    /// What is to be done
    text: String,
    #[command(flatten)]
    keys: Keys<Chore>,
    #[command(flatten)]
    options: AddOptions,
}

impl ChoreArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        let thing = match self.of.strip_prefix('@') {
            Some(stage) => Thing::StageChore(Thing::name(stage)?, self.text.clone()),
            None => Thing::Chore(Thing::name(&self.of)?, self.text.clone()),
        };
        declare(app, &[thing], &self.keys.0, &self.options)
    }
}

#[derive(Debug)]
struct Follow;

impl Declarable for Follow {
    const KEYS: &'static [Key] = &FOLLOW;
    const OWN: &'static [&'static str] = &["stage"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct FollowArgs {
    /// The stage that follows, as @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    stage: String,
    /// The stage that it follows
    #[arg(add = ArgValueCompleter::new(complete::stage))]
    followed: String,
    #[command(flatten)]
    keys: Keys<Follow>,
    #[command(flatten)]
    options: AddOptions,
}

impl FollowArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        let name = |text: &str| Thing::name(text.trim_start_matches('@'));
        let thing = Thing::Follow(name(&self.stage)?, name(&self.followed)?);
        declare(app, &[thing], &self.keys.0, &self.options)
    }
}

#[derive(Debug)]
struct Aligned;

impl Declarable for Aligned {
    const KEYS: &'static [Key] = &ALIGNED;
    const OWN: &'static [&'static str] = &["stages"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct AlignedArgs {
    /// The stages that must agree
    #[arg(required = true, num_args = 1.., value_delimiter = ',', add = ArgValueCompleter::new(complete::stage))]
    stages: Vec<String>,
    #[command(flatten)]
    keys: Keys<Aligned>,
    #[command(flatten)]
    options: AddOptions,
}

impl AlignedArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        let names = self.stages.iter().map(|text| Thing::name(text.trim_start_matches('@')));
        let thing = Thing::Aligned(names.collect::<Result<_, Trouble>>()?);
        declare(app, &[thing], &self.keys.0, &self.options)
    }
}

#[derive(Debug, Args)]
pub(crate) struct UseArgs {
    /// The unit
    #[arg(add = ArgValueCompleter::new(complete::address))]
    unit: Name,
    /// The shared entries that it uses from now on
    #[arg(required = true, num_args = 1.., value_delimiter = ',')]
    entries: Vec<String>,
    #[command(flatten)]
    options: AddOptions,
}

impl UseArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        let entry = |text: &String| Thing::name(text.trim_start_matches("shared/"));
        let things = self.entries.iter().map(|text| Ok(Thing::Use(self.unit.clone(), entry(text)?)));
        declare(app, &things.collect::<Result<Vec<_>, Trouble>>()?, &[], &self.options)
    }
}
