//! `fill` for people: what a stage lacks, and what was set.

use cledger_work::fill::{Filled, Lacking};
use cledger_work::shown::counted;

use super::change;
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};

pub(crate) fn print(console: &mut Console, filled: &Filled) {
    let Filled { changed, lacking, form } = filled;
    if !changed.settings.is_empty() {
        change::print(console, changed);
        console.line("");
    }
    if lacking.is_empty() {
        console.line(format!("{}: no value lacks there.", style::good("filled")));
        return;
    }
    self::lacking(console, lacking);
    console.line("");
    let count = counted(lacking.len(), "value");
    if let Some((path, in_form)) = form {
        let path = values::escape(&path.display().to_string());
        let values = counted(*in_form, "value");
        console.line(format!("Wrote the form for {values} to {path}. Fill it in, and run the same again."));
    } else {
        console.line(format!(
            "{}: {count}. --write asks for each, --answers FILE writes a form.",
            style::bad("missing")
        ));
    }
}

/// The values that lack, with what they are.
pub(crate) fn lacking(console: &mut Console, lacking: &[Lacking]) {
    let elsewhere = if lacking.iter().any(|one| one.elsewhere.is_some()) { "elsewhere" } else { "" };
    let mut table = Table::new(&["lacks a value", "it is", elsewhere], console.width());
    for one in lacking {
        let asks = if one.secret { "a secret".to_owned() } else { one.asks.clone() };
        let about =
            one.about.as_ref().map(|about| format!("; {}", values::escape(about))).unwrap_or_default();
        let elsewhere = one.elsewhere.as_ref().map(|(stage, text)| format!("{text} in {stage}"));
        table.row(vec![
            (one.address.clone(), Tone::Plain),
            (format!("{asks}{about}"), Tone::Plain),
            (elsewhere.unwrap_or_default(), Tone::Quiet),
        ]);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
}
