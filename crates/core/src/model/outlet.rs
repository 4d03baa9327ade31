//! Outlets: where a stage's configuration is delivered to and read back from.

use std::time::Duration;

use wildmatch::WildMatch;

use super::{Beside, Output, RowsOutlet, StageId, StageText};
use crate::address::Pattern;
use crate::name::Name;
use crate::source::Place;

/// An outlet of one or more stages.
#[derive(Debug, Clone)]
pub struct Outlet {
    /// Its name.
    pub name: Name,
    /// For each stage, whether it is one of its outlets.
    pub stages: Vec<bool>,
    /// The units that are delivered there, of all where this is empty.
    pub units: Vec<Pattern>,
    /// Names there that are never ours.
    pub keep: Vec<WildMatch>,
    /// How long it may take to answer.
    pub timeout: Duration,
    /// What it is.
    pub kind: OutletKind,
    /// What makes a delivery count there.
    pub effect: Effecting,
    /// Its name in `ledger.toml`.
    pub place: Place,
}

/// What makes a delivery take effect, and how one sees that it did.
#[derive(Debug, Clone, Default)]
pub struct Effecting {
    /// What is done after a delivery, in this order.
    pub wake: Vec<Wake>,
    /// What answers once it counts.
    pub ready: Option<Ready>,
    /// How long each of the two may take.
    pub within: Duration,
    /// Variables that the program gets although secrets of outlets come from them.
    pub pass: Vec<String>,
}

/// What makes a program take up what was brought.
#[derive(Debug, Clone)]
pub enum Wake {
    /// This program is started with its arguments.
    Program(Vec<StageText>),
    /// The process whose number is in this file, from the ledger's folder, gets this signal (POSIX).
    Signal(StageText, &'static str),
    /// This file, from the ledger's folder, is written anew as it is, or made empty.
    Touch(StageText),
    /// This address is called with POST (RFC 9110) and an empty body.
    Call(StageText),
}

impl Wake {
    /// The signals that can be sent: those by which programs are told to take up what is new.
    pub const SIGNALS: [&'static str; 3] = ["HUP", "USR1", "USR2"];
}

impl Effecting {
    /// Whether anything is said of it.
    pub fn is_said(&self) -> bool {
        !self.wake.is_empty() || self.ready.is_some()
    }
}

/// What tells that a delivery counts.
#[derive(Debug, Clone)]
pub enum Ready {
    /// This address answers with a status of success.
    Http(StageText),
    /// This file, from the ledger's folder, is written anew.
    File(StageText),
    /// All that the unit's contract expects of services comes out so.
    Probe,
}

/// The kinds of outlets.
#[derive(Debug, Clone)]
pub enum OutletKind {
    /// Files as rendered, in a folder for each unit.
    Directory {
        /// The folder, from the ledger's; that of the unit itself if it refers to the unit.
        path: StageText,
        /// Whether links below it are followed.
        follow_links: bool,
    },
    /// A JSON document for each unit, behind HTTP.
    Http(Box<HttpOutlet>),
    /// Rows of a table in a database.
    Rows(Box<RowsOutlet>),
    /// The environment of a running process, which is only read.
    Process {
        /// The file with its number, from the ledger's folder.
        pid_file: StageText,
    },
    /// A place that this program cannot reach: a person brings it there.
    ByHand {
        /// What the person has to do.
        chore: String,
    },
}

/// Text that stands in the ledger, or comes from outside when it is used.
#[derive(Debug, Clone)]
pub enum Given {
    /// This text.
    Text(StageText),
    /// What is found there: `env:NAME` or `file:PATH`.
    From(StageText),
}

impl Given {
    /// The text, or where it is found.
    pub fn as_text(&self) -> &StageText {
        match self {
            Given::Text(text) | Given::From(text) => text,
        }
    }
}

/// How one shows who one is over HTTP; secrets by where they come from.
#[derive(Debug, Clone, Default)]
pub enum HttpLogin {
    /// Not at all.
    #[default]
    None,
    /// A bearer token (RFC 6750).
    Bearer(StageText),
    /// A user and a password (RFC 7617).
    Basic(StageText, StageText),
    /// A token that another service gives for these (RFC 6749, section 4.4).
    OAuth(Box<OAuth>),
}

/// The certificate that is shown where a service asks who connects (RFC 8446, section 4.4.2), and its key, in PEM; each by
/// where it comes from.
#[derive(Debug, Clone)]
pub struct ClientCertificate {
    /// The certificate, with those between it and the authority.
    pub chain: StageText,
    /// Its private key.
    pub key: StageText,
}

/// The client credentials that a token is given for.
#[derive(Debug, Clone)]
pub struct OAuth {
    /// The address that gives tokens.
    pub url: StageText,
    /// The client.
    pub client: StageText,
    /// Its secret.
    pub secret: StageText,
    /// What the token is for, where that is said.
    pub scope: Option<StageText>,
}

impl HttpLogin {
    /// Its texts.
    pub fn texts(&self) -> Vec<&StageText> {
        match self {
            HttpLogin::None => Vec::new(),
            HttpLogin::Bearer(token) => vec![token],
            HttpLogin::Basic(user, password) => vec![user, password],
            HttpLogin::OAuth(oauth) => {
                [&oauth.url, &oauth.client, &oauth.secret].into_iter().chain(&oauth.scope).collect()
            }
        }
    }
}

/// A JSON document for each unit, read with GET and written with PUT (RFC 9110).
#[derive(Debug, Clone)]
pub struct HttpOutlet {
    /// The address of the service.
    pub url: Given,
    /// What follows it; the unit's name comes behind it unless it refers to the unit.
    pub path: StageText,
    /// What is shown at the door.
    pub login: HttpLogin,
    /// What is shown before that.
    pub certificate: Option<ClientCertificate>,
    /// The proxy between.
    pub proxy: Option<StageText>,
    /// How often it is tried again where it does not answer, or says that it cannot now.
    pub retries: u32,
    /// What of a unit stands there, and under which names.
    pub document: Output,
    /// Which document that is, and what of it.
    pub place: DocumentPlace,
}

/// Which document of a service is a unit's, and what of it; the one at the address, all of it, where nothing is said.
#[derive(Debug, Clone, Default)]
pub struct DocumentPlace {
    /// The steps to the unit's part of the document; what stands around it is not ours.
    pub at: Vec<StageText>,
    /// The query that leads from what the address lists to the address of the unit's document (RFC 9535).
    pub find: Option<StageText>,
    /// The steps to the address of the list's next page, where no `Link` says so (RFC 8288).
    pub next: Option<Vec<String>>,
    /// What a new document holds beside the unit's part.
    pub new: Vec<(String, StageText)>,
}

impl HttpOutlet {
    /// All that says where a unit's document and its part of that are, below the service.
    pub fn place_texts(&self) -> impl Iterator<Item = &StageText> {
        [&self.path].into_iter().chain(&self.place.find).chain(&self.place.at)
    }

