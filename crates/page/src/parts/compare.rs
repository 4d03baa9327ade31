//! Two stages, or one unit in two; or the ledger at two times.

use cledger_core::compare::{Compared, Difference, SubjectCompared};
use cledger_core::effects::Seen;
use cledger_core::model::Ledger;
use cledger_core::resolve::Effective;
use cledger_work::compare::{Side, stages, units, with_revision};
use cledger_work::shown::{Tone, counted, effective, seen};
use cledger_work::{Kind, Opened, Trouble};

use crate::model::{Block, Cell, Row, Section, Table};

/// How these two stand to each other; without them, how the ledger stands to what it was at a revision.
pub(super) fn section(
    opened: &Opened,
    sides: Option<&(String, String)>,
    against: Option<&str>,
) -> Result<(Section, Option<Kind>), Trouble> {
    match (sides, against) {
        (Some((left, right)), _) => of_sides(opened, left, right),
        (None, Some(revision)) => Ok((since(opened, revision)?, None)),
        (None, None) => Err(Trouble::usage("two sides are needed")
            .help("write compare @test @prod-north, or add --against REV")),
    }
}

fn of_sides(opened: &Opened, left: &str, right: &str) -> Result<(Section, Option<Kind>), Trouble> {
    let outside = opened.unfetched();
    let resolver = cledger_core::resolve::Resolver::new(&opened.ledger, &outside, &[]);
    let compared = match (Side::parse(left)?, Side::parse(right)?) {
        (Side::Ledger(left), Side::Ledger(right)) => stages(opened, &resolver, &left, &right)?,
        (Side::Units(left), Side::Ledger(right)) => units(opened, &resolver, &left, &right)?,
        _ => {
            let message = format!("`{left}` and `{right}` are not two stages, or a unit in two stages");
            return Err(Trouble::usage(message).help("`cledger compare` shows files, captures and folios"));
        }
    };
    let kind = compared.kind();
    let (mut blocks, mut same) = (Vec::new(), 0);
    for subject in &compared.subjects {
        let only = |subject, side: &String| {
            let text = format!("{} is only in {side}, as meant.", opened.ledger.owner(subject));
            Block::Text(text, Tone::Quiet)
        };
        match subject {
            SubjectCompared::OnlyLeft(subject) => blocks.push(only(*subject, &compared.left)),
            SubjectCompared::OnlyRight(subject) => blocks.push(only(*subject, &compared.right)),
            SubjectCompared::Both(subject, fields) => {
                let mut shown: Vec<&Compared<'_>> =
                    fields.iter().filter(|field| field.difference != Difference::Same).collect();
                same += fields.len() - shown.len();
                shown.sort_by_key(|field| !field.is_unmeant());
                if !shown.is_empty() {
                    let heads = ["entry", &compared.left, &compared.right, "difference"].map(str::to_owned);
                    let row =
                        |field: &&Compared<'_>| row(&opened.ledger, field, (&compared.left, &compared.right));
                    blocks.push(Block::Table(Table {
                        title: Some(opened.ledger.owner(*subject).to_string()),
                        heads: heads.into(),
                        rows: shown.iter().map(row).collect(),
                        folded: false,
                    }));
                }
            }
        }
    }
    blocks.push(Block::Text(format!("{} the same in both.", is_are(same)), Tone::Quiet));
    let title = format!("{} and {} compared", compared.left, compared.right);
    Ok((Section { id: "compare".to_owned(), title, blocks }, kind))
}

fn is_are(count: usize) -> String {
    format!("{} {}", counted(count, "field"), if count == 1 { "is" } else { "are" })
}

fn row(ledger: &Ledger, field: &Compared<'_>, (left, right): (&str, &str)) -> Row {
    let name = ledger.field_name(field.left.subject, field.left.slot);
    let value = |value: &Option<Effective<'_>>| match value {
        Some(value) => Cell::plain(effective(value, false)),
        None => Cell::toned("none", Tone::Quiet),
    };
    let word = match field.difference {
        Difference::Same => "the same".to_owned(),
        Difference::AsMeant => "as meant".to_owned(),
        Difference::Differs => "differs".to_owned(),
        Difference::Unknown => "not known".to_owned(),
        Difference::OnlyLeft => format!("only in {left}"),
        Difference::OnlyRight => format!("only in {right}"),
    };
    let tone = match field.difference {
        _ if field.is_unmeant() => Tone::Bad,
        Difference::Unknown => Tone::Doubtful,
        _ => Tone::Quiet,
    };
    let cells = vec![
        Cell::plain(&name),
        value(&field.left_value),
        value(&field.right_value),
        Cell::toned(word, tone),
    ];
    Row { id: name, cells, differs: field.is_unmeant(), lacks: false }
}

fn since(opened: &Opened, revision: &str) -> Result<Section, Trouble> {
    let effects = with_revision(&opened.at, revision, None)?;
    let cell = |side: &Seen| {
        let (text, tone) = seen(side);
        Cell::toned(text, tone)
    };
    let rows: Vec<Row> = effects
        .iter()
        .map(|effect| {
            let address = effect.address.to_string();
            let cells = vec![Cell::plain(&address), cell(&effect.before), cell(&effect.after)];
            let lacks = effect.after == Seen::Missing;
            Row { id: address, cells, differs: true, lacks }
        })
        .collect();
    let changes = if rows.len() == 1 { "changes" } else { "change" };
    let count = format!("{} {changes}.", counted(rows.len(), "effective value"));
    let mut blocks = vec![Block::Text(count, Tone::Plain)];
    if !rows.is_empty() {
        let heads = vec!["field".to_owned(), revision.to_owned(), "now".to_owned()];
        blocks.push(Block::Table(Table { title: None, heads, rows, folded: false }));
    }
    Ok(Section { id: "compare".to_owned(), title: format!("What changes since {revision}"), blocks })
}
