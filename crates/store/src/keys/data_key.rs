//! Data keys, and the cipher texts that they make and open.
//!
//! `copper-1.` and in base64url (RFC 4648 section 5, without padding):
//!
//! ```text
//! key id (8) │ address tag (16) │ nonce (24) │ XChaCha20-Poly1305 of the secret's UTF-8 text, with its tag (16)
//! ```
//!
//! The prefix, key id and address tag are the associated data, so that none of them can be changed
//! without notice. All keys are derived from the data key with BLAKE3's key derivation.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use chacha20poly1305::aead::{AeadInPlace as _, KeyInit as _};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use cledger_core::cipher::{CIPHER_PREFIX, KeyScope};
use zeroize::{Zeroize as _, Zeroizing};

const ID: usize = 8;
const TAG: usize = 16;
const NONCE: usize = 24;
const HEADER: usize = ID + TAG;
const SHORTEST: usize = HEADER + NONCE + 16;

/// The alphabet of fingerprints: digits and letters that are not mistaken for each other.
pub(super) const LETTERS: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";

/// Why a cipher text gives no secret. None of these says anything of the secret.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(super) enum CipherError {
    /// It is not of version 1.
    #[error("its version is unknown: this cledger reads `{CIPHER_PREFIX}…`")]
    Version,
    /// It is cut short or changed.
    #[error("the cipher text is damaged")]
    Damaged,
    /// It was made with another key.
    #[error("it was encrypted with another key")]
    OtherKey,
    /// It was made for another field.
    #[error("it was encrypted for another field, and copied here")]
    OtherField,
}

/// A cipher text, taken apart.
pub(super) struct Sealed(Vec<u8>);

impl Sealed {
    pub(super) fn parse(text: &str) -> Result<Self, CipherError> {
        let rest = text.strip_prefix(CIPHER_PREFIX).ok_or(CipherError::Version)?;
        let bytes = URL_SAFE_NO_PAD.decode(rest).map_err(|_| CipherError::Damaged)?;
        if bytes.len() < SHORTEST {
            return Err(CipherError::Damaged);
        }
        Ok(Self(bytes))
    }

    /// The id of the key that it was made with, in hexadecimal digits.
    pub(super) fn key_id(&self) -> String {
        hex(&self.0[..ID])
    }
}

/// A stage's or group's data key, and the keys derived from it.
pub struct DataKey {
    key: Zeroizing<[u8; 32]>,
    encryption: Zeroizing<[u8; 32]>,
    address: Zeroizing<[u8; 32]>,
    fingerprint: Zeroizing<[u8; 32]>,
    link: Zeroizing<[u8; 32]>,
    id: [u8; ID],
}

impl DataKey {
    /// A new key, from the system's random source.
    pub fn generate() -> Result<Self, getrandom::Error> {
        let mut key = Zeroizing::new([0; 32]);
        getrandom::fill(&mut *key)?;
        Ok(Self::new(key))
    }

    fn new(key: Zeroizing<[u8; 32]>) -> Self {
        let derived =
            |purpose: &str| Zeroizing::new(blake3::derive_key(&format!("copper-ledger 1 {purpose}"), &*key));
        let mut id = [0; ID];
        id.copy_from_slice(&derived("key id")[..ID]);
        let (encryption, address) = (derived("encryption"), derived("address"));
        let (fingerprint, link) = (derived("fingerprint"), derived("link"));
        Self { key, encryption, address, fingerprint, link, id }
    }

    pub(super) fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let mut key = Zeroizing::new([0; 32]);
        (bytes.len() == key.len()).then(|| key.copy_from_slice(bytes))?;
        Some(Self::new(key))
    }

    pub(super) fn bytes(&self) -> &[u8; 32] {
        &self.key
    }

    /// Says which key it is, without giving it away: 16 hexadecimal digits.
    pub fn id(&self) -> String {
        hex(&self.id)
    }

    /// What explains changes of the key file to those who have seen it with this key. It opens nothing.
    pub(super) fn link(&self) -> &[u8; 32] {
        &self.link
    }

    fn cipher(&self) -> XChaCha20Poly1305 {
        XChaCha20Poly1305::new(Key::from_slice(&*self.encryption))
    }

    /// What binds a cipher text to its place.
    fn tag(&self, scope: &KeyScope, address: &str) -> [u8; TAG] {
        let place = format!("{scope}\n{address}");
        let hash = blake3::keyed_hash(&self.address, place.as_bytes());
        let mut tag = [0; TAG];
        tag.copy_from_slice(&hash.as_bytes()[..TAG]);
        tag
    }

    /// Encrypts a secret for the field of this address among the settings of this stage or group.
    pub fn seal(&self, scope: &KeyScope, address: &str, secret: &str) -> Result<String, getrandom::Error> {
        let mut nonce = [0; NONCE];
        getrandom::fill(&mut nonce)?;
        let mut bytes = Vec::with_capacity(SHORTEST + secret.len());
        bytes.extend(self.id);
        bytes.extend(self.tag(scope, address));
        let data = associated(&bytes);
        bytes.extend(nonce);
        let start = bytes.len();
        bytes.extend(secret.as_bytes());
        let nonce = XNonce::from(nonce);
        let sealed = self.cipher().encrypt_in_place_detached(&nonce, &data, &mut bytes[start..]);
        let Ok(mac) = sealed else {
            // Only texts beyond 256 GiB cannot be encrypted, and no memory holds them.
            bytes.zeroize();
            return Err(getrandom::Error::UNSUPPORTED);
        };
        bytes.extend(mac);
        Ok(format!("{CIPHER_PREFIX}{}", URL_SAFE_NO_PAD.encode(bytes)))
    }

    /// Opens what was encrypted for this place.
    pub(super) fn open(
        &self,
        scope: &KeyScope,
        address: &str,
        sealed: &Sealed,
    ) -> Result<Zeroizing<String>, CipherError> {
        let (header, rest) = sealed.0.split_at(HEADER);
        if header[..ID] != self.id {
            return Err(CipherError::OtherKey);
        }
        let (nonce, rest) = rest.split_at(NONCE);
        let (text, mac) = rest.split_at(rest.len() - 16);
        let mut text = Zeroizing::new(text.to_vec());
        self.cipher()
            .decrypt_in_place_detached(XNonce::from_slice(nonce), &associated(header), &mut text, mac.into())
            .map_err(|_| CipherError::Damaged)?;
        // The header is proven now: if it names another place, the text was copied from there.
        if header[ID..] != self.tag(scope, address) {
            return Err(CipherError::OtherField);
        }
        let text = std::str::from_utf8(&text).map_err(|_| CipherError::Damaged)?;
        Ok(Zeroizing::new(text.to_owned()))
    }

    /// A short sign by which readers of this key can tell that they see the same secret: of use to
    /// nobody without the key.
    pub fn fingerprint(&self, secret: &str) -> String {
        let hash = blake3::keyed_hash(&self.fingerprint, secret.as_bytes());
        let letters = hash.as_bytes().iter().take(8).map(|byte| char::from(LETTERS[usize::from(byte & 31)]));
        let mut print: String = letters.collect();
        print.insert(4, '-');
        print
    }
}

