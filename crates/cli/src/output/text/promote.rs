//! `promote` for people: what moving up means for each unit.

use cledger_core::kept::Kept;
use cledger_core::promotion::Fate;
use cledger_work::shown::counted;

use super::{change, deliver};
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::text::change::TO_DO_IT;
use crate::output::time::day;
use crate::output::{style, values};
use cledger_work::promote::{Field, NotRead, Promoted, Promotion};

pub(crate) fn print(console: &mut Console, promoted: &Promoted) {
    if let Some((path, count)) = &promoted.form {
        let (values, path) = (counted(*count, "value"), path.display());
        console.line(format!("Wrote the form for {values} to {path}. Fill it in, and try again."));
        return;
    }
    moved(console, promoted);
    if let Some(delivered) = &promoted.delivered {
        console.line("");
        deliver::print(console, delivered);
    }
}

/// What moving up means for each unit.
fn moved(console: &mut Console, promoted: &Promoted) {
    let Promoted { below, above, promotions, settings: written, .. } = promoted;
    let mut open = 0;
    for (at, promotion) in promotions.iter().enumerate() {
        if at > 0 {
            console.line("");
        }
        let meta = &promotion.from.meta;
        let title = style::heading(&format!("{} from {below} to {above}", promotion.owner));
        console.line(format!("{title}  delivery {} of {}", meta.number, day(&meta.time)));
        if !promotion.moved_on.is_empty() {
            let names = promotion.moved_on.join(", ");
            console
                .wrapped(&format!("  since then the ledger says something else in {below}: {names}"), "    ");
        }
        for NotRead { what, why } in &promotion.not_read {
            let text = format!("{}: {what}: {why}; as delivered", style::doubtful("not read"));
            console.wrapped(&format!("  {text}"), "    ");
        }
        if promotion.fields.is_empty() {
            console.line("  nothing to carry, and nothing missing");
            continue;
        }
        let mut table = Table::new(&["  field", below.as_str(), above.as_str(), ""], console.width());
        let (told, rest): (Vec<&Field>, Vec<&Field>) =
            promotion.fields.iter().partition(|field| promoted.all || is_worth_telling(promotion, field));
        for field in told {
            let (word, tone) = word(field);
            let word = if field.is_news { format!("{word}, changed") } else { word };
            open += usize::from(field.fate == Fate::Needed && !field.is_taken);
            table.row(vec![
                (format!("  {}", without_stage(field)), Tone::Plain),
                shown(field.below.as_ref(), field.secret),
                shown(field.above.as_ref(), field.secret),
                (word, tone),
            ]);
        }
        table.keep_whole(0);
        table.keep_whole(3);
        table.lines().iter().for_each(|line| console.line(line));
        if !rest.is_empty() {
            let count = rest.len();
            let text =
                format!("{count} more differ, and did not change since the last promotion: --all shows them");
            console.wrapped(&format!("  {text}"), "    ");
        }
    }
    console.line("");
    if !written.is_empty() {
        change::settings(console, written);
    }
    if open > 0 {
        let text = format!("{} still needed in {above}", counted(open, "value"));
        console.line(format!("{}: {text}; --answers FILE writes a form for them.", style::bad("needed")));
    }
    for pattern in &promoted.not_carried {
        let text = format!("nothing of `{}`: {}", pattern.pattern, pattern.why);
        console.wrapped(&format!("{}: {text}", style::doubtful("not carried")), "  ");
    }
    match (written.is_empty(), promoted.write) {
        (true, _) if !promoted.not_carried.is_empty() => console.line("Nothing is carried."),
        (true, _) => {
            let mut fields = promotions.iter().flat_map(|promotion| &promotion.fields);
            let all =
                if fields.any(|field| field.is_news) { "; all that changed: --carry-changed" } else { "" };
            console.wrapped(
                &format!("Nothing is carried. To carry settings, name them: --carry PATTERN{all}."),
                "",
            );
        }
        (false, true) if promoted.delivered.is_some() => console.line("Written."),
        (false, false) => console.line(TO_DO_IT),
        (false, true) => {
            console.line(format!("Written. Bring it there: cledger deliver @{above}, or one unit."));
        }
    }
}

/// Whether a field is shown where not all are: it is new, or something is to be done about it. Where nothing is new
/// yet, everything is.
fn is_worth_telling(promotion: &Promotion, field: &Field) -> bool {
    let nothing_is_new = !promotion.fields.iter().any(|field| field.is_news);
    nothing_is_new || field.is_news || field.is_taken || field.fate == Fate::Needed
}

fn without_stage(field: &Field) -> String {
    let address = field.place.address.to_string();
    address.split('@').next().unwrap_or_default().to_owned()
}

fn word(field: &Field) -> (String, Tone) {
    match (field.fate, field.is_taken) {
        (Fate::Needed, true) => ("answered".to_owned(), Tone::Plain),
        (Fate::Needed, false) => ("needed".to_owned(), Tone::Bad),
        (Fate::MayBeCarried, true) => ("carried".to_owned(), Tone::Plain),
        (Fate::MayBeCarried, false) => ("may be carried".to_owned(), Tone::Plain),
        (Fate::Stays(why), _) => (format!("stays: {}", why.words()), Tone::Quiet),
        (Fate::Same | Fate::Follows, _) => (String::new(), Tone::Plain),
    }
}

/// A value, masked if it is a secret, or if one is on the other side.
fn shown(kept: Option<&Kept>, secret: bool) -> (String, Tone) {
    match kept {
        None => ("none".to_owned(), Tone::Quiet),
        Some(kept) if secret && kept.is_readable() => (values::MASK.to_owned(), Tone::Plain),
        Some(kept) => (values::kept(kept, false), Tone::Plain),
    }
}
