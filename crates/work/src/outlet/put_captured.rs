//! What was captured, brought back to the outlets: all of it or a part, with a reason, and recorded.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use cledger_core::address::Owner;
use cledger_core::cipher::secret_of;
use cledger_core::kept::Kept;
use cledger_core::model::{FieldPatterns, LayerId, OutletKind, RowsOutlet, StageId};
use cledger_core::name::Name;
use cledger_core::output::OutputName;
use cledger_core::render::RenderedOutput;
use cledger_core::tree::Tree;
use cledger_core::value::Held as HeldValue;
use cledger_outlets::held::Held as Seen;
use cledger_store::daybook::{Content, Daybook as _, Kind as RecordKind};
use zeroize::Zeroizing;

use crate::bringing::at::AtOutlet;
use crate::bringing::baseline::left_open;
use crate::bringing::before::{Before, key};
use crate::bringing::bring::{Bringer, Purpose, kept_before, left};
use crate::bringing::brought::Brought;
use crate::bringing::effects::Effects;
use crate::bringing::grounds::Grounds;
use crate::bringing::part::{Form, Part};
use crate::bringing::plan::{From, Planned};
use crate::bringing::putting::Putting;
use crate::bringing::rules::{Edits, Rules};
use crate::bringing::whom::Whom;
use crate::change::{CHANGES, Consent, countersigned};
use crate::daybook;
use crate::deliver::delivering::record;
use crate::deliver::finish::told;
use crate::deliver::guards;
use crate::deliver::only::patterns;
use crate::deliver::recorded::{Planner, meta};
use crate::opened::Opened;
use crate::outlet::put::refuse_locked;
use crate::reality::around::Around;
use crate::reality::captured::Captured;
use crate::reality::making::make_alone;
use crate::reality::masking::masking;
use crate::reality::places;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::{Kind, Trouble};
use crate::whole_units::WholeUnits;

/// How a capture is brought back.
#[derive(Debug, Clone, Default)]
pub struct ToPutBack {
    /// Only these fields, as ENTRY or ENTRY.FIELD; all if none is given.
    pub only: Vec<String>,
    /// All but these.
    pub except: Vec<String>,
    /// What becomes of what is there and not ours.
    pub edits: Edits,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What bringing one unit back comes to.
#[derive(Debug)]
pub struct PutBack {
    /// The unit or instance.
    pub owner: String,
    /// The stage.
    pub stage: String,
    /// What the outlets have, and what of that changes.
    pub outlets: Vec<AtOutlet>,
    /// Outlets that are left as they are, with the reason.
    pub passed_over: Vec<(String, String)>,
    /// What the outlets answered; nothing where it was only shown.
    pub brought: Vec<Brought>,
    /// The number under which it is recorded.
    pub number: Option<u64>,
    /// Why it was not done, or not to its end.
    pub trouble: Option<Trouble>,
}

/// What bringing a capture back comes to.
#[derive(Debug)]
pub struct AllPutBack {
    /// When it was taken, by whom, and why.
    pub taken: (String, Option<String>, Option<String>),
    /// One for each unit.
    pub units: Vec<PutBack>,
    /// Whether it was to be done, and not only shown.
    pub write: bool,
    /// Whether what is not ours may be overwritten.
    pub overwrites: bool,
}

impl AllPutBack {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        let of_unit = |unit: &PutBack| {
            if let Some(trouble) = &unit.trouble {
                return Some(trouble.kind());
            }
            if unit.outlets.iter().any(|it| it.reason().is_some())
                || !unit.brought.iter().all(Brought::is_well)
            {
                return Some(Kind::Outside);
            }
            let is_blocked = unit.outlets.iter().any(|outlet| outlet.blocking().next().is_some());
            (is_blocked && !self.write && !self.overwrites || !unit.passed_over.is_empty())
                .then_some(Kind::Found)
        };
        self.units.iter().filter_map(of_unit).max()
    }
}

