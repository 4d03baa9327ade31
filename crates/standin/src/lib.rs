//! A small stand-in for a service that keeps JSON documents: read with GET, written with PUT under a
//! condition, each with an entity tag (RFC 9110). A folder is a list of its documents, page by page; POST makes one in
//! it, with an identifier that the service assigns. It can be made to be as bad as real ones are.
//!
//! It listens on 127.0.0.1 alone, and keeps its documents as files in a folder.

mod documents;
mod fault;

use std::collections::BTreeMap;
use std::io::{self, Read as _};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use tiny_http::{Header, Method, Request, Response, Server};

use self::documents::Documents;
pub use self::fault::{Fault, UnknownFault};

/// The largest document that it takes, in bytes.
const LARGEST: u64 = 16 << 20;

/// How long it hangs where it is to hang: longer than anybody waits.
const HANG: Duration = Duration::from_secs(3600);

/// What a stand-in is started with.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// The folder with its documents: `FOLDER/a/b.json` is `/a/b`.
    pub folder: PathBuf,
    /// The port, or any that is free.
    pub port: Option<u16>,
    /// The bearer token that it asks for (RFC 6750).
    pub token: Option<String>,
}

/// A stand-in that runs. It stops when it is dropped; requests that hang are left alone.
pub struct StandIn {
    server: Arc<Server>,
    address: SocketAddr,
    faults: Faults,
    requests: Arc<AtomicUsize>,
}

type Faults = Arc<Mutex<BTreeMap<String, Fault>>>;

impl StandIn {
    /// Starts one, which answers from a thread of its own.
    pub fn start(options: Options) -> io::Result<Self> {
        let server = Server::http(("127.0.0.1", options.port.unwrap_or(0))).map_err(io::Error::other)?;
        let address = server.server_addr().to_ip();
        let address = address.ok_or_else(|| io::Error::other("it listens at no address"))?;
        let (server, faults) = (Arc::new(server), Faults::default());
        let (listening, known) = (server.clone(), faults.clone());
        let requests = Arc::new(AtomicUsize::new(0));
        let heard = requests.clone();
        let service = Arc::new(Service { documents: Documents::new(options.folder), token: options.token });
        thread::spawn(move || {
            for request in listening.incoming_requests() {
                heard.fetch_add(1, Ordering::SeqCst);
                let (service, fault) = (service.clone(), fault_of(&known, request.method(), request.url()));
                thread::spawn(move || service.answer(request, fault));
            }
        });
        Ok(Self { server, address, faults, requests })
    }

    /// Its address, as `http://127.0.0.1:PORT`.
    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }

    /// How many requests came so far.
    pub fn requests(&self) -> usize {
        self.requests.load(Ordering::SeqCst)
    }

    /// Makes everything below a path bad in this way, or good again.
    pub fn set_fault(&self, path: &str, fault: Option<Fault>) {
        let mut faults = self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        match fault {
            Some(fault) => drop(faults.insert(path.to_owned(), fault)),
            None => drop(faults.remove(path)),
        }
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.server.unblock();
    }
}

/// The fault of the longest path that an address begins with.
fn fault_of(faults: &Faults, method: &Method, url: &str) -> Option<Fault> {
    let mut faults = faults.lock().unwrap_or_else(PoisonError::into_inner);
    let mut known = faults.iter().filter(|(path, _)| url.starts_with(path.as_str()));
    let (path, fault) = known.next_back().map(|(path, fault)| (path.clone(), *fault))?;
    if fault == Fault::LoseAnswer {
        if !is_write(method) {
            return None;
        }
        faults.remove(&path);
    }
    Some(fault)
}

/// Whether a method brings a document.
fn is_write(method: &Method) -> bool {
    matches!(method, Method::Put | Method::Post)
}

struct Service {
    documents: Documents,
    token: Option<String>,
}

type Answer = Response<Box<dyn io::Read + Send>>;

