//! The commands: one file each, with its options and what it does.

mod add;
mod adopt;
mod browse;
mod capture;
mod change;
mod check;
mod chores;
mod compare;
mod completions;
mod deliver;
mod demo;
mod drift;
mod fill;
mod folio;
mod get;
mod history;
mod impact;
mod init;
mod key;
mod list;
mod man;
mod matrix;
mod outlet;
mod probe;
mod promote;
mod rehome;
mod remove;
mod rename;
mod render;
mod replace;
mod report;
mod resume;
mod run;
mod schema;
mod search;
mod set;
mod share;
mod show;
mod status;
mod trace;
mod trust;
mod waive;
mod withdraw;

use clap::Subcommand;

use cledger_work::Trouble;

use crate::app::App;
use crate::deferred::Deferred;

/// The commands. `cli::GROUPS` has them in the order of the work.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a new ledger
    Init(Deferred<init::InitArgs>),
    /// Write the demo ledger, and walk through the work on it
    Demo(Deferred<demo::DemoArgs>),
    /// Make a unit and its settings of files that exist
    Adopt(Deferred<adopt::AdoptArgs>),
    /// Say that a ledger may reach what it names, or that keys are the right ones
    Trust(Deferred<trust::TrustArgs>),
    /// Declare something new: a stage, unit, entry, output, outlet, rule and so on
    Add(Deferred<add::AddArgs>),
    // Not deferred: its options have headings, before which those of all commands would come.
    /// Say something else of what is declared
    Change(Box<change::ChangeArgs>),
    /// List units, stages, groups or shared entries
    List(Deferred<list::ListArgs>),
    /// Take something out, with the settings that are made for it
    Remove(Deferred<remove::RemoveArgs>),
    /// Make a unit's entry one that several units use
    Share(Deferred<share::ShareArgs>),
    /// Give something another name, wherever the ledger mentions it
    Rename(Deferred<rename::RenameArgs>),
    /// Set fields in a stage, a group or as defaults
    Set(Deferred<set::SetArgs>),
    /// Take settings out again
    Unset(Deferred<set::UnsetArgs>),
    /// Give a stage the values that it lacks: each is asked for, or stands in a form
    Fill(Deferred<fill::FillArgs>),
    /// Search settings and values by what they are and say
    Search(Deferred<search::SearchArgs>),
    /// Put other values in place of what a search finds
    Replace(Deferred<Box<replace::ReplaceArgs>>),
    /// Say who may read the secrets of which stages, and encrypt them
    Key(Deferred<key::KeyArgs>),
    /// Show a change of the ledger that was interrupted, and finish it or put it back
    Resume(Deferred<resume::ResumeArgs>),
    /// Show what a unit gets in a stage, and where each value comes from
    Show(Deferred<show::ShowArgs>),
    /// Print one bare value, for scripts
    Get(Deferred<get::GetArgs>),
    /// Show fields down and stages across
    Matrix(Deferred<matrix::MatrixArgs>),
    /// Say where a value comes from, which others lose to it, and where it ends up
    Trace(Deferred<trace::TraceArgs>),
    /// Say what depends on a value
    Impact(Deferred<impact::ImpactArgs>),
    /// Look through fields and stages in the terminal, and set values
    Browse(Deferred<browse::BrowseArgs>),
    /// Find what is missing, wrong or unused
    Check(Deferred<check::CheckArgs>),
    /// Accept a finding or drift for a while, with a reason
    Waive(Deferred<waive::WaiveArgs>),
    /// Compare two stages, or a unit in two stages
    Compare(Deferred<compare::CompareArgs>),
    /// Write the files of a unit, or of a whole stage
    Render(Deferred<render::RenderArgs>),
    /// Start a program with a unit's values as environment variables
    Run(Deferred<run::RunArgs>),
    /// Put another stage's values into an artifact that was exported from one
    Rehome(Deferred<rehome::RehomeArgs>),
    /// Move what was delivered to one stage up to the next
    Promote(Deferred<Box<promote::PromoteArgs>>),
    /// Bring units to a stage's outlets, and record it
    Deliver(Deferred<deliver::DeliverArgs>),
    /// Take what was delivered off the outlets again
    Withdraw(Deferred<withdraw::WithdrawArgs>),
    /// List what people must do around deliveries, and say that it was done
    Chores(Deferred<chores::ChoresArgs>),
    /// List where stages are delivered to and read back from
    Outlet(Deferred<outlet::OutletArgs>),
    /// Try the services that units talk to in a stage
    Probe(Deferred<probe::ProbeArgs>),
    /// Save what the outlets of a stage hold now
    Capture(Deferred<capture::CaptureArgs>),
    /// Compare what is really there with the ledger
    Drift(Deferred<drift::DriftArgs>),
    /// Show each unit on its way through the stages
    Status(Deferred<status::StatusArgs>),
    /// Say what was delivered where, when, by whom and why
    History(Deferred<history::HistoryArgs>),
    /// Write what a stage, a comparison or a whole ledger looks like as a page
    Report(Deferred<report::ReportArgs>),
    /// Carry units to another ledger, without any stage's values
    Folio(Deferred<folio::FolioArgs>),
    /// Print what a shell needs to complete commands and addresses
    Completions(Deferred<completions::CompletionsArgs>),
    /// Print a JSON Schema for a kind of ledger file
    Schema(Deferred<schema::SchemaArgs>),
    /// Print or write the manual pages
    Man(Deferred<man::ManArgs>),
}

