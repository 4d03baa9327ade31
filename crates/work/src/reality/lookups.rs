//! Values that the other side assigns: found where settings say, and compared with what they say.

use std::collections::BTreeMap;
use std::time::Duration;

use cledger_core::address::Pattern;
use cledger_core::cipher::secret_of;
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::impact::Written;
use cledger_core::model::{
    Declaration, ExactSpot, LayerId, Ledger, LookUp, LookUpSource, OutletKind, Setting, SettingValue, StageId,
};
use cledger_core::reference::escape;
use cledger_core::resolve::{Opened, Outside as _, Resolver};
use cledger_core::search::{self, Conditions};
use cledger_core::trust::of_look_up;
use cledger_core::value::{Held, Value};
use cledger_outlets::effect::Masking;
use cledger_outlets::held::{Asked, DocumentOf, Held as There};
use cledger_outlets::reach::{HttpLogin, HttpReach, Reach};
use cledger_outlets::read_back::{ReadBack, Source};
use cledger_store::{Surroundings, Target};
use jiff::civil::Date;
use zeroize::Zeroizing;

use crate::asking::Telling;
use crate::known::require;
use crate::meant::Place as Field;
use crate::reality::around::Around;
use crate::reality::look::read_all;
use crate::reality::masking::secrets_of;
use crate::reality::places::{self, Place};
use crate::reality::standing::{State, UnitDrift};
use crate::trouble::Trouble;

/// How long an address may take that no outlet gives a time for.
const LIMIT: Duration = Duration::from_secs(10);

/// What the outlet of a look-up counts as in reports.
pub const LOOKED_UP: (&str, &str) = ("looked up", "look-up");

/// A setting whose value is looked up.
#[derive(Debug)]
pub struct Lookup<'l> {
    /// The field, and where it is set.
    pub field: Field,
    /// The layer that it is set in.
    pub layer: LayerId,
    /// Where its value is found.
    pub look_up: &'l LookUp,
    /// What the setting says; `None` if nothing yet, an error if that cannot be told here.
    pub said: Result<Option<Held>, String>,
    /// What is there.
    pub found: Result<Held, String>,
}

impl Lookup<'_> {
    /// Whether the setting says what is there; the reason why nobody can tell otherwise.
    pub fn is_same(&self) -> Result<bool, &str> {
        let found = self.found.as_ref().map_err(String::as_str)?;
        let said = self.said.as_ref().map_err(String::as_str)?;
        // What the other side says is never a reference.
        let found = Zeroizing::new(escape(&found.expose().to_text()));
        Ok(said.as_ref().is_some_and(|said| said.expose().to_text() == found.as_str()))
    }
}

/// Where one setting's value is to be found.
enum Way {
    /// In the document at an address: that of this source.
    Document { source: usize, url: String, spot: ExactSpot },
    /// In what the outlet at this place has of a unit.
    Unit { place: usize, owner: String, spot: ExactSpot },
    /// Nowhere, for this reason.
    None(String),
}

/// Looks up the values of all settings that say where, as far as these patterns cover them.
pub(crate) fn look_up<'l>(
    patterns: &[Pattern],
    ledger: &'l Ledger,
    outside: &Surroundings<'_>,
    around: &Around<'l>,
    telling: &dyn Telling,
) -> Result<Vec<Lookup<'l>>, Trouble> {
    let conditions = Conditions { looked_up: true, ..Conditions::default() };
    let mut asked = Vec::new();
    let mut ways = Ways { ledger, around, sources: Vec::new(), by_url: BTreeMap::new(), outlets: Vec::new() };
    for found in search::settings(ledger, outside, &conditions) {
        let (Written::In(layer), Some(setting)) = (found.written, found.setting) else { continue };
        let address = found.address(ledger);
        if !patterns.is_empty() && !patterns.iter().any(|pattern| pattern.covers(&address)) {
            continue;
        }
        let Some(look_up) = setting.note.as_ref().and_then(|note| note.looked_up.as_ref()) else { continue };
        let field = Field { address, subject: found.subject, slot: found.slot, target: Target::Layer(layer) };
        let way = ways.of(&field, layer, look_up)?;
        asked.push((field, layer, setting, look_up, way));
    }
    let mut sources = ways.sources;
    let urls = sources.len();
    sources.extend(ways.outlets.iter().map(|(_, place)| place.source.clone()));
    let backs = read_all(&sources, telling, "look-ups");
    let resolver = Resolver::new(ledger, outside, &[]);
    let lookups = asked.into_iter().map(|(field, layer, setting, look_up, way)| {
        let declaration = ledger.field(field.subject, field.slot).1;
        let said = said(setting, ledger, outside, declaration);
        let lookup = |found: Result<Value, String>| {
            // What the other side assigns is a secret where the contract says so, or where one of the unit is in it.
            let held = |value: Value| {
                let mut stages = stages_of(ledger, layer, look_up);
                let secret =
                    declaration.secret || stages.any(|stage| is_secret(&resolver, &field, stage, &value));
                Held::new(value, secret)
            };
            let found = found.map(held);
            Lookup { field, layer, look_up, said, found }
        };
        let (source, key, spot) = match way {
            Way::None(reason) => return lookup(Err(reason)),
            Way::Document { source, url, spot } => (source, url, spot),
            Way::Unit { place, owner, spot } => (urls + place, owner, spot),
        };
        let late = || Err(format!("no answer within {} s", sources[source].limit.as_secs_f32()));
        lookup(value(&backs[source], &key, &spot, source < urls).unwrap_or_else(late))
    });
    Ok(lookups.collect())
}

