//! Keys and encryption: who may read a stage's or group's secrets, and the secrets as cipher texts.
//!
//! ```text
//! a person's identity ─opens─► keys/stages/test.age ─holds─► data key ─opens─► copper-1.… in stages/test.toml
//!  identity                     key_file                      data_key          (bound to stage and address)
//! ```
//!
//! [`Keys`] does that for a whole ledger: it unwraps each data key once, when the first cipher text
//! asks for it. `change` makes the texts that come of letting readers in and out, `reseal` encrypts
//! anew what moves. `docs/formats.md` describes all of it for a second reader.

mod age_file;
mod change;
mod data_key;
mod identity;
mod key_file;
mod readers;
mod recipient;
mod reseal;
mod watch;
mod wrapped;

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock, PoisonError, RwLock};

use cledger_core::cipher::{Cipher, KeyScope};
use cledger_core::model::{LayerId, Ledger};
use cledger_core::resolve::Opened;
use data_key::CipherError;
use zeroize::Zeroizing;

pub use age::secrecy::{ExposeSecret, SecretString};
pub use age_file::{NotDecrypted, decrypted, encrypted};
pub use change::{Admitted, admit, exclude, known_recipient, make, move_key, rotate};
pub use data_key::DataKey;
pub(crate) use data_key::hex;
pub use identity::{AskPassphrase, Identity, IdentityError, Made};
pub use key_file::{KeyFile, Reader};
pub use readers::{READERS, Readers};
pub use recipient::{BadRecipient, Recipient};
pub use reseal::{Resealed, reseal};
pub use watch::{Sight, Watch};
pub use wrapped::WrappedKey;

use recipient::PASSPHRASE;

use crate::tree::Tree;

/// Where the key of a stage or group is kept, from the ledger's folder.
pub fn key_path(scope: &KeyScope) -> String {
    format!("keys/{scope}.age")
}

fn listed(scopes: &[KeyScope]) -> String {
    let names: Vec<String> = scopes.iter().map(|scope| format!("`{}`", scope.name())).collect();
    names.join(", ")
}

/// Why a key cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// There is none.
    #[error("`{}` has no key: `{}` is not there", .0.name(), key_path(.0))]
    None(KeyScope),
    /// It is there, and none of this person's identities opens it.
    #[error("the key of `{}` is not at hand: {reason}", .scope.name())]
    NotAtHand {
        /// Whose key.
        scope: KeyScope,
        /// Why not, and what to do.
        reason: String,
    },
    /// Several are needed, and none of these is at hand.
    #[error("the keys of {} are not at hand", listed(.0))]
    SeveralNotAtHand(Vec<KeyScope>),
    /// The key file is no such file any more, or another stage's.
    #[error("the key file `{}` is of no use: {reason}", key_path(.scope))]
    Broken {
        /// Whose key.
        scope: KeyScope,
        /// What is wrong with it.
        reason: String,
    },
    /// It is not the one that was seen before, and nothing explains it.
    #[error("the key of `{}` changed in a way that nothing explains: {reason}", .scope.name())]
    Unexplained {
        /// Whose key.
        scope: KeyScope,
        /// What is wrong with it.
        reason: String,
    },
    /// Nobody here has seen it yet, and one must be careful with it.
    #[error("the key of `{}` was not seen here before; its readers are {readers}", .scope.name())]
    FirstSight {
        /// Whose key.
        scope: KeyScope,
        /// Its readers, with the fingerprints of their public keys.
        readers: String,
    },
    /// The system gives no randomness.
    #[error("the system's random source fails: {0}")]
    Random(#[from] getrandom::Error),
    /// The list of readers is of no use.
    #[error("`{READERS}` is of no use: {0}")]
    Readers(String),
    /// What is asked for does not go.
    #[error("{0}")]
    Refused(String),
    /// A cipher text cannot be opened that would have to be encrypted anew.
    #[error("the secret in {place} cannot be encrypted anew: {reason}")]
    Cipher {
        /// Its file, line and column.
        place: String,
        /// What is wrong with it.
        reason: String,
    },
}

/// The keys of one ledger, as far as one person has them.
pub struct Keys<'t> {
    tree: Box<dyn Tree + 't>,
    identity: Arc<Identity>,
    readers: OnceLock<Result<Readers, KeyError>>,
    files: RwLock<BTreeMap<KeyScope, Result<Arc<KeyFile>, KeyError>>>,
    /// Key files that are kept elsewhere, by the ids of their data keys.
    kept: RwLock<BTreeMap<String, Kept>>,
    watch: Arc<Watch>,
}

