//! The terminal, from the first line to the last: it is left as it was, whatever happens.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use std::{io, panic};

use cledger_work::Trouble;
use cledger_work::browse::Browser;
use crossterm::event::{self, Event, KeyEventKind};
use ratatui::DefaultTerminal;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::flag;

use crate::draw::draw;
use crate::look::Look;
use crate::screen::Screen;

/// How long a key is waited for before one looks for news.
const PAUSE: Duration = Duration::from_millis(40);

/// How the view ended.
#[derive(Debug)]
pub struct Ended {
    /// What was changed in the ledger, a line each.
    pub made: Vec<String>,
    /// What ended it, if it was not whoever looked.
    pub trouble: Option<Trouble>,
}

/// Shows a ledger until somebody has seen enough, a signal comes, or any thread of the program panics: nobody would wait
/// for it in vain.
pub fn browse(browser: &Browser, look: Look) -> Ended {
    let (signalled, panicked) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicBool::new(false)));
    let mut screen = Screen::new(look);
    let shown = show(&mut screen, browser, (&signalled, &panicked));
    let trouble = match shown {
        // A signal ends the waiting for keys, too, and then is the reason.
        _ if signalled.load(Ordering::Relaxed) => Some(Trouble::outside("a signal ended the view")),
        _ if panicked.load(Ordering::Relaxed) => {
            Some(Trouble::outside("a part of the program has failed, as told above"))
        }
        Err(error) => Some(Trouble::outside(format!("the terminal cannot be used: {error}"))),
        Ok(()) => screen.failed(),
    };
    Ended { made: screen.made(), trouble }
}

/// Shows what is on the screen, and leaves the terminal as it was.
fn show(
    screen: &mut Screen,
    browser: &Browser,
    (signalled, panicked): (&Arc<AtomicBool>, &Arc<AtomicBool>),
) -> io::Result<()> {
    for signal in [SIGHUP, SIGINT, SIGTERM] {
        flag::register(signal, signalled.clone())?;
    }
    let (seen, usual) = (panicked.clone(), panic::take_hook());
    panic::set_hook(Box::new(move |info| {
        seen.store(true, Ordering::Relaxed);
        usual(info);
    }));
    // Also puts the terminal back where a thread panics, before that is told.
    let mut terminal = ratatui::try_init()?;
    let ended = go(&mut terminal, screen, browser, &[signalled, panicked]);
    let shown = terminal.show_cursor();
    let restored = ratatui::try_restore();
    ended.and(shown).and(restored)
}

/// Draws what is new, and takes keys, until the end.
fn go(
    terminal: &mut DefaultTerminal,
    screen: &mut Screen,
    browser: &Browser,
    ends: &[&AtomicBool],
) -> io::Result<()> {
    let (mut is_new, mut size) = (true, terminal.size()?);
    while !screen.is_over() && !ends.iter().any(|end| end.load(Ordering::Relaxed)) {
        while let Some(news) = browser.news() {
            screen.news(news);
            is_new = true;
        }
        for wish in screen.wishes() {
            browser.wish(wish);
        }
        if is_new {
            terminal.draw(|frame| draw(frame, screen))?;
        }
        let seen = seen_within(PAUSE);
        if seen == Seen::Gone {
            return Err(io::Error::other("it is gone"));
        }
        let now = terminal.size()?;
        is_new = seen == Seen::Typed || now != size;
        size = now;
        while seen == Seen::Typed && event::poll(Duration::from_millis(1))? {
            if let Event::Key(key) = event::read()?
                && key.kind != KeyEventKind::Release
            {
                screen.key(key);
            }
        }
    }
    Ok(())
}

/// What is seen of a terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Seen {
    /// Something was typed.
    Typed,
    /// Nothing was.
    Nothing,
    /// Nobody is there any more, so that reading it would come to nothing at once, for ever.
    Gone,
}

/// Waits so long for a key, less than a second.
fn seen_within(time: Duration) -> Seen {
    let stdin = io::stdin();
    let mut asked = [PollFd::new(&stdin, PollFlags::IN)];
    let time = Timespec { tv_sec: 0, tv_nsec: time.subsec_nanos().into() };
    match poll(&mut asked, Some(&time)) {
        Ok(1..) if asked[0].revents().intersects(PollFlags::HUP | PollFlags::ERR | PollFlags::NVAL) => {
            Seen::Gone
        }
        Ok(1..) => Seen::Typed,
        // Also where a signal comes between.
        _ => Seen::Nothing,
    }
}
