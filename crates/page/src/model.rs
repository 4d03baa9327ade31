//! What is reported, in no form yet.

use std::collections::BTreeMap;

use cledger_work::shown::Tone;

/// What the page is called that leads to the others of a folder.
const INDEX: &str = "index";

/// A report.
#[derive(Debug, Clone, Default)]
pub struct Page {
    /// What stands at its start.
    pub head: Head,
    /// Its parts.
    pub sections: Vec<Section>,
}

impl Page {
    /// Does this to each of its texts; names in links are letters, digits and `-`.
    pub(crate) fn each_text(&mut self, does: &mut dyn FnMut(&mut String)) {
        let Head { ledger, revision, made, by, left_out } = &mut self.head;
        [ledger, made].into_iter().chain(revision).chain(by).chain(left_out).for_each(&mut *does);
        for section in &mut self.sections {
            does(&mut section.title);
            section.blocks.iter_mut().for_each(|block| block.each_text(does));
        }
    }

    /// The page with a page of its own for each of its tables that has a title, by that: a whole ledger on one page would
    /// be more than a browser opens at once.
    #[must_use]
    pub fn split(self) -> Vec<(String, Page)> {
        let mut pages: BTreeMap<String, Page> = BTreeMap::new();
        let head = self.head.clone();
        let mut sections = Vec::new();
        for Section { id, title, blocks } in self.sections {
            let (mut links, mut rest) = (Vec::new(), Vec::new());
            for block in blocks {
                let Block::Table(Table { title: Some(name), .. }) = &block else {
                    rest.push(block);
                    continue;
                };
                // No unit can be called so, as one can like the page that leads to the others.
                let name = if name == INDEX { format!("_{INDEX}") } else { name.clone() };
                let alone = Section { id: id.clone(), title: title.clone(), blocks: vec![block] };
                let page = pages.entry(name.clone());
                let page = page.or_insert_with(|| Page { head: head.clone(), sections: Vec::new() });
                page.sections.push(alone);
                links.push(name);
            }
            rest.extend((!links.is_empty()).then_some(Block::Links(links)));
            sections.push(Section { id, title, blocks: rest });
        }
        let index = (INDEX.to_owned(), Page { head: self.head, sections });
        std::iter::once(index).chain(pages).collect()
    }
}

/// Of what a report is, and who made it when.
#[derive(Debug, Clone, Default)]
pub struct Head {
    /// The name of the ledger.
    pub ledger: String,
    /// The revision of the ledger's files, where they are under version control.
    pub revision: Option<String>,
    /// When it was made (RFC 3339, UTC).
    pub made: String,
    /// Who made it.
    pub by: Option<String>,
    /// What is not in it, each in a sentence.
    pub left_out: Vec<String>,
}

/// A part of a report.
#[derive(Debug, Clone, Default)]
pub struct Section {
    /// Its name in links: letters, digits and `-`.
    pub id: String,
    /// Its heading.
    pub title: String,
    /// What is in it.
    pub blocks: Vec<Block>,
}

/// Something in a part.
#[derive(Debug, Clone)]
pub enum Block {
    /// A sentence, and what it means.
    Text(String, Tone),
    /// A table.
    Table(Table),
    /// Links to pages beside this one: their names, without what tells the form.
    Links(Vec<String>),
    /// A picture of units and stages.
    Grid(Grid),
    /// A picture of what happened when.
    Lanes(Lanes),
    /// A picture of how many there are of what.
    Bars(Bars),
    /// A picture of what comes to something, and goes on from it.
    Flow(Flow),
}

