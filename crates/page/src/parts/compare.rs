//! Two stages, or one unit in two; or the ledger at two times.

use cledger_core::compare::{Compared, Difference, NamedCompared, SubjectCompared};
use cledger_core::effects::Seen;
use cledger_core::resolve::Resolver;
use cledger_work::compare::words::{self, Line};
use cledger_work::compare::{Side, Structure, named_sides, stages, units, with_revision};
use cledger_work::shown::{Tone, counted, seen};
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
    let resolver = Resolver::new(&opened.ledger, &outside, &[]);
    let compared = match (Side::parse(left)?, Side::parse(right)?) {
        (Side::Ledger(left), Side::Ledger(right)) => stages(opened, &resolver, &left, &right)?,
        (Side::Units(left), Side::Ledger(right)) => units(opened, &resolver, &left, &right)?,
        sides => return of_names(opened, (left, right), (&sides.0, &sides.1)),
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
                    let lines = |field: &&Compared<'_>| words::field(&opened.ledger, field, &compared);
                    blocks.push(Block::Table(Table {
                        title: Some(opened.ledger.owner(*subject).to_string()),
                        heads: heads.into(),
                        rows: shown.iter().flat_map(lines).map(row).collect(),
                        folded: false,
                    }));
                }
            }
        }
    }
    blocks.push(Block::Text(format!("{} the same in both.", is_are(same, "field")), Tone::Quiet));
    let title = format!("{} and {} compared", compared.left, compared.right);
    Ok((Section { id: "compare".to_owned(), title, blocks }, kind))
}

fn is_are(count: usize, noun: &str) -> String {
    format!("{} {}", counted(count, noun), if count == 1 { "is" } else { "are" })
}

/// A field, a name or a row of a lookup table on both sides.
fn row(line: Line) -> Row {
    let Line { name, sides, word, tone, .. } = line;
    let [left, right] = sides.map(|(text, tone)| Cell::toned(text, tone));
    let cells = vec![Cell::plain(&name), left, right, Cell::toned(word, tone)];
    Row { id: name, cells, differs: tone == Tone::Bad, lacks: false }
}

/// Two sides that have names and values: files, captures, folios, ledgers.
fn of_names(
    opened: &Opened,
    texts: (&str, &str),
    sides: (&Side, &Side),
) -> Result<(Section, Option<Kind>), Trouble> {
    let compared = named_sides(&opened.at, sides, (&Structure::default(), None))?;
    let (same, others): (Vec<&NamedCompared>, Vec<_>) =
        compared.names.iter().partition(|one| one.difference == Difference::Same);
    let said = format!("{} the same in both.", is_are(same.len(), "name"));
    let mut blocks = vec![Block::Text(said, Tone::Quiet)];
    if !others.is_empty() {
        let heads = ["name", texts.0, texts.1, "difference"].map(str::to_owned).into();
        let rows = others.into_iter().map(|one| row(words::name(one))).collect();
        blocks.push(Block::Table(Table { title: None, heads, rows, folded: false }));
    }
    let title = format!("{} and {} compared", texts.0, texts.1);
    Ok((Section { id: "compare".to_owned(), title, blocks }, compared.kind()))
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
