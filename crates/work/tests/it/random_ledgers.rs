//! What holds for whatever a ledger says: on random ones.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::fs;
use std::process::Command;

use cledger_core::address::{Address, Owner};
use cledger_core::effects::{Effect, effects};
use cledger_core::findings::{self, Code, Finding, Severity};
use cledger_core::model::Subject;
use cledger_core::render::{has_gaps, rendering};
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_store::Scope;
use cledger_work::Opened;
use cledger_work::check::{ToCheck, check};
use cledger_work::compare::with_revision;
use cledger_work::deliver::{ToDeliver, deliver};
use cledger_work::render::{ToRender, render};
use cledger_work::run::{Starting, ToRun, run};
use cledger_work::set::{ToSet, set};

use crate::random::{Description, Tape, fixed_tape};
use crate::workplaces::{Place, asked, because};
use crate::written::write;

/// A rule that some values break.
const RULE: &str = "[[rule]]\nname = \"short\"\nfields = \"*/*\"\nmax_length = 9\nwhy = \"it has to fit\"\n";

/// A rule that compares stages, in which ones is to follow.
const COMPARED: &str = "[[rule]]\nname = \"compared\"\nfields = \"*/*\"\nseverity = \"warning\"\n";

const OUTLET: &str = "[[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"*\"]\npath = \"../live/${stage.name}\"\n";

/// A random ledger, the larger the later its number, whose units all have a file, and whose stages all have a folder.
pub(crate) fn ledger(seed: u32) -> Place {
    let made =
        Description::from_tape(&mut Tape::new(&fixed_tape(seed, 20 + usize::try_from(seed).unwrap() * 4)));
    let place = Place::new(&[]);
    for (path, text) in write(&made).0.0 {
        let more = match path.split_once('/') {
            None if path == "ledger.toml" => {
                let names: Vec<String> =
                    made.stages.iter().map(|stage| format!("\"{}\"", stage.name)).collect();
                let compared = match names.len() {
                    0 | 1 => String::new(),
                    _ => {
                        let demand = if seed % 4 == 3 { "distinct_in" } else { "equal_in" };
                        format!("{COMPARED}{demand} = [{}]\n", names.join(", "))
                    }
                };
                format!("{OUTLET}{compared}{}", if seed.is_multiple_of(2) { RULE } else { "" })
            }
            Some(("units", unit)) => {
                let unit = unit.trim_end_matches(".toml");
                format!("[[output]]\npath = \"{unit}.json\"\nformat = \"json\"\nnaming = \"dotted\"\n")
            }
            _ => String::new(),
        };
        place.write(&path, &format!("{text}\n{more}"));
    }
    for stage in &made.stages {
        fs::create_dir_all(place.path(&format!("../live/{}", stage.name))).unwrap();
    }
    place
}

/// Gives what has no value one of the right type, as far as that is what is missing.
fn fill(place: &Place) {
    for _ in 0..2 {
        let report = check(&place.at, &ToCheck::default()).unwrap().report;
        let missing =
            report.findings.iter().filter(|it| it.code == Code::MissingValue && it.because_of.is_none());
        for finding in missing {
            let _ = ["7", "seven.example", "[]", "{}"].iter().find(|value| {
                let settings = vec![format!("{}={value}", finding.address)];
                let consent = because(&finding.stage.as_deref().into_iter().collect::<Vec<_>>());
                let asked = ToSet { settings, consent, plain_secrets: true, ..ToSet::default() };
                set(&place.change(), &asked).is_ok()
            });
        }
    }
}

/// Errors without effect on any value.
fn is_idle(code: Code) -> bool {
    matches!(code, Code::UnknownName | Code::UnusedSetting)
}

