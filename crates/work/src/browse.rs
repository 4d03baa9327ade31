//! Looking through a ledger field by field: what is read, followed, tried and set on the way.
//!
//! Whoever looks never waits: each wish is granted on a thread beside, and what comes of it is news. Wishes about the
//! ledger are granted one after the other; each look at outlets, which may be slow, has a thread of its own.
//!
//! ```text
//!   whoever looks ── wish ──> the ledger's thread ── news ──> whoever looks
//!                 ── wish ──> a thread for a look at outlets ── news ──>
//!                 <── question, of one of these, which waits for the answer ──
//! ```
//!
//! Nothing here draws, or knows of a terminal.

mod asking;
mod change;
mod detail;
mod findings;
mod rows;

use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;
use std::time::Duration;

use cledger_store::{Identity, Scope, SecretString};

use crate::check::judge;
use crate::drift::{ToLookAt, drift};
use crate::matrix::{ToTabulate, scope};
use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

pub use self::asking::{Answer, Question};
pub use self::change::{Change, Outcome, Say};
pub use self::detail::{Block, Detail};
pub use self::findings::Findings;
pub use self::rows::{Looked, Rows, StageHead};

use self::asking::{Aside, passphrase_asked};
use self::change::Trial;

/// What somebody wishes who looks through a ledger.
#[derive(Debug)]
pub enum Wish {
    /// To read the ledger anew.
    Read,
    /// To see all about the field at an address.
    Detail(String),
    /// To see what a change would do. Nothing is written.
    Try(Change),
    /// To make the change that was tried last, if it still does what was shown.
    Make,
    /// To see what outlets have of a unit in a stage, or of a stage.
    Look(String),
}

impl Wish {
    /// What is wished for, in words that `cannot` goes before.
    pub fn words(&self) -> String {
        match self {
            Wish::Read => "read the ledger".to_owned(),
            Wish::Detail(address) => format!("show {address}"),
            Wish::Try(change) => format!("set {}", change.address),
            Wish::Make => "make the change".to_owned(),
            Wish::Look(what) => format!("look at the outlets of {what}"),
        }
    }
}

/// What comes of a wish, and what happens beside it.
#[derive(Debug)]
pub enum News {
    /// The fields, as they were read just now.
    Rows(Box<Rows>),
    /// What is missing or wrong, as of the reading before.
    Findings(Box<Findings>),
    /// All about a field.
    Detail(Box<Detail>),
    /// What came of trying or making a change.
    Change(Box<Outcome>),
    /// What outlets have.
    Looked(Looked),
    /// A wish was not granted, for this reason.
    Refused(Wish, Trouble),
    /// Something that a person should know.
    Notice(String),
    /// Something that only a person can answer; whoever asks waits for it.
    Question(Question),
}

/// A ledger that somebody looks through.
pub struct Browser {
    wishes: Sender<Wish>,
    news: Receiver<News>,
    tell: Sender<News>,
    at: Arc<Workplace>,
}

impl Browser {
    /// Begins to read what is asked for. With a passphrase that is given, nobody is asked for that of an identity.
    pub fn start(at: &Workplace, asked: ToTabulate, passphrase: Option<SecretString>) -> Self {
        let (tell, news) = channel();
        let aside = Aside(tell.clone());
        let identity = Identity::asking(&at.identity, passphrase_asked(aside.clone(), passphrase));
        let at = Arc::new(at.with(Box::new(aside.clone()), Box::new(aside), Arc::new(identity)));
        let (wishes, granted) = channel();
        let (here, told) = (at.clone(), tell.clone());
        // It ends with the last sender, or with the program.
        thread::spawn(move || {
            Reading { at: here, asked, tell: told, ledger: None, trial: None }.go(&granted);
        });
        let browser = Self { wishes, news, tell, at };
        browser.wish(Wish::Read);
        browser
    }

    /// Wishes for something.
    pub fn wish(&self, wish: Wish) {
        if let Wish::Look(address) = wish {
            let (at, tell) = (self.at.clone(), self.tell.clone());
            thread::spawn(move || {
                let asked = ToLookAt { addresses: vec![address.clone()], ..ToLookAt::default() };
                let news = match drift(&at, &asked) {
                    Ok(drift) => News::Looked(Looked::of(address, &drift)),
                    Err(trouble) => News::Refused(Wish::Look(address), trouble),
                };
                let _ = tell.send(news);
            });
        } else {
            // The thread goes on as long as there is somebody to wish for something.
            let _ = self.wishes.send(wish);
        }
    }

    /// What is new, if anything is.
    pub fn news(&self) -> Option<News> {
        self.news.try_recv().ok()
    }

    /// What is new, waiting so long at most.
    pub fn wait(&self, time: Duration) -> Option<News> {
        self.news.recv_timeout(time).ok()
    }
}

/// The ledger's thread.
struct Reading {
    at: Arc<Workplace>,
    asked: ToTabulate,
    tell: Sender<News>,
    /// All of the ledger, once something is asked of it that looks across units.
    ledger: Option<Opened>,
    /// The change that was tried last.
    trial: Option<Trial>,
}

impl Reading {
    /// Grants one wish after the other.
    fn go(mut self, wished: &Receiver<Wish>) {
        while let Ok(wish) = wished.recv() {
            if let Err(trouble) = self.grant(&wish) {
                self.news(News::Refused(wish, trouble));
            }
        }
    }

    fn news(&self, news: News) {
        // Nobody looks any more: then nobody needs to know.
        let _ = self.tell.send(news);
    }

    fn grant(&mut self, wish: &Wish) -> Result<(), Trouble> {
        match wish {
            Wish::Read => self.read(),
            Wish::Detail(address) => {
                let opened = self.whole()?;
                let detail = Detail::of(opened, address)?;
                self.news(News::Detail(Box::new(detail)));
                Ok(())
            }
            Wish::Try(change) => {
                self.trial = None;
                let (trial, outcome) = Trial::of(&self.at, change.clone())?;
                self.trial = Some(trial);
                self.news(News::Change(Box::new(outcome)));
                Ok(())
            }
            Wish::Make => {
                let Some(trial) = self.trial.take() else {
                    return Err(Trouble::usage("no change was tried before"));
                };
                let (trial, outcome) = trial.make(&self.at)?;
                self.trial = trial;
                let is_shown = matches!(outcome, Outcome::Otherwise(_));
                self.news(News::Change(Box::new(outcome)));
                // What was made stays made, whatever comes of reading it.
                if !is_shown && let Err(trouble) = self.read() {
                    self.news(News::Refused(Wish::Read, trouble));
                }
                Ok(())
            }
            Wish::Look(_) => Ok(()),
        }
    }

    /// Reads what is asked for, and then all of the ledger, which is judged.
    fn read(&mut self) -> Result<(), Trouble> {
        self.ledger = None;
        let scope = scope(&self.asked);
        let opened = Opened::read_partly(&self.at, &scope)?;
        let outside = opened.unfetched();
        let rows = Rows::of(&opened, &outside, &self.asked)?;
        opened.tell_unread_of(&outside);
        self.news(News::Rows(Box::new(rows)));
        if matches!(scope, Scope::Whole) {
            self.ledger = Some(opened);
        }
        let findings = Findings::of(&judge(self.whole()?)?);
        self.news(News::Findings(Box::new(findings)));
        Ok(())
    }

    /// All of the ledger, as it was read last.
    fn whole(&mut self) -> Result<&Opened, Trouble> {
        let opened = match self.ledger.take() {
            Some(opened) => opened,
            None => Opened::read_quietly(&self.at, &Scope::Whole)?,
        };
        Ok(self.ledger.insert(opened))
    }
}