    /// Whether the unit's name is in it, so that it need not follow.
    pub fn names_unit(&self) -> bool {
        self.url.as_text().refers_to_unit() || self.place_texts().any(StageText::refers_to_unit)
    }
}

impl OutletKind {
    /// The kinds by their names in `ledger.toml`.
    pub const NAMES: [&'static str; 7] =
        ["directory", "http", "postgres", "mariadb", "sqlite", "process", "by-hand"];

    /// Whether a stage has another place there once it has another name.
    pub fn tells_stage(&self) -> bool {
        let refers = |text: &StageText| text.as_written().contains("${stage.name}");
        match self {
            OutletKind::Directory { path, .. } => refers(path),
            OutletKind::Http(http) => http.place_texts().any(refers) || refers(http.url.as_text()),
            OutletKind::Rows(rows) => {
                let is_where = |beside: &Beside| matches!(beside, Beside::Where(text) if refers(text));
                rows.scope.as_ref().is_none_or(refers)
                    || refers(rows.at.as_text())
                    || rows.table.as_ref().is_some_and(refers)
                    || rows.tables.iter().any(|it| refers(&it.table))
                    || rows.beside.iter().any(|(_, beside)| is_where(beside))
                    || rows.tables.iter().flat_map(|it| &it.beside).any(|(_, beside)| is_where(beside))
            }
            OutletKind::Process { pid_file } => refers(pid_file),
            OutletKind::ByHand { .. } => false,
        }
    }

    /// The name in `ledger.toml`.
    pub fn name(&self) -> &'static str {
        match self {
            OutletKind::Directory { .. } => "directory",
            OutletKind::Http(_) => "http",
            OutletKind::Rows(rows) => rows.database.kind(),
            OutletKind::Process { .. } => "process",
            OutletKind::ByHand { .. } => "by-hand",
        }
    }

    /// Whether each unit has a way there of its own: another server, database or login.
    pub fn way_varies_by_unit(&self) -> bool {
        let given = |given: &Given| given.as_text().refers_to_unit();
        let text = |text: &Option<StageText>| text.as_ref().is_some_and(StageText::refers_to_unit);
        match self {
            OutletKind::Http(http) => {
                let login = http.login.texts();
                let certificate = http.certificate.as_ref();
                given(&http.url)
                    || login.iter().any(|text| text.refers_to_unit())
                    || certificate.is_some_and(|it| it.chain.refers_to_unit() || it.key.refers_to_unit())
                    || text(&http.proxy)
            }
            OutletKind::Rows(rows) => rows.way_varies_by_unit(),
            OutletKind::Directory { .. } | OutletKind::Process { .. } | OutletKind::ByHand { .. } => false,
        }
    }

    /// What of a unit stands there, where that is not its files.
    pub fn output(&self) -> Option<&Output> {
        match self {
            OutletKind::Http(http) => Some(&http.document),
            OutletKind::Rows(rows) => Some(&rows.content),
            OutletKind::Directory { .. } | OutletKind::Process { .. } | OutletKind::ByHand { .. } => None,
        }
    }
}

impl Outlet {
    /// Whether a unit or instance of a stage is delivered there.
    pub fn takes(&self, stage: StageId, owner: (&str, Option<&str>)) -> bool {
        let unit = self.units.is_empty() || self.units.iter().any(|it| it.covers_owner(owner.0, owner.1));
        self.stages[usize::from(stage.0)] && unit
    }

    /// Whether it is one of a stage's.
    pub fn is_of(&self, stage: StageId) -> bool {
        self.stages.get(usize::from(stage.0)).copied().unwrap_or(false)
    }

    /// What a person has to do, where this program cannot reach it.
    pub fn by_hand(&self) -> Option<&str> {
        match &self.kind {
            OutletKind::ByHand { chore } => Some(chore),
            _ => None,
        }
    }

    /// Whether a name there is never ours.
    pub fn keeps(&self, name: &str) -> bool {
        self.keep.iter().any(|keep| keep.matches(name))
    }
}