/// The stages whose secrets may be in what is found: the setting's own, and the one whose outlet is asked.
fn stages_of(ledger: &Ledger, layer: LayerId, look_up: &LookUp) -> impl Iterator<Item = StageId> {
    let own = if let LayerId::Stage(stage) = layer { Some(stage) } else { None };
    let asked = match &look_up.source {
        LookUpSource::Outlet { stage: Some(stage), .. } => ledger.stage_id(stage.as_str()),
        LookUpSource::Outlet { stage: None, .. } | LookUpSource::Address { .. } => None,
    };
    own.into_iter().chain(asked)
}

/// Whether a secret of the unit in a stage is in a value that was found.
fn is_secret(resolver: &Resolver<'_>, field: &Field, stage: StageId, value: &Value) -> bool {
    let secrets = secrets_of(resolver, field.subject, stage);
    Masking::of(secrets.iter().map(|secret| secret.as_str())).finds(&value.to_secret_text())
}

/// The ways to all values that are looked up, each source once.
struct Ways<'a, 'l> {
    ledger: &'l Ledger,
    around: &'a Around<'l>,
    sources: Vec<Source>,
    by_url: BTreeMap<String, usize>,
    outlets: Vec<((usize, StageId), Place<'l>)>,
}

impl Ways<'_, '_> {
    fn of(&mut self, field: &Field, layer: LayerId, look_up: &LookUp) -> Result<Way, Trouble> {
        let stage = match layer {
            LayerId::Stage(stage) => Some(stage),
            LayerId::Group(_) => None,
        };
        match &look_up.source {
            LookUpSource::Address { url, spot } => {
                let spot = match stage {
                    Some(stage) => spot.expand(self.ledger, field.subject, stage),
                    None => Ok(spot.as_it_is()),
                };
                let url = match stage {
                    Some(stage) => url.expand(self.ledger, field.subject, stage),
                    None if url.varies() || look_up.varies() => {
                        return Ok(Way::None("it refers to a stage, and stands in a group".to_owned()));
                    }
                    None => Ok(url.as_written().into()),
                };
                Ok(match (url, spot) {
                    (Ok(url), Ok(spot)) => {
                        require(&self.around.granted, [&of_look_up(&url)])?;
                        Way::Document { source: self.at(&url), url: url.into_owned(), spot }
                    }
                    (Err(missing), _) | (_, Err(missing)) => Way::None(missing.to_string()),
                })
            }
            LookUpSource::Outlet { name, stage: of, spot } => {
                let stage = match of {
                    None => stage,
                    Some(of) => match self.ledger.stage_id(of.as_str()) {
                        Some(stage) => Some(stage),
                        None => return Ok(Way::None(format!("there is no stage `{of}`"))),
                    },
                };
                let outlets = self.ledger.outlets.iter();
                let Some(at) = outlets.clone().position(|outlet| outlet.name == *name) else {
                    return Ok(Way::None(format!("there is no outlet `{name}`")));
                };
                let outlet = &self.ledger.outlets[at];
                let owner = self.ledger.owner(field.subject);
                let Some(stage) = stage.filter(|&stage| outlet.takes(stage, owner.names())) else {
                    let of = of.as_ref().map(|of| format!(" in `{of}`")).unwrap_or_default();
                    return Ok(Way::None(format!("outlet `{name}` has nothing of `{}`{of}", field.address)));
                };
                let Some(output) = outlet.kind.output() else {
                    let kind = outlet.kind.name();
                    return Ok(Way::None(format!(
                        "outlet `{name}` is of kind {kind}, which assigns nothing"
                    )));
                };
                let own = output.name_in(self.ledger, field.subject, stage, field.slot);
                let has_rows = matches!(outlet.kind, OutletKind::Rows(_));
                let expanded = spot.as_ref().map(|spot| spot.expand(self.ledger, field.subject, stage));
                let spot = match (expanded.transpose(), own) {
                    (Ok(Some(ExactSpot::Query(_))), _) if has_rows => {
                        return Ok(Way::None(format!("outlet `{name}` has rows, and no document to query")));
                    }
                    (Ok(Some(ExactSpot::Steps(steps))), _) if has_rows => {
                        ExactSpot::Steps(vec![steps.join("/")])
                    }
                    (Ok(Some(spot)), _) => spot,
                    (Ok(None), Ok(own)) => ExactSpot::Steps(own),
                    (Err(missing), _) | (_, Err(missing)) => return Ok(Way::None(missing.to_string())),
                };
                let known = self.outlets.iter().position(|(key, _)| *key == (at, stage));
                let place = known.unwrap_or(self.outlets.len());
                if known.is_none() {
                    let made = places::place(outlet, stage, (Vec::new(), false), self.ledger, self.around)?;
                    self.outlets.push(((at, stage), made));
                }
                self.outlets[place].1.ask(self.ledger, &self.ledger.owner(field.subject), Vec::new())?;
                Ok(Way::Unit { place, owner: owner.to_string(), spot })
            }
        }
    }

