//! What a report can have, each made of what a use case gives: one file a part.

mod check;
mod compare;
mod delivery;
mod drift;
mod flow;
mod history;
mod matrix;
mod status;

use std::sync::Arc;

use cledger_core::address::Address;
use cledger_store::{Scope, commit_of};
use cledger_work::shown::escape;
use cledger_work::{Kind, Opened, Trouble, Workplace};

use crate::model::{Head, Page};

/// A part of a report, and what it is of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// Units on their way through the stages: these, or all.
    Status(Vec<String>),
    /// Fields down, stages across: those that a pattern covers, or all.
    Matrix(Option<String>),
    /// Two stages, or one unit in two; what changes since a revision where no side is named.
    Compare(Option<(String, String)>),
    /// What is missing or wrong, where patterns cover it.
    Check(Vec<String>),
    /// What is really there.
    Drift(Vec<String>),
    /// What was delivered, where patterns cover it.
    History(Vec<String>),
    /// One delivery.
    Delivery(String),
    /// How values come to a unit in a stage, and go on from it.
    Flow(String),
}

/// The words that begin a part, with what follows each.
pub const PARTS: [(&str, &str); 8] = [
    ("status", "[UNIT…]"),
    ("matrix", "[PATTERN]"),
    ("compare", "[A B]"),
    ("check", "[PATTERN…]"),
    ("drift", "[ADDRESS…]"),
    ("history", "[PATTERN…]"),
    ("delivery", "UNIT@STAGE:N"),
    ("flow", "UNIT@STAGE"),
];

/// How many records of a history are in a report.
const RECORDS: usize = 1000;

impl Part {
    /// Reads parts: each begins with its word, and what it is of follows.
    pub fn read(words: &[String]) -> Result<Vec<Self>, Trouble> {
        let is_part = |word: &String| PARTS.iter().any(|(name, _)| name == word);
        let (mut parts, mut rest) = (Vec::new(), words);
        while let [word, behind @ ..] = rest {
            if !is_part(word) {
                let names: Vec<&str> = PARTS.iter().map(|(name, _)| *name).collect();
                let message = format!("`{word}` is no part of a report");
                return Err(Trouble::usage(message).help(format!("the parts are {}", names.join(", "))));
            }
            let of = behind.iter().take_while(|word| !is_part(word)).count();
            parts.push(Self::of(word, &behind[..of])?);
            rest = &behind[of..];
        }
        Ok(parts)
    }

    fn of(word: &str, of: &[String]) -> Result<Self, Trouble> {
        let wrong = || {
            let takes =
                PARTS.iter().find(|(name, _)| *name == word).map(|(_, takes)| *takes).unwrap_or_default();
            Trouble::usage(format!("`{word} {}` is no part of a report", of.join(" ")))
                .help(format!("write {word} {takes}"))
        };
        Ok(match (word, of) {
            ("status", of) => Part::Status(of.to_vec()),
            ("matrix", []) => Part::Matrix(None),
            ("matrix", [pattern]) => Part::Matrix(Some(pattern.clone())),
            ("compare", []) => Part::Compare(None),
            ("compare", [one, other]) => Part::Compare(Some((one.clone(), other.clone()))),
            ("check", of) => Part::Check(of.to_vec()),
            ("drift", of) => Part::Drift(of.to_vec()),
            ("history", of) => Part::History(of.to_vec()),
            ("delivery", [one]) => Part::Delivery(one.clone()),
            ("flow", [one]) => Part::Flow(one.clone()),
            _ => return Err(wrong()),
        })
    }

    /// An overview: what a report is of where no part is named.
    pub fn overview() -> Vec<Self> {
        vec![Part::Status(Vec::new()), Part::Check(Vec::new()), Part::History(Vec::new())]
    }
}

/// A report that was made.
#[derive(Debug)]
pub struct Report {
    /// The report.
    pub page: Page,
    /// The trouble that is in it, the worst first.
    pub kind: Option<Kind>,
}

