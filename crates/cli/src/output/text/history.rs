//! `history` for people.

use cledger_store::daybook::{AnswerState, Kind, Meta, Record};

use super::{at, brought};
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::time::{day, minute};
use crate::output::{style, values};
use cledger_work::bringing::brought::words;
use cledger_work::deliver::history::{History, Verified as Verification};
use cledger_work::deliver::overwritten::{BroughtBack, Overwritten};
use cledger_work::shown::counted;

/// The first line of the reason, or the chore.
fn why(meta: &Meta) -> &str {
    let text = match meta.kind {
        Kind::ChoreDone => meta.chore.as_deref(),
        Kind::ChoresAsked => meta.chores.as_ref().and_then(|texts| texts.first()).map(String::as_str),
        _ => Some(meta.why.as_str()),
    };
    text.and_then(|text| text.lines().next()).unwrap_or_default()
}

/// The address of a delivery; a chore is of a unit in a stage alone.
fn name(meta: &Meta) -> String {
    let of = format!("{}@{}", meta.unit, meta.stage);
    if meta.kind.is_beside() && !meta.kind.is_of_bundle() { of } else { format!("{of}:{}", meta.number) }
}

pub(crate) fn print(console: &mut Console, history: &History) {
    let mut table = Table::new(&["delivery", "when (UTC)", "who", "", "why"], console.width());
    for record in &history.records {
        let meta = &record.meta;
        let trouble = meta.outlets.iter().any(|answer| answer.reason.is_some());
        let what = match meta.again {
            Some(number) => format!("{number} again"),
            None => meta.kind.words().to_owned(),
        };
        let of_members = meta.members.iter().map(|member| member.state);
        let states = || meta.outlets.iter().map(|answer| answer.state).chain(of_members.clone());
        let what = if states().any(|state| state == AnswerState::NotKnown) {
            format!("{what}, not known")
        } else if states().any(|state| !state.is_whole()) {
            format!("{what} in part")
        } else if trouble {
            format!("{what}, with trouble")
        } else {
            what
        };
        table.row(vec![
            (name(meta), Tone::Plain),
            (minute(&meta.time), Tone::Quiet),
            (who(&meta.who), Tone::Plain),
            (what, if trouble { Tone::Bad } else { Tone::Plain }),
            (values::escape(why(meta)), Tone::Plain),
        ]);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
    for record in
        history.records.iter().filter(|record| history.of_bundles && !record.meta.members.is_empty())
    {
        members(console, &record.meta);
    }
    if history.records.is_empty() {
        console.line("Nothing was delivered there yet.");
    }
    if history.more > 0 {
        console.line(format!(
            "{} before these: --last {}",
            history.more,
            history.more + history.records.len()
        ));
    }
    for meta in &history.opened {
        let Meta { unit, stage, who, time, .. } = meta;
        let text =
            format!("a delivery of {unit}@{stage} by {who} at {}; the next one finishes it", minute(time));
        console.line(format!("{}: {text}.", style::doubtful("left open")));
    }
}

/// The units of a bundle's record.
fn members(console: &mut Console, meta: &Meta) {
    let each = meta.members.iter().map(|member| {
        let number = member.number.map(|number| format!(":{number}")).unwrap_or_default();
        format!("{}{number} {}", member.unit, words(member.state, None))
    });
    console.wrapped(&format!("{}  {}", name(meta), each.collect::<Vec<_>>().join(", ")), "  ");
}

pub(crate) fn verified(console: &mut Console, verified: &Verification) {
    let Verification { records, broken, not_readable } = verified;
    let records = counted(*records, "record");
    for broken in broken {
        console.wrapped(&format!("{}: {broken}.", style::bad("not whole")), "  ");
    }
    if broken.is_empty() {
        console.line(format!("{}: {records}, none changed, put in or taken out.", style::good("whole")));
    }
    if *not_readable > 0 {
        let text = format!("the secrets of {}", counted(*not_readable, "record"));
        console.line(format!("{}: {text}, whose keys are not at hand.", style::doubtful("not known")));
    }
}

/// A name in a record; empty where nobody gave one.
fn who(name: &str) -> String {
    if name.is_empty() { "somebody".to_owned() } else { values::escape(name) }
}

/// One record with all that is known of it.
pub(crate) fn record(console: &mut Console, record: &Record) {
    let meta = &record.meta;
    let title = format!("{}@{}:{}", meta.unit, meta.stage, meta.number);
    console.line(format!("{}  {} on {}", style::heading(&title), meta.kind.words(), day(&meta.time)));
    let host = meta.host.as_ref().map(|host| format!(" on {host}")).unwrap_or_default();
    let mut lines =
        vec![("who", format!("{}{host}, {}", who(&meta.who), minute(&meta.time))), ("why", meta.why.clone())];
    if let Some(version) = &meta.version {
        lines.push(("version", version.clone()));
    }
    if let Some(revision) = &meta.revision {
        let more = if meta.uncommitted == Some(true) { ", with changes that are in no commit" } else { "" };
        lines.push(("ledger", format!("{}{more}", revision.get(..12).unwrap_or(revision))));
    }
    if let Some(chore) = &meta.chore {
        lines.push(("chore", chore.clone()));
    }
    if let Some(name) = &meta.finished_by {
        lines.push(("note", format!("finished by {}", who(name))));
    }
    if meta.stages_left_out {
        lines.push(("note", "stages before it were left out".to_owned()));
    }
    for left in &meta.left {
        let path = left.path.as_deref().unwrap_or("what it has");
        let names: Vec<String> = left.names.iter().map(|name| name.join(".")).collect();
        let names = if names.is_empty() { "all of it".to_owned() } else { names.join(", ") };
        lines.push(("left", format!("{names} in {path} at outlet {}", left.outlet)));
    }
    for answer in &meta.outlets {
        let reason = answer.reason.as_ref().map(|reason| format!(": {reason}")).unwrap_or_default();
        lines.push((
            "outlet",
            format!("{} ({}) {}{reason}", answer.outlet, answer.kind, words(answer.state, answer.in_effect)),
        ));
    }
    for (name, text) in lines {
        console.wrapped(&format!("  {name:<8} {}", values::escape(&text)), "           ");
    }
}

/// What a delivery has overwritten that was not ours.
pub(crate) fn overwritten(console: &mut Console, overwritten: &Overwritten) {
    let Meta { unit, stage, number, time, .. } = &overwritten.record.meta;
    let title = style::heading(&format!("{unit}@{stage}:{number}"));
    console.line(format!("{title}  of {} has overwritten what was not ours:", day(time)));
    let mut table = Table::new(&["  where", "lines"], console.width());
    for (place, lines) in &overwritten.places {
        table.row(vec![
            (format!("  {}", values::escape(place)), Tone::Plain),
            (lines.to_string(), Tone::Plain),
        ]);
    }
    table.lines().iter().for_each(|line| console.line(line));
    match &overwritten.out {
        Some(out) => console.line(format!("Written to {}, for you alone.", out.display())),
        None => console.wrapped("To look at it, add --out DIR; to bring it back, --bring-back.", ""),
    }
}

/// What bringing that back comes to.
pub(crate) fn brought_back(console: &mut Console, back: &BroughtBack) {
    console.line(format!("{}  what it has overwritten, brought back", style::heading(&back.of)));
    at::print(console, &back.outlets);
    if !back.write && back.is_blocked() {
        let text = "Nothing is brought back yet, and --write is refused: what is edited by hand would be lost. Take \
                    it into the ledger first (cledger drift --take ADDRESS), or look at both (--out DIR).";
        console.wrapped(text, "");
        return;
    }
    if !back.write {
        console.line("Nothing is brought back yet. To do it, add --write.");
        return;
    }
    brought::print(console, &back.brought);
    if let (Some(number), Some((of, _))) = (back.number, back.of.split_once(':')) {
        console.wrapped(&format!("Recorded as {of}:{number}. It counts as edited by hand from here on."), "");
    }
}
