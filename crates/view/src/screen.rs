//! What is on the screen, and what keys and news make of it.

mod form;
mod list;
mod typed;

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use cledger_work::Trouble;
use cledger_work::browse::{Detail, Findings, Looked, News, Outcome, Rows, Wish};
use cledger_work::drift::words::Told;
use cledger_work::shown::Tone;
use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use tui_input::backend::crossterm::EventHandler as _;

use crate::look::Look;

pub(crate) use self::form::{Form, Part, SAYS};
pub(crate) use self::list::{Filters, Item, List};
pub(crate) use self::typed::Asked;

/// What is on the screen.
#[derive(Debug)]
pub struct Screen {
    pub(crate) look: Look,
    /// The fields, once they are read.
    pub(crate) rows: Option<Box<Rows>>,
    pub(crate) findings: Option<Box<Findings>>,
    /// What outlets have, by `UNIT@STAGE`.
    pub(crate) looked: BTreeMap<String, Vec<Told>>,
    /// What is being looked for at outlets.
    pub(crate) looking: BTreeSet<String>,
    /// The address of a field with all about it, or why that is not known.
    detail: Option<(String, Result<Box<Detail>, String>)>,
    /// The address of the field of which all is being found out.
    finding_out: Option<String>,
    /// The fields that are shown, and the one that is looked at.
    pub(crate) list: List,
    pub(crate) filters: Filters,
    /// Whether the pane beside the fields is there, and how far it is scrolled.
    pub(crate) has_pane: bool,
    pub(crate) scrolled: u16,
    pub(crate) on_top: OnTop,
    /// Questions, one after the other: whoever asked waits for the answer.
    asked: VecDeque<Asked>,
    /// The last thing to be told, and what it says.
    pub(crate) message: Option<(String, Tone)>,
    pub(crate) notices: Vec<String>,
    /// Whether a change is being tried or made.
    pub(crate) under_way: Option<&'static str>,
    reading: bool,
    made: Vec<String>,
    wishes: Vec<Wish>,
    failed: Option<Trouble>,
    over: bool,
}

/// What lies over the fields.
#[derive(Debug)]
pub(crate) enum OnTop {
    /// Nothing.
    Nothing,
    /// A filter is typed.
    Filter,
    /// A change is typed.
    Form(Box<Form>),
    /// What a change would do, or did: whether it can be made now.
    Change { lines: Vec<(String, Tone)>, is_open: bool, head: &'static str },
    /// What the keys do.
    Keys,
    /// What was told.
    Notices,
}

impl Screen {
    /// An empty screen, until the first news.
    pub fn new(look: Look) -> Self {
        Self {
            look,
            rows: None,
            findings: None,
            looked: BTreeMap::new(),
            looking: BTreeSet::new(),
            detail: None,
            finding_out: None,
            list: List::default(),
            filters: Filters::default(),
            has_pane: true,
            scrolled: 0,
            on_top: OnTop::Nothing,
            asked: VecDeque::new(),
            message: None,
            notices: Vec::new(),
            under_way: None,
            reading: true,
            made: Vec::new(),
            wishes: Vec::new(),
            failed: None,
            over: false,
        }
    }

    /// Whether somebody has seen enough.
    pub fn is_over(&self) -> bool {
        self.over
    }

    /// What was changed in the ledger, a line each.
    pub fn made(&self) -> Vec<String> {
        self.made.clone()
    }

    /// Why there is nothing to look through, if so.
    pub fn failed(&mut self) -> Option<Trouble> {
        self.failed.take()
    }

    /// What is wished for since this was asked last.
    pub fn wishes(&mut self) -> Vec<Wish> {
        let wanted = self.address();
        let is_free = self.finding_out.is_none() && !self.reading;
        if let Some(address) = wanted.filter(|_| is_free && self.detail().is_none()) {
            self.finding_out = Some(address.clone());
            self.wishes.push(Wish::Detail(address));
        }
        std::mem::take(&mut self.wishes)
    }