/// Which commands hand a unit out, by what they leave behind.
fn handed_out(place: &Place, opened: &Opened, unit: &str, stage: &str) -> BTreeSet<&'static str> {
    let ledger = &opened.ledger;
    let subject = Subject::Unit(ledger.unit_id(unit).unwrap(), None);
    let id = ledger.stage_id(stage).unwrap();
    let resolver = opened.resolver();
    let mut session = resolver.session(None);
    let gaps = rendering(&mut session, subject, id).gaps;
    assert_eq!(has_gaps(&mut session, subject, id), !gaps.is_empty(), "{unit}@{stage}: {gaps:?}");
    let consent = because(&[stage]);
    let mut done = BTreeSet::new();
    let to_render = ToRender {
        dry_run: false,
        subjects: vec![subject],
        stage: id,
        out: Some(place.path("../rendered")),
        paths: Vec::new(),
        partial: false,
        without_secrets: false,
        annotate: false,
        countersign: consent.countersign.clone(),
    };
    let rendered = render(opened, &opened.resolver(), &to_render);
    if rendered.is_ok_and(|it| !it.files.is_empty()) || place.path("../rendered").exists() {
        done.insert("render");
    }
    let _ = fs::remove_dir_all(place.path("../rendered"));
    let (command, countersign) = (vec![OsString::from("true")], consent.countersign.clone());
    let to_run = ToRun { subject, stage: id, command, empty_env: true, pass: Vec::new(), countersign };
    if let Ok(Starting::Ready(_)) = run(opened, &opened.resolver(), &to_run) {
        done.insert("run");
    }
    // A refusal is no delivery, and neither is a plan with gaps: what is at the outlet says which it was.
    let _ = deliver(opened, &ToDeliver { consent, ..asked(&[unit], stage) });
    if place.path(&format!("../live/{stage}/{unit}/{unit}.json")).exists() {
        done.insert("deliver");
    }
    done
}

/// What `check` has an error for in a unit and stage is handed out by nobody.
#[test]
fn nothing_leaves_the_ledger_that_check_has_an_error_for() {
    let (mut held_up, mut let_go) = (0, BTreeSet::new());
    for seed in 0..40 {
        let place = ledger(seed);
        if seed % 4 != 3 {
            fill(&place);
        }
        let opened = place.open();
        for stage in opened.ledger.stage_ids() {
            let name = opened.ledger.stage(stage).name.to_string();
            for subject in opened.ledger.subjects_in(stage) {
                let Owner::Unit(unit, None) = opened.ledger.owner(subject) else { continue };
                let asked = ToCheck { patterns: vec![format!("{unit}@{name}")], ..ToCheck::default() };
                let findings = check(&place.at, &asked).unwrap().report.findings;
                let mut errors =
                    findings.iter().filter(|it| it.severity == Severity::Error && !is_idle(it.code));
                let done = handed_out(&place, &opened, unit.as_str(), &name);
                match errors.next() {
                    None => let_go.extend(done),
                    Some(error) => {
                        held_up += 1;
                        assert!(done.is_empty(), "{seed}: {unit}@{name} by {done:?}: {}", error.message);
                    }
                }
            }
        }
    }
    // The property is worth something only if both happen.
    assert!(held_up > 50, "{held_up}");
    assert_eq!(let_go, BTreeSet::from(["deliver", "render", "run"]));
}

/// What a finding is about.
pub(crate) fn said(finding: Finding) -> (String, String) {
    (finding.kind().into_owned(), finding.address)
}

/// Only what a change can concern is looked at: what is told of it is what all values before and after show.
#[test]
fn what_a_change_is_told_to_do_is_what_it_does() {
    let (mut local, mut far) = (0, 0);
    for seed in 0..40 {
        let place = ledger(seed);
        let opened = place.open();
        let ledger = &opened.ledger;
        let mut addresses = Vec::new();
        for layer in ledger.layer_ids() {
            let name = ledger.layer_name(layer);
            let subjects = ledger
                .units
                .iter()
                .map(|unit| Subject::Unit(ledger.unit_id(unit.name.as_str()).unwrap(), None));
            for subject in subjects.chain([Subject::Shared]) {
                let fields = ledger.slots(subject).all().map(|slot| ledger.field_name(subject, slot));
                addresses.extend(fields.map(|field| format!("{}/{field}@{name}", ledger.owner(subject))));
            }
        }
        let step = addresses.len() / 12 + 1;
        for (at, address) in addresses.iter().enumerate().step_by(step) {
            let before = place.open();
            let value = ["7", "seven.example", "[\"7\"]", "5m"][at % 4];
            let countersign: Vec<&str> = ledger.stages.iter().map(|stage| stage.name.as_str()).collect();
            let settings = vec![format!("{address}={value}")];
            let asked =
                ToSet { settings, consent: because(&countersign), plain_secrets: true, ..ToSet::default() };
            let Ok(told) = set(&place.change(), &asked) else { continue };
            let after = place.open();
            let (old, new) = (before.unfetched(), after.unfetched());
            let all =
                effects(&Resolver::new(&before.ledger, &old, &[]), &Resolver::new(&after.ledger, &new, &[]));
            assert_eq!(told.effects, all, "{seed}: {address}={value}");
            // The stages that were passed over have nothing to say of the units that it is about.
            let owners = told.effects.iter().filter_map(|effect| effect.address.owner.clone());
            let owners = owners.chain(Address::parse(address).unwrap().owner);
            let units: BTreeSet<String> = owners.map(|owner| owner.names().0.to_owned()).collect();
            let found = [&before, &after].map(|opened| {
                let ids = units.iter().filter_map(|unit| opened.ledger.unit_id(unit));
                let resolver = Resolver::new(&opened.ledger, &Unfetched, &[]);
                let all = findings::check_units(&resolver, ids, None).findings.into_iter();
                all.map(said).collect::<BTreeSet<_>>()
            });
            let told_of = |findings: Vec<Finding>| findings.into_iter().map(said).collect::<BTreeSet<_>>();
            assert_eq!(told_of(told.caused), &found[1] - &found[0], "{seed}: {address}={value}");
            assert_eq!(told_of(told.cured), &found[0] - &found[1], "{seed}: {address}={value}");
            let (_, stage) = address.split_once('@').unwrap();
            let is_here =
                |effect: &Effect| effect.address.stage.as_ref().is_some_and(|it| it.as_str() == stage);
            *(if all.iter().all(is_here) { &mut local } else { &mut far }) += 1;
        }
    }
    // Both kinds come up, or nothing is shown.
    assert!(local > 50 && far > 20, "{local} {far}");
}

