//! Where the other side keeps a value that it assigns.

use std::fmt;

use percent_encoding::percent_decode_str;
use serde_json_path::{JsonPath, NormalizedPath, PathElement};

use super::{Ledger, NoLabel, StageId, StageText, StageTextError, Subject};
use crate::json::{self, Json};
use crate::name::Name;
use crate::value::Value;

/// Where a setting's value can be looked up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LookUp {
    text: String,
    /// What it names.
    pub source: LookUpSource,
}

/// What a look-up names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LookUpSource {
    /// A place in the JSON document at an address.
    Address {
        /// The address, without its fragment.
        url: StageText,
        /// Where in it.
        spot: Spot,
    },
    /// A value of the same unit in an outlet.
    Outlet {
        /// The outlet.
        name: Name,
        /// The stage whose outlet it is; the setting's own if not given.
        stage: Option<Name>,
        /// Where in what it has of the unit; under the field's own name there if not given.
        spot: Option<Spot>,
    },
}

/// A place in a JSON document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Spot {
    /// Below these steps: a JSON Pointer (RFC 6901).
    Steps(Vec<String>),
    /// Where a query leads to exactly one value (RFC 9535).
    Query(StageText),
}

/// The same for a unit in a stage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ExactSpot {
    /// Below these steps.
    Steps(Vec<String>),
    /// Where this query leads to exactly one value.
    Query(String),
}

/// Why a text says nowhere to look.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LookUpError {
    /// It is neither an address nor the name of an outlet.
    #[error("`looked_up` names neither an address nor an outlet")]
    Nothing,
    /// An address without a place in its document.
    #[error("`looked_up` does not say where in the document: `#/` and the names to go by are missing")]
    NoPointer,
    /// What stands behind `#` begins with neither `/` nor `$`.
    #[error("what stands behind `#` begins with `/`, as JSON Pointers do, or with `$`, as queries do")]
    NotPointer,
    /// It is no query.
    #[error("it is no JSONPath query: {0}")]
    NoQuery(String),
    /// A reference that cannot stand there.
    #[error(transparent)]
    Text(#[from] StageTextError),
}

impl LookUp {
    /// Reads `https://HOST/PATH#/JSON/POINTER`, `OUTLET` or `OUTLET#/JSON/POINTER` (RFC 6901, section 6), where `@STAGE` may
    /// follow the outlet; in place of the pointer a query can stand (RFC 9535): `#$.berths[?@.name=='quay-4'].ref`.
    pub fn parse(text: &str) -> Result<Self, LookUpError> {
        let (place, spot) = match text.split_once('#') {
            Some((place, spot)) => (place, Some(Spot::parse(spot)?)),
            None => (text, None),
        };
        let source = if place.starts_with("http://") || place.starts_with("https://") {
            let spot = spot.ok_or(LookUpError::NoPointer)?;
            LookUpSource::Address { url: StageText::parse(place)?, spot }
        } else {
            let (outlet, stage) =
                place.split_once('@').map_or((place, None), |(outlet, stage)| (outlet, Some(stage)));
            let name = |text: &str| Name::parse(text).map_err(|_| LookUpError::Nothing);
            LookUpSource::Outlet { name: name(outlet)?, stage: stage.map(name).transpose()?, spot }
        };
        Ok(Self { text: text.to_owned(), source })
    }

    /// The text as it is written.
    pub fn as_written(&self) -> &str {
        &self.text
    }

    /// Whether its place in a document depends on the stage or the unit.
    pub fn varies(&self) -> bool {
        match &self.source {
            LookUpSource::Address { spot, .. } => spot.varies(),
            LookUpSource::Outlet { spot, .. } => spot.as_ref().is_some_and(Spot::varies),
        }
    }
}

/// The steps of a JSON Pointer in a fragment.
fn steps(pointer: &str) -> Option<Vec<String>> {
    json::steps(&percent_decode_str(pointer).decode_utf8().ok()?)
}

/// Reads a query. What it refers to can only stand in one of its texts.
pub fn query_of(text: &str) -> Result<StageText, LookUpError> {
    JsonPath::parse(text).map_err(|error| LookUpError::NoQuery(error.to_string()))?;
    Ok(StageText::parse(text)?)
}

/// The query of a fragment.
fn query(text: &str) -> Result<StageText, LookUpError> {
    let decoded = percent_decode_str(text).decode_utf8().map_err(|_| LookUpError::NotPointer)?;
    query_of(&decoded)
}

impl Spot {
    fn parse(text: &str) -> Result<Self, LookUpError> {
        if text.starts_with('$') {
            return query(text).map(Spot::Query);
        }
        steps(text).map(Spot::Steps).ok_or(LookUpError::NotPointer)
    }

    /// Whether it depends on the stage or the unit.
    pub fn varies(&self) -> bool {
        matches!(self, Spot::Query(text) if text.varies())
    }