impl Service {
    fn answer(&self, mut request: Request, fault: Option<Fault>) {
        let answer = match fault {
            Some(Fault::Hang) => {
                thread::sleep(HANG);
                return;
            }
            Some(Fault::HangWrites) if is_write(request.method()) => {
                thread::sleep(HANG);
                return;
            }
            Some(Fault::Slow(delay)) => {
                thread::sleep(delay);
                self.usual(&mut request, false)
            }
            Some(Fault::Down) => status(503),
            Some(Fault::DownWrites) if *request.method() != Method::Get => status(503),
            Some(Fault::Refuse) => status(401),
            Some(Fault::Garbage) => text(200, "<html>not what you think</html>"),
            Some(Fault::Huge) => huge(),
            Some(Fault::Loop) => with(status(302), "Location", request.url()),
            Some(Fault::LoseWrites) => self.usual(&mut request, true),
            Some(Fault::LoseAnswer) => {
                drop(self.usual(&mut request, false));
                status(503)
            }
            Some(Fault::HangWrites | Fault::DownWrites) | None => self.usual(&mut request, false),
        };
        // Whoever has gone in the meantime does not want to know.
        let _ = request.respond(answer);
    }

    fn usual(&self, request: &mut Request, lose_writes: bool) -> Answer {
        let said = |name: &'static str| {
            let found = request.headers().iter().find(|header| header.field.equiv(name));
            found.map(|header| header.value.as_str().to_owned())
        };
        if let Some(token) = &self.token
            && said("Authorization").as_deref() != Some(&format!("Bearer {token}"))
        {
            return status(401);
        }
        let (condition, none_yet) = (said("If-Match"), said("If-None-Match"));
        let url = request.url().to_owned();
        match request.method() {
            Method::Get => match self.documents.read(&url) {
                Some(document) => with(text(200, &document.text), "ETag", &document.tag),
                None => match self.documents.list(&url) {
                    Some((page, next)) => {
                        let answer = text(200, &page);
                        next.iter().fold(answer, |answer, next| {
                            with(answer, "Link", &format!("<{next}>; rel=\"next\""))
                        })
                    }
                    None => status(404),
                },
            },
            Method::Post => {
                let mut body = String::new();
                let read = request.as_reader().take(LARGEST).read_to_string(&mut body);
                if read.is_err() {
                    return status(400);
                }
                if lose_writes {
                    return status(201);
                }
                match self.documents.make(&url, &body) {
                    Ok(place) => with(status(201), "Location", &place),
                    Err(code) => status(code),
                }
            }
            Method::Put => {
                let mut body = String::new();
                let read = request.as_reader().take(LARGEST).read_to_string(&mut body);
                if read.is_err() {
                    return status(400);
                }
                let allowed = |tag: Option<&str>| match (&condition, &none_yet, tag) {
                    (Some(condition), _, tag) => tag == Some(condition),
                    (None, Some(_), Some(_)) => false,
                    (None, _, _) => true,
                };
                let content = if lose_writes { None } else { Some(body.as_str()) };
                match self.documents.write(&url, content, allowed) {
                    Ok(Some(tag)) => with(status(204), "ETag", &tag),
                    Ok(None) => status(204),
                    Err(code) => status(code),
                }
            }
            Method::Delete => {
                let allowed = |tag: &str| condition.as_ref().is_none_or(|condition| condition == tag);
                status(self.documents.remove(&url, allowed).err().unwrap_or(204))
            }
            _ => status(405),
        }
    }
}

fn status(code: u16) -> Answer {
    Response::empty(code).boxed()
}

fn text(code: u16, text: &str) -> Answer {
    let answer = Response::from_string(text).with_status_code(code).boxed();
    with(answer, "Content-Type", "application/json")
}

/// A document of a few hundred megabytes, which is no document.
fn huge() -> Answer {
    Response::new(200.into(), Vec::new(), Box::new(io::repeat(b' ').take(300 << 20)), None, None)
}

fn with(answer: Answer, name: &str, value: &str) -> Answer {
    match Header::from_bytes(name, value) {
        Ok(header) => answer.with_header(header),
        Err(()) => answer,
    }
}
