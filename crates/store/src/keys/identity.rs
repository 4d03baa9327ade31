//! A person's identity: the private key, in a file of their own, that opens the keys of stages.
//!
//! It is an age identity file (<https://age-encryption.org/v1>), one that is protected by a
//! passphrase, or an OpenSSH private key.

use std::fs;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use age::secrecy::{ExposeSecret as _, SecretString};
use etcetera::BaseStrategy as _;
use zeroize::Zeroizing;

use super::recipient::Recipient;
use crate::folder::read_named;
use crate::mode::Written;
use crate::write::{WriteError, write_new};

/// How a passphrase is got: asked for in these words. `None` where nobody is there to type it.
pub type AskPassphrase = Arc<dyn Fn(&str) -> Option<SecretString> + Send + Sync>;

/// Why an identity cannot be used. None of these says anything of the private key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum IdentityError {
    /// There is no file.
    #[error("you have no identity: {0} is not there (make one: cledger key identity)")]
    None(String),
    /// Others can read the file.
    #[error("others can read your identity, {0} (close it: chmod 600)")]
    OpenToOthers(String),
    /// It cannot be read.
    #[error("your identity, {0}, cannot be read: {1}")]
    Unreadable(String, String),
    /// It cannot be written.
    #[error("an identity cannot be made, as {0}: {1}")]
    NotWritten(String, String),
    /// It holds no identity.
    #[error("{0} is no identity file: {1}")]
    Malformed(String, String),
    /// The variable holds the key itself, so that there is no file.
    #[error("CLEDGER_IDENTITY holds the key itself, and names no file")]
    NoPath,
    /// No folder for it is known.
    #[error("no folder for an identity is known (name a file with CLEDGER_IDENTITY)")]
    NoPlace,
}

/// The largest identity file, in bytes.
const LARGEST: u64 = 1 << 20;

/// What making an identity came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Made {
    /// A new one was made.
    New,
    /// There was one already.
    Before,
}

pub(super) type Opener = Box<dyn age::Identity + Send + Sync>;

/// A person's identity, read when it is first needed.
pub struct Identity {
    path: Result<PathBuf, IdentityError>,
    /// The key itself, where a variable holds that in place of a path.
    held: Option<Zeroizing<String>>,
    /// What it is called in messages: a path that a variable gives is never shown.
    shown: String,
    ask: AskPassphrase,
    openers: OnceLock<Result<Vec<Opener>, IdentityError>>,
    passphrase: OnceLock<Option<SecretString>>,
}

impl Identity {
    /// The identity in this file; `None` where no place for one is known.
    pub fn at(path: Option<PathBuf>, ask: AskPassphrase) -> Self {
        let shown = path.as_ref().map(|path| format!("`{}`", path.display())).unwrap_or_default();
        let path = path.ok_or(IdentityError::NoPlace);
        let (openers, passphrase) = (OnceLock::new(), OnceLock::new());
        Self { path, held: None, shown, ask, openers, passphrase }
    }

    /// The identity in the file that a variable names, or the key itself that it holds. What stands there is never
    /// shown.
    pub fn named(path: PathBuf, ask: AskPassphrase) -> Self {
        let text = path.to_string_lossy();
        let is_key = text.to_ascii_uppercase().contains("AGE-SECRET-KEY-")
            || text.contains("-----BEGIN")
            || text.contains(char::is_control);
        if is_key {
            let (held, shown) = (Zeroizing::new(text.into_owned()), "the key in CLEDGER_IDENTITY".to_owned());
            return Self { path: Err(IdentityError::NoPath), held: Some(held), shown, ..Self::at(None, ask) };
        }
        let shown = "the file that CLEDGER_IDENTITY names".to_owned();
        Self { path: Ok(path), shown, ..Self::at(None, ask) }
    }

