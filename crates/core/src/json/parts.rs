//! Parts of a JSON text, by the steps that lead to them (RFC 6901).

use super::Json;

/// Why a part cannot be put where it is to be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`/{0}` leads through something that has no names")]
pub struct NoWay(String);

/// The steps of a JSON Pointer, such as `/berths/quay-4`.
pub fn steps(pointer: &str) -> Option<Vec<String>> {
    let steps = pointer.strip_prefix('/')?.split('/');
    Some(steps.map(|step| step.replace("~1", "/").replace("~0", "~")).collect())
}

impl Json {
    /// What is below these steps, also within lists, where a step is a position from 0.
    pub fn part(self, steps: &[String]) -> Option<Json> {
        steps.iter().try_fold(self, |value, step| match value {
            Json::Object(pairs) => pairs.into_iter().find(|(name, _)| name == step).map(|(_, value)| value),
            Json::List(mut items) => {
                let at: usize = step.parse().ok()?;
                (at < items.len()).then(|| items.swap_remove(at))
            }
            _ => None,
        })
    }

    /// The text with a part below these steps, in place of the one there; objects on the way are made where there are
    /// none, or where null stands. All else stays as it is.
    pub fn with_part(self, steps: &[String], part: Json) -> Result<Json, NoWay> {
        let Some((step, rest)) = steps.split_first() else { return Ok(part) };
        let no_way = || NoWay(steps.join("/"));
        match self {
            Json::Object(mut pairs) => {
                match pairs.iter_mut().find(|(name, _)| name == step) {
                    Some((_, value)) => {
                        let before = std::mem::replace(value, Json::Null);
                        *value = before.with_part(rest, part)?;
                    }
                    None => pairs.push((step.into(), Json::Null.with_part(rest, part)?)),
                }
                Ok(Json::Object(pairs))
            }
            Json::List(mut items) => {
                let at: usize = step.parse().map_err(|_| no_way())?;
                let item = items.get_mut(at).ok_or_else(no_way)?;
                let before = std::mem::replace(item, Json::Null);
                *item = before.with_part(rest, part)?;
                Ok(Json::List(items))
            }
            Json::Null => Ok(Json::Object(vec![(step.into(), Json::Null.with_part(rest, part)?)])),
            Json::Boolean(_) | Json::Number(_) | Json::Text(_) => Err(no_way()),
        }
    }