/// A key file that is kept elsewhere, wrapped until it is first asked for.
#[derive(Clone)]
enum Kept {
    Wrapped(String),
    Opened(Arc<KeyFile>),
    NotAtHand,
}

/// What a cipher text comes to that stands outside of the settings.
pub enum Unsealed {
    /// It opens to this text.
    Text(Zeroizing<String>),
    /// Its key is not at hand.
    NotAtHand,
    /// It is no cipher text for this place, or was changed.
    Damaged(String),
}

impl<'t> Keys<'t> {
    /// The keys of a ledger, to be opened by this person's identity.
    pub fn new(tree: impl Tree + 't, identity: Arc<Identity>) -> Self {
        let (readers, files, kept) = (OnceLock::new(), RwLock::default(), RwLock::default());
        Self { tree: Box::new(tree), identity, readers, files, kept, watch: Arc::default() }
    }

    /// The same, watched with what was seen of these keys before.
    #[must_use]
    pub fn watched(self, watch: Arc<Watch>) -> Self {
        Self { watch, ..self }
    }

    /// What watches them.
    pub fn watch(&self) -> &Arc<Watch> {
        &self.watch
    }

    /// Whoever opens them.
    pub fn identity(&self) -> &Arc<Identity> {
        &self.identity
    }

    /// Who may read what, as everybody can see it.
    pub fn readers(&self) -> Result<&Readers, KeyError> {
        self.readers.get_or_init(|| Readers::read(&*self.tree)).as_ref().map_err(Clone::clone)
    }

    /// Whether a stage or group has a key, at hand or not.
    pub fn has_key(&self, scope: &KeyScope) -> bool {
        !matches!(self.tree.text(&key_path(scope)), Ok(None))
    }

    /// The key of a stage or group, unwrapped when it is first asked for.
    pub fn key(&self, scope: &KeyScope) -> Result<Arc<KeyFile>, KeyError> {
        let known = |files: &BTreeMap<_, Result<_, _>>| files.get(scope).cloned();
        if let Some(known) = known(&self.files.read().unwrap_or_else(PoisonError::into_inner)) {
            return known;
        }
        let mut files = self.files.write().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = known(&files) {
            return known;
        }
        let opened = self.unwrap(scope);
        if let Ok(file) = &opened {
            self.watch.see(file);
        }
        files.insert(scope.clone(), opened.clone());
        opened
    }

    /// The same to write something under it, which must be the one that was seen before, or explained by that.
    pub fn for_writing(&self, scope: &KeyScope) -> Result<Arc<KeyFile>, KeyError> {
        let file = self.key(scope)?;
        // What this program has just made is not written yet, and is its own.
        if !self.watch.is_made(&file) {
            self.watch.grant(&file)?;
        }
        Ok(file)
    }

    fn unwrap(&self, scope: &KeyScope) -> Result<Arc<KeyFile>, KeyError> {
        let broken = |reason: String| KeyError::Broken { scope: scope.clone(), reason };
        let text = self.tree.text(&key_path(scope)).map_err(|error| broken(error.to_string()))?;
        let text = text.ok_or_else(|| KeyError::None(scope.clone()))?;
        KeyFile::unwrap(&text, scope, &self.identity).map(Arc::new)
    }

    /// What a cipher text opens to. Without the key it is still seen whether it was made for another
    /// stage or group, as far as the list of readers tells.
    pub fn open(&self, scope: &KeyScope, cipher: &Cipher) -> Opened {
        let sealed = match data_key::Sealed::parse(&cipher.text) {
            Ok(sealed) => sealed,
            Err(error) => return Opened::Broken(error.to_string()),
        };
        match self.key(scope) {
            Ok(file) => match file.key.open(scope, &cipher.address, &sealed) {
                Ok(text) => Opened::Text(text),
                Err(CipherError::OtherKey) => Opened::Broken(self.other_key(scope, &sealed)),
                Err(error) => Opened::Broken(error.to_string()),
            },
            Err(KeyError::NotAtHand { .. }) => {
                let listed = self.readers().ok().and_then(|readers| readers.key_id(scope));
                match listed {
                    Some(id) if id != sealed.key_id() => Opened::Broken(self.other_key(scope, &sealed)),
                    _ => Opened::NoKey,
                }
            }
            Err(error) => Opened::Broken(error.to_string()),
        }
    }

