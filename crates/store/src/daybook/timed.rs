//! A daybook that is somewhere else, and may never answer: each question has a time limit.
//!
//! It is asked on a thread of its own. When it does not answer in time, that thread is left behind, and
//! nothing more is asked of it.

use std::sync::mpsc::{self, Sender};
use std::thread;
use std::time::Duration;

use super::{Daybook, DaybookError, Meta, Packed, Record, Wanted};

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
    pub fn new(mut book: impl Daybook + Send + 'static, limit: Duration) -> Self {
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

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<(), DaybookError> {
        let (meta, packed) = (meta.clone(), packed.clone());
        self.ask(move |book| book.open(&meta, &packed))
    }

    fn opened(&mut self) -> Result<Vec<(Meta, Packed)>, DaybookError> {
        self.ask(|book| book.opened())
    }

    fn close(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let (unit, stage) = (unit.to_owned(), stage.to_owned());
        self.ask(move |book| book.close(&unit, &stage))
    }

    fn record(&mut self, meta: Meta, packed: &Packed) -> Result<Record, DaybookError> {
        let packed = packed.clone();
        self.ask(move |book| book.record(meta, &packed))
    }

    fn records(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        let wanted = wanted.clone();
        self.ask(move |book| book.records(&wanted))
    }

    fn take_over(&mut self, records: &[Record]) -> Result<(), DaybookError> {
        let records = records.to_vec();
        self.ask(move |book| book.take_over(&records))
    }

    fn reseal(&mut self, cipher_texts: &[(u64, String)]) -> Result<(), DaybookError> {
        let cipher_texts = cipher_texts.to_vec();
        self.ask(move |book| book.reseal(&cipher_texts))
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
        fn open(&mut self, _: &Meta, _: &Packed) -> Result<(), DaybookError> {
            Ok(())
        }
        fn opened(&mut self) -> Result<Vec<(Meta, Packed)>, DaybookError> {
            match self.0.take() {
                Some(mut book) => book.opened(),
                None => loop {
                    thread::park();
                },
            }
        }
        fn close(&mut self, _: &str, _: &str) -> Result<(), DaybookError> {
            Ok(())
        }
        fn record(&mut self, _: Meta, _: &Packed) -> Result<Record, DaybookError> {
            Err(DaybookError::Unfinished)
        }
        fn records(&mut self, _: &Wanted) -> Result<Vec<Record>, DaybookError> {
            Ok(Vec::new())
        }
        fn take_over(&mut self, _: &[Record]) -> Result<(), DaybookError> {
            Ok(())
        }
        fn reseal(&mut self, _: &[(u64, String)]) -> Result<(), DaybookError> {
            Ok(())
        }
    }

    #[test]
    fn an_answer_that_does_not_come_is_given_up_and_nothing_more_is_asked() {
        let book = Hanging(SqliteDaybook::nothing().ok());
        let mut timed = TimedDaybook::new(book, Duration::from_secs(5));
        assert!(timed.opened().is_ok_and(|opened| opened.is_empty()));
        timed.limit = Duration::from_millis(50);
        for asked in [timed.opened().map(|_| ()), timed.records(&Wanted::default()).map(|_| ())] {
            let Err(DaybookError::Failed(reason)) = asked else { panic!("it answers") };
            assert_eq!(reason, "it did not answer within 0.05 s");
        }
    }
}
