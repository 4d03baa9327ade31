//! `adopt` for people: what the files become, and what does not.

use std::collections::BTreeSet;

use cledger_core::adopt::{Proposed, ProposedKind, Repeat, Spelled};
use cledger_core::name::Name;

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};
use cledger_work::adopt::adoption::{Adoption, SpelledOtherwise};
use cledger_work::adopt::differing::Fate;
use cledger_work::adopt::found::FoundThere;
use cledger_work::adopt::not_read::NotRead;
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, adoption: &Adoption) {
    let mut table = Table::new(&["output", "format", "found in"], console.width());
    for (path, format, stages) in &adoption.outputs {
        table.row(vec![
            (values::escape(path), Tone::Plain),
            (format.name().to_owned(), Tone::Plain),
            (joined(stages), Tone::Plain),
        ]);
    }
    table.lines().iter().for_each(|line| console.line(line));
    entries(console, adoption);
    differing(console, adoption);
    list(
        console,
        "has no value in these stages, since their files lack it",
        &adoption.missing,
        |(field, stages)| format!("{field}: {}", joined(stages)),
    );
    let inherited =
        "became defaults, which every new stage has; --no-defaults makes them settings of this one";
    list(console, inherited, &adoption.inherited, Clone::clone);
    list(console, "not placed", &adoption.not_placed, |(name, file, line, reason)| {
        format!("{} ({}:{line}): {reason}", values::escape(name), values::escape(file))
    });
    let old_yaml = "text for YAML 1.2, and something else for readers of 1.1; rendered as text";
    list(console, old_yaml, &adoption.other_in_old_yaml, |(name, file, line)| {
        format!("{} ({}:{line})", values::escape(name), values::escape(file))
    });
    list(console, "no longer in the files", &adoption.gone, |(address, file)| {
        format!("{address}: not in {}", values::escape(file))
    });
    list(
        console,
        "in addition, since the stage follows another or has groups",
        &adoption.added,
        |(name, file)| format!("{} in {}", values::escape(name), values::escape(file)),
    );
    list(console, "not read", &adoption.not_read, |NotRead { path, reason }| {
        format!("{}: {reason}", values::escape(path))
    });
    list(console, "could refer to one another, since they have the same host", &adoption.repeats, repeat);
    spellings(console, &adoption.spellings);
    list(console, "could be one default with ${stage.name} in it", &adoption.by_stage, Clone::clone);
    console.line("");
    summary(console, adoption);
}

/// What the ledger and the files say otherwise, value by value.
fn differing(console: &mut Console, adoption: &Adoption) {
    if adoption.is_new || adoption.same == 0 && adoption.differing.is_empty() {
        return;
    }
    console.line("");
    if !adoption.differing.is_empty() {
        let mut table = Table::new(&["in both, and not the same", "ledger", "file", ""], console.width());
        for one in &adoption.differing {
            let (fate, tone) = match &one.fate {
                Fate::Taken => ("taken from the file".to_owned(), Tone::Plain),
                Fate::Filled => ("comes from the file".to_owned(), Tone::Plain),
                Fate::Kept => ("the ledger's stays".to_owned(), Tone::Doubtful),
                Fate::Cannot(reason) => {
                    (format!("the ledger's stays: {}", values::escape(reason)), Tone::Bad)
                }
            };
            table.row(vec![
                (one.address.clone(), Tone::Plain),
                (one.ledger.clone().unwrap_or_else(|| "none".to_owned()), Tone::Plain),
                (one.file.clone(), Tone::Plain),
                (fate, tone),
            ]);
        }
        table.keep_whole(0);
        table.lines().iter().for_each(|line| console.line(line));
    }
    let same = counted(adoption.same, "value");
    console.line(format!("The ledger and the files have {same} the same."));
    if adoption.differing.iter().any(|one| one.fate == Fate::Kept) {
        console.line("--take NAME takes what the file says, --take '*' all of it.");
    }
}

/// Values that are spelled otherwise, each with the command that aligns them.
fn spellings(console: &mut Console, spellings: &[SpelledOtherwise]) {
    if spellings.is_empty() {
        return;
    }
    console.line("");
    console.line(format!("{}:", style::heading("spelled otherwise in one stage than in another")));
    for spelling in spellings {
        let value = |(stage, text): &(Name, String)| format!("{} in {stage}", values::escape(text));
        let all: Vec<String> = spelling.values.iter().map(value).collect();
        let what = match spelling.what {
            Spelled::Truth => "one truth in several spellings",
            Spelled::Unit => "with and without a unit",
            Spelled::Scheme => "http beside https",
            Spelled::Slash => "a slash at the end in one stage alone",
        };
        console.wrapped(&format!("  {}: {what}: {}; to align them:", spelling.field, all.join(", ")), "    ");
        let set = spelling.aligned.iter().map(|(at, text)| values::shell_word(&format!("{at}={text}")));
        // On a line of its own, so that it can be copied.
        console.line(format!("    cledger set {}", set.collect::<Vec<_>>().join(" ")));
    }
}