fn associated(header: &[u8]) -> Vec<u8> {
    [CIPHER_PREFIX.as_bytes(), header].concat()
}

/// Bytes in hexadecimal digits.
pub(crate) fn hex(bytes: &[u8]) -> String {
    let digit = |four: u8| char::from_digit(u32::from(four), 16).unwrap_or('0');
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use cledger_core::name::Name;

    fn scope(name: &str) -> KeyScope {
        KeyScope::Stage(Name::parse(name).unwrap())
    }

    fn opened(key: &DataKey, at: &KeyScope, address: &str, text: &str) -> Result<String, CipherError> {
        let sealed = Sealed::parse(text)?;
        key.open(at, address, &sealed).map(|text| text.as_str().to_owned())
    }

    #[test]
    fn secrets_of_every_kind_come_back() {
        let (key, at) = (DataKey::generate().unwrap(), scope("test"));
        let long = "€".repeat(1 << 20);
        for secret in ["", "plover", "a\nb\r\n", "\0", "${x} $${y}", "copper-1.AAAA", &long] {
            let text = key.seal(&at, "shared/db.password", secret).unwrap();
            assert_eq!(opened(&key, &at, "shared/db.password", &text).as_deref(), Ok(secret));
            assert_ne!(key.seal(&at, "shared/db.password", secret).unwrap(), text, "each time anew");
        }
    }

    #[test]
    fn no_changed_bit_and_no_cut_gives_a_secret() {
        let (key, at, address) = (DataKey::generate().unwrap(), scope("test"), "desk/gate.token");
        let text = key.seal(&at, address, "plover").unwrap();
        for byte in 0..text.len() {
            for bit in 0..8 {
                let mut changed = text.clone().into_bytes();
                changed[byte] ^= 1 << bit;
                let Ok(changed) = String::from_utf8(changed) else { continue };
                let error = opened(&key, &at, address, &changed).unwrap_err();
                let expected = match byte {
                    0..9 => matches!(error, CipherError::Version),
                    _ => matches!(error, CipherError::Damaged | CipherError::OtherKey),
                };
                assert!(expected, "{byte}.{bit}: {error}");
            }
            assert!(opened(&key, &at, address, &text[..byte]).is_err());
        }
        assert_eq!(opened(&key, &at, address, &format!("{text}A")), Err(CipherError::Damaged));
    }

    #[test]
    fn a_copy_is_told_from_a_damaged_text() {
        let (key, at, address) = (DataKey::generate().unwrap(), scope("test"), "desk/gate.token");
        let text = key.seal(&at, address, "plover").unwrap();
        assert_eq!(opened(&key, &at, "desk/other.token", &text), Err(CipherError::OtherField));
        let group = KeyScope::Group(at.name().clone());
        assert_eq!(opened(&key, &group, address, &text), Err(CipherError::OtherField));
        let other = DataKey::generate().unwrap();
        assert_eq!(opened(&other, &at, address, &text), Err(CipherError::OtherKey));
        assert_eq!(opened(&key, &at, address, "copper-2.AAAA"), Err(CipherError::Version));
    }

    #[test]
    fn fingerprints_say_same_and_need_the_key() {
        let (key, other) = (DataKey::generate().unwrap(), DataKey::generate().unwrap());
        assert_eq!(key.fingerprint("plover"), key.fingerprint("plover"));
        assert_ne!(key.fingerprint("plover"), key.fingerprint("plovers"));
        assert_ne!(key.fingerprint("plover"), other.fingerprint("plover"));
        assert_eq!(key.fingerprint("plover").len(), 9);
    }
}