    /// The source of an address.
    fn at(&mut self, url: &str) -> usize {
        if let Some(&known) = self.by_url.get(url) {
            return known;
        }
        let reach = HttpReach {
            certificate: None,
            over_tls: url.starts_with("https://"),
            login: HttpLogin::None,
            proxy: None,
            retries: 1,
            trust: self.around.trust.clone(),
        };
        let asked = [(url.to_owned(), Asked::Document(DocumentOf::at_address(url)))].into();
        let (reach, own) = (Reach::Http(reach), BTreeMap::new());
        self.sources.push(Source { reach, own, asked, listing: None, limit: LIMIT });
        self.by_url.insert(url.to_owned(), self.sources.len() - 1);
        self.sources.len() - 1
    }
}

/// The value that a source has; `None` if it did not answer in time.
fn value(back: &ReadBack, key: &str, spot: &ExactSpot, is_document: bool) -> Option<Result<Value, String>> {
    Some(match (back.units.get(key), &back.trouble) {
        (None, Some(trouble)) => Err(trouble.clone()),
        (None, None) => return None,
        (Some(There::NotKnown(reason)), _) => Err(reason.clone()),
        (Some(There::Document(text, _)), _) => spot.find(text),
        (Some(There::Rows(rows)), _) => {
            let row = match spot {
                ExactSpot::Steps(steps) => steps.first().and_then(|name| rows.get(name)),
                ExactSpot::Query(_) => None,
            };
            row.map(|text| Value::text(text)).ok_or_else(|| format!("it has no `{spot}`"))
        }
        (Some(_), _) if is_document => Err("there is no such document".to_owned()),
        (Some(_), _) => Err("the unit is not there".to_owned()),
    })
}

/// What a setting says, as text.
fn said(
    setting: &Setting,
    ledger: &Ledger,
    outside: &Surroundings<'_>,
    declaration: &Declaration,
) -> Result<Option<Held>, String> {
    match &setting.value {
        SettingValue::Value(held) => Ok(Some(held.clone())),
        SettingValue::Absent => Ok(None),
        SettingValue::From(_) => Err("the setting comes from outside itself".to_owned()),
        SettingValue::Cipher(cipher) => match outside.open(&ledger.key_scope(cipher.layer), cipher) {
            Opened::Text(found) => {
                let secret = secret_of(&found, declaration.this_type);
                let held = secret.map(|secret| Some(Held::new(secret.expose().escaped(), true)));
                held.ok_or_else(|| "the secret is not of its type".to_owned())
            }
            Opened::NoKey => Err("the secret is not readable here".to_owned()),
            Opened::Broken(reason) => Err(reason),
        },
    }
}

/// How what was looked up stands, one place at a time.
pub(crate) fn standing(lookups: &[Lookup<'_>], ledger: &Ledger, today: Date) -> Vec<UnitDrift> {
    let one = |lookup: &Lookup<'_>| {
        let place = lookup.look_up.as_written().to_owned();
        let state = match lookup.is_same() {
            Err(reason) => State::NotKnown(format!("{place}: {reason}")),
            Ok(true) => State::There(vec![(place, FileDrift::AsLedger)]),
            Ok(false) => {
                let said = lookup.said.as_ref().ok().and_then(Option::as_ref);
                let found = lookup.found.as_ref().ok();
                let mut drift = FileDrift::Drifted(vec![Drifted {
                    name: lookup.field.address.to_string(),
                    steps: Vec::new(),
                    address: Some(lookup.field.address.to_string()),
                    what: if said.is_some() { NameDrift::Differs } else { NameDrift::ExtraThere },
                    secret: said.into_iter().chain(found).any(Held::is_secret),
                    expected: said.cloned(),
                    waived: false,
                    since: None,
                    there: found.cloned(),
                }]);
                drift.waive(ledger, today);
                State::There(vec![(place, drift)])
            }
        };
        UnitDrift {
            owner: ledger.owner(lookup.field.subject).to_string(),
            stage: ledger.layer_name(lookup.layer).to_string(),
            outlet: Some((LOOKED_UP.0.to_owned(), LOOKED_UP.1)),
            state,
            last: None,
        }
    };
    let mut units: Vec<UnitDrift> = lookups.iter().map(one).collect();
    units.sort_by(|a, b| a.stage.cmp(&b.stage));
    units
}
