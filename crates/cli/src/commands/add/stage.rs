//! `cledger add stage` and `cledger add group`.

use clap::Args;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::add::stage::{NewStage, group, stage};

use crate::app::App;
use crate::options::AtOnceOptions;

#[derive(Debug, Args)]
pub(crate) struct StageArgs {
    /// The new stage's name
    name: Name,
    /// What it is for; as the other stage's with --like, or with --follow
    #[arg(long, value_parser = ["development", "test", "production"], required_unless_present_any = ["like", "follow"])]
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
    /// The stages that it follows, weakest first: it has their values where it sets none of its own
    #[arg(long, value_name = "STAGE", value_delimiter = ',')]
    follow: Vec<Name>,
    /// Follow their secrets, too, which are left out otherwise
    #[arg(long, requires = "follow")]
    with_secrets: bool,
    #[command(flatten)]
    at_once: AtOnceOptions,
}

impl StageArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        let new = NewStage {
            name: self.name.clone(),
            class: self.class.clone(),
            like: self.like.clone(),
            groups: self.groups.clone(),
            after: self.after.clone(),
            follow: self.follow.clone(),
            with_secrets: self.with_secrets,
        };
        stage(&app.change_at_once(&self.at_once)?, &new)
    }
}

#[derive(Debug, Args)]
pub(crate) struct GroupArgs {
    /// The new group's name
    name: Name,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
    #[command(flatten)]
    at_once: AtOnceOptions,
}

impl GroupArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        group(&app.change_at_once(&self.at_once)?, &self.name, self.about.as_deref())
    }
}