    /// The address of the field and stage that are looked at.
    pub(crate) fn address(&self) -> Option<String> {
        self.rows.as_ref()?.address(self.list.line()?, self.list.stage)
    }

    /// All about the field that is looked at, or why that is not known; nothing as long as it is being found out.
    pub(crate) fn detail(&self) -> Option<&Result<Box<Detail>, String>> {
        let (of, detail) = self.detail.as_ref()?;
        (self.address().as_ref() == Some(of)).then_some(detail)
    }

    /// The unit in a stage that is looked at.
    pub(crate) fn unit(&self) -> Option<String> {
        let rows = self.rows.as_ref()?;
        let (line, stage) = (rows.lines.get(self.list.line()?)?, rows.stages.get(self.list.stage)?);
        Some(format!("{}@{}", line.owner, stage.name))
    }

    /// Takes in what is new.
    pub fn news(&mut self, news: News) {
        match news {
            News::Rows(rows) => self.read(rows),
            News::Findings(findings) => {
                self.findings = Some(findings);
                self.reading = false;
            }
            News::Detail(detail) => {
                self.finding_out = None;
                self.detail = Some((detail.address.clone(), Ok(detail)));
                self.scrolled = 0;
            }
            News::Change(outcome) => self.changed(*outcome),
            News::Looked(looked) => {
                self.looking.remove(&looked.of);
                self.message = Some(came_of(&looked));
                self.looked.extend(looked.units);
            }
            News::Refused(wish, trouble) => self.refused(&wish, trouble),
            News::Notice(text) => {
                self.message = Some((text.clone(), Tone::Doubtful));
                self.notices.retain(|told| *told != text);
                self.notices.push(text);
            }
            News::Question(question) => self.asked.push_back(Asked::new(question)),
        }
    }

    /// Takes in fields that were read just now. What was known of the ones before is known no longer.
    fn read(&mut self, rows: Box<Rows>) {
        let before = self.address();
        self.rows = Some(rows);
        self.list.forget();
        self.detail = None;
        self.findings = None;
        self.looked.clear();
        self.choose(before);
    }

    /// Shows what passes the filters, with the same field chosen if it is still there.
    fn choose(&mut self, address: Option<String>) {
        if let Some(rows) = &self.rows {
            self.list.fill(rows, &self.filters, address.as_deref());
        }
    }

    fn changed(&mut self, outcome: Outcome) {
        self.under_way = None;
        self.scrolled = 0;
        let (lines, is_open, head) = match outcome {
            Outcome::Tried(lines) => (lines, true, "This would change. Enter makes it, Esc leaves it."),
            Outcome::Otherwise(lines) => (
                lines,
                true,
                "Not made: the ledger has changed since, and now it would do this. Enter makes it, Esc leaves it.",
            ),
            Outcome::NotKnown(trouble) => {
                self.reading = true;
                let help = trouble.help_text().map(|help| (help.to_owned(), Tone::Plain));
                let lines = [(trouble.to_string(), Tone::Bad)].into_iter().chain(help).collect();
                (
                    lines,
                    false,
                    "Something failed while it was made. The fields are read again; Esc goes back.",
                )
            }
            Outcome::Made { lines, settings } => {
                self.message = None;
                self.made.extend(settings);
                self.reading = true;
                (lines, false, "Made. Esc goes back.")
            }
        };
        self.on_top = OnTop::Change { lines, is_open, head };
    }

    fn refused(&mut self, wish: &Wish, trouble: Trouble) {
        let help = trouble.help_text().map(|help| format!(" ({help})")).unwrap_or_default();
        let text = format!("Cannot {}: {trouble}{help}", wish.words());
        match wish {
            // Then there is nothing to look through.
            Wish::Read if self.rows.is_none() => {
                self.failed = Some(trouble);
                self.over = true;
                return;
            }
            Wish::Read => self.reading = false,
            Wish::Detail(address) => {
                self.finding_out = None;
                self.detail = Some((address.clone(), Err(text)));
                return;
            }
            Wish::Look(what) => {
                self.looking.remove(what);
            }
            Wish::Try(_) | Wish::Make => self.under_way = None,
        }
        match &mut self.on_top {
            OnTop::Form(form) => {
                form.trouble = Some(text);
                return;
            }
            OnTop::Change { is_open, head, .. } => (*is_open, *head) = (false, "Not made."),
            _ => {}
        }
        self.message = Some((text, Tone::Bad));
    }