/// Brings what was captured of units back to the outlets of the stage, or shows what that would be.
pub fn put_captured(
    opened: &Opened,
    what: &WholeUnits,
    path: &Path,
    asked: &ToPutBack,
) -> Result<AllPutBack, Trouble> {
    let ledger = &*opened.ledger;
    let captured = Captured::read(path, opened.keys())?;
    let stage = opened.stage(what.stage.as_ref().or(Some(&captured.file.stage)))?.stage;
    let name = &ledger.stage(stage).name;
    if captured.file.stage != *name || captured.file.ledger != ledger.name {
        let message = format!(
            "`{}` was captured of `{}` of the ledger `{}`, and not of `{name}` here",
            path.display(),
            captured.file.stage,
            captured.file.ledger
        );
        return Err(
            Trouble::refused(message).help("what is of another stage is moved by promote, or a folio")
        );
    }
    let owners = owners(opened, what, &captured, stage)?;
    if asked.write {
        refuse_locked(ledger.stage(stage), &asked.consent)?;
        countersigned(&opened.at, &[ledger.stage(stage)], &asked.consent.countersign, CHANGES)?;
        let why = asked.consent.why.as_deref();
        daybook::reason(
            why.ok_or_else(|| Trouble::usage("bringing it back has a reason").help("add --why TEXT"))?,
        )?;
    }
    let (resolver, around) = (opened.resolver(), Around::of(opened));
    let effects = Effects::new(opened, &around, &resolver);
    let putting_back = PuttingBack {
        opened,
        planner: Planner { resolver: &resolver, keys: opened.keys() },
        around: &around,
        effects: &effects,
        captured: &captured,
        asked,
        only: patterns(&asked.only)?,
        except: patterns(&asked.except)?,
    };
    let book = SharedBook::new(daybook::for_writing(opened, asked.write)?);
    let is_alone = owners.len() == 1;
    let mut units = Vec::new();
    for owner in owners {
        let (owner_name, stage_name) = (owner.to_string(), name.to_string());
        match putting_back.unit(&book, owner, stage) {
            Ok(unit) => units.push(unit),
            Err(trouble) if is_alone => return Err(trouble),
            Err(trouble) => units.push(PutBack {
                owner: owner_name,
                stage: stage_name,
                outlets: Vec::new(),
                passed_over: Vec::new(),
                brought: Vec::new(),
                number: None,
                trouble: Some(trouble),
            }),
        }
    }
    let taken = (captured.file.taken.clone(), captured.file.by.clone(), captured.file.why.clone());
    Ok(AllPutBack { taken, units, write: asked.write, overwrites: asked.edits.overwrite })
}

/// The units that are meant, each of which the capture must have something of.
fn owners(
    opened: &Opened,
    what: &WholeUnits,
    captured: &Captured<'_>,
    stage: StageId,
) -> Result<Vec<Owner>, Trouble> {
    let ledger = &opened.ledger;
    let inside: BTreeSet<&String> =
        captured.file.outlets.iter().flat_map(|outlet| outlet.units.keys()).collect();
    let is_inside = |owner: &Owner| inside.contains(&owner.to_string());
    let meant = opened.whole_units(what, stage)?.into_iter().map(|subject| ledger.owner(subject));
    let (found, lacking): (Vec<Owner>, Vec<Owner>) = meant.partition(is_inside);
    if !what.is_all()
        && let Some(owner) = lacking.first()
    {
        return Err(Trouble::usage(format!("the capture has nothing of `{owner}`")).help(format!(
            "it has {}",
            inside.iter().map(|name| name.as_str()).collect::<Vec<_>>().join(", ")
        )));
    }
    if found.is_empty() {
        return Err(Trouble::usage("the capture has nothing of units that belong to the stage"));
    }
    let strange: Vec<&str> = inside
        .iter()
        .filter(|name| !found.iter().any(|owner| owner.to_string() == ***name))
        .map(|name| name.as_str())
        .collect();
    if what.is_all() && !strange.is_empty() {
        opened.at.telling.notice(&format!(
            "Left as it is, since the ledger does not have it in that stage: {}.",
            strange.join(", ")
        ));
    }
    Ok(found)
}

struct PuttingBack<'a, 'l> {
    opened: &'l Opened,
    planner: Planner<'a, 'l>,
    around: &'l Around<'l>,
    effects: &'l Effects<'l>,
    captured: &'a Captured<'a>,
    asked: &'a ToPutBack,
    only: FieldPatterns,
    except: FieldPatterns,
}

