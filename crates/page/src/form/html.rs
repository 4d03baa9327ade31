//! Pages as one HTML file (HTML Living Standard) that needs nothing from outside and works without its script.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use sha2::{Digest as _, Sha256};

use cledger_work::shown::{breaks, minute};

use super::picture::{bars, class, flow, grid, lanes};
use crate::model::{Block, Cell, Head, Page, Row, Section, Table};

/// The style, and the script that filters, sorts and folds.
const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// Up to so many letters, what a row is called stays on one line.
const NAME: usize = 44;

/// The whole page. Nothing in it is markup that is not of this program, and it reaches nothing: its
/// Content-Security-Policy lets in its own style and script alone, by their hashes.
pub fn html(page: &Page) -> String {
    let Page { head, sections } = page;
    let source = |text: &str| format!("'sha256-{}'", STANDARD.encode(Sha256::digest(text)));
    let policy = format!(
        "default-src 'none'; style-src {}; script-src {}; base-uri 'none'; form-action 'none'",
        source(STYLE),
        source(SCRIPT)
    );
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta http-equiv="Content-Security-Policy" content=(policy);
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (head.ledger) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header { (of_head(head)) }
                @if sections.len() > 1 {
                    nav aria-label="Contents" {
                        ul {
                            @for section in sections {
                                li { a href=(format!("#{}", section.id)) { (section.title) } }
                            }
                        }
                    }
                }
                main {
                    @for section in sections { (of_section(section)) }
                }
                script { (PreEscaped(SCRIPT)) }
            }
        }
    };
    markup.into_string()
}

fn of_head(head: &Head) -> Markup {
    html! {
        h1 { (head.ledger) }
        p.made {
            @if let Some(revision) = &head.revision { "Revision " (revision) ". " }
            "Made " (minute(&head.made)) " UTC"
            @if let Some(by) = &head.by { " by " (by) }
            "."
        }
        @for left_out in &head.left_out {
            p.doubtful { "Not in it: " (left_out) }
        }
    }
}

fn of_section(section: &Section) -> Markup {
    let mut tables = 0;
    html! {
        section id=(section.id) aria-labelledby=(format!("{}-title", section.id)) {
            details open {
                summary { h2 id=(format!("{}-title", section.id)) { (section.title) } }
                @for block in &section.blocks {
                    @match block {
                        Block::Text(text, tone) => { p class=(class(*tone)) { (text) } }
                        Block::Links(names) => {
                            ul.links { @for name in names { li { a href=(format!("{}.html", file(name))) { (name) } } } }
                        }
                        Block::Grid(picture) => { div.picture { (grid(picture)) } }
                        Block::Lanes(picture) => { div.picture { (lanes(picture)) } }
                        Block::Flow(picture) => { div.picture { (flow(picture)) } }
                        Block::Bars(picture) => { div.picture { (bars(picture)) } }
                        Block::Table(table) => {
                            @let id = { tables += 1; format!("{}-{tables}", section.id) };
                            @if table.folded {
                                details { summary { "As a table" } (of_table(&id, table)) }
                            } @else { (of_table(&id, table)) }
                        }
                    }
                }
            }
        }
    }
}

fn of_table(id: &str, table: &Table) -> Markup {
    html! {
        div.table id=(id) {
            @if let Some(title) = &table.title { h3 { (title) } }
            div.scroll tabindex="0" role="region" aria-label=(table.title.as_deref().unwrap_or("Table")) {
                table {
                    thead {
                        tr { @for head in &table.heads { th scope="col" { (head) } } }
                    }
                    tbody {
                        @for row in &table.rows { (of_row(id, row)) }
                    }
                }
            }
        }
    }
}

fn of_row(table: &str, row: &Row) -> Markup {
    let id = (!row.id.is_empty()).then(|| format!("{table}-{}", anchor(&row.id)));
    html! {
        tr id=[id.as_deref()] data-differs[row.differs] data-lacks[row.lacks] {
            @for (at, cell) in row.cells.iter().enumerate() {
                @if at == 0 {
                    th.name[cell.text.chars().count() <= NAME] scope="row" {
                        @if let Some(id) = &id {
                            a href=(format!("#{id}")) { (cell.text) }
                        } @else { (cell.text) }
                    }
                } @else { (of_cell(cell)) }
            }
        }
    }
}

fn of_cell(cell: &Cell) -> Markup {
    html! {
        td class=(class(cell.tone)) {
            @if let Some(note) = &cell.note {
                span title=(note) tabindex="0" { (parted(&cell.text)) span.note { (note) } }
            } @else { (parted(&cell.text)) }
        }
    }
}

/// A text that may be parted where a value has a break.
fn parted(text: &str) -> Markup {
    let mut from = 0;
    html! {
        @for to in breaks(text).chain([text.len()]) {
            @let piece = { let piece = &text[from..to]; from = to; piece };
            (piece)
            @if to < text.len() { wbr; }
        }
    }
}

/// A name as a file has it in a link.
fn file(name: &str) -> String {
    name.replace('+', "%2B")
}

/// A text as it can stand in a link: what names and addresses are made of, and `-` for all else.
fn anchor(text: &str) -> String {
    text.chars().map(|c| if c.is_alphanumeric() || "-._+/@:".contains(c) { c } else { '-' }).collect()
}
