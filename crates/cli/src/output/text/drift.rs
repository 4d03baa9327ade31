//! `drift` for people: for each unit what differs there.

use std::collections::BTreeMap;

use cledger_core::compare::RowDifference;
use cledger_core::drift::{FileDrift, NameDrift};
use cledger_core::value::{Held, Value};

use super::rows;
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::time::day;
use crate::output::{style, values};
use cledger_work::drift::{Against, Drift, words};
use cledger_work::reality::lookups::LOOKED_UP;
use cledger_work::reality::standing::{LastDelivery, SAID, State, UnitDrift};
use cledger_work::shown::counted;

fn row_word(difference: RowDifference) -> String {
    let what = match difference {
        RowDifference::Differs => NameDrift::Differs,
        RowDifference::OnlyLeft => NameDrift::MissingThere,
        RowDifference::OnlyRight => NameDrift::ExtraThere,
    };
    what.words().to_owned()
}

/// Prints what was seen of each unit, or of those alone that are not as the ledger says, and what that comes to.
pub(crate) fn print(console: &mut Console, drift: &Drift, only_differing: bool) {
    let wanted = |unit: &&UnitDrift| !only_differing || !unit.is_clean();
    let units: Vec<&UnitDrift> = drift.units.iter().filter(wanted).collect();
    let named = units.iter().filter(|unit| !is_as_ledger(unit));
    let widest = named.map(|unit| unit.owner.len()).max().unwrap_or_default();
    let same_place =
        |one: &&UnitDrift, other: &&UnitDrift| (&one.stage, &one.outlet) == (&other.stage, &other.outlet);
    for (at, of_place) in units.chunk_by(same_place).enumerate() {
        if let [UnitDrift { stage, outlet: Some((outlet, kind)), .. }, ..] = of_place {
            let gap = if at > 0 { "\n" } else { "" };
            let is_outlet = ![LOOKED_UP.1, SAID.1].contains(kind);
            let what = if is_outlet { format!("outlet {outlet}, {kind}") } else { outlet.clone() };
            console.line(format!("{gap}{} ({what})", style::heading(stage)));
        }
        place(console, of_place, widest);
    }
    if !units.is_empty() {
        console.line("");
    }
    summary(console, drift);
}

/// Whether nothing at all is to be said of a unit.
fn is_as_ledger(unit: &UnitDrift) -> bool {
    matches!(&unit.state, State::There(files) if files.iter().all(|(_, file)| matches!(file, FileDrift::AsLedger)))
}

/// The units of one outlet in one stage; if all share one trouble, that is told once.
fn place(console: &mut Console, units: &[&UnitDrift], widest: usize) {
    if let [UnitDrift { state: State::NotKnown(reason), .. }, _, ..] = units
        && units.iter().all(|unit| matches!(&unit.state, State::NotKnown(other) if other == reason))
    {
        let count = counted(units.len(), "unit");
        console.wrapped(&format!("{}: {reason}; {count} belong to it", style::doubtful("not known")), "  ");
        return;
    }
    let (as_ledger, others): (Vec<&UnitDrift>, Vec<&UnitDrift>) =
        units.iter().partition(|unit| is_as_ledger(unit));
    for unit in others {
        let name = style::heading(&format!("{:<widest$}", unit.owner));
        match &unit.state {
            State::Withdrawn => {
                let last = unit.last.as_ref().map(last).unwrap_or_default();
                console.line(format!("{name}  nothing of ours is there{last}"));
            }
            State::LeftOver(now) => {
                let (text, of) = match now {
                    Some(now) => (format!("left over: it is called {now} now"), now.as_str()),
                    None => ("left over: it does not belong there any more".to_owned(), ""),
                };
                let deliver = format!("cledger deliver {of}@{}", unit.stage);
                console.wrapped(&format!("{name}  {}; {deliver} takes it off", style::bad(&text)), "  ");
            }
            State::NothingRendered => console.line(format!("{name}  nothing is rendered for it")),
            State::NotThere if unit.is_withdrawn() => {
                let last = unit.last.as_ref().map(last).unwrap_or_default();
                console.line(format!("{name}  not there{last}"));
            }
            State::NotThere => {
                let last = unit.last.as_ref().map(last).unwrap_or_default();
                console.line(format!("{name}  {}{last}", style::bad("not there")));
            }
            State::NotKnown(reason) => {
                console.wrapped(&format!("{name}  {}: {reason}", style::doubtful("not known")), "  ");
            }
            State::Unknown => {
                console.line(format!("{name}  {}", style::bad("there, but not in the ledger")));
            }
            State::There(files) => {
                let last = unit.last.as_ref().map(last).unwrap_or_default();
                console.line(format!("{}{last}", style::heading(&unit.owner)));
                for (path, drift) in files {
                    file(console, path, drift);
                }
            }
        }
    }
    if !as_ledger.is_empty() {
        let names: Vec<&str> = as_ledger.iter().map(|unit| unit.owner.as_str()).collect();
        console.wrapped(&format!("as the ledger says: {}", names.join(", ")), "  ");
    }
}

