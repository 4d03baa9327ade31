//! `trust` for people: what a ledger names outside of itself.

use cledger_store::Remembered;

use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;
use cledger_work::shown::counted;
use cledger_work::trust::daybook::DaybookTrusted;
use cledger_work::trust::{Doing, Trusted};

pub(crate) fn print(console: &mut Console, trusted: &Trusted) {
    console.line(format!("{} in {}", style::heading(&trusted.name), trusted.folder));
    console.line("");
    if trusted.reached.is_empty() {
        console.line("It names nothing outside of itself.");
    } else {
        let mut table = Table::new(&["names", "", "by", ""], console.width());
        for reached in &trusted.reached {
            let (word, tone) = match (&reached.by, reached.is_trusted) {
                (None, _) => ("not any more", Tone::Quiet),
                (Some(_), true) => ("trusted", Tone::Quiet),
                (Some(_), false) if trusted.was_before => ("new", Tone::Doubtful),
                (Some(_), false) => ("", Tone::Plain),
            };
            table.row(vec![
                (reached.named.thing.word().to_owned(), Tone::Plain),
                (reached.named.name.clone(), Tone::Plain),
                (reached.by.clone().unwrap_or_default(), Tone::Quiet),
                (word.to_owned(), tone),
            ]);
        }
        table.keep_whole(0);
        table.keep_whole(3);
        table.lines().iter().for_each(|line| console.line(line));
    }
    console.line("");
    let new = trusted.reached.iter().filter(|reached| reached.by.is_some() && !reached.is_trusted).count();
    let text = match (trusted.doing, trusted.written) {
        (Doing::Trust, true) => format!("{}: it may reach all of these.", style::good("trusted")),
        (Doing::Forget, true) => format!("{}: it may reach nothing.", style::good("forgotten")),
        (Doing::Forget, false) => format!("{}: --write takes it back.", style::doubtful("nothing written")),
        (Doing::Trust, false) if trusted.was_before && new == 0 => {
            format!("{}: it may reach all of these.", style::good("trusted before"))
        }
        (Doing::Trust, false) if trusted.was_before => {
            let count = counted(new, "thing");
            format!("{}: {count} it may not reach yet. If you agree: --write.", style::doubtful("new"))
        }
        (Doing::Trust, false) => {
            let text = "it may reach none of these yet. If you agree with all of them: --write.";
            format!("{}: {text}", style::doubtful("not trusted"))
        }
    };
    console.wrapped(&text, "");
}

pub(crate) fn listed(console: &mut Console, known: &[Remembered]) {
    if known.is_empty() {
        console.line("No ledger is trusted.");
        return;
    }
    let mut table = Table::new(&["ledger", "folder", "may reach"], console.width());
    for one in known {
        let count = one.trusted.as_ref().map_or(0, std::collections::BTreeSet::len);
        let plain = |text: String| (text, Tone::Plain);
        table.row(vec![plain(one.name.clone()), plain(one.folder.clone()), plain(counted(count, "thing"))]);
    }
    table.lines().iter().for_each(|line| console.line(line));
}

/// The daybook that is taken for the right one.
pub(crate) fn daybook(console: &mut Console, trusted: &DaybookTrusted) {
    let told = |link: &Option<(u64, String)>| match link {
        Some((place, hash)) => format!("record {place}, {}", hash.get(..16).unwrap_or(hash)),
        None => "nothing".to_owned(),
    };
    console.line(format!("seen last        {}", told(&trusted.before)));
    console.line(format!("last in it now   {}", told(&trusted.now)));
    console.line(if trusted.written {
        "The daybook as it is now counts from here on."
    } else {
        "Nothing is remembered yet. To do it, add --write."
    });
}