impl Block {
    fn each_text(&mut self, does: &mut dyn FnMut(&mut String)) {
        match self {
            Block::Text(text, _) => does(text),
            Block::Table(Table { title, heads, rows, .. }) => {
                title.iter_mut().chain(heads).for_each(&mut *does);
                rows.iter_mut().flat_map(|row| &mut row.cells).for_each(|cell| cell.each_text(does));
            }
            Block::Links(names) => names.iter_mut().for_each(does),
            Block::Grid(Grid { title, heads, rows }) => {
                [title].into_iter().chain(heads).for_each(&mut *does);
                for (name, cells) in rows {
                    does(name);
                    for cell in cells {
                        cell.each_text(does);
                    }
                }
            }
            Block::Lanes(Lanes { title, lanes, ends }) => {
                [title, &mut ends.0, &mut ends.1].into_iter().for_each(&mut *does);
                for lane in lanes {
                    does(&mut lane.name);
                    lane.events.iter_mut().for_each(|(_, cell)| cell.each_text(does));
                }
            }
            Block::Bars(Bars { title, bars }) => {
                does(title);
                for (name, ..) in bars {
                    does(name);
                }
            }
            Block::Flow(Flow { title, comes, center, goes }) => {
                [title, center].into_iter().chain(comes).chain(goes).for_each(does);
            }
        }
    }
}

/// Rows below heads.
#[derive(Debug, Clone, Default)]
pub struct Table {
    /// The heading above it, if it has one of its own.
    pub title: Option<String>,
    /// The heads of its columns.
    pub heads: Vec<String>,
    /// Its rows.
    pub rows: Vec<Row>,
    /// Whether what is in it stands in a picture, too, so that it is folded at first.
    pub folded: bool,
}

/// A row of a table.
#[derive(Debug, Clone, Default)]
pub struct Row {
    /// Its name in links, without that of its part.
    pub id: String,
    /// Its cells: as many as there are heads.
    pub cells: Vec<Cell>,
    /// Whether something in it differs.
    pub differs: bool,
    /// Whether something is missing or wrong in it.
    pub lacks: bool,
}

/// A cell of a table.
#[derive(Debug, Clone, Default)]
pub struct Cell {
    /// Its text.
    pub text: String,
    /// What that means.
    pub tone: Tone,
    /// What is told of it on pointing or focus, such as where a value comes from.
    pub note: Option<String>,
}

impl Cell {
    fn each_text(&mut self, does: &mut dyn FnMut(&mut String)) {
        [&mut self.text].into_iter().chain(&mut self.note).for_each(does);
    }

    /// A cell with nothing but its text.
    pub fn plain(text: impl Into<String>) -> Self {
        Self::toned(text, Tone::Plain)
    }

    /// A cell whose text means something.
    pub fn toned(text: impl Into<String>, tone: Tone) -> Self {
        Self { text: text.into(), tone, note: None }
    }
}

/// A picture of words in rows and columns.
#[derive(Debug, Clone, Default)]
pub struct Grid {
    /// What it shows, for those who do not see it.
    pub title: String,
    /// The heads of its columns.
    pub heads: Vec<String>,
    /// Its rows: a name, and a cell for each column.
    pub rows: Vec<(String, Vec<Cell>)>,
}

/// A picture of numbers.
#[derive(Debug, Clone, Default)]
pub struct Bars {
    /// What it shows, for those who do not see it.
    pub title: String,
    /// What each is of, how many, and what that means.
    pub bars: Vec<(String, usize, Tone)>,
}

/// A picture of what comes to something, and goes on from it.
#[derive(Debug, Clone, Default)]
pub struct Flow {
    /// What it shows, for those who do not see it.
    pub title: String,
    /// What comes.
    pub comes: Vec<String>,
    /// What it comes to.
    pub center: String,
    /// Where it goes on to.
    pub goes: Vec<String>,
}

/// A picture of events on lanes over time.
#[derive(Debug, Clone, Default)]
pub struct Lanes {
    /// What it shows, for those who do not see it.
    pub title: String,
    /// The lanes.
    pub lanes: Vec<Lane>,
    /// What stands at its beginning and its end.
    pub ends: (String, String),
}

/// A lane.
#[derive(Debug, Clone, Default)]
pub struct Lane {
    /// Its name.
    pub name: String,
    /// Its events: where, from 0 for the beginning to 1 for the end, and what is told of each.
    pub events: Vec<(f64, Cell)>,
}