fn entries(console: &mut Console, adoption: &Adoption) {
    if adoption.proposed.is_empty() && adoption.tables.is_empty() {
        return;
    }
    console.line("");
    let mut table = Table::new(&["entry", "kind", "fields"], console.width());
    for entry in &adoption.proposed {
        table.row(vec![
            (entry.name.to_string(), Tone::Plain),
            (kind(&entry.kind), Tone::Plain),
            (fields(entry), Tone::Plain),
        ]);
    }
    for found in &adoption.tables {
        let columns = [found.key.as_str()].into_iter().chain(found.columns.iter().map(String::as_str));
        let columns = values::escape(&columns.collect::<Vec<_>>().join(", "));
        table.row(vec![
            (found.entry.to_string(), Tone::Plain),
            ("table".to_owned(), Tone::Plain),
            (columns, Tone::Plain),
        ]);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
    console.line("");
    if !adoption.proposed.is_empty() {
        console.line(format!(
            "{}, {}, {} of them secret.",
            counted(adoption.defaults, "default"),
            counted(adoption.settings, "setting"),
            adoption.secrets
        ));
    }
    for found in &adoption.tables {
        let (common, own) = (counted(found.common.len(), "row"), counted(found.settings(), "row"));
        console.line(format!("{}: {common} of all stages, {own} of single ones.", found.entry));
    }
}

/// What an entry is.
pub(crate) fn kind(kind: &ProposedKind) -> String {
    match kind {
        ProposedKind::Connection(protocol) => format!("connection, {protocol}"),
        ProposedKind::Endpoint => "endpoint".to_owned(),
        ProposedKind::Variable => "variable".to_owned(),
    }
}

/// The fields with something said of them, a variable's with its type.
fn fields(entry: &Proposed) -> String {
    let called = |field: &cledger_core::adopt::ProposedField| {
        let name = field.name.as_ref().map_or(field.this_type.name(), Name::as_str);
        if field.secret { format!("{name} (secret)") } else { name.to_owned() }
    };
    entry.fields.iter().map(called).collect::<Vec<_>>().join(", ")
}

fn list<T>(console: &mut Console, heading: &str, items: &[T], shown: impl Fn(&T) -> String) {
    if items.is_empty() {
        return;
    }
    console.line("");
    console.line(format!("{}:", style::heading(heading)));
    for item in items {
        console.wrapped(&format!("  {}", shown(item)), "    ");
    }
}

fn joined(names: &[Name]) -> String {
    names.iter().map(Name::as_str).collect::<Vec<_>>().join(", ")
}

fn repeat(repeat: &Repeat) -> String {
    match &repeat.of {
        Some(of) => format!("{}: write ${{{of}}} in it", repeat.within.join(", ")),
        None => format!("{}: declare the host once, and refer to it", repeat.within.join(", ")),
    }
}

/// What is said of what was found in a stage.
fn found(stage: &Name, there: FoundThere) -> String {
    let not = format!("{stage}: what was found at its outlets is not recorded");
    match there {
        FoundThere::ToRecord => format!(
            "{stage}: --write also records what was found at its outlets, and the first delivery may go over it."
        ),
        FoundThere::Recorded => {
            format!(
                "{stage}: what was found at its outlets is recorded, and the first delivery may go over it."
            )
        }
        FoundThere::HasRecords => format!("{not}: the daybook has records of it already."),
        FoundThere::NoKey => {
            format!("{not}: the stage has no key to keep it under (cledger key make @{stage}).")
        }
    }
}

fn summary(console: &mut Console, adoption: &Adoption) {
    let any = adoption.changes_something;
    // Several documents may be of one file.
    let paths: BTreeSet<&String> = adoption.files.iter().map(|(path, ..)| path).collect();
    let files = counted(paths.len(), "file");
    let keeps_own = adoption.differing.iter().any(|one| one.fate.is_kept());
    let left_out = match (adoption.not_placed.is_empty(), keeps_own) {
        (true, false) => "",
        (false, false) => ", but for what is not placed",
        (true, true) => ", but for what the ledger says otherwise",
        (false, true) => ", but for what is not placed and what the ledger says otherwise",
    };
    let mut what = Vec::new();
    if !adoption.files.is_empty() {
        what.push(format!("{} of {files}", counted(adoption.proven, "value")));
    }
    if !adoption.tables.is_empty() {
        let tables = counted(adoption.tables.len(), "table");
        what.push(format!("{} of {tables}", counted(adoption.proven_cells, "cell")));
    }
    let proven = format!(
        "{}: rendering gives back {}, each as it was{left_out}.",
        style::good("proven"),
        what.join(" and ")
    );
    console.wrapped(&proven, "  ");
    let text = adoption.text;
    if text.lines == 0 && text.come == 0 {
        // Files that are laid over others are no texts of their own.
    } else if (text.gone, text.come) == (0, 0) {
        console.line(format!("as text: the same {}.", counted(text.lines, "line")));
    } else {
        console.line(format!(
            "as text: of {}, {} go and {} come.",
            counted(text.lines, "line"),
            text.gone,
            text.come
        ));
    }
    for (stage, there) in &adoption.found {
        console.wrapped(&found(stage, *there), "  ");
    }
    let unit = &adoption.unit;
    if adoption.written {
        let word = if adoption.is_new { "adopted" } else { "brought up to date" };
        console.line(format!("{}: {unit}, in {}.", style::good(word), joined(&adoption.stages)));
    } else if any {
        let text = if adoption.is_new { "would be a new unit" } else { "would change" };
        console.line(format!("{}: {unit} {text}; --write does it.", style::doubtful("nothing written")));
    } else {
        let is = if keeps_own { "stays as it is" } else { "is as its files are" };
        console.line(format!("{}: {unit} {is}.", style::good("nothing to do")));
    }
}
