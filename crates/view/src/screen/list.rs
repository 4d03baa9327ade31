//! The fields that are shown, below their units, and the one that is looked at.

use cledger_work::browse::Rows;
use cledger_work::matrix::Line;
use tui_input::Input;

/// A line of the list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Item {
    /// The unit of the fields below, by the first of these.
    Owner(usize),
    /// A field.
    Field(usize),
}

/// Which fields are shown.
#[derive(Debug, Default)]
pub(crate) struct Filters {
    /// Those with this text in their address or values.
    pub(crate) text: Input,
    /// Those alone that lack a value somewhere.
    pub(crate) missing: bool,
    /// Those alone in which stages differ.
    pub(crate) differing: bool,
}

/// The list, and where one is in it.
#[derive(Debug, Default)]
pub(crate) struct List {
    pub(crate) items: Vec<Item>,
    /// How many fields there are.
    pub(crate) fields: usize,
    /// All of each field in which a text is looked for; nothing as long as none is.
    texts: Vec<String>,
    /// The item that is looked at; always a field, if there is one.
    at: usize,
    /// The stage that is looked at.
    pub(crate) stage: usize,
    /// The stages that were on the screen last.
    pub(crate) stages: std::ops::Range<usize>,
    /// The first item on the screen, and how many fit.
    pub(crate) top: usize,
    pub(crate) room: usize,
}

impl List {
    /// Shows the fields that pass the filters, with the field of an address chosen if it is among them.
    pub(crate) fn fill(&mut self, rows: &Rows, filters: &Filters, address: Option<&str>) {
        let before = address.and_then(|address| address.rsplit_once('@')?.0.split_once('/'));
        let text = filters.text.value().to_lowercase();
        if !text.is_empty() && self.texts.is_empty() {
            self.texts = rows.lines.iter().map(searched).collect();
        }
        self.items.clear();
        (self.fields, self.at) = (0, 0);
        self.stage = self.stage.min(rows.stages.len().saturating_sub(1));
        let mut owner = None;
        for (at, line) in rows.lines.iter().enumerate() {
            let is_wanted = (!filters.missing || rows.lacks[at]) && (!filters.differing || rows.differs[at]);
            if !is_wanted || !text.is_empty() && !self.texts[at].contains(&text) {
                continue;
            }
            if owner != Some(&line.owner) {
                owner = Some(&line.owner);
                self.items.push(Item::Owner(at));
            }
            if before == Some((line.owner.as_str(), line.entry.as_str())) {
                self.at = self.items.len();
            }
            self.items.push(Item::Field(at));
            self.fields += 1;
        }
        if self.at == 0 {
            self.at = usize::from(self.fields > 0);
        }
        self.show();
    }

    /// Forgets what was made of fields that are read anew.
    pub(crate) fn forget(&mut self) {
        self.texts.clear();
    }

    /// The field that is looked at.
    pub(crate) fn line(&self) -> Option<usize> {
        match self.items.get(self.at)? {
            Item::Field(line) => Some(*line),
            Item::Owner(_) => None,
        }
    }

    /// The item and the stage that are looked at.
    pub(crate) fn chosen(&self) -> (usize, usize) {
        (self.at, self.stage)
    }

    /// Goes on by so many items, and to a field.
    pub(crate) fn step(&mut self, by: isize) {
        let last = self.items.len().saturating_sub(1);
        let to = self.at.saturating_add_signed(by).min(last);
        let is_field = |at: &usize| matches!(self.items.get(*at), Some(Item::Field(_)));
        let found = if by > 0 {
            (to..=last).find(is_field).or_else(|| (0..=to).rev().find(is_field))
        } else {
            (0..=to).rev().find(is_field).or_else(|| (to..=last).find(is_field))
        };
        self.at = found.unwrap_or(self.at);
        self.show();
    }

    /// Goes on by so many screens.
    pub(crate) fn page(&mut self, by: isize) {
        self.step(by * isize::try_from(self.room.max(2) - 1).unwrap_or(1));
    }

    /// Goes to the next stage, or the one before.
    pub(crate) fn step_stage(&mut self, by: isize, stages: usize) {
        self.stage = self.stage.saturating_add_signed(by).min(stages.saturating_sub(1));
    }

    /// So many items fit on the screen.
    pub(crate) fn fit(&mut self, room: usize) {
        self.room = room;
        self.show();
    }

    /// Moves what is on the screen so that what is looked at is on it, with its unit where that stands right above.
    fn show(&mut self) {
        let room = self.room.max(1);
        let first = match self.at.checked_sub(1).and_then(|before| self.items.get(before)) {
            Some(Item::Owner(_)) if room > 1 => self.at - 1,
            _ => self.at,
        };
        self.top = self.top.min(first).max((self.at + 1).saturating_sub(room));
    }
}

/// The address and the values of a field in small letters, a line each.
fn searched(line: &Line) -> String {
    let mut text = format!("{}/{}", line.owner, line.entry);
    for cell in &line.cells {
        text.push('\n');
        text.push_str(&cell.text);
    }
    text.to_lowercase()
}