    /// The same where somebody else is asked for its passphrase.
    #[must_use]
    pub fn asking(&self, ask: AskPassphrase) -> Self {
        let (path, held, shown) = (self.path.clone(), self.held.clone(), self.shown.clone());
        Self { path, held, shown, ..Self::at(None, ask) }
    }

    /// What its file is called in messages.
    pub fn shown(&self) -> &str {
        &self.shown
    }

    /// Where a person's identity is kept unless something else is said: `cledger/identity` in their
    /// configuration folder.
    pub fn usual_path() -> Option<PathBuf> {
        Some(etcetera::choose_base_strategy().ok()?.config_dir().join("cledger").join("identity"))
    }

    /// Its file.
    pub fn path(&self) -> Result<&Path, IdentityError> {
        self.path.as_deref().map_err(Clone::clone)
    }

    /// Whether there is one.
    pub fn is_there(&self) -> Result<bool, IdentityError> {
        Ok(self.held.is_some() || self.path()?.symlink_metadata().is_ok())
    }

    /// Makes one, readable by its owner alone, unless it is there.
    pub fn make(&self) -> Result<Made, IdentityError> {
        if self.is_there()? {
            return Ok(Made::Before);
        }
        let path = self.path()?;
        let key = age::x25519::Identity::generate();
        let text = Zeroizing::new(format!(
            "# public key: {}\n{}\n",
            key.to_public(),
            key.to_string().expose_secret()
        ));
        // Somebody may have made one in the same moment, and theirs stays.
        let wrong = |error: WriteError| IdentityError::NotWritten(self.shown.clone(), error.reason());
        match write_new(path, text.as_bytes()).map_err(wrong)? {
            Written::Unchanged => Ok(Made::Before),
            Written::New | Written::Changed => Ok(Made::New),
        }
    }

    /// The public keys to wrap for, so that this identity opens it; one for each identity in the file.
    pub fn recipients(&self) -> Result<Vec<Recipient>, IdentityError> {
        let text = self.text()?;
        let malformed = |reason: &str| self.malformed(reason);
        let found: Vec<Recipient> = if is_ssh(&text) {
            let identity = self.ssh(&text)?;
            let public = age::ssh::Recipient::try_from(identity).map_err(|_| {
                malformed("its public key cannot be told from it: name it with --reader NAME=KEY")
            })?;
            vec![Recipient::parse(&public.to_string()).map_err(|error| malformed(&error.to_string()))?]
        } else {
            let parsed = text.lines().filter_map(|line| line.trim().parse::<age::x25519::Identity>().ok());
            parsed.filter_map(|identity| Recipient::parse(&identity.to_public().to_string()).ok()).collect()
        };
        if found.is_empty() {
            return Err(malformed("its public key cannot be told from it: name it with --reader NAME=KEY"));
        }
        Ok(found)
    }

    /// What opens age files.
    pub(super) fn openers(&self) -> Result<&[Opener], IdentityError> {
        let openers = self.openers.get_or_init(|| self.read()).as_ref();
        openers.map(Vec::as_slice).map_err(Clone::clone)
    }

    /// The passphrase of a key that is protected by one, asked for once.
    pub(super) fn passphrase(&self, name: &str) -> Option<SecretString> {
        self.passphrase.get_or_init(|| (self.ask)(&format!("Passphrase of the key of {name}"))).clone()
    }

    fn malformed(&self, reason: &str) -> IdentityError {
        IdentityError::Malformed(self.shown.clone(), reason.to_owned())
    }

