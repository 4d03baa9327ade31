//! What was delivered where, when, by whom and why.

use std::collections::BTreeMap;

use cledger_store::daybook::Meta;
use cledger_work::deliver::history::history;
use cledger_work::shown::{Tone, minute};
use cledger_work::{Opened, Trouble};
use jiff::Timestamp;

use crate::model::{Block, Cell, Lane, Lanes, Row, Section, Table};

/// The last so many records, where patterns cover them.
pub(super) fn section(opened: &Opened, patterns: &[String], last: usize) -> Result<Section, Trouble> {
    let history = history(opened, patterns, last)?;
    let metas: Vec<&Meta> = history.records.iter().map(|entry| &entry.meta).collect();
    let mut blocks = Vec::new();
    if history.more > 0 {
        blocks.push(Block::Text(format!("{} earlier ones are not in it.", history.more), Tone::Doubtful));
    }
    for open in &history.opened {
        let text =
            format!("Left open: {}@{}, begun {} by {}.", open.unit, open.stage, minute(&open.time), open.who);
        blocks.push(Block::Text(text, Tone::Bad));
    }
    blocks.extend(lanes(opened, &metas).map(Block::Lanes));
    let row = |meta: &&Meta| {
        let name = format!("{}@{}:{}", meta.unit, meta.stage, meta.number);
        let state = meta.outlets.iter().any(|answer| !answer.state.is_whole());
        let cells = vec![
            Cell::plain(&name),
            Cell::plain(meta.kind.words()),
            Cell::plain(minute(&meta.time)),
            Cell::plain(&meta.who),
            Cell::plain(&meta.why),
            if state { Cell::toned("not whole", Tone::Bad) } else { Cell::default() },
        ];
        Row { id: name, cells, differs: false, lacks: state }
    };
    let heads = ["delivery", "what", "when (UTC)", "who", "why", ""].map(str::to_owned).into();
    blocks.push(Block::Table(Table {
        title: None,
        heads,
        rows: metas.iter().rev().map(row).collect(),
        folded: false,
    }));
    Ok(Section { id: "history".to_owned(), title: "Deliveries".to_owned(), blocks })
}

/// A lane for each stage, with what came when.
fn lanes(opened: &Opened, metas: &[&Meta]) -> Option<Lanes> {
    let time = |meta: &Meta| meta.time.parse::<Timestamp>().ok().map(Timestamp::as_second);
    let times: Vec<i64> = metas.iter().filter_map(|meta| time(meta)).collect();
    let (first, last) = (*times.iter().min()?, *times.iter().max()?);
    let mut by_stage: BTreeMap<&str, Vec<(f64, Cell)>> = BTreeMap::new();
    for meta in metas {
        let Some(at) = time(meta) else { continue };
        #[expect(clippy::cast_precision_loss, reason = "a place in a picture")]
        let place = if last > first { (at - first) as f64 / (last - first) as f64 } else { 0.5 };
        let is_whole = meta.outlets.iter().all(|answer| answer.state.is_whole());
        let text = format!("{}:{} {}", meta.unit, meta.number, meta.kind.words());
        let tone = if is_whole { Tone::Plain } else { Tone::Bad };
        let cell =
            Cell { note: Some(format!("{} by {}", minute(&meta.time), meta.who)), ..Cell::toned(text, tone) };
        by_stage.entry(opened.ledger.stage_name_now(&meta.stage)).or_default().push((place, cell));
    }
    let known = opened.ledger.stages.iter().map(|stage| stage.name.as_str());
    let lanes =
        known.filter_map(|stage| Some(Lane { name: stage.to_owned(), events: by_stage.remove(stage)? }));
    let when =
        |second: i64| Timestamp::from_second(second).map(|at| minute(&at.to_string())).unwrap_or_default();
    let ends = (when(first), when(last));
    Some(Lanes {
        title: "Deliveries over time, a lane for each stage".to_owned(),
        lanes: lanes.collect(),
        ends,
    })
}
