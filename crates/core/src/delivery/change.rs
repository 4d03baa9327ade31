//! What changes between two deliveries, by field.

use std::collections::BTreeMap;

use crate::kept::Kept;

/// How a field differs between two deliveries. Values may be secrets, so they are not printed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum FieldChange<'c> {
    /// It comes in.
    New(&'c Kept),
    /// It gets another value.
    Changed(&'c Kept, &'c Kept),
    /// It goes.
    Gone(&'c Kept),
    /// One side is a secret that is not readable here.
    NotKnown,
}

impl FieldChange<'_> {
    /// The word for it.
    pub fn word(&self) -> &'static str {
        match self {
            FieldChange::New(_) => "new",
            FieldChange::Changed(..) => "changes",
            FieldChange::Gone(_) => "goes",
            FieldChange::NotKnown => "not known",
        }
    }
}

/// What differs between the values of two deliveries, by field.
pub fn field_changes<'c>(
    before: &'c BTreeMap<String, Kept>,
    after: &'c BTreeMap<String, Kept>,
) -> BTreeMap<String, FieldChange<'c>> {
    let mut changes = BTreeMap::new();
    for (name, now) in after {
        let change = match before.get(name) {
            None => Some(FieldChange::New(now)),
            Some(then) => match (then.expose(), now.expose()) {
                (Some(one), Some(other)) => (one != other).then_some(FieldChange::Changed(then, now)),
                _ => Some(FieldChange::NotKnown),
            },
        };
        changes.extend(change.map(|change| (name.clone(), change)));
    }
    let gone = before.iter().filter(|(name, _)| !after.contains_key(*name));
    changes.extend(gone.map(|(name, then)| (name.clone(), FieldChange::Gone(then))));
    changes
}

/// A reason made of what changes: fields by name, without values.
pub fn drafted(changes: &BTreeMap<String, FieldChange<'_>>) -> String {
    let names = |wanted: &str| {
        let of_kind = changes.iter().filter(|(_, change)| change.word() == wanted);
        of_kind.map(|(name, _)| name.as_str()).collect::<Vec<_>>().join(", ")
    };
    let parts = [("new", "New"), ("changes", "Changed"), ("goes", "Gone")];
    let parts = parts.map(|(word, title)| (title, names(word)));
    let said = parts.iter().filter(|(_, names)| !names.is_empty());
    said.map(|(title, names)| format!("{title}: {names}.")).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use zeroize::Zeroizing;

    use super::*;

    #[test]
    fn deliveries_are_compared_by_field() {
        let open = |text: &str| Kept::new(Zeroizing::new(text.to_owned()), false);
        let hidden = Kept::unreadable();
        let side = |pairs: &[(&str, Kept)]| -> BTreeMap<String, Kept> {
            pairs.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect()
        };
        let before = side(&[("a", open("1")), ("b", open("2")), ("c", open("3")), ("s", hidden.clone())]);
        let after = side(&[("a", open("1")), ("b", open("9")), ("d", open("4")), ("s", hidden)]);
        let changes = field_changes(&before, &after);
        let words: Vec<(&str, &str)> =
            changes.iter().map(|(name, change)| (name.as_str(), change.word())).collect();
        assert_eq!(words, [("b", "changes"), ("c", "goes"), ("d", "new"), ("s", "not known")]);
        assert_eq!(drafted(&changes), "New: d. Changed: b. Gone: c.");
    }
}