    /// The question that is to be answered first.
    pub(crate) fn asked(&self) -> Option<&Asked> {
        self.asked.front()
    }

    /// Does what a key means.
    pub fn key(&mut self, key: KeyEvent) {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        if let Some(asked) = self.asked.pop_front() {
            // What is not answered stays the first.
            if let Some(asked) = asked.key(key) {
                self.asked.push_front(asked);
            }
            return;
        }
        if control && key.code == KeyCode::Char('c') {
            return self.leave();
        }
        match &mut self.on_top {
            OnTop::Nothing => self.key_on_fields(key.code),
            OnTop::Filter => self.key_on_filter(key),
            OnTop::Form(form) => match form.key(key) {
                form::Does::Nothing => {}
                form::Does::Leave => self.on_top = OnTop::Nothing,
                form::Does::Try(change) => {
                    if self.under_way.is_none() {
                        self.under_way = Some("Trying it …");
                        self.wishes.push(Wish::Try(change));
                    }
                }
            },
            OnTop::Change { .. } => self.key_on_change(key.code),
            OnTop::Keys | OnTop::Notices => match key.code {
                KeyCode::Up | KeyCode::Char('k' | 'K') => self.scrolled = self.scrolled.saturating_sub(1),
                KeyCode::Down | KeyCode::Char('j' | 'J') => self.scrolled = self.scrolled.saturating_add(1),
                _ => (self.on_top, self.scrolled) = (OnTop::Nothing, 0),
            },
        }
    }

    /// Ends the view, unless a change is being made.
    fn leave(&mut self) {
        if self.under_way.is_some() {
            self.message = Some(("A change is under way: wait for it.".to_owned(), Tone::Doubtful));
        } else {
            self.over = true;
        }
    }

    fn key_on_fields(&mut self, code: KeyCode) {
        let before = self.list.chosen();
        match code {
            KeyCode::Char('q') => self.leave(),
            KeyCode::Esc => self.message = None,
            KeyCode::Up | KeyCode::Char('k') => self.list.step(-1),
            KeyCode::Down | KeyCode::Char('j') => self.list.step(1),
            KeyCode::Left | KeyCode::Char('h') => self.list.step_stage(-1, self.stages()),
            KeyCode::Right | KeyCode::Char('l') => self.list.step_stage(1, self.stages()),
            KeyCode::PageUp => self.list.page(-1),
            KeyCode::PageDown => self.list.page(1),
            KeyCode::Home | KeyCode::Char('g') => self.list.step(isize::MIN / 2),
            KeyCode::End | KeyCode::Char('G') => self.list.step(isize::MAX / 2),
            KeyCode::Char('J') => self.scrolled = self.scrolled.saturating_add(1),
            KeyCode::Char('K') => self.scrolled = self.scrolled.saturating_sub(1),
            KeyCode::Char('/') => self.on_top = OnTop::Filter,
            KeyCode::Char('m') => {
                self.filters.missing = !self.filters.missing;
                self.choose(self.address());
            }
            KeyCode::Char('d') => {
                self.filters.differing = !self.filters.differing;
                self.choose(self.address());
            }
            KeyCode::Enter | KeyCode::Char('p') => self.has_pane = !self.has_pane,
            KeyCode::Char('s') => self.begin(),
            KeyCode::Char('o') => self.look_at(self.unit()),
            KeyCode::Char('O') => {
                let unit = self.unit();
                self.look_at(unit.and_then(|unit| Some(format!("@{}", unit.split_once('@')?.1))));
            }
            KeyCode::Char('r') if !self.reading => {
                self.reading = true;
                self.wishes.push(Wish::Read);
            }
            KeyCode::Char('n') => (self.on_top, self.scrolled) = (OnTop::Notices, 0),
            KeyCode::Char('?') | KeyCode::F(1) => (self.on_top, self.scrolled) = (OnTop::Keys, 0),
            _ => {}
        }
        if before != self.list.chosen() {
            self.message = None;
        }
    }

