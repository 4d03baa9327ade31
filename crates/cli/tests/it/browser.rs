//! A browser without a window, driven over its own protocol.

use std::io::{BufRead as _, BufReader};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use tempfile::TempDir;
use tungstenite::stream::MaybeTlsStream;
use tungstenite::{Message, WebSocket, connect};

use crate::test_ledger::is_there;

/// How long anything may take: a browser that hangs is told, and a slow machine is none.
const LIMIT: Duration = Duration::from_secs(600);

/// A page that is open in a browser.
pub(crate) struct Browser {
    child: Child,
    socket: WebSocket<MaybeTlsStream<TcpStream>>,
    session: Option<String>,
    last: u64,
    /// What was asked for from anywhere, and what the browser complained of.
    pub(crate) requests: Vec<String>,
    pub(crate) complaints: Vec<String>,
    _profile: TempDir,
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Browser {
    /// Starts one, if it is installed.
    pub(crate) fn start() -> Option<Self> {
        if !is_there("chromium") {
            return None;
        }
        let profile = TempDir::new().unwrap();
        let mut child = Command::new("chromium")
            .args([
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--disable-dev-shm-usage",
                "--no-first-run",
            ])
            .args(["--remote-debugging-port=0", "--disable-background-networking"])
            .arg(format!("--user-data-dir={}", profile.path().display()))
            .arg("about:blank")
            .stderr(Stdio::piped())
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        let lines = BufReader::new(child.stderr.take().unwrap()).lines();
        let address =
            lines.map_while(Result::ok).find_map(|line| Some(line.split_once("listening on ")?.1.to_owned()));
        let (socket, _) = connect(address.unwrap()).unwrap();
        if let MaybeTlsStream::Plain(stream) = socket.get_ref() {
            stream.set_read_timeout(Some(LIMIT)).unwrap();
        }
        let mut browser = Self {
            child,
            socket,
            session: None,
            last: 0,
            requests: Vec::new(),
            complaints: Vec::new(),
            _profile: profile,
        };
        let page = browser.asks("Target.createTarget", json!({ "url": "about:blank" }))["targetId"].clone();
        let attached = browser.asks("Target.attachToTarget", json!({ "targetId": page, "flatten": true }));
        browser.session = attached["sessionId"].as_str().map(str::to_owned);
        for domain in ["Page", "Network", "Log", "Runtime"] {
            browser.asks(&format!("{domain}.enable"), json!({}));
        }
        Some(browser)
    }

    /// Asks for something, and gives the answer.
    pub(crate) fn asks(&mut self, method: &str, of: Value) -> Value {
        self.last += 1;
        let mut asked = json!({ "id": self.last, "method": method, "params": of });
        if let Some(session) = &self.session {
            asked["sessionId"] = json!(session);
        }
        self.socket.send(Message::text(asked.to_string())).unwrap();
        loop {
            let heard = self.hears();
            if heard["id"] == json!(self.last) {
                assert!(heard["error"].is_null(), "{method}: {}", heard["error"]);
                return heard["result"].clone();
            }
        }
    }

    /// The next thing that it says.
    fn hears(&mut self) -> Value {
        let text = self.socket.read().unwrap().into_text().unwrap();
        let heard: Value = serde_json::from_str(&text).unwrap();
        match heard["method"].as_str() {
            Some("Network.requestWillBeSent") => {
                self.requests.push(heard["params"]["request"]["url"].as_str().unwrap().to_owned());
            }
            Some("Log.entryAdded") => self.complaints.push(heard["params"]["entry"]["text"].to_string()),
            Some("Runtime.exceptionThrown") => self.complaints.push(heard["params"].to_string()),
            _ => {}
        }
        heard
    }

    /// Opens a file, or a place in it.
    pub(crate) fn opens(&mut self, file: &Path, place: &str) {
        let begun = Instant::now();
        self.asks("Page.navigate", json!({ "url": format!("file://{}{place}", file.display()) }));
        while self.says("document.readyState") != json!("complete") {
            assert!(begun.elapsed() < LIMIT, "the page is loaded");
        }
    }

    /// What an expression comes to in the page.
    pub(crate) fn says(&mut self, expression: &str) -> Value {
        let answer =
            self.asks("Runtime.evaluate", json!({ "expression": expression, "returnByValue": true }));
        assert!(answer["exceptionDetails"].is_null(), "{expression}: {}", answer["exceptionDetails"]);
        answer["result"]["value"].clone()
    }
}
