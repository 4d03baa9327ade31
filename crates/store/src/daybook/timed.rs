//! A daybook that is somewhere else, and may never answer: each question has a time limit.
//!
//! It is asked on a thread of its own. When it does not answer in time, that thread is left behind, and
//! nothing more is asked of it.

use std::sync::mpsc::{self, Sender};
use std::thread;
use std::time::Duration;

use super::{Daybook, DaybookError, Entry, Meta, Open, Packed, Record, Resealed, Wanted, WrappedKey};

type Question = Box<dyn FnOnce(&mut dyn Daybook) + Send>;

/// A daybook whose every answer has a time limit.
pub struct TimedDaybook {
    questions: Sender<Question>,
    limit: Duration,
    /// Whether an answer is still to come.
    is_lost: bool,
}

impl TimedDaybook {
    /// Asks a daybook with a time limit for each question.
    pub fn new(mut book: impl Daybook + 'static, limit: Duration) -> Self {
        let (questions, asked) = mpsc::channel::<Question>();
        thread::spawn(move || {
            for question in asked {
                question(&mut book);
            }
        });
        Self { questions, limit, is_lost: false }
    }

    fn ask<T: Send + 'static>(
        &mut self,
        question: impl FnOnce(&mut dyn Daybook) -> Result<T, DaybookError> + Send + 'static,
    ) -> Result<T, DaybookError> {
        let late =
            || DaybookError::Failed(format!("it did not answer within {} s", self.limit.as_secs_f32()));
        if self.is_lost {
            return Err(late());
        }
        let (sender, answer) = mpsc::channel();
        let asked = self.questions.send(Box::new(move |book| {
            // Nobody listens any more once the time is over.
            let _ = sender.send(question(book));
        }));
        let answer = asked.ok().and_then(|()| answer.recv_timeout(self.limit).ok());
        answer.unwrap_or_else(|| {
            let late = late();
            self.is_lost = true;
            Err(late)
        })
    }
}

