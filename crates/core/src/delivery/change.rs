//! What changes between two deliveries, by field.

use std::collections::BTreeMap;

/// A value as a delivery has it.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Delivered<'c> {
    /// Its text, as JSON; `None` for a secret that is not readable here.
    pub text: Option<&'c str>,
    /// Whether it is a secret.
    pub secret: bool,
}

/// How a field differs between two deliveries. Values may be secrets, so they are not printed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum FieldChange<'c> {
    /// It comes in.
    New(Delivered<'c>),
    /// It gets another value.
    Changed(Delivered<'c>, Delivered<'c>),
    /// It goes.
    Gone(Delivered<'c>),
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
    before: &BTreeMap<String, Delivered<'c>>,
    after: &BTreeMap<String, Delivered<'c>>,
) -> BTreeMap<String, FieldChange<'c>> {
    let mut changes = BTreeMap::new();
    for (name, now) in after {
        let change = match before.get(name) {
            None => Some(FieldChange::New(*now)),
            Some(then) => match (then.text, now.text) {
                (Some(one), Some(other)) => (one != other).then_some(FieldChange::Changed(*then, *now)),
                _ => Some(FieldChange::NotKnown),
            },
        };
        changes.extend(change.map(|change| (name.clone(), change)));
    }
    let gone = before.iter().filter(|(name, _)| !after.contains_key(*name));
    changes.extend(gone.map(|(name, then)| (name.clone(), FieldChange::Gone(*then))));
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
    use super::*;

    #[test]
    fn deliveries_are_compared_by_field() {
        let open = |text| Delivered { text: Some(text), secret: false };
        let hidden = Delivered { text: None, secret: true };
        let side = |pairs: &[(&str, Delivered<'static>)]| {
            pairs.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect::<BTreeMap<_, _>>()
        };
        let before = side(&[("a", open("1")), ("b", open("2")), ("c", open("3")), ("s", hidden)]);
        let after = side(&[("a", open("1")), ("b", open("9")), ("d", open("4")), ("s", hidden)]);
        let changes = field_changes(&before, &after);
        let words: Vec<(&str, &str)> =
            changes.iter().map(|(name, change)| (name.as_str(), change.word())).collect();
        assert_eq!(words, [("b", "changes"), ("c", "goes"), ("d", "new"), ("s", "not known")]);
        assert_eq!(drafted(&changes), "New: d. Changed: b. Gone: c.");
    }
}
