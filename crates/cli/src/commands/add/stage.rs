//! `cledger add stage` and `cledger add group`.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::vocabulary::{GROUP, Key, STAGE};
use cledger_store::{Beside, Item};
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::add::stage::{Copying, NewStage, group, stage};

use crate::app::App;
use crate::complete;
use crate::declared::{Declarable, Keys};
use crate::options::{ActOptions, AtOnceOptions, ChangeOptions};

#[derive(Debug)]
struct Stage;

impl Declarable for Stage {
    const KEYS: &'static [Key] = &STAGE;
    const OWN: &'static [&'static str] = &["name"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct StageArgs {
    /// The new stage's name
    name: Name,
    #[command(flatten)]
    keys: Keys<Stage>,
    /// A stage that it is made like: with its class, groups and what comes before it, and its values as comments
    #[arg(long, value_name = "STAGE", add = ArgValueCompleter::new(complete::stage))]
    like: Option<Name>,
    /// Take over the other stage's settings and all that is said of it; shown first, and done with --write
    #[arg(long, requires = "like")]
    copy: bool,
    /// Texts in values that become others
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"], requires = "copy")]
    swap: Vec<String>,
    /// Make the secrets that it lacks, of so many random characters
    #[arg(long, value_name = "LENGTH", num_args = 0..=1, require_equals = true, default_missing_value = "32", requires = "copy")]
    generate: Option<usize>,
    /// The stages that it follows, weakest first: it has their values where it sets none of its own
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    follow: Vec<Name>,
    /// Take over secrets, too, or follow them, which are left out otherwise
    #[arg(long)]
    with_secrets: bool,
    /// Let secrets stand in plain text where there is no key
    #[arg(long, requires = "copy")]
    plain_secrets: bool,
    /// Take what it still needs from this form, and write it where it is not there yet; without it, each value is
    /// asked for at a terminal
    #[arg(long, value_name = "FILE", requires = "copy")]
    answers: Option<PathBuf>,
    /// Its place among the stages is before this one
    #[arg(long, value_name = "STAGE", conflicts_with = "behind", add = ArgValueCompleter::new(complete::stage))]
    before: Option<Name>,
    /// Its place among the stages is behind this one
    #[arg(long, value_name = "STAGE", add = ArgValueCompleter::new(complete::stage))]
    behind: Option<Name>,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

impl StageArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        let has_class = self.keys.0.iter().any(|said| said.option == "class");
        if !has_class && self.like.is_none() && self.follow.is_empty() {
            let help = "write --class development, test or production; or --like STAGE, or --follow STAGE";
            return Err(Trouble::usage("nothing says what the stage is for").help(help));
        }
        if self.with_secrets && self.follow.is_empty() && !self.copy {
            let help = "write it with --follow STAGE, or with --like STAGE --copy";
            return Err(Trouble::usage("--with-secrets is of what is followed or taken over").help(help));
        }
        let item = |name: &Name| Item::named("stage", name.as_str());
        let before = self.before.as_ref().map(|name| Beside::Before(item(name)));
        let new = NewStage {
            name: self.name.clone(),
            said: self.keys.0.clone(),
            like: self.like.clone(),
            follow: self.follow.clone(),
            with_secrets: self.with_secrets,
            copy: self.copy.then(|| Copying {
                swap: self.swap.clone(),
                generate: self.generate,
                plain_secrets: self.plain_secrets,
                answers: self.act.form(self.answers.as_ref()),
                write: self.act.writes(),
            }),
            place: before.or(self.behind.as_ref().map(|name| Beside::Behind(item(name)))),
            consent: self.change.consent(),
        };
        let only_shows = self.act.is_dry_run() || self.copy && !self.act.writes();
        stage(&app.change(&self.change.wait)?.dry_run(only_shows), &new)
    }
}

#[derive(Debug)]
struct Group;

impl Declarable for Group {
    const KEYS: &'static [Key] = &GROUP;
    const OWN: &'static [&'static str] = &["name"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct GroupArgs {
    /// The new group's name
    name: Name,
    #[command(flatten)]
    keys: Keys<Group>,
    #[command(flatten)]
    at_once: AtOnceOptions,
}

impl GroupArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        group(&app.change_at_once(&self.at_once)?, &self.name, &self.keys.0)
    }
}
