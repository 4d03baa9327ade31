//! What a folio says of what is inside, as `folio.json`.

use serde::{Deserialize, Serialize};

/// The version of the form.
const FORMAT: u32 = 1;

/// What is inside.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Manifest {
    format: u32,
    /// The name of the ledger that it was made of.
    pub ledger: String,
    /// The units, by name.
    pub units: Vec<UnitInside>,
    /// The shared entries that these use, by name.
    pub shared: Vec<String>,
    /// The rules that are about them, by name.
    pub rules: Vec<String>,
    /// The bundles that were asked for, by name.
    pub bundles: Vec<BundleInside>,
    /// Templates and rows of lookup tables, by path.
    pub files: Vec<String>,
    /// The stage that it was made for the sake of.
    pub from: Option<StageInside>,
    /// Whether values of that stage are inside.
    pub values: bool,
    /// Who can open the secrets among these: names of readers, or `passphrase`; nobody where there are none.
    pub secrets_for: Vec<String>,
    /// The members of the container beside this one, by path.
    pub members: Vec<Member>,
}

/// A unit in a folio.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UnitInside {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// What it is for.
    pub about: Option<String>,
}

/// A bundle in a folio.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BundleInside {
    /// Its name.
    pub name: String,
    /// Its units in the folio.
    pub units: Vec<String>,
    /// Its version.
    pub version: Option<String>,
}

/// The stage that a folio was made for the sake of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StageInside {
    /// Its name.
    pub stage: String,
    /// Its class.
    pub class: String,
    /// The fields that it sets itself, in its groups or by following, as addresses without a stage. Not what it sets
    /// them to.
    pub sets: Vec<String>,
    /// What was delivered there last.
    pub tested: Vec<Tested>,
}

/// A delivery that the units were tested with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tested {
    /// The unit or instance.
    pub unit: String,
    /// The number of the delivery.
    pub number: u64,
    /// The version that it said.
    pub version: Option<String>,
    /// The hash of its contract.
    pub contract: String,
    /// The fingerprint of the delivery: the hash of its record.
    pub fingerprint: String,
}

/// A member of the container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Member {
    /// Its path.
    pub path: String,
    /// How many bytes it has.
    pub bytes: u64,
    /// The hash of these (BLAKE3, hexadecimal); null for what is encrypted, and different each time,
    /// unless the folio is signed.
    pub hash: Option<String>,
}

/// The version alone.
#[derive(Deserialize)]
struct Version {
    format: u32,
}

impl Manifest {
    /// One with nothing inside yet.
    pub(super) fn new(ledger: &str) -> Self {
        Self {
            format: FORMAT,
            ledger: ledger.to_owned(),
            units: Vec::new(),
            shared: Vec::new(),
            rules: Vec::new(),
            bundles: Vec::new(),
            files: Vec::new(),
            from: None,
            values: false,
            secrets_for: Vec::new(),
            members: Vec::new(),
        }
    }

    /// Reads one; says what is wrong with it.
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let form = |error: serde_json::Error| format!("what `folio.json` says is not of its form: {error}");
        // What a later version has more is not taken for a mistake.
        let Version { format } = serde_json::from_str(text).map_err(form)?;
        if format != FORMAT {
            return Err(format!(
                "it is of version {format}, and this program knows {FORMAT}: take a newer cledger"
            ));
        }
        serde_json::from_str(text).map_err(form)
    }

    pub(super) fn to_text(&self) -> String {
        // It is made of texts, numbers and lists, which always serialise.
        let mut text = serde_json::to_string_pretty(self).unwrap_or_default();
        text.push('\n');
        text
    }
}
