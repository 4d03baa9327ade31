//! A row of a matrix as it is shown: a cell for each stage, in words, and one for all where they are the same.

use cledger_core::matrix::{Cell, Row};
use cledger_core::resolve::{Effective, Layer, Outcome};
use cledger_core::value::Value;

use crate::shown::{Tone, effective};

/// Behind a value that is the same in all stages.
const EVERYWHERE: &str = "everywhere";

/// What is told of the marks, in this order.
pub const MARKS: [(&str, &str); 5] = [
    ("d", "default"),
    ("g", "from a group"),
    ("f", "followed"),
    ("=", "made from other fields"),
    (DIFFERS, "not as in most stages"),
];

/// The mark of a value that most stages have otherwise.
pub const DIFFERS: &str = "≠";

/// What stands where a unit is not in a stage.
pub const ELSEWHERE: &str = "-";

/// A cell as it is shown.
#[derive(Debug, Clone)]
pub struct Shown {
    /// Its value, or the word for why it has none.
    pub text: String,
    /// Of its layer.
    pub mark: &'static str,
    /// What it says beside its words.
    pub tone: Tone,
    /// Whether most stages have it otherwise.
    pub differs: bool,
}

impl Shown {
    /// The marks beside it.
    pub fn marks(&self) -> String {
        format!("{}{}", self.mark, if self.differs { DIFFERS } else { "" })
    }

    /// Whether the unit is not in the stage.
    pub fn is_elsewhere(&self) -> bool {
        self.text == ELSEWHERE
    }

    /// What is said behind it where it is the same in all stages.
    pub fn everywhere(&self) -> String {
        match MARKS.iter().find(|(mark, _)| *mark == self.mark) {
            Some((_, what)) => format!("{EVERYWHERE}, {what}"),
            None => EVERYWHERE.to_owned(),
        }
    }
}

/// A field as it is shown.
#[derive(Debug, Clone)]
pub struct Line {
    /// Whose it is.
    pub owner: String,
    /// Its name within that.
    pub entry: String,
    /// One cell for all stages where it is the same in all.
    pub one: Option<Shown>,
    /// By stage.
    pub cells: Vec<Shown>,
}

impl Line {
    /// A row as it is shown, secrets masked.
    pub fn of(row: &Row<'_>) -> Self {
        let mut cells: Vec<Shown> = row.cells.iter().map(shown).collect();
        let there: Vec<&Outcome<'_>> = row.cells.iter().flatten().collect();
        let one = is_one(&there).then(|| {
            let mut here = cells.iter().filter(|cell| !cell.is_elsewhere());
            let first = here.next().cloned();
            let mark = |first: Shown| {
                let is_same = here.all(|cell| cell.mark == first.mark);
                Shown { mark: if is_same { first.mark } else { "" }, ..first }
            };
            first.map(mark)
        });
        for (cell, differs) in cells.iter_mut().zip(row.outliers()) {
            cell.differs = differs;
            if differs {
                cell.tone = Tone::Doubtful;
            }
        }
        let owner = row.address.owner.as_ref().map(ToString::to_string).unwrap_or_default();
        let address = row.address.to_string();
        let entry = address.split_once('/').map_or(address.clone(), |(_, entry)| entry.to_owned());
        Self { owner, entry, one: one.flatten(), cells }
    }
}

/// Whether these say one and the same, and that is known. Secrets are shown in no stage, and so for each.
fn is_one(outcomes: &[&Outcome<'_>]) -> bool {
    let [first, others @ ..] = outcomes else { return false };
    let is_same = |other: &&Outcome<'_>| match (first, other) {
        (Outcome::Value(first), Outcome::Value(other)) => {
            open(first).is_some_and(|first| open(other) == Some(first))
        }
        (Outcome::Absent(_), Outcome::Absent(_)) => true,
        _ => false,
    };
    !others.is_empty() && others.iter().all(is_same)
}

/// A value that is read, and that anybody may see.
fn open<'e>(effective: &'e Effective<'_>) -> Option<&'e Value> {
    effective.expose().filter(|_| !effective.is_secret())
}

fn shown(cell: &Cell<'_>) -> Shown {
    let plain = |text: &str, tone| Shown { text: text.to_owned(), mark: "", tone, differs: false };
    let Some(outcome) = cell else { return plain(ELSEWHERE, Tone::Quiet) };
    match outcome {
        Outcome::Value(value) => {
            let mark = match value.origin.layer {
                Layer::Default => "d",
                Layer::Group(_) => "g",
                Layer::Follow(_) => "f",
                Layer::Derived => "=",
                Layer::Stage(_) | Layer::Run => "",
            };
            Shown { mark, ..plain(&effective(value, false), Tone::Plain) }
        }
        Outcome::Absent(_) => plain("absent", Tone::Quiet),
        Outcome::Unset => plain("not set", Tone::Quiet),
        Outcome::Missing(..) => plain("missing", Tone::Bad),
        Outcome::Broken(problems) => {
            plain(problems.first().map_or("wrong", |problem| problem.code.name()), Tone::Bad)
        }
    }
}
