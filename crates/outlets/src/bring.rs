//! Bringing outlets what they should hold: in one step each, and only over what was seen there.
//!
//! A file or a document is replaced whole, rows change in one transaction. Where something else stands
//! there than what was seen, nothing is written.

mod files;
mod load;

use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use crate::document::Documents;
use crate::failure::Deadline;
use crate::held::{Asked, Held, Values};
use crate::reach::Reach;
use crate::rows::Rows;

pub use crate::failure::NotBrought;
pub use load::{Content, Load, NewFile};

/// Brings all loads, each with its own time limit, and says what came of each, in their order.
pub fn bring(loads: Vec<Load>) -> Vec<Result<(), NotBrought>> {
    let (sender, receiver) = mpsc::channel();
    let start = Instant::now();
    let limits: Vec<Duration> = loads.iter().map(|load| load.limit).collect();
    for (at, load) in loads.into_iter().enumerate() {
        let sender = sender.clone();
        thread::spawn(move || {
            // Nobody listens any more once the time is over.
            let _ = sender.send((at, one(&load)));
        });
    }
    drop(sender);
    let mut found: Vec<Option<Result<(), NotBrought>>> = limits.iter().map(|_| None).collect();
    // What gives up by itself when its time is over has a moment more to say so.
    let end = start + limits.iter().max().copied().unwrap_or_default() + Duration::from_millis(300);
    while let Ok((at, brought)) = receiver.recv_timeout(end.saturating_duration_since(Instant::now())) {
        found[at] = Some(brought);
    }
    let late =
        |limit: &Duration| Err(NotBrought::NotKnown(format!("no answer within {} s", limit.as_secs_f32())));
    found.into_iter().zip(&limits).map(|(found, limit)| found.unwrap_or_else(|| late(limit))).collect()
}

fn one(load: &Load) -> Result<(), NotBrought> {
    let deadline = Deadline::within(load.limit);
    match (&load.reach, &load.asked, &load.content) {
        (Reach::Local(root), Asked::Files(asked), Content::Files(files, gone)) => {
            files::bring(root, asked, (files, gone), &load.seen)
        }
        (Reach::Http(http), Asked::Document(of), Content::Document(_) | Content::NoDocument) => {
            let seen = match &load.seen {
                Held::Document(text, version) => Some((text.as_str(), version.as_deref())),
                _ => None,
            };
            let text = if let Content::Document(text) = &load.content { Some(text) } else { None };
            Documents::of(http, deadline).map_err(NotBrought::from)?.bring(of, text, seen)
        }
        (Reach::Rows(reach), Asked::Rows(of), Content::Rows(changes)) => {
            let nothing = Values::new();
            let seen = if let Held::Rows(values) = &load.seen { values } else { &nothing };
            let mut rows = Rows::to_change(reach, deadline)?;
            if rows.change(of, seen, changes)? { Ok(()) } else { Err(NotBrought::ChangedMeanwhile) }
        }
        (Reach::None(reason), ..) => Err(NotBrought::Failed(reason.clone())),
        _ => Err(NotBrought::Failed("nothing can be brought there".to_owned())),
    }
}
