//! What is said around the fields: the keys, the marks, the stages.

use cledger_work::matrix::{DIFFERS, MARKS};
use cledger_work::shown::cut;

use crate::screen::{Item, OnTop, Screen};

/// The mark of a field with a finding, and what it says.
pub(super) const FOUND: (&str, &str) = ("!", "finding");

/// The mark of a field that an outlet has otherwise, and what it says.
pub(super) const OTHERWISE: (&str, &str) = ("*", "otherwise at an outlet");

/// The keys, and what each does.
pub(super) const KEYS: [(&str, &str); 15] = [
    ("arrows, hjkl", "go from field to field, and from stage to stage"),
    ("g G, Home End", "go to the first field, and to the last"),
    ("PgUp PgDn", "go on by a screen"),
    ("/", "show fields with a text in their names or values; Esc there shows all"),
    ("m", "show fields that lack a value somewhere, or all"),
    ("d", "show fields in which stages differ, or all"),
    ("Enter, p", "show or hide all about the field"),
    ("J K", "scroll that"),
    ("s", "set the field in the stage: shown first, then made"),
    ("o", "look at what outlets have of the unit in the stage"),
    ("O", "look at what outlets have of the whole stage"),
    ("r", "read the ledger again"),
    ("n", "show what was told"),
    ("?", "show the keys"),
    ("q", "leave"),
];

/// What the most needed keys do, as far as there is room.
pub(super) fn keys(screen: &Screen, width: u16) -> String {
    let said = match &screen.on_top {
        _ if screen.asked().is_some() => "Enter answers, Esc does not",
        OnTop::Nothing => "? keys  / filter  m missing  d differing  s set  o outlets  r read  q leave",
        OnTop::Filter => "Enter keeps the filter, Esc shows all",
        OnTop::Form(_) => "Enter tries it, Tab goes on, ← → choose what it says, Esc leaves it",
        OnTop::Change { is_open: true, .. } => "Enter makes it, Esc leaves it, j k scroll",
        OnTop::Change { is_open: false, .. } => "Esc goes back, j k scroll",
        OnTop::Keys | OnTop::Notices => "j k scroll, any other key goes back",
    };
    cut(said, usize::from(width))
}

/// What the marks say that are on the screen.
pub(super) fn legend(screen: &Screen) -> String {
    let Some(rows) = &screen.rows else { return String::new() };
    let list = &screen.list;
    let shown = list.items.iter().skip(list.top).take(list.room.max(1));
    let lines: Vec<_> = shown
        .filter_map(|item| match item {
            Item::Field(line) => rows.lines.get(*line),
            Item::Owner(_) => None,
        })
        .collect();
    let cells = || lines.iter().filter(|line| line.one.is_none()).flat_map(|line| &line.cells);
    let mut said: Vec<String> = MARKS
        .iter()
        .filter(|(mark, _)| cells().any(|cell| cell.mark == *mark || (*mark == DIFFERS && cell.differs)))
        .map(|(mark, what)| format!("{mark} {what}"))
        .collect();
    if screen.findings.is_some() {
        said.push(format!("{} {}", FOUND.0, FOUND.1));
    }
    if !screen.looked.is_empty() {
        said.push(format!("{} {}", OTHERWISE.0, OTHERWISE.1));
    }
    if !screen.notices.is_empty() {
        said.push("n what was told".to_owned());
    }
    said.join(", ")
}

/// Which stages are shown, where not all fit.
pub(super) fn stages(screen: &Screen) -> String {
    let Some(rows) = &screen.rows else { return String::new() };
    let shown = &screen.list.stages;
    if shown.len() >= rows.stages.len() {
        return String::new();
    }
    format!("stages {} to {} of {}: ← →", shown.start + 1, shown.end, rows.stages.len())
}