/// What was last done about a unit, and by whom.
fn last(last: &LastDelivery) -> String {
    let LastDelivery { number, time, who, is_withdrawal } = last;
    let what = if *is_withdrawal { "withdrawn" } else { "last delivered" };
    let by = if who.is_empty() { String::new() } else { format!(" by {}", values::escape(who)) };
    format!("  ({what}: {number} of {}{by})", day(time))
}

/// How a unit stands over all its outlets: as at the worst of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Worst {
    Clean,
    Unknown,
    Unreachable,
    Drifted,
}

fn summary(console: &mut Console, drift: &Drift) {
    let mut worst: BTreeMap<(&str, &str), Worst> = BTreeMap::new();
    for unit in &drift.units {
        let this = match unit {
            unit if unit.is_clean() => Worst::Clean,
            unit if unit.is_unreachable() => Worst::Unreachable,
            unit if unit.is_unknown() => Worst::Unknown,
            _ => Worst::Drifted,
        };
        let known = worst.entry((&unit.owner, &unit.stage)).or_insert(this);
        *known = this.max(*known);
    }
    let count = |wanted| worst.values().filter(|worst| **worst == wanted).count();
    let (unknown, unreachable, drifted) =
        (count(Worst::Unknown), count(Worst::Unreachable), count(Worst::Drifted));
    if unknown > 0 {
        let text = format!("{} with secrets that are not readable here.", counted(unknown, "unit"));
        console.line(format!("{}: {text}", style::doubtful("not known")));
    }
    if unreachable > 0 {
        let text = format!("{} could not be looked at.", counted(unreachable, "unit"));
        console.line(format!("{}: {text}", style::doubtful("not known")));
    }
    let is_now = matches!(drift.against, Against::Outlets | Against::Folder);
    if drifted > 0 {
        let word = style::bad(if is_now { "drift" } else { "differs" });
        let of = format!("{drifted} of {}", counted(worst.len(), "unit"));
        console.line(format!("{word}: {}.", sentence(drift.against, &of, drifted, false)));
    } else if unknown + unreachable == 0 {
        let word = style::good(if is_now { "no drift" } else { "no difference" });
        let all = counted(worst.len(), "unit");
        console.line(format!("{word}: {}.", sentence(drift.against, &all, worst.len(), true)));
    }
}

/// Says that units are as the ledger says, or are not.
fn sentence(against: Against, units: &str, count: usize, is_so: bool) -> String {
    let verb = |one: &'static str, several: &'static str| match (is_so, count) {
        (true, _) => "",
        (false, 1) => one,
        (false, _) => several,
    };
    let is = verb(" is not", " are not");
    let was = verb(" was not", " were not");
    match against {
        Against::Outlets | Against::Folder => format!("{units}{is} as the ledger says"),
        Against::Capture => format!("{units}{was} captured as the ledger says now"),
        Against::CapturedLedger if is_so => format!("the ledger said of {units} what it says now"),
        Against::CapturedLedger => format!("the ledger said something else of {units}"),
        Against::Delivery => format!("{units}{was} delivered as the ledger says now"),
    }
}

fn file(console: &mut Console, path: &str, drift: &FileDrift) {
    match drift {
        FileDrift::AsLedger => console.line(format!("  {path}  as the ledger says")),
        FileDrift::LeftOver => {
            console.line(format!("  {path}  {}", style::bad("left over: not rendered any more")));
        }
        FileDrift::Theirs => console.line(format!("  {path}  is there, and was never ours")),
        FileDrift::NotThere => console.line(format!("  {path}  {}", style::bad("not there"))),
        FileDrift::Unreadable(reason) => {
            console.wrapped(&format!("  {path}  {}: {reason}", style::bad("cannot be read")), "    ");
        }
        FileDrift::TextDiffers { line, .. } => {
            console.line(format!("  {path}  {} from line {line} on", style::bad("differs")));
        }
        FileDrift::Drifted(names) => {
            console.line(format!("  {path}"));
            let mut table = Table::new(&["  name", "ledger", "there", ""], console.width());
            for drifted in names {
                let [ledger, there] = words::sides(drifted);
                let name = format!("  {}", values::escape(&drifted.name));
                let sides = [name, ledger, there].map(|text| (text, Tone::Plain));
                table.row(sides.into_iter().chain([words::how(drifted)]).collect());
                if let (Some(ledger), Some(there)) =
                    (open(drifted.expected.as_ref()), open(drifted.there.as_ref()))
                {
                    rows::add_differences(&mut table, (ledger, there), Some((&row_word, Tone::Bad)));
                }
            }
            table.keep_whole(0);
            table.keep_whole(3);
            table.lines().iter().for_each(|line| console.line(line));
        }
    }
}

/// A value that anybody may see.
fn open(held: Option<&Held>) -> Option<&Value> {
    held.and_then(Held::open)
}
