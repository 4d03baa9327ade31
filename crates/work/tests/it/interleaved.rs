//! Two programs at once, at every pair of their steps: one after the other comes out.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;

use cledger_work::asking::{Nobody, Stepping};
use cledger_work::{Kind, Trouble};

use crate::quay::{Doing, Quay, delivers, does_the_chore, rotates, withdraws};

/// Waits before a step, counted from 1, until it is told to go on.
struct Pause {
    at: usize,
    steps: AtomicUsize,
    waits: Sender<()>,
    goes_on: Mutex<Receiver<()>>,
}

impl Stepping for Pause {
    fn before(&self, _: &'static str) -> Result<(), Trouble> {
        if self.steps.fetch_add(1, Ordering::SeqCst) + 1 == self.at {
            // Whoever started it may have gone.
            let _ = self.waits.send(());
            let _ = self.goes_on.lock().unwrap().recv();
        }
        Ok(())
    }
}

/// A program that waits before one of its steps, or has ended.
struct Program {
    goes_on: Sender<()>,
    thread: thread::JoinHandle<Result<(), Trouble>>,
    is_waiting: bool,
}

impl Program {
    fn start(quay: &Quay, doing: Doing, at: usize) -> Self {
        let (waits, is_waiting) = channel();
        let (goes_on, receiver) = channel();
        let pause = Pause { at, steps: AtomicUsize::new(0), waits, goes_on: Mutex::new(receiver) };
        let place = quay.place.beside(pause);
        let thread = thread::spawn(move || doing(&place));
        // The other end goes with the program.
        let is_waiting = is_waiting.recv().is_ok();
        Self { goes_on, thread, is_waiting }
    }

    fn finish(self) -> Result<(), Trouble> {
        let _ = self.goes_on.send(());
        self.thread.join().unwrap()
    }
}

#[test]
fn one_of_the_two_orders_comes_out() {
    let all = [
        ("deliver", delivers as Doing),
        ("withdraw", withdraws),
        ("chore", does_the_chore),
        ("rotate", rotates),
    ];
    for (first, one) in all {
        for (second, other) in all {
            let prepared = || {
                let quay = Quay::new(None, Nobody);
                quay.declares("5m");
                delivers(&quay.place).unwrap();
                quay.declares("6m");
                quay
            };
            // What each alone, and one after the other, would leave; the second one knows a newer ledger.
            let orders = [
                vec![(one, "6m")],
                vec![(other, "7m")],
                vec![(one, "6m"), (other, "7m")],
                vec![(other, "7m"), (one, "7m")],
            ];
            let mut expected = Vec::new();
            for order in orders {
                let mut quay = prepared();
                for (doing, says) in order {
                    quay.declares(says);
                    // A withdrawal after a withdrawal has nothing to take off.
                    let _ = doing(&quay.place);
                }
                expected.push(quay.there());
            }
            for at in 1.. {
                let mut is_over = false;
                for until in 1.. {
                    let mut quay = prepared();
                    let of = format!("{first} before step {at}, {second} before step {until}");
                    let program = Program::start(&quay, one, at);
                    is_over = !program.is_waiting;
                    quay.declares("7m");
                    let second = Program::start(&quay, other, until);
                    let is_last = !second.is_waiting;
                    let ended = [program.finish(), second.finish()];
                    assert!(ended.iter().any(Result::is_ok), "{of}: {ended:?}");
                    for trouble in ended.iter().filter_map(|ended| ended.as_ref().err()) {
                        assert!(
                            matches!(trouble.kind(), Kind::Outside | Kind::Refused | Kind::Usage),
                            "{of}: {trouble}"
                        );
                    }
                    let there = quay.there();
                    assert!(expected.contains(&there), "{of}: {there:?}");
                    quay.is_in_order();
                    delivers(&quay.place).unwrap_or_else(|trouble| panic!("{of}, and then: {trouble}"));
                    assert!(quay.there().values().any(|text| text.contains("7m")), "{of}");
                    if is_last {
                        break;
                    }
                }
                if is_over {
                    break;
                }
            }
        }
    }
}
