//! Secrets that are made here, of the system's random source.

use zeroize::Zeroizing;

use crate::trouble::Trouble;

/// What generated secrets are made of, unless something else is said: no two look alike.
pub const ALPHABET: &str = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789";

/// How many bits a generated secret has at least.
const FEWEST_BITS: usize = 64;

/// The longest secret that is generated, in characters.
const LONGEST: usize = 4096;

/// A secret from the system's random source. Each character of the alphabet is as likely as any other.
pub fn generated(length: usize, alphabet: &str) -> Result<Zeroizing<String>, Trouble> {
    let mut letters: Vec<char> = alphabet.chars().collect();
    letters.sort_unstable();
    letters.dedup();
    if letters.len() < 2 || letters.iter().any(|letter| letter.is_control()) {
        let message = "an alphabet has at least two characters, and none that do not print";
        return Err(Trouble::usage(message));
    }
    if !(1..=LONGEST).contains(&length) {
        return Err(Trouble::usage(format!("a secret is made of 1 to {LONGEST} characters")));
    }
    // Each letter gives the whole bits of this logarithm, and mostly some more.
    if length * (letters.len().ilog2() as usize) < FEWEST_BITS {
        let message = format!("{length} of {} characters can be guessed", letters.len());
        let needed = FEWEST_BITS.div_ceil(letters.len().ilog2() as usize);
        return Err(Trouble::usage(message).help(format!("take more of them: --generate={needed}")));
    }
    let count = u32::try_from(letters.len()).unwrap_or(u32::MAX);
    // Numbers beyond the last whole round would favour the first letters.
    let limit = u32::MAX - u32::MAX % count;
    let mut made = Zeroizing::new(String::with_capacity(length * 4));
    while made.chars().count() < length {
        let number = getrandom::u32()
            .map_err(|error| Trouble::outside(format!("the system's random source fails: {error}")))?;
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