    /// The text without the part below these steps; objects on the way stay.
    #[must_use]
    pub fn without_part(self, steps: &[String]) -> Json {
        let Some((step, rest)) = steps.split_first() else { return Json::Null };
        match self {
            Json::Object(mut pairs) => {
                if rest.is_empty() {
                    pairs.retain(|(name, _)| name != step);
                } else if let Some((_, value)) = pairs.iter_mut().find(|(name, _)| name == step) {
                    *value = std::mem::replace(value, Json::Null).without_part(rest);
                }
                Json::Object(pairs)
            }
            Json::List(mut items) => {
                // The others keep their positions.
                if let Some(item) = step.parse().ok().and_then(|at: usize| items.get_mut(at)) {
                    *item = std::mem::replace(item, Json::Null).without_part(rest);
                }
                Json::List(items)
            }
            other => other,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::collection::{btree_map, vec};
    use proptest::prelude::*;

    use super::*;

    /// Any text with few names and positions, so that steps often lead somewhere.
    fn any() -> impl Strategy<Value = Json> {
        let leaf = prop_oneof![
            Just("null"),
            Just("true"),
            Just("1.50"),
            Just("12345678901234567890"),
            Just("\"quay\"")
        ];
        let leaf = leaf.prop_map(|text| Json::parse(text).unwrap());
        leaf.prop_recursive(4, 32, 4, |inner| {
            prop_oneof![
                vec(inner.clone(), 0..3).prop_map(Json::List),
                btree_map("[a-c01]", inner, 0..4).prop_map(|pairs| Json::Object(
                    pairs.into_iter().map(|(name, it)| (name.into(), it)).collect()
                )),
            ]
        })
    }

    /// The steps to each leaf, with what is there; empty lists and objects are leaves.
    fn leaves(json: &Json, steps: &[String], into: &mut Vec<(Vec<String>, String)>) {
        let further = |step: String| [steps, &[step]].concat();
        match json {
            Json::Object(pairs) if !pairs.is_empty() => {
                for (name, it) in pairs {
                    leaves(it, &further(name.to_string()), into);
                }
            }
            Json::List(items) if !items.is_empty() => {
                for (at, it) in items.iter().enumerate() {
                    leaves(it, &further(at.to_string()), into);
                }
            }
            other => into.push((steps.to_vec(), other.to_string())),
        }
    }

    /// The leaves that no step on the way to a part leads through.
    fn apart(json: &Json, part: &[String]) -> Vec<(Vec<String>, String)> {
        let mut all = Vec::new();
        leaves(json, &[], &mut all);
        all.retain(|(steps, _)| !steps.starts_with(part) && !part.starts_with(steps));
        all
    }

    proptest! {
        #[test]
        fn what_is_put_is_there_and_nothing_else_changes(
            json in any(), part in any(), steps in vec("[a-c01]", 1..4),
        ) {
            let before = apart(&json, &steps);
            if let Ok(with) = json.clone().with_part(&steps, part.clone()) {
                prop_assert_eq!(&apart(&with, &steps), &before);
                prop_assert!(with.clone().part(&steps) == Some(part));
                let again = Json::parse(&with.to_string()).unwrap();
                prop_assert_eq!(again.to_string(), with.to_string());
            }
        }

        #[test]
        fn what_goes_is_not_there_and_nothing_else_changes(json in any(), steps in vec("[a-c01]", 1..4)) {
            let (before, without) = (apart(&json, &steps), json.clone().without_part(&steps));
            prop_assert_eq!(&apart(&without, &steps), &before);
            // An item of a list stays: the others would get its position.
            let (last, around) = steps.split_last().unwrap();
            let is_item = matches!(json.clone().part(around), Some(Json::List(_)));
            prop_assert!(is_item || without.part(&steps).is_none(), "{last}");
        }
    }

    fn of(pointer: &str) -> Vec<String> {
        steps(pointer).unwrap()
    }

    #[test]
    fn a_part_comes_goes_and_leaves_all_else_as_it_is() {
        let text = r#"{"b":12345678901234567890.50,"units":{"a":{"x":1}},"l":[{"y":null}],"n":null}"#;
        let document = || Json::parse(text).unwrap();
        let five = || Json::parse("5").unwrap();
        for (pointer, expected) in [
            ("/units/quay", text.replace(r#"{"x":1}}"#, r#"{"x":1},"quay":5}"#)),
            ("/units/a", text.replace(r#"{"x":1}"#, "5")),
            ("/l/0/y", text.replace(r#""y":null"#, r#""y":5"#)),
            ("/n/m/k", text.replace(r#""n":null"#, r#""n":{"m":{"k":5}}"#)),
        ] {
            let changed = document().with_part(&of(pointer), five()).unwrap();
            assert_eq!(changed.to_string(), expected, "{pointer}");
            assert!(changed.clone().part(&of(pointer)) == Some(five()));
        }
        assert_eq!(document().without_part(&of("/units/a")).to_string(), text.replace(r#""a":{"x":1}"#, ""));
        assert!(document().without_part(&of("/units/none")) == document());
        assert!(document().part(&of("/l/1")).is_none());
        for pointer in ["/b/x", "/l/7/x", "/l/-/x"] {
            assert!(document().with_part(&of(pointer), five()).is_err(), "{pointer}");
        }
        assert_eq!(of("/a~1b/~0"), ["a/b", "~"]);
        assert_eq!(steps("a/b"), None);
    }
}