    fn stages(&self) -> usize {
        self.rows.as_ref().map_or(0, |rows| rows.stages.len())
    }

    /// Whether something is read or found out.
    pub(crate) fn is_reading(&self) -> bool {
        self.reading
    }

    fn look_at(&mut self, what: Option<String>) {
        let Some(what) = what else { return };
        if what.starts_with("shared@") {
            let text = "Shared entries are at no outlet by themselves: look at a unit.";
            self.message = Some((text.to_owned(), Tone::Doubtful));
        } else if self.looking.insert(what.clone()) {
            self.message = Some((format!("Looking at the outlets of {what} …"), Tone::Quiet));
            self.wishes.push(Wish::Look(what));
        }
    }

    /// Begins to type a change of what is looked at.
    fn begin(&mut self) {
        let said = match self.detail() {
            Some(Ok(detail)) if detail.settable => {
                self.on_top = OnTop::Form(Box::new(Form::new(detail)));
                self.message = None;
                return;
            }
            Some(Ok(detail)) => {
                (format!("{} is made from other fields, and cannot be set.", detail.address), Tone::Doubtful)
            }
            Some(Err(trouble)) => (trouble.clone(), Tone::Bad),
            None => ("All about it is being found out: press s again in a moment.".to_owned(), Tone::Quiet),
        };
        self.message = Some(said);
    }

    fn key_on_filter(&mut self, key: KeyEvent) {
        match key.code {
            KeyCode::Enter => self.on_top = OnTop::Nothing,
            KeyCode::Esc => {
                self.filters.text.reset();
                self.on_top = OnTop::Nothing;
            }
            _ => {
                self.filters.text.handle_event(&Event::Key(key));
            }
        }
        self.choose(self.address());
    }

    fn key_on_change(&mut self, code: KeyCode) {
        let OnTop::Change { is_open, head, .. } = &mut self.on_top else { return };
        match code {
            KeyCode::Enter if *is_open && self.under_way.is_none() => {
                (*is_open, *head) = (false, "This is being made.");
                self.under_way = Some("Making it …");
                self.message = None;
                self.wishes.push(Wish::Make);
            }
            KeyCode::Up | KeyCode::Char('k' | 'K') => self.scrolled = self.scrolled.saturating_sub(1),
            KeyCode::Down | KeyCode::Char('j' | 'J') => self.scrolled = self.scrolled.saturating_add(1),
            KeyCode::Esc | KeyCode::Char('q') | KeyCode::Enter if self.under_way.is_none() => {
                self.scrolled = 0;
                self.on_top = OnTop::Nothing;
            }
            _ => {}
        }
    }
}

/// What came of a look at outlets, in a sentence.
fn came_of(looked: &Looked) -> (String, Tone) {
    let (of, all) = (&looked.of, looked.units.len());
    let with =
        |tone: Tone| looked.units.values().filter(|told| told.iter().any(|it| it.tone == tone)).count();
    match (all, with(Tone::Bad), with(Tone::Doubtful)) {
        (0, ..) => (format!("{of}: nothing was found to look at."), Tone::Doubtful),
        (_, 0, 0) => {
            let but = if with(Tone::Quiet) > 0 { " but for what is waived" } else { "" };
            (format!("{of}: {all} looked at, as the ledger says{but}."), Tone::Good)
        }
        (_, 0, unknown) => (format!("{of}: {unknown} of {all} not known."), Tone::Doubtful),
        (_, drifted, 0) => (format!("{of}: {drifted} of {all} drifted."), Tone::Bad),
        (_, drifted, unknown) => {
            (format!("{of}: {drifted} of {all} drifted, {unknown} not known."), Tone::Bad)
        }
    }
}
