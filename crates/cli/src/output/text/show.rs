//! `show` for people: a row a field, with its value and where it came from.

use cledger_core::findings::{self, Finding};
use cledger_core::model::Kind;
use cledger_core::resolve::{Effective, FieldId, Origin, Outcome, Resolver, Session, Winner};
use cledger_work::Opened;
use cledger_work::deliver::history::Recorded;
use cledger_work::meant::unit_of;
use cledger_work::show::{Shown, fingerprint};
use cledger_work::trace::words;

use super::{history, rows};
use crate::output::console::Console;
use crate::output::origin::Short;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{origin, style, values};
use cledger_work::shown::counted;

/// Up to so many fields, it is said in full where each comes from: naming the files once saves nothing.
const FEW: usize = 3;

/// Prints whose values they are, and the fields or the rows of one; in full where values come from, or in short.
pub(crate) fn print(
    console: &mut Console,
    opened: &Opened,
    resolver: &Resolver<'_>,
    shown: &Shown,
    (unmask, origins): (bool, bool),
) {
    let ledger = &opened.ledger;
    let Shown { subject, chosen, fields } = shown;
    let stage = ledger.stage(chosen.stage);
    let name = style::heading(&ledger.owner(*subject).to_string());
    console.line(format!("{name} in {} (class {})", stage.name, stage.class.name()));
    if let Some(because) = &chosen.because {
        console.line(format!("The stage comes from {because}."));
    }
    console.line("");
    let mut session = resolver.session(unit_of(*subject));
    if let [one] = fields[..]
        && let Kind::Table { columns, .. } = &ledger.field(*subject, one.slot).0.kind
        && let Outcome::Value(effective) = session.outcome(one)
        && let Some(value) = effective.expose().filter(|_| !effective.is_secret() || unmask)
    {
        rows::print(console, ledger, value, &session.rows(one), columns);
        return;
    }
    let fingerprint = |effective: &Effective<'_>| fingerprint(opened, chosen.stage, effective);
    let in_short = !origins && fields.len() > FEW;
    table(console, &mut session, fields, (unmask, in_short), &fingerprint);
}

/// A row for each field.
fn table(
    console: &mut Console,
    session: &mut Session<'_, '_>,
    fields: &[FieldId],
    (unmask, in_short): (bool, bool),
    fingerprint: &dyn Fn(&Effective<'_>) -> Option<String>,
) {
    let ledger = session.ledger();
    let verbose = console.is_verbose();
    let mut table = Table::new(&["entry", "value", "from"], console.width());
    let (mut lacking, mut optional) = (0, 0);
    let plain = |text: String| (text, Tone::Plain);
    let mut short = Short::default();
    let mut line = |at: Origin| if in_short { short.line(ledger, at) } else { origin::line(ledger, at) };
    for &field in fields {
        let (entry, declaration) = ledger.field(field.subject, field.slot);
        let name = declaration.name.as_ref();
        let name = name.map_or(entry.name.to_string(), |field| format!("{}.{field}", entry.name));
        let (value, from) = match session.outcome(field) {
            Outcome::Unset => {
                optional += 1;
                continue;
            }
            Outcome::Value(effective) => (
                plain(match fingerprint(&effective).filter(|_| !unmask) {
                    Some(print) => format!("(secret {print})"),
                    None => values::effective(&effective, unmask),
                }),
                (noted(session, field, line(effective.origin), verbose), Tone::Quiet),
            ),
            Outcome::Absent(at) => {
                (plain("absent on purpose".into()), (noted(session, field, line(at), verbose), Tone::Quiet))
            }
            Outcome::Missing(..) | Outcome::Broken(_) => {
                lacking += 1;
                let found = findings::of_field(session, field);
                let word = match found.first() {
                    Some(finding) if finding.code != findings::Code::MissingValue => finding.code.name(),
                    _ => "missing",
                };
                let help = found.first().map(|finding: &Finding| finding.help.clone());
                ((word.to_owned(), Tone::Bad), plain(help.unwrap_or_default()))
            }
        };
        table.row(vec![plain(name), value, from]);
    }
    let files: Vec<(&str, String)> = short.files().collect();
    let widest = files.iter().map(|(name, _)| name.len()).max().unwrap_or_default();
    for (name, files) in &files {
        console.wrapped(&format!("{name:<widest$}  {files}"), &" ".repeat(widest + 2));
    }
    if !files.is_empty() {
        console.line("");
    }
    table.keep_whole(0);
    table.keep_whole(2);
    table.lines().iter().for_each(|line| console.line(line));
    if optional > 0 {
        let have = if optional == 1 { "has" } else { "have" };
        console.line(format!("\n{} {have} no value.", counted(optional, "optional field")));
    }
    if lacking > 0 {
        let fields = if lacking == 1 { "1 field lacks".to_owned() } else { format!("{lacking} fields lack") };
        let text =
            format!("\n{}: {fields} the value needed; `cledger check` says more.", style::bad("missing"));
        console.line(text);
    }
}

/// Where a value comes from, with the reason and the last day of its setting where all is told.
fn noted(session: &mut Session<'_, '_>, field: FieldId, from: String, verbose: bool) -> String {
    let winner = session.winners(field.subject, field.stage)[field.slot.0 as usize];
    let Winner::Set(setting, ..) = winner else { return from };
    match setting.note.as_deref().and_then(words::note).filter(|_| verbose) {
        Some(note) => format!("{from}: {note}"),
        None => from,
    }
}

/// A delivery with its values.
pub(crate) fn delivery(console: &mut Console, recorded: &Recorded, unmask: bool) {
    let Recorded { record, content } = recorded;
    history::record(console, record);
    let mut table = Table::new(&["field", "value"], console.width());
    for (name, kept) in &content.values {
        table.row(vec![(name.clone(), Tone::Plain), (values::kept(kept, unmask), Tone::Plain)]);
    }
    console.line("");
    table.lines().iter().for_each(|line| console.line(line));
}