impl Daybook for TimedDaybook {
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let (unit, stage) = (unit.to_owned(), stage.to_owned());
        self.ask(move |book| book.hold(&unit, &stage))
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let (unit, stage) = (unit.to_owned(), stage.to_owned());
        self.ask(move |book| book.let_go(&unit, &stage))
    }

    fn hold_stage(&mut self, stage: &str) -> Result<(), DaybookError> {
        let stage = stage.to_owned();
        self.ask(move |book| book.hold_stage(&stage))
    }

    fn let_stage_go(&mut self, stage: &str) -> Result<(), DaybookError> {
        let stage = stage.to_owned();
        self.ask(move |book| book.let_stage_go(&stage))
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<String, DaybookError> {
        let (meta, packed) = (meta.clone(), packed.clone());
        self.ask(move |book| book.open(&meta, &packed))
    }

    fn opened(&mut self, of: Option<(&str, &str)>) -> Result<Vec<Open>, DaybookError> {
        let of = of.map(|(unit, stage)| (unit.to_owned(), stage.to_owned()));
        self.ask(move |book| book.opened(of.as_ref().map(|(unit, stage)| (unit.as_str(), stage.as_str()))))
    }

    fn take_up(&mut self, open: &Open) -> Result<String, DaybookError> {
        let open = open.clone();
        self.ask(move |book| book.take_up(&open))
    }

    fn close(&mut self, unit: &str, stage: &str, token: &str) -> Result<(), DaybookError> {
        let (unit, stage, token) = (unit.to_owned(), stage.to_owned(), token.to_owned());
        self.ask(move |book| book.close(&unit, &stage, &token))
    }

    fn record(&mut self, meta: Meta, packed: &Packed, open: Option<&str>) -> Result<Record, DaybookError> {
        let (packed, open) = (packed.clone(), open.map(str::to_owned));
        self.ask(move |book| book.record(meta, &packed, open.as_deref()))
    }

    fn as_they_are(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        let wanted = wanted.clone();
        self.ask(move |book| book.as_they_are(&wanted))
    }

    fn entries(&mut self, wanted: &Wanted, digests: bool) -> Result<Vec<Entry>, DaybookError> {
        let wanted = wanted.clone();
        self.ask(move |book| book.entries(&wanted, digests))
    }

    fn take_over(&mut self, records: &[Record], keys: &[WrappedKey]) -> Result<(), DaybookError> {
        let (records, keys) = (records.to_vec(), keys.to_vec());
        self.ask(move |book| book.take_over(&records, &keys))
    }

    fn reseal(&mut self, resealed: &[Resealed]) -> Result<(), DaybookError> {
        let resealed = resealed.to_vec();
        self.ask(move |book| book.reseal(&resealed))
    }

    fn keep_key(&mut self, key: &WrappedKey) -> Result<(), DaybookError> {
        let key = key.clone();
        self.ask(move |book| book.keep_key(&key))
    }

    fn forget_key(&mut self, id: &str) -> Result<(), DaybookError> {
        let id = id.to_owned();
        self.ask(move |book| book.forget_key(&id))
    }

    fn link(&mut self, place: Option<u64>) -> Result<Option<(u64, String)>, DaybookError> {
        self.ask(move |book| book.link(place))
    }

    fn kept_keys(&mut self) -> Result<Vec<WrappedKey>, DaybookError> {
        self.ask(|book| book.kept_keys())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::daybook::SqliteDaybook;

    /// A daybook that answers once, and then never.
    struct Hanging(Option<SqliteDaybook>);

    impl Daybook for Hanging {
        fn hold(&mut self, _: &str, _: &str) -> Result<(), DaybookError> {
            Ok(())
        }
        fn let_go(&mut self, _: &str, _: &str) -> Result<(), DaybookError> {
            Ok(())
        }
        fn hold_stage(&mut self, _: &str) -> Result<(), DaybookError> {
            Ok(())
        }
        fn let_stage_go(&mut self, _: &str) -> Result<(), DaybookError> {
            Ok(())
        }
        fn forget_key(&mut self, _: &str) -> Result<(), DaybookError> {
            Ok(())
        }
        fn link(&mut self, _: Option<u64>) -> Result<Option<(u64, String)>, DaybookError> {
            Ok(None)
        }
        fn open(&mut self, _: &Meta, _: &Packed) -> Result<String, DaybookError> {
            Ok(String::new())
        }
        fn opened(&mut self, of: Option<(&str, &str)>) -> Result<Vec<Open>, DaybookError> {
            match self.0.take() {
                Some(mut book) => book.opened(of),
                None => loop {
                    thread::park();
                },
            }
        }
        fn take_up(&mut self, _: &Open) -> Result<String, DaybookError> {
            Ok(String::new())
        }
        fn close(&mut self, _: &str, _: &str, _: &str) -> Result<(), DaybookError> {
            Ok(())
        }
        fn record(&mut self, _: Meta, _: &Packed, _: Option<&str>) -> Result<Record, DaybookError> {
            Err(DaybookError::Unfinished)
        }
        fn as_they_are(&mut self, _: &Wanted) -> Result<Vec<Record>, DaybookError> {
            Ok(Vec::new())
        }
        fn entries(&mut self, _: &Wanted, _: bool) -> Result<Vec<Entry>, DaybookError> {
            Ok(Vec::new())
        }
        fn take_over(&mut self, _: &[Record], _: &[WrappedKey]) -> Result<(), DaybookError> {
            Ok(())
        }
        fn reseal(&mut self, _: &[Resealed]) -> Result<(), DaybookError> {
            Ok(())
        }
        fn keep_key(&mut self, _: &WrappedKey) -> Result<(), DaybookError> {
            Ok(())
        }
        fn kept_keys(&mut self) -> Result<Vec<WrappedKey>, DaybookError> {
            Ok(Vec::new())
        }
    }

    #[test]
    fn an_answer_that_does_not_come_is_given_up_and_nothing_more_is_asked() {
        let book = Hanging(SqliteDaybook::nothing().ok());
        let mut timed = TimedDaybook::new(book, Duration::from_secs(5));
        assert!(timed.opened(None).is_ok_and(|opened| opened.is_empty()));
        timed.limit = Duration::from_millis(50);
        for asked in [timed.opened(None).map(|_| ()), timed.records(&Wanted::default()).map(|_| ())] {
            let Err(DaybookError::Failed(reason)) = asked else { panic!("it answers") };
            assert_eq!(reason, "it did not answer within 0.05 s");
        }
    }
}
