//! Reading back JSON documents, several of one service at once.

use std::thread;

use super::source::{Source, Teller};
use crate::document::Documents;
use crate::failure::Deadline;
use crate::held::Asked;
use crate::reach::HttpReach;

/// How many documents of one service are asked for at once.
const AT_ONCE: usize = 8;

/// Tells what a service holds.
pub(super) fn tell(http: &HttpReach, source: &Source, teller: &Teller<'_>, deadline: Deadline) {
    let documents = match Documents::of(http, deadline) {
        Ok(documents) => documents,
        Err(failure) => return teller.trouble(failure.to_string()),
    };
    let asked: Vec<(&String, &Asked)> = source.asked.iter().collect();
    let share = asked.len().div_ceil(AT_ONCE).max(1);
    thread::scope(|scope| {
        for some in asked.chunks(share) {
            let documents = &documents;
            let sender = teller.sender.clone();
            let (at, alone) = (teller.at, teller.alone);
            scope.spawn(move || {
                let teller = Teller { at, sender: &sender, alone };
                for (unit, asked) in some {
                    let Asked::Document(of) = asked else { continue };
                    if !teller.unit(unit, documents.held(of)) {
                        return;
                    }
                }
            });
        }
    });
}