    /// The place for a subject in a stage.
    pub fn expand(&self, ledger: &Ledger, subject: Subject, stage: StageId) -> Result<ExactSpot, NoLabel> {
        Ok(match self {
            Spot::Steps(steps) => ExactSpot::Steps(steps.clone()),
            Spot::Query(text) => ExactSpot::Query(text.expand(ledger, subject, stage)?.into_owned()),
        })
    }

    /// The place as it is written, of one that depends on nothing.
    pub fn as_it_is(&self) -> ExactSpot {
        match self {
            Spot::Steps(steps) => ExactSpot::Steps(steps.clone()),
            Spot::Query(text) => ExactSpot::Query(text.as_written().to_owned()),
        }
    }
}

impl ExactSpot {
    /// The value that is there in the text of a JSON document; the reason why it leads to none otherwise.
    pub fn find(&self, text: &str) -> Result<Value, String> {
        let document = Json::parse(text).map_err(|error| no_json(&error))?;
        let steps = match self {
            ExactSpot::Steps(steps) => steps.clone(),
            ExactSpot::Query(query) => {
                let found = located(query, text)?;
                match &found[..] {
                    [one] => one.clone(),
                    [] => return Err(format!("`{query}` leads to nothing")),
                    several => {
                        let count = several.len();
                        return Err(format!("`{query}` leads to {count} values, and must lead to one"));
                    }
                }
            }
        };
        document.part(&steps).map(Json::into_value).ok_or_else(|| format!("it has no `{self}`"))
    }
}

impl fmt::Display for ExactSpot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ExactSpot::Steps(steps) => f.write_str(&steps.join("/")),
            ExactSpot::Query(query) => f.write_str(query),
        }
    }
}

/// All values to which a query (RFC 9535) leads in the text of a JSON document, in its order.
pub fn found_by(query: &str, text: &str) -> Result<Vec<Value>, String> {
    let mut found = Vec::new();
    for steps in located(query, text)? {
        let document = Json::parse(text).map_err(|error| no_json(&error))?;
        found.extend(document.part(&steps).map(Json::into_value));
    }
    Ok(found)
}

/// The places to which a query leads in a text.
fn located(query: &str, text: &str) -> Result<Vec<Vec<String>>, String> {
    let path = JsonPath::parse(query).map_err(|error| format!("`{query}` is no query: {error}"))?;
    let document: serde_json::Value = serde_json::from_str(text).map_err(|error| no_json(&error))?;
    Ok(path.query_located(&document).locations().map(steps_of).collect())
}

fn no_json(error: &dyn fmt::Display) -> String {
    format!("no JSON: {error}")
}

/// The steps of a place that a query found.
fn steps_of(path: &NormalizedPath<'_>) -> Vec<String> {
    path.iter()
        .map(|element| match element {
            PathElement::Name(name) => (*name).to_owned(),
            PathElement::Index(at) => at.to_string(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_read_and_found() {
        let address = LookUp::parse("https://r.example/${stage.name}/desks#/by%20quay/1/a~1b").unwrap();
        let LookUpSource::Address { url, spot } = address.source else { panic!("an address") };
        assert_eq!(url.as_written(), "https://r.example/${stage.name}/desks");
        let document = r#"{"by quay": [true, {"a/b": 12345678901234567890}], "x": 1}"#;
        assert!(spot.as_it_is().find(document).unwrap().to_text() == "12345678901234567890");
        assert!(ExactSpot::Steps(vec!["by quay".to_owned(), "2".to_owned()]).find(document).is_err());
        assert!(LookUp::parse("boards").is_ok() && LookUp::parse("boards@test#/id").is_ok());
        for (text, error) in [
            ("http://r.example/x", LookUpError::NoPointer),
            ("http://r.example/x#id", LookUpError::NotPointer),
            ("ftp://r.example/x#/id", LookUpError::Nothing),
            ("", LookUpError::Nothing),
            ("boards@", LookUpError::Nothing),
            ("@test#/id", LookUpError::Nothing),
        ] {
            assert_eq!(LookUp::parse(text), Err(error), "{text}");
        }
        for bad in ["boards#$[", "boards#$.a[?@.b==${unit.name}]", "boards#$.a[?@.b=='${desk/hold}']"] {
            assert!(LookUp::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn a_query_leads_to_exactly_one_value() {
        let berths =
            r#"[{"name": "quay-4", "ref": "b-17"}, {"name": "quay-5", "ref": 18}, {"name": "quay-5"}]"#;
        let found =
            |query: &str| ExactSpot::Query(query.to_owned()).find(berths).map(|it| it.to_text().to_string());
        assert_eq!(found("$[?@.name=='quay-4'].ref"), Ok("b-17".to_owned()));
        assert_eq!(found("$[?@.name=='quay-5'].ref"), Ok("18".to_owned()));
        assert_eq!(found("$[1].ref"), Ok("18".to_owned()));
        assert!(found("$[?@.name=='quay-5'].name").unwrap_err().contains("leads to 2 values"));
        assert!(found("$[?@.name=='quay-9'].ref").unwrap_err().contains("leads to nothing"));
        assert!(ExactSpot::Query("$.a".to_owned()).find("<html>").unwrap_err().contains("no JSON"));
    }
}
