//! A program in a terminal of its own: what it draws, and what it leaves behind.

use std::io::{Read as _, Write};
use std::num::NonZero;
use std::process::Command;
use std::sync::{Arc, Mutex};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, SlavePty, native_pty_system};
use vt100::Parser;

/// Longer than anything takes that does not hang.
const LONGEST: Duration = Duration::from_secs(60);

pub(crate) struct Pty {
    master: Box<dyn MasterPty + Send>,
    /// Held, so that the terminal outlives the program.
    slave: Box<dyn SlavePty + Send>,
    child: Box<dyn Child + Send + Sync>,
    writer: Box<dyn Write + Send>,
    parser: Arc<Mutex<Parser>>,
    /// Reads what it draws, up to the end.
    reading: JoinHandle<()>,
    /// How the terminal was before.
    modes: String,
}

impl Pty {
    /// Starts a program in a terminal of this size.
    pub(crate) fn start(command: CommandBuilder, (width, height): (u16, u16)) -> Self {
        let size = PtySize { rows: height, cols: width, ..PtySize::default() };
        let pair = native_pty_system().openpty(size).unwrap();
        let modes = format!("{:?}", pair.master.get_termios().unwrap());
        let parser = Arc::new(Mutex::new(Parser::new(at_least_one(height), at_least_one(width), 0)));
        let (mut reader, here) = (pair.master.try_clone_reader().unwrap(), parser.clone());
        let reading = thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(count @ 1..) = reader.read(&mut bytes) {
                here.lock().unwrap().process(&bytes[..count]);
            }
        });
        let child = pair.slave.spawn_command(command).unwrap();
        let writer = pair.master.take_writer().unwrap();
        Self { master: pair.master, slave: pair.slave, child, writer, parser, reading, modes }
    }

    /// Types these bytes.
    pub(crate) fn types(&mut self, keys: &str) {
        self.writer.write_all(keys.as_bytes()).unwrap();
        self.writer.flush().unwrap();
    }

    /// Makes the terminal another size.
    pub(crate) fn resize(&mut self, width: u16, height: u16) {
        self.parser.lock().unwrap().screen_mut().set_size(at_least_one(height), at_least_one(width));
        self.master.resize(PtySize { rows: height, cols: width, ..PtySize::default() }).unwrap();
    }

    /// Sends it a signal by its name.
    pub(crate) fn signal(&self, name: &str) {
        let id = self.child.process_id().unwrap().to_string();
        assert!(Command::new("kill").args(["-s", name, &id]).status().unwrap().success());
    }

    /// What is on the screen.
    pub(crate) fn shown(&self) -> String {
        self.parser.lock().unwrap().screen().contents()
    }

    /// Waits until a text is on the screen.
    pub(crate) fn until(&self, text: &str) -> String {
        self.until_so(text, |screen| screen.contains(text))
    }

    /// Waits until the screen is as it should be.
    pub(crate) fn until_so(&self, what: &str, is_so: impl Fn(&str) -> bool) -> String {
        let start = Instant::now();
        loop {
            let shown = self.shown();
            if is_so(&shown) {
                return shown;
            }
            assert!(start.elapsed() < LONGEST, "`{what}` never comes:\n{shown}");
            thread::sleep(Duration::from_millis(10));
        }
    }

    /// Waits for the end: the terminal is as it was before. Gives the exit status, and what is on the screen.
    pub(crate) fn ended(mut self) -> (u32, String) {
        let start = Instant::now();
        let status = loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                break status;
            }
            assert!(start.elapsed() < LONGEST, "it does not end:\n{}", self.shown());
            thread::sleep(Duration::from_millis(10));
        };
        assert_eq!(format!("{:?}", self.master.get_termios().unwrap()), self.modes);
        // What it wrote last is read a little later: once nobody has the terminal, reading comes to an end.
        drop(self.slave);
        while !self.reading.is_finished() {
            assert!(start.elapsed() < LONGEST, "somebody still has the terminal");
            thread::sleep(Duration::from_millis(10));
        }
        let parser = self.parser.lock().unwrap();
        assert!(!parser.screen().alternate_screen() && !parser.screen().hide_cursor());
        (status.exit_code(), parser.screen().contents())
    }
}

fn at_least_one(size: u16) -> NonZero<u16> {
    NonZero::new(size).unwrap()
}
