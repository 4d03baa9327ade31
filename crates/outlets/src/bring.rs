//! Bringing outlets what they should hold: in one step each, and only over what was seen there.
//!
//! A file or a document is replaced whole, rows change in one transaction. Where something else stands
//! there than what was seen, nothing is written.

mod files;

use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use cledger_core::delivery::RowChange;
use zeroize::Zeroizing;

use crate::failure::{Deadline, Failure};
use crate::reach::{Document, Documents, Put, Reach, Rows, Values};
use crate::read_back::{Asked, Held};

/// A file to be written.
#[derive(Clone)]
pub struct NewFile {
    /// Its path below the unit's folder.
    pub path: String,
    /// What stands in it.
    pub text: Zeroizing<String>,
    /// Whether that is for its owner alone.
    pub secret: bool,
}

/// What is brought.
#[derive(Clone)]
pub enum Content {
    /// These files; a path without a file is taken away.
    Files(Vec<NewFile>, Vec<String>),
    /// This JSON document.
    Document(Zeroizing<String>),
    /// No document any more.
    NoDocument,
    /// These changes of rows.
    Rows(Vec<RowChange>),
}

/// One unit or instance on its way to one outlet.
pub struct Load {
    /// The way to the outlet.
    pub reach: Reach,
    /// What the unit has there.
    pub asked: Asked,
    /// What was seen there.
    pub seen: Held,
    /// What is brought.
    pub content: Content,
    /// How long that may take.
    pub limit: Duration,
}

/// Why something was not brought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotBrought {
    /// Somebody has changed what is there since it was looked at. Nothing is written.
    ChangedMeanwhile,
    /// It does not go, and nothing is written but what is named here.
    Failed(String),
    /// No answer came: it may be there, or not.
    NotKnown(String),
}

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
        (Reach::Http(http), Asked::Document(url), Content::Document(_) | Content::NoDocument) => {
            let seen = match &load.seen {
                Held::Document(text, version) => {
                    Some(Document { text: text.clone(), version: version.clone() })
                }
                _ => None,
            };
            let documents = Documents::of(http, deadline).map_err(failed)?;
            // Without an entity tag this is the only guard, and it is cheap.
            if documents.get(url).map_err(failed)? != seen {
                return Err(NotBrought::ChangedMeanwhile);
            }
            let changed = match (&load.content, &seen) {
                (Content::Document(text), seen) => documents.put(url, text, seen.as_ref()),
                (_, Some(seen)) => documents.delete(url, seen),
                (_, None) => Ok(Put::Taken),
            };
            match changed {
                Ok(Put::Taken) => Ok(()),
                Ok(Put::ChangedMeanwhile) => Err(NotBrought::ChangedMeanwhile),
                Err(failure) => Err(uncertain(failure)),
            }
        }
        (Reach::Postgres(postgres), Asked::Rows(scope), Content::Rows(changes)) => {
            let nothing = Values::new();
            let seen = if let Held::Rows(values) = &load.seen { values } else { &nothing };
            let mut rows = Rows::of(postgres, deadline).map_err(failed)?;
            if rows.change(scope, seen, changes)? { Ok(()) } else { Err(NotBrought::ChangedMeanwhile) }
        }
        (Reach::None(reason), ..) => Err(NotBrought::Failed(reason.clone())),
        _ => Err(NotBrought::Failed("nothing can be brought there".to_owned())),
    }
}

pub(crate) fn failed(failure: Failure) -> NotBrought {
    NotBrought::Failed(failure.to_string())
}

/// A request that was sent may have been carried out, unless the answer says otherwise.
fn uncertain(failure: Failure) -> NotBrought {
    use cledger_core::probe::Answer;
    match failure.answer {
        Answer::Refused | Answer::NoSuchHost | Answer::Certificate | Answer::AccessDenied => failed(failure),
        _ if failure.detail.starts_with("status ") => failed(failure),
        _ => NotBrought::NotKnown(failure.to_string()),
    }
}
