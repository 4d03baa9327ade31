//! `show` for people: a row a field, with its value and where it came from.

use cledger_core::findings::{self, Finding};
use cledger_core::resolve::{Effective, FieldId, Outcome, Session};
use cledger_store::daybook::{Content, Record};

use super::check::counted;
use super::history;
use crate::output::console::Console;
use crate::output::table::{Table, Tone};
use crate::output::{origin, style, values};

/// Prints the fields, and gives the number of those that lack a value they need.
pub(crate) fn print(
    console: &mut Console,
    session: &mut Session<'_, '_>,
    fields: &[FieldId],
    unmask: bool,
    fingerprint: &dyn Fn(&Effective<'_>) -> Option<String>,
) -> usize {
    let ledger = session.ledger();
    let mut table = Table::new(&["entry", "value", "from"], console.width());
    let (mut lacking, mut optional) = (0, 0);
    let plain = |text: String| (text, Tone::Plain);
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
                (origin::line(ledger, effective.origin), Tone::Quiet),
            ),
            Outcome::Absent(at) => {
                (plain("absent on purpose".into()), (origin::line(ledger, at), Tone::Quiet))
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
    table.keep_whole(0);
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
    lacking
}

/// A delivery with its values.
pub(crate) fn delivery(console: &mut Console, record: &Record, content: &Content, unmask: bool) {
    history::record(console, record);
    let mut table = Table::new(&["field", "value"], console.width());
    for (name, stored) in &content.values {
        let shown = stored.text.as_ref().filter(|_| unmask || !stored.secret);
        let value = shown.map(|text| values::of_json(text));
        let instead = if stored.text.is_none() { values::UNREADABLE } else { values::MASK };
        table.row(vec![
            (name.clone(), Tone::Plain),
            (value.unwrap_or_else(|| instead.to_owned()), Tone::Plain),
        ]);
    }
    console.line("");
    table.lines().iter().for_each(|line| console.line(line));
}