/// Runs a command and gives its exit status.
pub(crate) fn run(command: Command, app: &mut App<'_>) -> Result<u8, Trouble> {
    match command {
        Command::Init(args) => init::run(&args, app),
        Command::Demo(args) => demo::run(&args, app),
        Command::Adopt(args) => adopt::run(&args, app),
        Command::Trust(args) => trust::run(&args, app),
        Command::Resume(args) => resume::run(&args, app),
        Command::Add(args) => add::run(&args, app),
        Command::Change(args) => change::run(&args, app),
        Command::List(args) => list::run(&args, app),
        Command::Remove(args) => remove::run(&args, app),
        Command::Share(args) => share::run(&args, app),
        Command::Rename(args) => rename::run(&args, app),
        Command::Set(args) => set::set(&args, app),
        Command::Unset(args) => set::unset(&args, app),
        Command::Search(args) => search::run(&args, app),
        Command::Replace(args) => replace::run(&args, app),
        Command::Key(args) => key::run(&args, app),
        Command::Show(args) => show::run(&args, app),
        Command::Get(args) => get::run(&args, app),
        Command::Matrix(args) => matrix::run(&args, app),
        Command::Browse(args) => browse::run(&args, app),
        Command::Trace(args) => trace::run(&args, app),
        Command::Impact(args) => impact::run(&args, app),
        Command::Check(args) => check::run(&args, app),
        Command::Waive(args) => waive::run(&args, app),
        Command::Compare(args) => compare::run(&args, app),
        Command::Render(args) => render::run(&args, app),
        Command::Run(args) => run::run(&args, app),
        Command::Rehome(args) => rehome::run(&args, app),
        Command::Promote(args) => promote::run(&args, app),
        Command::Deliver(args) => deliver::run(&args, app),
        Command::Withdraw(args) => withdraw::run(&args, app),
        Command::Chores(args) => chores::run(&args, app),
        Command::Outlet(args) => outlet::run(&args, app),
        Command::Probe(args) => probe::run(&args, app),
        Command::Capture(args) => capture::run(&args, app),
        Command::Drift(args) => drift::run(&args, app),
        Command::Fill(args) => fill::run(&args, app),
        Command::Status(args) => status::run(&args, app),
        Command::History(args) => history::run(&args, app),
        Command::Report(args) => report::run(&args, app),
        Command::Folio(args) => folio::run(&args, app),
        Command::Completions(args) => completions::run(&args, app),
        Command::Schema(args) => schema::run(&args, app),
        Command::Man(args) => man::run(&args, app),
    }
}
