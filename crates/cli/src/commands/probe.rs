//! `cledger probe`: whether the services that units talk to in a stage answer.

use std::collections::BTreeSet;
use std::time::Duration;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Owner};
use cledger_core::model::{Class, Subject};
use cledger_core::name::Name;
use cledger_core::probe::{Answer, NotTried, Probed, Target, merged, targets};
use cledger_core::resolve::Resolver;
use cledger_core::trust::of_target;
use cledger_outlets::Trust;
use cledger_outlets::probe::Prober;
use jiff::Timestamp;

use super::show::{with_stage, without_delivery};
use crate::app::{App, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::granted::not_trusted;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ProbeArgs {
    /// The stage: @STAGE, or UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// Units or instances in that stage, where the address names none; all if not given
    #[arg(value_name = "UNIT")]
    units: Vec<String>,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Give each service so many seconds
    #[arg(long, value_name = "SECONDS", default_value = "5", value_parser = seconds)]
    timeout: Duration,
    /// Say that a production stage is meant, by its name
    #[arg(long, value_name = "STAGE")]
    countersign: Option<Name>,
}

/// What probing a stage came to.
pub(crate) struct Report<'r> {
    pub(crate) stage: &'r str,
    pub(crate) class: &'static str,
    pub(crate) probed: Vec<(Target, Probed)>,
    pub(crate) not_tried: Vec<NotTried>,
}

fn seconds(text: &str) -> Result<Duration, String> {
    let seconds: f64 = text.parse().map_err(|_| "a number of seconds is needed".to_owned())?;
    let fits = (0.1..=600.0).contains(&seconds);
    if fits { Ok(Duration::from_secs_f64(seconds)) } else { Err("from 0.1 to 600 seconds".to_owned()) }
}

pub(crate) fn run(args: &ProbeArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    if address.entry.is_some() {
        let message = format!("`{address}` names an entry, and whole units are probed");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    let mut addresses = vec![address.clone()];
    for unit in &args.units {
        addresses.push(Address { stage: address.stage.clone(), ..Address::parse(unit)? });
    }
    if !args.units.is_empty() && address.owner.is_none() {
        addresses.remove(0);
    }
    let (root, ledger) = app.open(&scope_of(&addresses))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let stage = ledger.stage(chosen.stage);
    if let Some(because) = &chosen.because {
        app.console.notice(&format!("stage {}, from {because}", stage.name));
    }
    if stage.class == Class::Production && args.countersign.as_ref() != Some(&stage.name) {
        let message = format!("this logs in to services of {}, a production stage", stage.name);
        return Err(CliError::refused(message).help(format!("add --countersign {}", stage.name)));
    }
    let owners: Vec<&Owner> = addresses.iter().filter_map(|address| address.owner.as_ref()).collect();
    let subjects: BTreeSet<Subject> = if owners.is_empty() {
        ledger.subjects_in(chosen.stage).collect()
    } else {
        let subjects = owners.into_iter().map(|owner| app.subject_in(&ledger, owner, chosen.stage));
        subjects.collect::<Result<_, _>>()?
    };
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let (mut all, mut not_tried) = (Vec::new(), Vec::new());
    for subject in subjects {
        let (found, without) = targets(&mut resolver.session(unit_of(subject)), subject, chosen.stage);
        all.extend(found);
        not_tried.extend(without);
    }
    let all = merged(all);
    if app.granted().is_unsaid() {
        return Err(not_trusted("nothing is tried"));
    }
    app.require(&all.iter().flat_map(of_target).collect::<BTreeSet<_>>())?;
    app.console.detail(&format!("trying {} services", all.len()));
    let probed = Prober::new(Trust::of_system(), args.timeout, Timestamp::now()).all(&all);
    let report = Report {
        stage: stage.name.as_str(),
        class: stage.class.name(),
        probed: all.into_iter().zip(probed).collect(),
        not_tried,
    };
    if app.console.is_json() {
        app.console.document(&json::probe::document(&report));
    } else {
        text::probe::print(app.console, &report);
    }
    app.tell_unread(&outside);
    let all_answer = report.probed.iter().all(|(_, probed)| probed.answer == Answer::Answers);
    Ok(if all_answer && report.not_tried.is_empty() { status::CLEAN } else { status::FOUND })
}
