//! Somebody who looks through a small ledger, on a screen that is a buffer.

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use cledger_store::{Identity, State};
use cledger_view::{Look, Screen, draw};
use cledger_work::Workplace;
use cledger_work::asking::Nobody;
use cledger_work::browse::Browser;
use cledger_work::matrix::ToTabulate;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use jiff::Timestamp;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::buffer::Buffer;
use tempfile::TempDir;

/// Longer than anything takes that does not hang.
const LONGEST: Duration = Duration::from_secs(60);

const MANIFEST: &str = "format = 1\nname = \"Locks and Pumps\"\n\
     [[stage]]\nname = \"dev\"\nclass = \"development\"\n[[stage]]\nname = \"test\"\nclass = \"test\"\n\
     [[stage]]\nname = \"north\"\nclass = \"production\"\n\
     [[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"*\"]\npath = \"../live/${stage.name}\"\n";

/// A ledger in a temporary folder, and a screen of a size.
pub(crate) struct Looker {
    pub(crate) folder: TempDir,
    browser: Browser,
    pub(crate) screen: Screen,
    terminal: Terminal<TestBackend>,
}

impl Looker {
    /// Looks through a ledger with these files, beside its manifest.
    pub(crate) fn at(files: &[(&str, &str)], (width, height): (u16, u16), look: Look) -> Self {
        let folder = TempDir::new().unwrap();
        let ledger = folder.path().join("ledger");
        for (path, text) in [("ledger.toml", MANIFEST)].iter().chain(files) {
            let path = ledger.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let at = workplace(&folder);
        let browser = Browser::start(&at, ToTabulate::default(), None);
        let terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        Self { folder, browser, screen: Screen::new(look), terminal }
    }

    pub(crate) fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join("ledger").join(path)
    }

    /// Types these: each character is a key.
    pub(crate) fn types(&mut self, text: &str) {
        for c in text.chars() {
            self.key(KeyCode::Char(c));
        }
    }

    pub(crate) fn key(&mut self, code: KeyCode) {
        self.screen.key(KeyEvent::new(code, KeyModifiers::NONE));
        self.pass_on();
    }

    fn pass_on(&mut self) {
        for wish in self.screen.wishes() {
            self.browser.wish(wish);
        }
    }

    /// Goes on until a text is on the screen.
    pub(crate) fn until(&mut self, text: &str) -> String {
        self.until_so(text, true)
    }

    /// Goes on until a text is on the screen, or is not.
    pub(crate) fn until_so(&mut self, text: &str, there: bool) -> String {
        loop {
            let shown = self.shown();
            if shown.contains(text) == there {
                return shown;
            }
            let news = self.browser.wait(LONGEST);
            self.screen.news(news.ok_or_else(|| format!("`{text}` does not change:\n{shown}")).unwrap());
            self.pass_on();
        }
    }

    /// Another size of the screen.
    pub(crate) fn resize(&mut self, width: u16, height: u16) {
        self.terminal.backend_mut().resize(width, height);
    }

    /// What is on the screen, without blanks at the ends of lines.
    pub(crate) fn shown(&mut self) -> String {
        let buffer = self.drawn();
        let width = usize::from(buffer.area.width);
        let mut text = String::new();
        for line in buffer.content.chunks(width) {
            let mut columns = 0;
            let mut said = String::new();
            for (at, cell) in line.iter().enumerate() {
                // The second half of a wide character is no cell of its own.
                if at >= columns {
                    said.push_str(cell.symbol());
                    columns = at + unicode_width::UnicodeWidthStr::width(cell.symbol()).max(1);
                }
            }
            text.push_str(said.trim_end());
            text.push('\n');
        }
        text
    }

    /// The same with its colours.
    pub(crate) fn drawn(&mut self) -> Buffer {
        let Self { terminal, screen, .. } = self;
        terminal.draw(|frame| draw(frame, screen)).unwrap();
        terminal.backend().buffer().clone()
    }
}

/// A time that stands still.
fn clock() -> Timestamp {
    Timestamp::from_second(1_795_860_000).unwrap()
}

pub(crate) fn workplace(folder: &TempDir) -> Workplace {
    let path = folder.path();
    Workplace {
        named: Some(path.join("ledger")),
        here: path.to_owned(),
        identity: Arc::new(Identity::at(Some(path.join("identity")), Arc::new(|_: &str| None))),
        state: State::at(Some(path.join("state"))),
        who: Some("ada".to_owned()),
        host: None,
        usual_stage: None,
        today: Some("2026-11-25".to_owned()),
        clock,
        is_trusted: true,
        daybook: None,
        telling: Box::new(Nobody),
        asking: Box::new(Nobody),
        stepping: Box::new(Nobody),
    }
}