fn git(place: &Place, arguments: &[&str]) {
    let mut git = Command::new("git");
    git.args(["-c", "user.name=quay", "-c", "user.email=quay@brackwater.example", "-C"]);
    git.arg(place.path("")).args(arguments).env("GIT_CONFIG_GLOBAL", "/dev/null");
    assert!(git.status().unwrap().success(), "{arguments:?}");
}

fn commit(place: &Place) {
    for arguments in [&["init", "-q"][..], &["add", "-A"], &["commit", "-qm", "as it was"]] {
        git(place, arguments);
    }
}

/// What is found of a ledger, or what is new of it.
fn found(place: &Place, against: Option<&str>) -> BTreeSet<(String, String)> {
    let asked = ToCheck { against: against.map(str::to_owned), ..ToCheck::default() };
    check(&place.at, &asked).unwrap().report.findings.into_iter().map(said).collect()
}

/// Compared with a revision that says the same, a ledger has no news.
#[test]
fn an_unchanged_tree_has_no_news() {
    for seed in 0..40 {
        let place = ledger(seed);
        commit(&place);
        assert_eq!(found(&place, Some("HEAD")), BTreeSet::new(), "{seed}");
        assert!(with_revision(&place.at, "HEAD", None).unwrap().is_empty(), "{seed}");
    }
}

/// Files that a revision has in common with the ledger are not read from it, and only what the others can concern is
/// judged: what is new, and what differs, is what reading and judging all of both shows.
#[test]
fn what_is_new_since_a_revision_is_what_that_had_not() {
    let (mut new, mut differing) = (0, 0);
    for seed in 0..24 {
        let place = ledger(seed);
        commit(&place);
        let (before, earlier) = (place.open(), found(&place, None));
        let mut paths: Vec<&str> = before.ledger.files.0.iter().map(|file| file.path.as_str()).collect();
        paths.sort_unstable();
        for path in paths {
            let text = fs::read_to_string(place.path(path)).unwrap();
            let lines: Vec<&str> = text.lines().collect();
            let without = |last: usize| lines[..lines.len().saturating_sub(last)].join("\n") + "\n";
            let others = [without(1), without(3), text.replace("= ", "= 7"), text.replace(['a', 'e'], "o")];
            for other in others.into_iter().chain([String::new()]).filter(|other| *other != text) {
                place.write(path, &other);
                let after = Opened::read(&place.at, &Scope::Whole).ok();
                let Some(after) = after.filter(|it| it.ledger.broken.is_empty()) else { continue };
                let now = found(&place, None);
                assert_eq!(found(&place, Some("HEAD")), &now - &earlier, "{seed}: {path} is {other}");
                let (old, today) = (before.unfetched(), after.unfetched());
                let all = effects(
                    &Resolver::new(&before.ledger, &old, &[]),
                    &Resolver::new(&after.ledger, &today, &[]),
                );
                assert_eq!(with_revision(&place.at, "HEAD", None).unwrap(), all, "{seed}: {path}");
                new += (&now - &earlier).len();
                differing += all.len();
            }
            place.write(path, &text);
        }
    }
    assert!(new > 50 && differing > 500, "{new} {differing}");
}
