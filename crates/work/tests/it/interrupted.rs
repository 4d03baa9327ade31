//! Deliveries, withdrawals, promotions, chores and rotations that end before one of their steps, each in turn: whoever
//! comes next ends in the same state as if nothing had happened.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use cledger_work::asking::Stepping;
use cledger_work::deliver::{Edits, ToDeliver, chores, deliver};
use cledger_work::{Kind, Trouble};

use crate::database::{self, Server};
use crate::quay::{Doing, Quay, admits, delivers, does_the_chore, excludes, promotes, rotates, withdraws};
use crate::workplaces::{asked, pattern};

/// Ends the work before a step, counted from 1; never for 0.
#[derive(Clone, Default)]
pub(crate) struct Interruption(Arc<AtomicUsize>);

impl Interruption {
    /// Does something that ends before a step.
    pub(crate) fn at<T>(
        &self,
        step: usize,
        doing: impl FnOnce() -> Result<T, Trouble>,
    ) -> Result<T, Trouble> {
        self.0.store(step, Ordering::SeqCst);
        let ended = doing();
        self.0.store(0, Ordering::SeqCst);
        ended
    }
}

impl Stepping for Interruption {
    fn before(&self, step: &'static str) -> Result<(), Trouble> {
        let left = self.0.load(Ordering::SeqCst);
        if left > 0 {
            self.0.store(left - 1, Ordering::SeqCst);
        }
        if left == 1 { Err(Trouble::outside(format!("interrupted before: {step}"))) } else { Ok(()) }
    }
}

/// A quay at which the last delivery is older than the ledger.
fn prepared(server: Option<&Server>) -> (Quay, Interruption) {
    let interruption = Interruption::default();
    let quay = Quay::new(server, interruption.clone());
    quay.says("5m");
    delivers(&quay.place).unwrap();
    quay.says("6m");
    (quay, interruption)
}

/// Interrupts something before each step, and whoever finishes it before each of at `most` so many steps again.
fn interrupt(server: Option<&Server>, name: &str, doing: Doing, most: usize) {
    let expected = {
        let (mut quay, _) = prepared(server);
        doing(&quay.place).unwrap();
        quay.there()
    };
    let mut steps = 0;
    for first in 1.. {
        for second in 0..=most {
            let (mut quay, interruption) = prepared(server);
            let Err(trouble) = interruption.at(first, || doing(&quay.place)) else {
                assert!(steps >= if name == "chore" { 1 } else { 3 }, "{name}: {steps}");
                return;
            };
            assert!(trouble.to_string().starts_with("interrupted before: "), "{name}: {trouble}");
            steps += 1;
            let ended = interruption.at(second, || doing(&quay.place));
            let mut of = format!("{name}, {trouble}");
            if let Err(again) = &ended {
                of += &format!(", {again}");
                let then = doing(&quay.place);
                assert!(then.is_ok(), "{of}: {then:?}");
            }
            assert_eq!(quay.there(), expected, "{of}");
            quay.is_in_order();
            // What was interrupted does not stand in the way of anything else either.
            rotates(&quay.place).unwrap();
            quay.is_in_order();
            if second > 0 && ended.is_ok() {
                break;
            }
        }
    }
}

#[test]
fn whatever_is_interrupted_before_any_step_is_done_by_whoever_comes_next() {
    for (name, doing) in [
        ("deliver", delivers as Doing),
        ("withdraw", withdraws),
        ("promote", promotes),
        ("chore", does_the_chore),
        ("rotate", rotates),
    ] {
        let most = if matches!(name, "chore" | "rotate") { 0 } else { usize::MAX };
        interrupt(None, name, doing, most);
    }
}

#[test]
fn letting_somebody_out_leaves_its_chores_whenever_it_is_interrupted() {
    let (quay, interruption) = prepared(None);
    admits(&quay.place, "ben");
    let open = || -> Vec<String> {
        let open = chores::chores(&quay.place.open(), &[]).unwrap();
        let texts = open.into_iter().map(|chore| chore.text);
        texts.filter(|text| text == "give `desk/gate.token@dev` another value: ben could read it").collect()
    };
    for step in 1.. {
        let trouble = interruption.at(step, || excludes(&quay.place, "ben"));
        let ended = trouble.is_ok();
        excludes(&quay.place, "ben").unwrap();
        assert_eq!(open().len(), 1, "{trouble:?}");
        chores::done(&quay.place.open(), &pattern("desk@dev"), "give", true).unwrap();
        assert!(open().is_empty(), "{trouble:?}");
        rotates(&quay.place).unwrap();
        quay.is_in_order();
        if ended {
            assert!(step > 4, "{step}");
            break;
        }
        admits(&quay.place, "ben");
    }
}

#[test]
fn rows_are_brought_and_taken_off_whenever_that_is_interrupted() {
    let Some(server) = database::postgres(None) else { return };
    interrupt(Some(&server), "deliver", delivers, 0);
    interrupt(Some(&server), "withdraw", withdraws, 0);
}

#[test]
fn what_is_left_open_is_never_brought_over_what_came_later() {
    let (quay, interruption) = prepared(None);
    // Interrupted when all of it was brought, and nothing recorded.
    let trouble = interruption.at(4, || delivers(&quay.place)).unwrap_err();
    assert_eq!(trouble.to_string(), "interrupted before: record");
    // Neither a withdrawal nor a rotation passes it over; and somebody's edit since is not overwritten.
    assert_eq!(withdraws(&quay.place).unwrap_err().kind(), Kind::Refused);
    assert_eq!(rotates(&quay.place).unwrap_err().kind(), Kind::Refused);
    let env = "../live/dev/desk/desk.env";
    quay.place.write(env, &quay.place.read(env).replace("6m", "9m"));
    let refused = delivers(&quay.place).unwrap_err();
    assert!(
        refused.to_string().contains("edited by hand") && quay.place.read(env).contains("9m"),
        "{refused}"
    );
    let leaving = Edits { leave: vec!["HOLD".to_owned()], overwrite: false };
    deliver(&quay.place.open(), &ToDeliver { edits: leaving, ..asked(&["desk"], "dev") }).unwrap();
    assert!(quay.place.read(env).contains("9m"));
    quay.is_in_order();
}
