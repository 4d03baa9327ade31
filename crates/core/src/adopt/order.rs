//! The order in which things stand in several files, each of which has some of them.

use std::collections::BTreeMap;

use super::OldPlace;

/// The order of things that stand at these places: that of the first file, and what only later ones have behind what
/// stands before it there.
pub(super) fn merged(places: &[Vec<OldPlace>]) -> Vec<usize> {
    let mut by_file: BTreeMap<usize, Vec<(usize, usize)>> = BTreeMap::new();
    for (at, places) in places.iter().enumerate() {
        for place in places {
            by_file.entry(place.file).or_default().push((place.line, at));
        }
    }
    let mut chain = Chain::of(places.len());
    for things in by_file.values_mut() {
        things.sort_unstable();
        let first_known = things.iter().map(|(_, at)| *at).find(|at| chain.has(*at));
        let mut before = first_known.map_or(chain.last, |known| chain.before[known]);
        for (_, at) in things {
            if !chain.has(*at) {
                chain.insert(*at, before);
            }
            before = Some(*at);
        }
    }
    // What stands nowhere comes last.
    for at in 0..places.len() {
        if !chain.has(at) {
            chain.insert(at, chain.last);
        }
    }
    chain.in_order()
}

/// Things one behind the other.
struct Chain {
    first: Option<usize>,
    last: Option<usize>,
    before: Vec<Option<usize>>,
    behind: Vec<Option<usize>>,
    has: Vec<bool>,
}

impl Chain {
    fn of(count: usize) -> Self {
        let (before, behind) = (vec![None; count], vec![None; count]);
        Self { first: None, last: None, before, behind, has: vec![false; count] }
    }

    fn has(&self, at: usize) -> bool {
        self.has[at]
    }

    /// Puts one behind another one, or first.
    fn insert(&mut self, at: usize, before: Option<usize>) {
        let behind = before.map_or(self.first, |before| self.behind[before]);
        (self.before[at], self.behind[at], self.has[at]) = (before, behind, true);
        match before {
            Some(before) => self.behind[before] = Some(at),
            None => self.first = Some(at),
        }
        match behind {
            Some(behind) => self.before[behind] = Some(at),
            None => self.last = Some(at),
        }
    }

    fn in_order(&self) -> Vec<usize> {
        std::iter::successors(self.first, |at| self.behind[*at]).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_later_file_has_more_stands_where_it_stands_there() {
        for (files, expected) in [
            (&["abc", "axbc"][..], "axbc"),
            (&["bc", "abcd"], "abcd"),
            (&["ab", "xy"], "abxy"),
            (&["abc", "cxa"], "abcx"),
            (&["", "ba"], "ba"),
        ] {
            let mut letters: Vec<char> = files.concat().chars().collect();
            letters.sort_unstable();
            letters.dedup();
            let places_of = |letter: &char| {
                let place = |(file, text): (usize, &&str)| Some(OldPlace { file, line: text.find(*letter)? });
                files.iter().enumerate().filter_map(place).collect::<Vec<_>>()
            };
            let places: Vec<Vec<OldPlace>> = letters.iter().map(places_of).collect();
            let order: String = merged(&places).into_iter().map(|at| letters[at]).collect();
            assert_eq!(order, expected, "{files:?}");
        }
    }
}