impl<'l> PuttingBack<'_, 'l> {
    fn unit(&self, book: &SharedBook, owner: Owner, stage: StageId) -> Result<PutBack, Trouble> {
        let (opened, ledger) = (self.opened, &*self.opened.ledger);
        let (name, of_stage) = (owner.to_string(), ledger.stage(stage).name.to_string());
        let whom = Whom { subject: Some(opened.subject_in(&owner, stage)?), owner, stage };
        let mut held = Held::take(book, &name, &of_stage)?;
        let book = &mut held.book;
        if let Some(open) = left_open(book, &name, &of_stage)? {
            let to_do = format!("finish it first: cledger deliver {name}@{of_stage} --write");
            return Err(Trouble::refused(told(&open)).help(to_do));
        }
        let last = self.planner.last(book, &name, stage)?;
        let delivered = last.filter(|(record, _)| record.meta.kind.is_brought());
        let rules = Rules::of(&self.asked.edits, opened.at.today()?).without_waivers();
        let grounds = Grounds::read(&self.planner, book, &whom, rules)?;
        let (putting, passed_over) = self.putting(&whom, &grounds)?;
        let nothing = Content::default();
        let bringing = grounds.bringing(ledger, &whom, &nothing, From::Captured(&putting));
        let bringer = Bringer { opened, around: self.around, effects: self.effects };
        let mut ways = bringer.plan(&bringing)?;
        // What the capture does not know stays as it is.
        ways.retain(|way| !passed_over.iter().any(|(outlet, _)| *outlet == way.at.outlet));
        guards::reached(&whom, ledger, ways.iter().map(|way| &way.at))?;
        refuse_nameless(&ways, &putting, &grounds)?;
        let mut back = PutBack {
            owner: name.clone(),
            stage: of_stage.clone(),
            outlets: Vec::new(),
            passed_over,
            brought: Vec::new(),
            number: None,
            trouble: None,
        };
        if !self.asked.write || !ways.iter().any(Planned::has_work) {
            back.outlets = ways.into_iter().map(|way| way.at).collect();
            return Ok(back);
        }
        guards::edits(&whom, ledger, ways.iter().map(|way| &way.at), self.asked.edits.overwrite)?;
        let (scope, keys) = (ledger.key_scope(LayerId::Stage(stage)), opened.keys_anew());
        let mut content =
            self.content(&whom, &grounds, &ways, delivered.as_ref().map(|(_, content)| content))?;
        content.before = kept_before(&ways, keys.has_key(&scope));
        let why = self.asked.consent.why.clone().unwrap_or_default();
        let mut meta = meta(opened, &name, &of_stage, RecordKind::Put, &why);
        if let Some((record, _)) = &delivered {
            meta.chores.clone_from(&record.meta.chores);
        }
        meta.left = left(&ways);
        let packed = daybook::pack(book, (&keys, &scope), &content, &mut meta)?;
        opened.at.stepping.before("open")?;
        let token = book.open(&meta, &packed)?;
        let masking = masking(self.planner.resolver, whom.subject, stage, [Some(&content), None]);
        self.effects.anew();
        let brought = bringer.bring(ways, &bringing, (&masking, Purpose::Bring))?;
        let (brought, made) = record((opened, book), (meta, &packed), &token, brought, false)?;
        back.brought = brought;
        back.number = made.map(|record| record.meta.number);
        Ok(back)
    }

    /// What the capture has of each outlet of a unit, and the outlets of which it cannot tell that.
    fn putting(
        &self,
        whom: &Whom,
        grounds: &Grounds<'l>,
    ) -> Result<(Putting, Vec<(String, String)>), Trouble> {
        let ledger = &*self.opened.ledger;
        let name = whom.owner.to_string();
        let (mut putting, mut passed_over) = (Putting::default(), Vec::new());
        let is_part = !self.asked.only.is_empty() || !self.asked.except.is_empty();
        let mut meant: BTreeMap<String, Vec<OutputName>> = BTreeMap::new();
        let mut has_any = false;
        for place in places::of_owner(ledger, self.around, &whom.owner, whom.stage)? {
            let Some(outlet) = place.outlet.filter(|_| !place.is_process()) else { continue };
            let made = whom.subject.map(|subject| make_alone(&place, subject, self.planner.resolver));
            let made = made.iter().map(|made| (name.clone(), made)).collect();
            let mut found = self.captured.of(outlet.name.as_str(), &made);
            let is_veiled =
                found.veiled.iter().any(|((owner, _), names)| *owner == name && !names.is_empty());
            let reason = match found.back.units.remove(&name) {
                None => place.trouble(&found.back),
                Some(Seen::NotKnown(reason)) => reason,
                Some(Seen::NotThere) => format!("it was not there: cledger withdraw {name} takes it off"),
                Some(_) if is_veiled => {
                    format!("secrets of it are not readable here: {}", self.captured.readers())
                }
                Some(held) => {
                    take(outlet.name.as_str(), &held, &mut putting.then);
                    has_any = true;
                    continue;
                }
            };
            passed_over.push((outlet.name.to_string(), reason));
        }
        if !has_any {
            let reasons: Vec<String> =
                passed_over.iter().map(|(outlet, why)| format!("{outlet}: {why}")).collect();
            return Err(Trouble::refused(format!(
                "nothing of `{name}` can be brought back ({})",
                reasons.join("; ")
            )));
        }
        if is_part {
            for place in putting.then.keys() {
                meant.insert(place.clone(), self.names_in(place, &putting, grounds));
            }
            if meant.values().all(Vec::is_empty) {
                return Err(Trouble::usage(format!("--only and --except leave nothing of `{name}`"))
                    .help("write ENTRY or ENTRY.FIELD of what the capture has"));
            }
            putting.meant = Some(meant);
        }
        Ok((putting, passed_over))
    }

    /// The names in a place whose fields are meant: those that the capture has, and those that the ledger has there.
    fn names_in(&self, place: &str, putting: &Putting, grounds: &Grounds<'_>) -> Vec<OutputName> {
        let ledger = &*self.opened.ledger;
        let (outlet, path) =
            place.split_once('/').map_or((place, None), |(outlet, path)| (outlet, Some(path)));
        let Some(declared) = ledger.outlets.iter().find(|it| it.name.as_str() == outlet) else {
            return Vec::new();
        };
        let form = Form::of(&declared.kind, grounds.forms.output(outlet, path));
        let tree =
            putting.then.get(place).and_then(|before| form.read(&before.text).tree).unwrap_or_default();
        let made = grounds
            .forms
            .output(outlet, path)
            .map(|output| output.values.keys().cloned().collect::<Vec<_>>());
        let names: BTreeSet<OutputName> =
            tree.leaves().into_keys().chain(made.into_iter().flatten()).collect();
        let is_meant = |name: &OutputName| {
            let Some((field, _)) = grounds.forms.field(outlet, path, name) else { return false };
            let (entry, field) = ledger.field(field.subject, field.slot);
            let (entry, field) = (entry.name.as_str(), field.name.as_ref().map(Name::as_str));
            let is_covered = |patterns: &FieldPatterns| patterns.covers(entry, field);
            (self.asked.only.is_empty() || is_covered(&self.only))
                && (self.asked.except.is_empty() || !is_covered(&self.except))
        };
        names.into_iter().filter(is_meant).collect()
    }

    /// What the outlets hold then, for the record: texts as they are brought, and the values of fields in them.
    fn content(
        &self,
        whom: &Whom,
        grounds: &Grounds<'_>,
        ways: &[Planned<'_>],
        delivered: Option<&Content>,
    ) -> Result<Content, Trouble> {
        let ledger = &*self.opened.ledger;
        let mut content = delivered.cloned().unwrap_or_default();
        (content.files, content.documents, content.rows) = Default::default();
        content.before.clear();
        if let Some(subject) = whom.subject {
            content.fields =
                ledger.slots(subject).all().map(|slot| ledger.field_name(subject, slot)).collect();
        }
        for way in ways {
            let outlet = way.at.outlet.as_str();
            let Some(kind) = way.sight.place.outlet.map(|outlet| &outlet.kind) else { continue };
            for part in &way.parts {
                let Some(put) = &part.put else { continue };
                let path = part.path.as_deref();
                let text = match kind {
                    OutletKind::Rows(rows) => our_rows(put, rows, grounds, (outlet, delivered)),
                    _ => put.text.clone(),
                };
                let text = Kept::new(text, true);
                let other = match (kind, path) {
                    (OutletKind::Directory { .. }, Some(path)) => content.files.insert(path.to_owned(), text),
                    (OutletKind::Rows(_), _) => content.rows.insert(outlet.to_owned(), text),
                    _ => content.documents.insert(outlet.to_owned(), text),
                };
                if other.and_then(|other| other.expose().cloned()).is_some_and(|other| *other != *put.text) {
                    let message = format!(
                        "two outlets of `{}` had different files `{}`, and one record holds one",
                        whom.owner,
                        path.unwrap_or_default()
                    );
                    return Err(Trouble::refused(message).help("bring it back in parts: --only ENTRY.FIELD"));
                }
                for (name, value) in put.tree.as_ref().map(Tree::leaves).unwrap_or_default() {
                    let Some((field, secret)) = grounds.forms.field(outlet, path, &name) else { continue };
                    let declaration = ledger.field(field.subject, field.slot).1;
                    let text = Zeroizing::new(value.to_text().to_string());
                    let value = secret_of(&text, declaration.this_type).map(|held| held.expose().clone());
                    if let Some(value) = value {
                        let field = ledger.field_name(field.subject, field.slot);
                        content.values.insert(field, Kept::of_value(&HeldValue::new(value, secret)));
                    }
                }
            }
        }
        Ok(content)
    }
}

