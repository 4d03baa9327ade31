//! Signatures of folios: of the list of what is inside, as OpenSSH makes and checks them (PROTOCOL.sshsig).

use std::fmt;
use std::path::Path;

use cledger_store::{ExposeSecret as _, SecretString};
use ssh_key::{Algorithm, EcdsaCurve, HashAlg, LineEnding, PrivateKey, PublicKey, SshSig};
use zeroize::Zeroizing;

use crate::existing::text_up_to;
use crate::trouble::Trouble;

/// What a signature is for, so that none of something else counts.
const NAMESPACE: &str = "copper-ledger-folio";

/// The largest file of a key, in bytes.
const LARGEST_KEY: usize = 64 << 10;

/// Whoever signs, with the private key.
pub struct Signer(PrivateKey);

impl Signer {
    /// Reads a private key as OpenSSH keeps it; `passphrase` is asked for where it is under one.
    pub fn read(path: &Path, passphrase: &dyn Fn() -> Option<SecretString>) -> Result<Self, Trouble> {
        let wrong = |reason: String| {
            Trouble::usage(format!("`{}` cannot sign: {reason}", path.display()))
                .help("name a private key as `ssh-keygen` makes it: ed25519, or ECDSA on P-256")
        };
        let text = Zeroizing::new(text_up_to(path, LARGEST_KEY).map_err(|error| wrong(error.to_string()))?);
        if PublicKey::from_openssh(text.trim()).is_ok() {
            return Err(wrong("it is a public key".to_owned()));
        }
        let key = PrivateKey::from_openssh(text.as_bytes())
            .map_err(|error| wrong(format!("it is no private key of OpenSSH ({error})")))?;
        let curve = EcdsaCurve::NistP256;
        if !matches!(key.algorithm(), Algorithm::Ed25519) && key.algorithm() != (Algorithm::Ecdsa { curve }) {
            return Err(wrong(format!("it is a key of the kind {}", key.algorithm())));
        }
        if !key.is_encrypted() {
            return Ok(Self(key));
        }
        let passphrase = passphrase().ok_or_else(|| {
            wrong("it is under a passphrase, and nobody is there to type it".to_owned())
                .help("give it in CLEDGER_PASSPHRASE")
        })?;
        let opened = key.decrypt(passphrase.expose_secret());
        opened.map(Self).map_err(|_| wrong("its passphrase is another one".to_owned()))
    }

    /// Who that is.
    pub(super) fn who(&self) -> SignedBy {
        SignedBy(PublicKey::from(self.0.public_key().key_data().clone()))
    }

    /// The signature of a text, as a text.
    pub(super) fn sign(&self, text: &str) -> Result<String, String> {
        let signature = self.0.sign(NAMESPACE, HashAlg::Sha512, text.as_bytes());
        let text = signature.and_then(|signature| signature.to_pem(LineEnding::LF));
        text.map_err(|error| format!("it cannot be signed: {error}"))
    }
}

/// Whose signature a folio has: a public key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedBy(PublicKey);

impl SignedBy {
    /// Reads a public key as OpenSSH writes it: `ssh-ed25519 AAAA…`, with or without a comment.
    pub fn parse(text: &str) -> Result<Self, Trouble> {
        let key = PublicKey::from_openssh(text.trim()).map_err(|error| {
            Trouble::usage(format!("`{text}` is no public key: {error}"))
                .help("give the line of a `.pub` file: ssh-ed25519 AAAA…")
        })?;
        Ok(Self(PublicKey::from(key.key_data().clone())))
    }

    /// Whose signature of a text this is; says so where it is none of that text.
    pub(super) fn of(text: &str, signature: &str) -> Result<Self, String> {
        let wrong = |error: ssh_key::Error| format!("its signature is none of what is inside: {error}");
        let signature = SshSig::from_pem(signature).map_err(wrong)?;
        let key = PublicKey::from(signature.public_key().clone());
        key.verify(NAMESPACE, text.as_bytes(), &signature).map_err(wrong)?;
        Ok(Self(key))
    }

    /// The key as OpenSSH writes it.
    pub fn key(&self) -> String {
        // A key that was read or made can be written.
        self.0.to_openssh().unwrap_or_default()
    }
}

/// The kind of the key, and its fingerprint as OpenSSH shows it.
impl fmt::Display for SignedBy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.0.algorithm(), self.0.fingerprint(HashAlg::Sha256))
    }
}