/// Makes a report of these parts; of what is new since a revision where that is asked for, and with `live` of what
/// outlets have now.
pub fn report(
    at: &Arc<Workplace>,
    parts: &[Part],
    (against, live): (Option<&str>, bool),
) -> Result<Report, Trouble> {
    let opened = Opened::read_partly(at, &Scope::Whole)?;
    let mut page = Page { head: head(&opened, against), sections: Vec::new() };
    let mut kinds = Vec::new();
    for part in parts {
        let (section, kind) = match part {
            Part::Status(units) => (status::section(&opened, units, live)?, None),
            Part::Matrix(pattern) => (matrix::section(&opened, pattern.as_deref())?, None),
            Part::Compare(sides) => compare::section(&opened, sides.as_ref(), against)?,
            Part::Check(patterns) => check::section(at, patterns, against)?,
            Part::Drift(addresses) => drift::section(at, addresses)?,
            Part::History(patterns) => {
                match history::section(&opened, patterns, RECORDS) {
                    // An overview is of what there is.
                    Err(trouble) if patterns.is_empty() => {
                        page.head.left_out.push(format!("deliveries: {trouble}"));
                        kinds.extend((trouble.kind() == Kind::Outside).then_some(Kind::Outside));
                        continue;
                    }
                    section => (section?, None),
                }
            }
            Part::Delivery(address) => (delivery::section(&opened, &Address::parse(address)?)?, None),
            Part::Flow(address) => (flow::section(&opened, &Address::parse(address)?)?, None),
        };
        let before =
            page.sections.iter().filter(|known| known.id.split("--").next() == Some(&section.id)).count();
        let id = if before > 0 { format!("{}--{}", section.id, before + 1) } else { section.id.clone() };
        page.sections.push(crate::model::Section { id, ..section });
        kinds.extend(kind);
    }
    opened.tell_unread();
    // Nothing in a page is acted on, be it in a terminal.
    page.each_text(&mut |text| *text = escape(text));
    let worst = [Kind::Outside, Kind::Found].into_iter().find(|kind| kinds.contains(kind));
    Ok(Report { page, kind: worst })
}

fn head(opened: &Opened, against: Option<&str>) -> Head {
    let revision = commit_of(&opened.folder).map(|(commit, uncommitted)| {
        let short: String = commit.chars().take(12).collect();
        let since = against.map(|against| format!(", compared with {against}")).unwrap_or_default();
        format!("{short}{}{since}", if uncommitted { " with changes that are not committed" } else { "" })
    });
    let mut left_out = vec!["secrets, and what settings take from outside of the ledger".to_owned()];
    let broken = &opened.ledger.broken.0;
    left_out.extend(broken.iter().map(|file| format!("what {} says: it cannot be read", file.path)));
    Head {
        ledger: opened.ledger.name.clone(),
        revision,
        made: opened.at.now(),
        by: opened.at.who.clone(),
        left_out,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_read_with_what_they_are_of() {
        let words = |text: &str| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
        let read = |text: &str| Part::read(&words(text));
        let texts = |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect::<Vec<String>>();
        assert_eq!(
            read("status desk lamp matrix compare @a @b check delivery desk@a:1").unwrap(),
            [
                Part::Status(texts(&["desk", "lamp"])),
                Part::Matrix(None),
                Part::Compare(Some(("@a".to_owned(), "@b".to_owned()))),
                Part::Check(Vec::new()),
                Part::Delivery("desk@a:1".to_owned()),
            ]
        );
        for (text, told) in [
            ("overview", "`overview` is no part of a report"),
            ("matrix a b", "`matrix a b` is no part"),
            ("compare @a", "`compare @a` is no part"),
            ("delivery", "`delivery ` is no part"),
        ] {
            let refused = read(text).unwrap_err().to_string();
            assert!(refused.contains(told), "{refused}");
        }
    }
}