/// What of the rows that come back is ours: what else was captured in somebody else's table has stayed there.
fn our_rows(
    put: &Part,
    rows: &RowsOutlet,
    grounds: &Grounds<'_>,
    (outlet, delivered): (&str, Option<&Content>),
) -> Zeroizing<String> {
    let Some(tree) = &put.tree else { return put.text.clone() };
    let form = Form::Rows(&rows.content.apart);
    let before = delivered.and_then(|content| form.read_kept(content.rows.get(outlet)?)?.tree);
    let now = grounds.forms.output(outlet, None).map(RenderedOutput::tree);
    let is_known = |steps: &[String]| [&before, &now].into_iter().flatten().any(|it| it.get(steps).is_some());
    let is_ours = |name: &OutputName| {
        if rows.is_of_lookup(name) {
            return is_known(&name[..2]);
        }
        !rows.columns.are_given || grounds.forms.field(outlet, None, name).is_some() || is_known(name)
    };
    let mut ours = Tree::default();
    for (name, value) in tree.leaves().into_iter().filter(|(name, _)| is_ours(name)) {
        ours.insert(&name, value.clone());
    }
    form.write(&ours).unwrap_or_else(|_| put.text.clone())
}

/// Refuses to bring names alone back into what cannot be read as names now.
fn refuse_nameless(ways: &[Planned<'_>], putting: &Putting, grounds: &Grounds<'_>) -> Result<(), Trouble> {
    let Some(meant) = &putting.meant else { return Ok(()) };
    for way in ways {
        let Some(declared) = way.sight.place.outlet else { continue };
        let outlet = way.at.outlet.as_str();
        for path in way.parts.iter().map(|part| part.path.as_deref()) {
            let is_meant = meant.get(&key(outlet, path)).is_some_and(|names| !names.is_empty());
            let form = Form::of(&declared.kind, grounds.forms.output(outlet, path));
            let there = Before::of(&way.sight.held, path);
            if is_meant && there.is_some_and(|there| form.read(&there.text).tree.is_none()) {
                let what = path.unwrap_or("what is there");
                return Err(Trouble::refused(format!(
                    "`{what}` at outlet {outlet} cannot be read as names now, so that none can come back alone"
                ))
                .help("bring all of it back: leave --only and --except out"));
            }
        }
    }
    Ok(())
}

/// Notes what an outlet had, by the key of each place.
fn take(outlet: &str, held: &Seen, then: &mut BTreeMap<String, Before>) {
    let paths: Vec<Option<&str>> = match held {
        Seen::Files(files) => {
            let known = files.files.keys().filter(|path| !files.others.contains(path));
            known.map(|path| Some(path.as_str())).collect()
        }
        _ => vec![None],
    };
    for path in paths {
        if let Some(before) = Before::of(held, path) {
            then.insert(key(outlet, path), before);
        }
    }
}
