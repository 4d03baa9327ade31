//! Comparing what stands under names: in files, or in a file and what a unit would get.

use std::collections::BTreeMap;

use super::Difference;
use crate::adopt::loose;
use crate::output::OutputName;
use crate::render::as_written;
use crate::value::Held;

/// A value under a name.
#[derive(Debug, Clone)]
pub struct Named {
    /// The steps of the name.
    pub name: OutputName,
    /// The value; `None` for one that cannot be read here, which counts as a secret.
    pub value: Option<Held>,
    /// Whether it stands where there is text alone, so that `8080` may be a number.
    pub is_bare: bool,
}

impl Named {
    /// Whether it is a secret, or may be.
    pub fn is_secret(&self) -> bool {
        self.value.as_ref().is_none_or(Held::is_secret)
    }
}

/// One name on two sides.
#[derive(Debug, Clone)]
pub struct NamedCompared {
    /// The first side.
    pub left: Option<Named>,
    /// The second.
    pub right: Option<Named>,
    /// How they stand to each other.
    pub difference: Difference,
}

impl NamedCompared {
    /// Whether a side of it is a secret.
    pub fn is_secret(&self) -> bool {
        self.left.iter().chain(&self.right).any(Named::is_secret)
    }

    /// The name, that of the first side if it has one.
    pub fn name(&self) -> String {
        self.left.as_ref().or(self.right.as_ref()).map(|side| side.name.join(".")).unwrap_or_default()
    }
}

/// Compares two sides by their names; where they are spelled in different ways (`alike`), by the words
/// that the names are made of.
pub fn named(left: Vec<Named>, right: Vec<Named>, alike: bool) -> Vec<NamedCompared> {
    let key = |side: &Named| {
        let words = if alike { loose(&side.name) } else { String::new() };
        if words.is_empty() { side.name.join("\u{0}") } else { words }
    };
    let mut others: BTreeMap<String, Vec<Named>> = BTreeMap::new();
    for side in right {
        others.entry(key(&side)).or_default().push(side);
    }
    let mut compared: Vec<NamedCompared> = Vec::new();
    for side in left {
        let found = others.get_mut(&key(&side)).filter(|found| !found.is_empty());
        // Of several that are spelled alike, the same name first.
        let other = found.map(|found| {
            let same = found.iter().position(|other| other.name == side.name).unwrap_or(0);
            found.remove(same)
        });
        let difference = match &other {
            None => Difference::OnlyLeft,
            Some(other) => difference(&side, other),
        };
        compared.push(NamedCompared { left: Some(side), right: other, difference });
    }
    let rest = others.into_values().flatten();
    compared.extend(rest.map(|side| NamedCompared {
        left: None,
        right: Some(side),
        difference: Difference::OnlyRight,
    }));
    compared.sort_by_key(NamedCompared::name);
    compared
}

fn difference(left: &Named, right: &Named) -> Difference {
    let (Some(one), Some(other)) = (&left.value, &right.value) else { return Difference::Unknown };
    let (one, other) = (one.expose(), other.expose());
    let same = if left.is_bare || right.is_bare {
        one.to_text() == other.to_text()
    } else {
        as_written(one) == as_written(other)
    };
    if same { Difference::Same } else { Difference::Differs }
}
