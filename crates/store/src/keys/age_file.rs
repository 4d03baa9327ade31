//! Text that is encrypted for readers or under a passphrase, as an age file in letters
//! (<https://age-encryption.org/v1>).

use std::io::{BufReader, Read as _, Write as _};

use age::secrecy::SecretString;
use age::{DecryptError, Decryptor, Encryptor};
use zeroize::Zeroizing;

use super::identity::{Identity, Opener};
use super::recipient::Recipient;

/// Why a text stays encrypted.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotDecrypted {
    /// Its key is somebody else's, or nobody has typed the passphrase.
    #[error("{0}")]
    NotAtHand(String),
    /// It is damaged, or no age file.
    #[error("{0}")]
    Broken(String),
}

/// Encrypts a text for these readers, or under a passphrase alone where there is one. Each of the readers must have a
/// public key.
pub fn encrypted(
    content: &str,
    readers: &[&Recipient],
    passphrase: Option<SecretString>,
) -> Result<String, String> {
    let encryptor = if let Some(passphrase) = passphrase {
        Encryptor::with_user_passphrase(passphrase)
    } else {
        let recipients: Vec<_> = readers.iter().filter_map(|reader| reader.to_age()).collect();
        if recipients.len() < readers.len() || recipients.is_empty() {
            return Err("not all of its readers have a public key".to_owned());
        }
        let all = recipients.iter().map(|one| &**one as &dyn age::Recipient);
        Encryptor::with_recipients(all).map_err(|error| error.to_string())?
    };
    let io = |error: std::io::Error| error.to_string();
    let mut bytes = Vec::new();
    let armor = age::armor::ArmoredWriter::wrap_output(&mut bytes, age::armor::Format::AsciiArmor);
    let mut writer = encryptor.wrap_output(armor.map_err(io)?).map_err(io)?;
    writer.write_all(content.as_bytes()).map_err(io)?;
    writer.finish().and_then(age::armor::ArmoredWriter::finish).map_err(io)?;
    String::from_utf8(bytes).map_err(|error| error.to_string())
}

/// Decrypts a text with somebody's identity, or with the passphrase that is asked for as that of `what`.
pub fn decrypted(text: &str, what: &str, identity: &Identity) -> Result<Zeroizing<String>, NotDecrypted> {
    let away = |reason: &str| NotDecrypted::NotAtHand(reason.to_owned());
    let damaged = || NotDecrypted::Broken("it is damaged, or no age file".to_owned());
    let armored = age::armor::ArmoredReader::new(text.as_bytes());
    let decryptor = Decryptor::new_buffered(BufReader::new(armored)).map_err(|_| damaged())?;
    let by_passphrase = decryptor.is_scrypt();
    let wrong = |error: DecryptError| match error {
        DecryptError::NoMatchingKeys => away("you are not one of its readers"),
        DecryptError::KeyDecryptionFailed => away("the passphrase is wrong"),
        DecryptError::DecryptionFailed if by_passphrase => away("the passphrase is wrong"),
        DecryptError::ExcessiveWork { .. } => {
            NotDecrypted::Broken("its passphrase takes too much work to try".to_owned())
        }
        _ => damaged(),
    };
    let mut content = Zeroizing::new(String::with_capacity(text.len()));
    let reader = if by_passphrase {
        let passphrase = identity.passphrase(what);
        let passphrase =
            passphrase.ok_or_else(|| away("it is protected by a passphrase, and nobody typed it"))?;
        decryptor.decrypt(std::iter::once(&age::scrypt::Identity::new(passphrase) as _))
    } else {
        let openers = identity.openers().map_err(|error| away(&error.to_string()))?;
        decryptor.decrypt(openers.iter().map(|opener: &Opener| &**opener as &dyn age::Identity))
    };
    reader.map_err(wrong)?.read_to_string(&mut content).map_err(|_| damaged())?;
    Ok(content)
}
