//! Secrets on their way in: whose identity opens keys, and what people type, pipe or have made.

use std::env;
use std::io::{self, IsTerminal as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::Args;
use cledger_store::{
    AskPassphrase, Identity, LARGEST_SECRET, SecretString, text_named, without_final_newline,
};
use zeroize::Zeroizing;

use crate::error::CliError;
use crate::options::standard_input;

/// The environment variable that names an identity file in place of the usual one.
const IDENTITY_VARIABLE: &str = "CLEDGER_IDENTITY";

/// The environment variable that gives a passphrase where nobody is there to type it.
const PASSPHRASE_VARIABLE: &str = "CLEDGER_PASSPHRASE";

/// The environment variables that say who somebody is, the stronger first.
const WHO: [&str; 3] = ["CLEDGER_WHO", "USER", "LOGNAME"];

/// What generated secrets are made of, unless something else is said: no two look alike.
const ALPHABET: &str = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789";

/// How many bits a generated secret has at least.
const FEWEST_BITS: usize = 64;

/// The longest secret that is generated, in characters.
const LONGEST: usize = 4096;

/// Whoever runs the program, as far as keys are concerned. Nothing is read yet.
pub(crate) fn identity() -> Arc<Identity> {
    let named = env::var_os(IDENTITY_VARIABLE).filter(|path| !path.is_empty()).map(PathBuf::from);
    let ask: AskPassphrase = Arc::new(passphrase);
    Arc::new(match named {
        Some(path) => Identity::named(path, ask),
        None => Identity::at(Identity::usual_path(), ask),
    })
}

/// Who runs the program, by the environment.
pub(crate) fn who() -> Option<String> {
    WHO.iter().find_map(|name| env::var(name).ok().filter(|value| !value.is_empty()))
}

/// A passphrase from the environment, else from the terminal.
pub(crate) fn passphrase(prompt: &str) -> Option<SecretString> {
    if let Ok(given) = env::var(PASSPHRASE_VARIABLE) {
        return Some(SecretString::from(given));
    }
    let typed = is_terminal().then(|| rpassword::prompt_password(format!("{prompt}: ")).ok()).flatten();
    typed.map(SecretString::from)
}

/// A passphrase for a new key: from the environment, else typed twice.
pub(crate) fn new_passphrase() -> Result<SecretString, CliError> {
    let given = match env::var(PASSPHRASE_VARIABLE) {
        Ok(given) => SecretString::from(given),
        Err(_) => SecretString::from(typed_twice("the passphrase")?.as_str()),
    };
    Ok(given)
}

fn is_terminal() -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal()
}

/// Asks for a secret, hidden, and once more.
pub(crate) fn typed_twice(what: &str) -> Result<Zeroizing<String>, CliError> {
    if !is_terminal() {
        let message = format!("nobody is there to type {what}");
        return Err(CliError::usage(message).help("give it with --stdin, --file PATH or --generate"));
    }
    let ask = |prompt: String| {
        let typed = rpassword::prompt_password(prompt).map(Zeroizing::new);
        typed.map_err(|error| CliError::outside(format!("the terminal cannot be read: {error}")))
    };
    let first = ask(format!("{what} (hidden): "))?;
    if *first == *ask("Once more: ".to_owned())? {
        Ok(first)
    } else {
        Err(CliError::usage("the two differ, so nothing is set").help("try again"))
    }
}

/// Where a secret comes from, if not from a hidden prompt.
#[derive(Debug, Args)]
pub(crate) struct SecretOptions {
    /// Read the value from standard input; for secrets
    #[arg(long, conflicts_with_all = ["file", "generate"])]
    pub(crate) stdin: bool,
    /// Read the value from a file, without its final newline; for secrets
    #[arg(long, value_name = "PATH", conflicts_with = "generate")]
    pub(crate) file: Option<PathBuf>,
    /// Make a secret of so many random characters
    #[arg(long, value_name = "LENGTH", num_args = 0..=1, require_equals = true, default_missing_value = "32")]
    pub(crate) generate: Option<usize>,
    /// The characters that --generate takes
    #[arg(long, value_name = "CHARACTERS", requires = "generate", default_value = ALPHABET, hide_default_value = true)]
    pub(crate) alphabet: String,
}

impl SecretOptions {
    /// Whether one of them is given.
    pub(crate) fn is_given(&self) -> bool {
        self.stdin || self.file.is_some() || self.generate.is_some()
    }

    /// The text that they give; `None` if none of them is given.
    pub(crate) fn read(&self) -> Result<Option<Zeroizing<String>>, CliError> {
        if self.stdin {
            return standard_input().map(Some);
        }
        if let Some(path) = &self.file {
            return from_file(path).map(Some);
        }
        self.generate.map(|length| generated(length, &self.alphabet)).transpose()
    }
}

fn from_file(path: &Path) -> Result<Zeroizing<String>, CliError> {
    let text = text_named(path, LARGEST_SECRET).map(Zeroizing::new);
    let text = text.map_err(|error| CliError::usage(format!("`{}`: {error}", path.display())))?;
    Ok(without_final_newline(text))
}

/// A secret from the system's random source. Each character of the alphabet is as likely as any other.
fn generated(length: usize, alphabet: &str) -> Result<Zeroizing<String>, CliError> {
    let mut letters: Vec<char> = alphabet.chars().collect();
    letters.sort_unstable();
    letters.dedup();
    if letters.len() < 2 || letters.iter().any(|letter| letter.is_control()) {
        let message = "an alphabet has at least two characters, and none that do not print";
        return Err(CliError::usage(message));
    }
    if !(1..=LONGEST).contains(&length) {
        return Err(CliError::usage(format!("a secret is made of 1 to {LONGEST} characters")));
    }
    // Each letter gives the whole bits of this logarithm, and mostly some more.
    if length * (letters.len().ilog2() as usize) < FEWEST_BITS {
        let message = format!("{length} of {} characters can be guessed", letters.len());
        let needed = FEWEST_BITS.div_ceil(letters.len().ilog2() as usize);
        return Err(CliError::usage(message).help(format!("take more of them: --generate={needed}")));
    }
    let count = u32::try_from(letters.len()).unwrap_or(u32::MAX);
    // Numbers beyond the last whole round would favour the first letters.
    let limit = u32::MAX - u32::MAX % count;
    let mut made = Zeroizing::new(String::with_capacity(length * 4));
    while made.chars().count() < length {
        let number = getrandom::u32()
            .map_err(|error| CliError::outside(format!("the system's random source fails: {error}")))?;
        if number < limit {
            made.push(letters[(number % count) as usize]);
        }
    }
    Ok(made)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn generated_secrets_have_their_length_and_letters() {
        let made = generated(40, ALPHABET).unwrap();
        assert!(made.chars().count() == 40 && made.chars().all(|letter| ALPHABET.contains(letter)));
        assert_ne!(*made, *generated(40, ALPHABET).unwrap());
        let few = generated(64, "aab").unwrap();
        assert!(few.contains('a') && few.contains('b'));
        for (length, alphabet) in
            [(0, ALPHABET), (8, ALPHABET), (63, "ab"), (99, "a"), (99, "a\n"), (9999, "ab")]
        {
            assert!(generated(length, alphabet).is_err(), "{length} of {alphabet:?}");
        }
    }
}
