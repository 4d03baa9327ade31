//! `outlet list` for people.

use crate::commands::ListedOutlet;
use crate::output::console::Console;
use crate::output::table::{Table, Tone};
use crate::output::values;

pub(crate) fn print(console: &mut Console, outlets: &[ListedOutlet]) {
    let mut table = Table::new(&["outlet", "kind", "stage", "units there", "", ""], console.width());
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
            (word.to_owned(), tone),
            (outlet.trouble.as_deref().map(values::escape).unwrap_or_default(), Tone::Quiet),
        ]);
    }
    table.keep_whole(4);
    table.lines().iter().for_each(|line| console.line(line));
}
