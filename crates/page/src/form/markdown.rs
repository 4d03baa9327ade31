//! Pages as Markdown (`CommonMark`, with tables between bars as most readers know them), for reviews and wikis.

use cledger_work::shown::minute;

use cledger_work::shown::Tone;

use crate::model::{Block, Cell, Page, Table};

/// The whole page.
pub fn markdown(page: &Page) -> String {
    let head = &page.head;
    let mut text = format!("# {}\n\n", line(&head.ledger));
    let revision = head.revision.as_ref().map(|revision| format!("Revision {}. ", line(revision)));
    let by = head.by.as_ref().map(|by| format!(", by {}", line(by)));
    let made = format!(
        "{}Made {} UTC{}.",
        revision.unwrap_or_default(),
        line(&minute(&head.made)),
        by.unwrap_or_default()
    );
    text.push_str(&made);
    text.push('\n');
    for left_out in &head.left_out {
        text.push_str(&format!("\nNot in it: {}\n", line(left_out)));
    }
    for section in &page.sections {
        text.push_str(&format!("\n## {}\n", line(&section.title)));
        for block in &section.blocks {
            match block {
                Block::Text(said, tone) => text.push_str(&format!("\n{}{}\n", sign(*tone), line(said))),
                Block::Table(table) => text.push_str(&of_table(table)),
                Block::Links(names) => {
                    text.push('\n');
                    for name in names {
                        text.push_str(&format!("- [{}]({}.md)\n", line(name), name.replace('+', "%2B")));
                    }
                }
                // What is in a picture stands in a table as well.
                Block::Grid(_) | Block::Lanes(_) | Block::Bars(_) | Block::Flow(_) => {}
            }
        }
    }
    text
}

fn of_table(table: &Table) -> String {
    let mut text = String::new();
    if let Some(title) = &table.title {
        text.push_str(&format!("\n### {}\n", line(title)));
    }
    let row =
        |cells: &mut dyn Iterator<Item = String>| format!("| {} |\n", cells.collect::<Vec<_>>().join(" | "));
    text.push('\n');
    text.push_str(&row(&mut table.heads.iter().map(|head| line(head))));
    text.push_str(&row(&mut table.heads.iter().map(|_| "---".to_owned())));
    for one in &table.rows {
        text.push_str(&row(&mut one.cells.iter().map(cell)));
    }
    text
}

fn cell(cell: &Cell) -> String {
    let text = line(&cell.text);
    match cell.tone {
        Tone::Bad if !text.is_empty() => format!("**{text}**"),
        _ => text,
    }
}

/// What stands in front of a sentence that means something.
fn sign(tone: Tone) -> &'static str {
    match tone {
        Tone::Bad => "**To be mended:** ",
        Tone::Doubtful => "**To be looked at:** ",
        Tone::Plain | Tone::Good | Tone::Quiet => "",
    }
}

/// A text on one line in which nothing is markup.
fn line(text: &str) -> String {
    let mut escaped = String::new();
    for c in text.chars() {
        match c {
            '\n' | '\r' | '\t' => escaped.push(' '),
            '\\' | '`' | '*' | '_' | '[' | ']' | '<' | '>' | '|' | '#' | '~' | '&' | '!' | '$' => {
                escaped.push('\\');
                escaped.push(c);
            }
            c if c.is_control() => escaped.extend(c.escape_default()),
            c => escaped.push(c),
        }
    }
    escaped
}