    fn text(&self) -> Result<Zeroizing<String>, IdentityError> {
        if let Some(held) = &self.held {
            return Ok(held.clone());
        }
        let (path, shown) = (self.path()?, || self.shown.clone());
        let wrong = |error: io::Error| match error.kind() {
            io::ErrorKind::NotFound => IdentityError::None(shown()),
            _ => IdentityError::Unreadable(shown(), error.to_string()),
        };
        let about = fs::metadata(path).map_err(wrong)?;
        if is_open_to_others(&about) {
            return Err(IdentityError::OpenToOthers(shown()));
        }
        let read = read_named(path, LARGEST).map(Zeroizing::new);
        let mut bytes = read.map_err(|error| IdentityError::Unreadable(shown(), error.to_string()))?;
        if bytes.starts_with(b"age-encryption.org/") || bytes.starts_with(b"-----BEGIN AGE ENCRYPTED") {
            bytes = self.unprotected(&bytes)?;
        }
        let text = std::str::from_utf8(&bytes).map_err(|_| self.malformed("it is not text"))?;
        Ok(Zeroizing::new(text.to_owned()))
    }

    /// What an identity file holds that is protected by a passphrase.
    fn unprotected(&self, bytes: &[u8]) -> Result<Zeroizing<Vec<u8>>, IdentityError> {
        let wrong = |reason: &str| self.malformed(reason);
        let passphrase = (self.ask)("Passphrase of your identity");
        let passphrase =
            passphrase.ok_or_else(|| wrong("it is protected by a passphrase, and nobody typed it"))?;
        let decryptor =
            age::Decryptor::new_buffered(io::BufReader::new(age::armor::ArmoredReader::new(bytes)));
        let decryptor = decryptor.map_err(|_| wrong("it is damaged"))?;
        let opener = age::scrypt::Identity::new(passphrase);
        let mut content = Zeroizing::new(Vec::new());
        let mut reader = decryptor
            .decrypt(std::iter::once(&opener as &dyn age::Identity))
            .map_err(|_| wrong("the passphrase does not open it"))?;
        reader.read_to_end(&mut content).map_err(|_| wrong("it is damaged"))?;
        Ok(content)
    }

    fn read(&self) -> Result<Vec<Opener>, IdentityError> {
        let text = self.text()?;
        let malformed = |reason: String| self.malformed(&reason);
        let callbacks = Asking(self.ask.clone());
        if is_ssh(&text) {
            return Ok(vec![Box::new(self.ssh(&text)?.with_callbacks(callbacks))]);
        }
        // Its errors name a line, and never what is in it.
        let file = age::IdentityFile::from_buffer(text.as_bytes())
            .map_err(|error| malformed(error.to_string()))?
            .with_callbacks(callbacks);
        let found = file.into_identities().map_err(|error| malformed(error.to_string()))?;
        if found.is_empty() { Err(malformed("it holds none".to_owned())) } else { Ok(found) }
    }

    fn ssh(&self, text: &str) -> Result<age::ssh::Identity, IdentityError> {
        let malformed = |reason: &str| self.malformed(reason);
        let read = age::ssh::Identity::from_buffer(text.as_bytes(), None);
        match read.map_err(|_| malformed("this private key cannot be read"))? {
            age::ssh::Identity::Unsupported(_) => {
                Err(malformed("private keys of this kind are not supported: take ed25519 or RSA"))
            }
            identity => Ok(identity),
        }
    }
}

fn is_ssh(text: &str) -> bool {
    text.starts_with("-----BEGIN OPENSSH") || text.starts_with("-----BEGIN RSA")
}

#[cfg(unix)]
fn is_open_to_others(about: &fs::Metadata) -> bool {
    use std::os::unix::fs::PermissionsExt as _;
    about.permissions().mode() & 0o077 != 0
}

#[cfg(not(unix))]
fn is_open_to_others(_about: &fs::Metadata) -> bool {
    false
}

/// Asks for the passphrase of an identity that is protected by one.
#[derive(Clone)]
struct Asking(AskPassphrase);

impl age::Callbacks for Asking {
    fn display_message(&self, _message: &str) {}

    fn confirm(&self, _message: &str, _yes: &str, _no: Option<&str>) -> Option<bool> {
        None
    }

    fn request_public_string(&self, _description: &str) -> Option<String> {
        None
    }

    fn request_passphrase(&self, _description: &str) -> Option<SecretString> {
        (self.0)("Passphrase of your identity")
    }
}