    /// The text of a cipher text that stands outside of the settings, bound to this address under the key of
    /// a layer; `None` where it cannot be opened here.
    pub fn text(
        &self,
        ledger: &Ledger,
        layer: LayerId,
        text: &str,
        address: &str,
    ) -> Option<Zeroizing<String>> {
        let now = ledger.key_scope(layer);
        let former = match layer {
            LayerId::Stage(id) => ledger.stage(id).formerly.as_slice(),
            LayerId::Group(_) => &[],
        };
        let former = former.iter().rev().map(|former| KeyScope::Stage(former.name.clone()));
        std::iter::once(now.clone()).chain(former).find_map(|bound| {
            match self.look_into((&now, &bound), text, address) {
                Unsealed::Text(text) => Some(text),
                Unsealed::NotAtHand | Unsealed::Damaged(_) => None,
            }
        })
    }

    /// The same, and what is wrong where it cannot be opened. The key is that of the first stage, and the text was bound
    /// to the second: that is how it was called then. A key that is kept elsewhere does as well.
    pub fn look_into(&self, (scope, bound): (&KeyScope, &KeyScope), text: &str, address: &str) -> Unsealed {
        let sealed = match data_key::Sealed::parse(text) {
            Ok(sealed) => sealed,
            Err(error) => return Unsealed::Damaged(error.to_string()),
        };
        let file = match self.key(scope) {
            Ok(file) if file.key.id() == sealed.key_id() => Some(file),
            _ => self.kept(scope, &sealed.key_id()).or_else(|| self.kept(bound, &sealed.key_id())),
        };
        let Some(file) = file else { return Unsealed::NotAtHand };
        match file.key.open(bound, address, &sealed) {
            Ok(text) => Unsealed::Text(text),
            Err(error) => Unsealed::Damaged(error.to_string()),
        }
    }

    /// Takes note of key files that are kept elsewhere, wrapped, by the ids of their data keys: for reading alone.
    pub fn take_note(&self, kept: impl IntoIterator<Item = (String, String)>) {
        let mut known = self.kept.write().unwrap_or_else(PoisonError::into_inner);
        for (id, text) in kept {
            known.entry(id).or_insert(Kept::Wrapped(text));
        }
    }

    /// The key file with this data key that is kept elsewhere, unwrapped when it is first asked for.
    fn kept(&self, scope: &KeyScope, id: &str) -> Option<Arc<KeyFile>> {
        let mut known = self.kept.write().unwrap_or_else(PoisonError::into_inner);
        let kept = known.get_mut(id)?;
        if let Kept::Wrapped(text) = kept {
            match KeyFile::unwrap(text, scope, &self.identity) {
                Ok(file) if file.key.id() == id => *kept = Kept::Opened(Arc::new(file)),
                // It may be of the same stage under another name.
                Err(KeyError::Broken { .. }) => return None,
                _ => *kept = Kept::NotAtHand,
            }
        }
        match kept {
            Kept::Opened(file) => Some(file.clone()),
            Kept::Wrapped(_) | Kept::NotAtHand => None,
        }
    }

    /// The key of a stage as its file is, for keeping it elsewhere.
    pub fn wrapped(&self, scope: &KeyScope) -> Result<WrappedKey, KeyError> {
        let file = self.key(scope)?;
        let text = self.tree.text(&key_path(scope)).ok().flatten();
        let text = text.ok_or_else(|| KeyError::None(scope.clone()))?;
        let stage = scope.name().to_string();
        Ok(WrappedKey { id: file.key.id(), stage, generation: file.generation, text })
    }

    /// Says of a cipher text of another key whose that is, if it is still known.
    fn other_key(&self, scope: &KeyScope, sealed: &data_key::Sealed) -> String {
        let owner = self.readers().ok().and_then(|readers| readers.with_key(&sealed.key_id()));
        match owner {
            Some(owner) if owner != *scope => {
                format!("it was encrypted for `{}`, and copied to `{}`", owner.name(), scope.name())
            }
            _ => format!("it was encrypted with another key than the one in `{}`", key_path(scope)),
        }
    }

    /// Encrypts a secret for a field of a stage or group.
    pub fn seal(&self, scope: &KeyScope, address: &str, secret: &str) -> Result<String, KeyError> {
        Ok(self.for_writing(scope)?.key.seal(scope, address, secret)?)
    }

    /// The keys that were asked for and are not at hand, with the reasons.
    pub fn not_at_hand(&self) -> Vec<(KeyScope, String)> {
        let files = self.files.read().unwrap_or_else(PoisonError::into_inner);
        files
            .iter()
            .filter_map(|(scope, file)| match file {
                Err(KeyError::NotAtHand { reason, .. }) => Some((scope.clone(), reason.clone())),
                _ => None,
            })
            .collect()
    }
}
