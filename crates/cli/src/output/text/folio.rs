//! `folio` for people: what is inside, and what becomes of it in another ledger.

use std::path::Path;

use cledger_core::effects::{Effect, Seen};
use cledger_work::folio::{Entered, Entering, Fate, Made, Manifest, SignedBy};
use cledger_work::shown::counted;

use super::render::gaps;
use super::{change, deliver, fill};
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};

/// What was made.
pub(crate) fn made(console: &mut Console, made: &Made, path: &Path, written: bool) {
    inside(console, &made.manifest, made.signed_by.as_ref());
    console.line("");
    for beside in &made.beside {
        let text = format!("{}: {beside}, which is not inside", style::doubtful("left open"));
        console.wrapped(&text, "  ");
    }
    for left in &made.left {
        console.wrapped(&format!("{}: {left}", style::doubtful("not carried")), "  ");
    }
    let path = values::escape(&path.display().to_string());
    if written {
        console.line(format!("Wrote {path}."));
    } else {
        console.line(format!("Nothing is written. To write {path}, leave --dry-run out."));
    }
}

/// What is inside of a folio.
pub(crate) fn inside(console: &mut Console, manifest: &Manifest, signed_by: Option<&SignedBy>) {
    let title = style::heading(&format!("from {}", values::escape(&manifest.ledger)));
    console.line(title);
    let mut table = Table::new(&["  inside", "version", ""], console.width());
    let mut row = |name: String, version: Option<&String>, more: &str| {
        let version = version.map(|version| values::escape(version)).unwrap_or_default();
        table.row(vec![
            (format!("  {}", values::escape(&name)), Tone::Plain),
            (version, Tone::Plain),
            (values::escape(more), Tone::Quiet),
        ]);
    };
    for bundle in &manifest.bundles {
        row(format!("bundle:{}", bundle.name), bundle.version.as_ref(), &bundle.units.join(" "));
    }
    for unit in &manifest.units {
        row(unit.name.clone(), unit.version.as_ref(), unit.about.as_deref().unwrap_or_default());
    }
    for name in &manifest.shared {
        row(format!("shared/{name}"), None, "");
    }
    for name in &manifest.rules {
        row(format!("rule:{name}"), None, "");
    }
    for path in &manifest.files {
        row(path.clone(), None, "");
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
    if let Some(from) = &manifest.from {
        console.line("");
        let sets = counted(from.sets.len(), "field");
        console.line(format!(
            "{} ({}) sets {sets}:",
            style::heading(&values::escape(&from.stage)),
            from.class
        ));
        console.wrapped(&format!("  {}", values::escape(&from.sets.join(", "))), "  ");
        for tested in &from.tested {
            let version = tested.version.as_ref().map(|it| format!(", version {}", values::escape(it)));
            let text = format!(
                "  delivered there: {}:{}{}, {}",
                values::escape(&tested.unit),
                tested.number,
                version.unwrap_or_default(),
                tested.fingerprint.get(..12).unwrap_or(&tested.fingerprint)
            );
            console.line(text);
        }
    }
    console.line("");
    let carried = match (manifest.values, &manifest.secrets_for[..]) {
        (false, _) => "no value of any stage".to_owned(),
        (true, []) => "values of the stage, and no secret".to_owned(),
        (true, whom) => format!("values of the stage; secrets for {}", values::escape(&whom.join(", "))),
    };
    match signed_by {
        Some(signer) => {
            console.line(format!("It carries {carried}."));
            console.line(format!("Signed by {signer}."));
        }
        None => console.line(format!("It carries {carried}. It is not signed.")),
    }
}

/// What becomes of a folio in a ledger.
pub(crate) fn entered(console: &mut Console, entered: &Entered) {
    let to = entered.stages.join(", ");
    console.line(style::heading(&format!("from {} to {to}", values::escape(&entered.from))));
    match &entered.signed_by {
        Some((signer, true)) => console.wrapped(&format!("Signed by {signer}, as before."), ""),
        Some((signer, false)) => {
            let is_new = style::doubtful("nothing came with this signature before");
            console.wrapped(&format!("Signed by {signer}: {is_new}."), "");
        }
        None => {}
    }
    pieces(console, entered);
    let clashes: Vec<&Entering> = entered.clashes().collect();
    if !clashes.is_empty() {
        console.line("");
        console.wrapped(
            &format!(
                "{}: {}. Say for each what becomes of it: --keep-ours PATTERN leaves what is here, --take-theirs \
                 PATTERN lets it give way, --rename OLD=NEW gives a unit or shared entry another name.",
                style::bad("clash"),
                counted(clashes.len(), "name")
            ),
            "",
        );
        console.line("Nothing is taken in.");
        return;
    }
    if !entered.gone.is_empty() {
        console.line("");
        console.line(format!("{}:", style::doubtful("fields that went, and are still set here")));
        for gone in &entered.gone {
            console.wrapped(&format!("  {gone}"), "    ");
        }
    }
    if !entered.settings.is_empty() {
        console.line("");
        change::settings(console, &entered.settings);
    }
    if !entered.files.is_empty() {
        console.line("");
        for file in &entered.files {
            console.line(format!("{:<8} {}", file.becomes.word(), values::escape(&file.path)));
        }
    }
    let (new, here): (Vec<Effect>, Vec<Effect>) =
        entered.effects.iter().cloned().partition(|effect| matches!(effect.before, Seen::NotThere));
    if !entered.effects.is_empty() {
        console.line("");
        if here.is_empty() {
            console.line("No effective value changes that was there.");
        } else {
            change::effects(console, &here);
        }
        if !new.is_empty() {
            console.line(format!("{} with its units.", counted_new(new.len())));
        }
    }
    if !entered.errors.1.is_empty() {
        console.line("");
        gaps(console, &entered.errors.0, &entered.errors.1);
    }
    end(console, entered);
    for delivered in &entered.delivered {
        console.line("");
        deliver::print(console, delivered);
    }
}

fn counted_new(count: usize) -> String {
    let comes = if count == 1 { "comes" } else { "come" };
    format!("{} {comes}", counted(count, "new field"))
}

fn pieces(console: &mut Console, entered: &Entered) {
    let mut table = Table::new(&["  what", "", "version"], console.width());
    for Entering { piece, fate, before, version } in &entered.pieces {
        let (word, tone) = match fate {
            Fate::New => ("new".to_owned(), Tone::Plain),
            Fate::Same => ("the same".to_owned(), Tone::Quiet),
            Fate::Changed => ("changes".to_owned(), Tone::Plain),
            Fate::Taken => ("gives way here".to_owned(), Tone::Plain),
            Fate::Kept => ("stays as it is here".to_owned(), Tone::Plain),
            Fate::LeftOut(reason) => (format!("left out: {reason}"), Tone::Doubtful),
            Fate::Clash(reason) => (format!("clash: {reason}"), Tone::Bad),
        };
        let version = match (before, version) {
            (Some(before), Some(now)) if before != now => format!("{now}, after {before}"),
            (_, Some(now)) => now.clone(),
            _ => String::new(),
        };
        table.row(vec![
            (format!("  {}", values::escape(&piece.to_string())), Tone::Plain),
            (values::escape(&word), tone),
            (values::escape(&version), Tone::Plain),
        ]);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
}

/// What is lacking, and what is to be done.
fn end(console: &mut Console, entered: &Entered) {
    console.line("");
    if !entered.lacking.is_empty() {
        fill::lacking(console, &entered.lacking);
        console.line("");
    }
    if let Some((path, count)) = &entered.form {
        let (path, values) = (values::escape(&path.display().to_string()), counted(*count, "value"));
        console.line(format!("Wrote the form for {values} to {path}. Fill it in, and run the same again."));
        console.line("Nothing is taken in yet.");
        return;
    }
    if entered.written {
        let is_nothing = entered.files.is_empty();
        console.line(if is_nothing {
            "All of it is here already: nothing changes."
        } else {
            "It is taken in."
        });
        if !entered.lacking.is_empty() {
            let (count, to) = (counted(entered.lacking.len(), "value"), entered.stages.join(" @"));
            console.line(format!("{}: {count}. cledger fill @{to}", style::doubtful("left open")));
        }
        return;
    }
    if entered.lacking.is_empty() {
        console.line("Nothing is taken in yet. To do it, add --write.");
        return;
    }
    console.wrapped(
        &format!(
            "{}: {}. --write asks for each at a terminal, --answers FILE writes a form, and --leave-open takes it in \
             without. Nothing is taken in yet.",
            style::bad("missing"),
            counted(entered.lacking.len(), "value")
        ),
        "",
    );
}
