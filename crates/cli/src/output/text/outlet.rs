//! `outlet` for people.

use super::{at, brought};
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::text::change::TO_DO_IT;
use crate::output::time::{day, minute};
use crate::output::{style, values};
use cledger_work::bringing::at::AtOutlet;
use cledger_work::outlet::list::Listed;
use cledger_work::outlet::prepare::{Prepared, Preparing};
use cledger_work::outlet::put::Put;
use cledger_work::outlet::put_captured::{AllPutBack, PutBack};
use cledger_work::reality::lookups::Lookup;

pub(crate) fn print(console: &mut Console, outlets: &[Listed]) {
    let mut table = Table::new(&["outlet", "kind", "stage", "units there", "last", "", ""], console.width());
    for outlet in outlets {
        let (word, tone) = match &outlet.trouble {
            None => ("answers", Tone::Plain),
            Some(_) => ("not known", Tone::Bad),
        };
        table.row(vec![
            (outlet.name.clone(), Tone::Plain),
            (outlet.kind.to_owned(), Tone::Plain),
            (outlet.stage.clone(), Tone::Plain),
            (format!("{} of {}", outlet.there, outlet.units), Tone::Plain),
            match &outlet.last {
                Some(time) => (day(time).to_owned(), Tone::Plain),
                None => ("never".to_owned(), Tone::Quiet),
            },
            (word.to_owned(), tone),
            (outlet.trouble.as_deref().map(values::escape).unwrap_or_default(), Tone::Quiet),
        ]);
    }
    table.keep_whole(5);
    table.lines().iter().for_each(|line| console.line(line));
}

pub(crate) fn prepared(console: &mut Console, prepared: &[Prepared], write: bool) {
    let mut table = Table::new(&["outlet", "table", "", ""], console.width());
    for it in prepared {
        let (word, tone, reason) = match &it.what {
            Preparing::Wanted => ("is made if it is not there", Tone::Plain, ""),
            Preparing::TheirOwn => ("is somebody else's, and stays as it is", Tone::Quiet, ""),
            Preparing::Made => ("made", Tone::Plain, ""),
            Preparing::WasThere => ("there already, as it should be", Tone::Plain, ""),
            Preparing::Failed(reason) => ("failed", Tone::Bad, reason.as_str()),
        };
        let of = if it.of.is_empty() { it.outlet.clone() } else { format!("{} for {}", it.outlet, it.of) };
        table.row(vec![
            (of, Tone::Plain),
            (it.table.clone(), Tone::Plain),
            (word.to_owned(), tone),
            (reason.to_owned(), Tone::Quiet),
        ]);
    }
    table.lines().iter().for_each(|line| console.line(line));
    if !write {
        console.line("Nothing is made yet. To do it, add --write.");
    }
}

/// What `outlet put` came to.
pub(crate) fn put(console: &mut Console, put: &Put) {
    super::deliver::print_as(console, &put.delivered, "put");
    for unit in &put.processes {
        let name = unit.outlet.as_ref().map(|(name, _)| name.as_str()).unwrap_or_default();
        let state = match (unit.is_as_made(), unit.is_unreachable()) {
            (true, _) => "runs with it",
            (_, true) => "is not known",
            _ => "does not run with it yet",
        };
        console.line(format!("The process of outlet {name} {state}."));
    }
}

/// What bringing a capture back comes to.
pub(crate) fn put_back(console: &mut Console, back: &AllPutBack) {
    let (taken, by, why) = &back.taken;
    let by = by.as_ref().map(|by| format!(" by {}", values::escape(by))).unwrap_or_default();
    let why = why.as_ref().map(|why| format!(": {}", values::escape(why))).unwrap_or_default();
    console.wrapped(&format!("as captured at {} (UTC){by}{why}", minute(taken)), "  ");
    for unit in &back.units {
        console.line("");
        console.line(style::heading(&format!("{}@{}", unit.owner, unit.stage)));
        at::print(console, &unit.outlets);
        for (outlet, reason) in &unit.passed_over {
            let text =
                format!("{} outlet {outlet}: {}", style::doubtful("left as it is:"), values::escape(reason));
            console.wrapped(&format!("  {text}"), "    ");
        }
        if let Some(trouble) = &unit.trouble {
            console.wrapped(&format!("{}: {trouble}", style::bad("not brought back")), "  ");
            if let Some(help) = trouble.help_text() {
                console.wrapped(&format!("  {help}"), "  ");
            }
        } else if !unit.brought.is_empty() {
            brought::print(console, &unit.brought);
            match unit.number {
                Some(number) => console.line(format!("Recorded as {}@{}:{number}.", unit.owner, unit.stage)),
                None => console.line("Nothing came anywhere, and nothing is recorded."),
            }
        } else if back.write || unit.outlets.iter().all(AtOutlet::is_as_it_should_be) {
            console.line("  all of it is there already");
        }
    }
    let is_blocked = |unit: &PutBack| unit.outlets.iter().any(|outlet| outlet.blocking().next().is_some());
    if !back.write {
        console.line("");
        if !back.overwrites && back.units.iter().any(is_blocked) {
            let text = "Nothing is brought back yet, and --write is refused: what is not ours would be lost. Take it \
                        into the ledger (cledger drift --take ADDRESS), leave it (--leave NAME), or overwrite it \
                        (--overwrite-edits).";
            console.wrapped(text, "");
        } else {
            console.line("Nothing is brought back yet. To do it, add --write.");
        }
    }
}

/// What was looked up, and what the settings say.
pub(crate) fn looked_up(console: &mut Console, lookups: &[Lookup<'_>], write: bool) {
    let mut table = Table::new(&["field", "ledger", "there", "", ""], console.width());
    let mut to_write = 0;
    for lookup in lookups {
        let said = match &lookup.said {
            Ok(Some(said)) => values::held(said),
            Ok(None) => "none yet".to_owned(),
            Err(_) => values::MASK.to_owned(),
        };
        let found = lookup.found.as_ref().map(values::held).unwrap_or_default();
        let (word, tone, reason) = match lookup.is_same() {
            Ok(true) => ("as the ledger says", Tone::Plain, ""),
            Ok(false) => {
                to_write += 1;
                (if write { "written" } else { "differs" }, Tone::Plain, "")
            }
            Err(reason) => ("not known", Tone::Bad, reason),
        };
        table.row(vec![
            (lookup.field.address.to_string(), Tone::Plain),
            (said, Tone::Plain),
            (found, Tone::Plain),
            (word.to_owned(), tone),
            (reason.to_owned(), Tone::Quiet),
        ]);
    }
    table.keep_whole(3);
    table.lines().iter().for_each(|line| console.line(line));
    if to_write > 0 && !write {
        console.line(TO_DO_IT);
    }
}
