//! A folio taken into a ledger: a plan first, then every value that its stages lack, then all of it or nothing.

mod places;
mod texts;

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use cledger_core::effects::Effect;
use cledger_core::findings::{Code, Finding, Severity};
use cledger_core::model::{Bundle, LayerId, Ledger, Note, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Winner};
use cledger_store::{Changed, Edit, Overlay, Scope, Target, Unreadable, apply, read};

use super::came::Came;
use super::fate::{Choices, Entering, Fate, fates};
use super::piece::{Piece, Pieces, likeness};
use super::rename::{as_ledger, renamed};
use super::signature::SignedBy;
use super::{CAME, Folio};
use crate::change::{Changing, Consent};
use crate::deliver::{Delivered, Edits, ToDeliver, deliver};
use crate::fill::{Filling, Lacking, ToAsk};
use crate::meant::{known_stage, unit_of};
use crate::opened::Opened;
use crate::setting::{Given, Setter, Written, write};
use crate::touched::{TouchedFile, touched};
use crate::trouble::{Kind, Trouble};
use crate::whole_units::{Units, WholeUnits};
use crate::workplace::Workplace;

/// How a folio is taken in.
#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is something that is wanted or not")]
pub struct ToEnter {
    /// The folder of the ledger, if it is another one than that where the work is done.
    pub ledger: Option<PathBuf>,
    /// The stages that its units come to.
    pub stages: Vec<Name>,
    /// Whose signature it must have, if any is named.
    pub signed_by: Vec<SignedBy>,
    /// Other names, `OLD=NEW` each.
    pub rename: Vec<String>,
    /// What stays as it is here, as patterns of names.
    pub keep_ours: Vec<String>,
    /// What gives way, as patterns of names.
    pub take_theirs: Vec<String>,
    /// Take the values that a stage lacks from this form, or write it where there is none.
    pub answers: Option<PathBuf>,
    /// Take the values that the folio carries where nothing is said here.
    pub with_values: bool,
    /// Take it in although values are lacking.
    pub leave_open: bool,
    /// Whether secrets may stand in plain text where a stage has no key.
    pub plain_secrets: bool,
    /// Deliver the units there, too.
    pub deliver: bool,
    /// What becomes of what is at the outlets and not ours, where it is delivered, too.
    pub edits: Edits,
    /// What somebody says to it.
    pub consent: Consent,
    /// How long to wait for somebody else who is changing the ledger.
    pub wait: Duration,
    /// Do it.
    pub write: bool,
}

impl ToEnter {
    /// Only shown, for one stage, with nothing said to anything.
    pub fn shown(ledger: Option<PathBuf>, stage: Name) -> Self {
        Self {
            ledger,
            stages: vec![stage],
            signed_by: Vec::new(),
            rename: Vec::new(),
            keep_ours: Vec::new(),
            take_theirs: Vec::new(),
            answers: None,
            with_values: false,
            leave_open: false,
            plain_secrets: false,
            deliver: false,
            edits: Edits::default(),
            consent: Consent::default(),
            wait: Duration::ZERO,
            write: false,
        }
    }
}

/// What taking a folio in comes to.
#[derive(Debug)]
pub struct Entered {
    /// The ledger that it was made of.
    pub from: String,
    /// Who has signed it, and whether something came from that ledger with this signature before.
    pub signed_by: Option<(SignedBy, bool)>,
    /// The stages that its units come to.
    pub stages: Vec<String>,
    /// What becomes of each piece.
    pub pieces: Vec<Entering>,
    /// The files that change.
    pub files: Vec<TouchedFile>,
    /// The values that are set for it.
    pub settings: Vec<Written>,
    /// What the stages lack, and nobody has said.
    pub lacking: Vec<Lacking>,
    /// The form that was written, and for how many values.
    pub form: Option<(PathBuf, usize)>,
    /// Settings that stay here, and of whose fields the newer contracts know nothing.
    pub gone: Vec<String>,
    /// The effective values that change.
    pub effects: Vec<Effect>,
    /// The ledger as it is then, and the errors that come with it.
    pub errors: (Arc<Ledger>, Vec<Finding>),
    /// Whether it is done.
    pub written: bool,
    /// What came of the deliveries that follow, by stage.
    pub delivered: Vec<Delivered>,
}

impl Entered {
    /// The pieces for which somebody has to say what becomes of them.
    pub fn clashes(&self) -> impl Iterator<Item = &Entering> {
        self.pieces.iter().filter(|entering| matches!(entering.fate, Fate::Clash(_)))
    }

    /// What kind of trouble there is, if any.
    pub fn kind(&self) -> Option<Kind> {
        // Whoever took it in without some values has said so.
        let lacks = !self.lacking.is_empty() && !self.written;
        let is_open =
            self.clashes().next().is_some() || self.form.is_some() || lacks || !self.errors.1.is_empty();
        let delivered = self.delivered.iter().filter_map(Delivered::kind).max();
        delivered.max(is_open.then_some(Kind::Found))
    }
}

/// Takes a folio in, or shows what that would be.
pub fn enter(at: &Arc<Workplace>, folio: &Folio, asked: &ToEnter) -> Result<Entered, Trouble> {
    let changing = match &asked.ledger {
        Some(folder) => Changing::start_other(at, folder, asked.wait)?,
        None => Changing::start(at, asked.wait)?,
    };
    let root = changing.root().to_owned();
    let (mut entered, units) = taken_in(&changing, folio, asked)?;
    // The ledger's lock is not needed for bringing, and others may go on.
    drop(changing);
    let is_whole = entered.kind().is_none() && entered.lacking.is_empty();
    if asked.deliver && entered.written && !is_whole {
        let units: Vec<&str> = units.iter().map(Name::as_str).collect();
        at.telling.notice(&format!(
            "It is not delivered: mend the errors and fill in what is open first, then: cledger deliver {} --stage STAGE",
            units.join(" ")
        ));
    }
    if asked.deliver && entered.written && is_whole {
        let opened = Opened::read_other(at, &root)?;
        for (at, stage) in asked.stages.iter().enumerate() {
            let what = to_deliver(
                &opened.ledger,
                folio,
                &units,
                (stage, known_stage(&opened.ledger, stage.as_str())?),
            );
            // No units at all would mean those of the whole stage.
            if what.is_all() {
                continue;
            }
            let to_deliver = ToDeliver {
                what,
                edits: asked.edits.clone(),
                draft_why: asked.consent.why.is_none(),
                consent: asked.consent.clone(),
                write: true,
                ..ToDeliver::all_of(None)
            };
            // What came in has come in: whatever keeps it from being delivered comes behind that.
            let delivered = deliver(&opened, &to_deliver)
                .unwrap_or_else(|trouble| Delivered::nothing(opened.ledger.clone(), trouble));
            let has_ended = delivered.trouble.is_some();
            entered.delivered.push(delivered);
            let rest: Vec<&str> = asked.stages[at + 1..].iter().map(Name::as_str).collect();
            if has_ended && !rest.is_empty() {
                opened.at.telling.notice(&format!("Not begun: the deliveries to {}.", rest.join(", ")));
            }
            if has_ended {
                break;
            }
        }
    }
    Ok(entered)
}

/// What is delivered of a folio: its bundle, where that is these units and no others here; else the units by themselves,
/// with their instances.
fn to_deliver(ledger: &Ledger, folio: &Folio, units: &[Name], (name, stage): (&Name, StageId)) -> WholeUnits {
    let all: BTreeSet<&Name> = units.iter().collect();
    let unit_names = |subjects: &[Subject]| -> BTreeSet<Name> {
        subjects.iter().filter_map(|&it| Some(ledger.unit(unit_of(it)?).name.clone())).collect()
    };
    let is_all =
        |bundle: &&Bundle| unit_names(&ledger.members(bundle, stage)).iter().collect::<BTreeSet<_>>() == all;
    let bundle = match &folio.manifest.bundles[..] {
        [bundle] => ledger.bundle(&bundle.name).filter(is_all),
        _ => None,
    };
    let units = if let Some(bundle) = bundle {
        vec![Units::Bundle(bundle.name.clone())]
    } else {
        let is_inside =
            |subject: &Subject| unit_of(*subject).is_some_and(|unit| all.contains(&ledger.unit(unit).name));
        let inside = ledger.subjects_in(stage).filter(is_inside);
        inside.map(|subject| Units::Named(ledger.owner(subject))).collect()
    };
    WholeUnits { units, stage: Some(name.clone()), delivery: None }
}

/// Takes it in as far as the ledger goes; gives the names of its units here, too.
fn taken_in(changing: &Changing, folio: &Folio, asked: &ToEnter) -> Result<(Entered, Vec<Name>), Trouble> {
    let ledger = changing.ledger();
    let from = &folio.manifest.ledger;
    if asked.stages.is_empty() {
        return Err(Trouble::usage("no stage is named that the units come to").help("add --to STAGE"));
    }
    let stages: Vec<StageId> =
        asked.stages.iter().map(|name| known_stage(ledger, name.as_str())).collect::<Result<_, _>>()?;
    let mut came = Came::read(changing.disk())?;
    let before = came.signed_by(from)?;
    folio.refuse_stranger(&asked.signed_by, before.as_ref())?;
    let (pieces, names) = named(changing, folio, &came, asked)?;
    let choices = Choices { ours: &asked.keep_ours, theirs: &asked.take_theirs };
    let entering = fates(ledger, (&came, from), &pieces.0, &choices)?;
    refuse_unreadable(ledger, &pieces, &entering)?;
    let units: Vec<Name> = pieces.units().cloned().collect();
    let mut entered = Entered {
        from: from.clone(),
        signed_by: folio.signed_by.clone().map(|it| (it.clone(), before == Some(it))),
        stages: asked.stages.iter().map(Name::to_string).collect(),
        pieces: entering,
        files: Vec::new(),
        settings: Vec::new(),
        lacking: Vec::new(),
        form: None,
        gone: Vec::new(),
        effects: Vec::new(),
        errors: (changing.opened.ledger.clone(), Vec::new()),
        written: false,
        delivered: Vec::new(),
    };
    let clashes: Vec<&Entering> = entered.clashes().collect();
    if let (Some(first), true) = (clashes.first(), asked.write) {
        return Err(refused(first, clashes.len()));
    }
    if !clashes.is_empty() {
        return Ok((entered, units));
    }
    texts::tell_unplaced(changing, &pieces, &entered.pieces);
    let mut changed = texts::changed(changing, &pieces, &entered.pieces, &asked.stages)?;
    for entering in &entered.pieces {
        if entering.fate.enters() || entering.fate == Fate::Same {
            let says = likeness(&entering.piece, &pieces.0[&entering.piece]);
            let of = names.iter().find(|(_, new)| *new == entering.piece).map(|(old, _)| old.to_string());
            came.note(from, &entering.piece, (says, of), entering.version.clone());
        }
    }
    if let Some(signer) = &folio.signed_by {
        came.note_signer(from, signer);
    }
    texts::note(changing, &came.to_text(), CAME, &mut changed)?;
    let after = changing.read_after(&changed)?;
    let opened = Opened::of(&changing.opened.at, changing.root().to_owned(), after, changed.clone());
    if asked.with_values {
        let (edits, written) = carried(changing, &opened, &changed, folio, (&stages, &names, asked))?;
        changed.extend(apply(&Overlay::new(changing.disk(), &changed), &edits)?);
        entered.settings = written;
    }
    let opened = Opened::of(
        &changing.opened.at,
        changing.root().to_owned(),
        changing.read_after(&changed)?,
        changed.clone(),
    );
    fill(changing, &opened, &mut changed, &mut entered, (&units, &stages, asked))?;
    finish(changing, changed, &mut entered, (&stages, asked))?;
    Ok((entered, units))
}

/// The pieces by the names that they have here, and those that have another one than there.
type Names = Vec<(Piece, Piece)>;

fn named(
    changing: &Changing,
    folio: &Folio,
    came: &Came,
    asked: &ToEnter,
) -> Result<(Pieces, Names), Trouble> {
    let old = |renaming: &str| renaming.split_once('=').map(|(old, _)| old.to_owned());
    let said: BTreeSet<Option<String>> = asked.rename.iter().map(|renaming| old(renaming)).collect();
    let is_inside = |old: &Option<String>| folio.pieces.0.keys().any(|piece| Some(piece.to_string()) == *old);
    let mut renamings = came.renamings(&folio.manifest.ledger);
    renamings.retain(|renaming| !said.contains(&old(renaming)) && is_inside(&old(renaming)));
    for renaming in &renamings {
        changing
            .opened
            .at
            .telling
            .notice(&format!("As before, {} here.", renaming.replacen('=', " is called ", 1)));
    }
    renamings.extend(asked.rename.iter().cloned());
    let pieces = renamed(folio.pieces.clone(), &renamings, changing.ledger())?;
    let names = renamings.iter().filter_map(|renaming| {
        let (old, new) = renaming.split_once('=')?;
        let old = folio.pieces.0.keys().find(|piece| piece.to_string() == old)?.clone();
        let to = Name::parse(new.strip_prefix("shared/").unwrap_or(new)).ok()?;
        let new = if matches!(old, Piece::Unit(_)) { Piece::Unit(to) } else { Piece::Shared(to) };
        Some((old, new))
    });
    let names = names.collect();
    Ok((pieces, names))
}

/// Refuses a folio whose pieces are no declarations, whatever the ledger has.
fn refuse_unreadable(ledger: &Ledger, pieces: &Pieces, entering: &[Entering]) -> Result<(), Trouble> {
    let left_out =
        |piece: &Piece| entering.iter().any(|it| it.piece == *piece && matches!(it.fate, Fate::LeftOut(_)));
    let texts = pieces.0.iter().filter(|(piece, _)| !left_out(piece));
    let texts = texts.map(|(piece, text)| (piece.clone(), text.clone())).collect();
    read(&as_ledger(&texts, ledger), &Scope::Whole)
        .map(drop)
        .map_err(|unreadable| Unreadable { what: Some("the folio".to_owned()), ..unreadable }.into())
}

fn refused(clash: &Entering, count: usize) -> Trouble {
    let Entering { piece, fate, .. } = clash;
    let reason = if let Fate::Clash(reason) = fate { reason.as_str() } else { "" };
    let more = if count > 1 { format!(", and {} more like it", count - 1) } else { String::new() };
    let rename = match piece {
        Piece::Unit(_) | Piece::Shared(_) => format!("; give it another name: --rename {piece}=NEW"),
        _ => String::new(),
    };
    Trouble::refused(format!("`{piece}` clashes: {reason}{more}")).help(format!(
        "leave what is here: --keep-ours '{piece}'; let it give way: --take-theirs '{piece}'{rename}"
    ))
}

/// The settings that are made of the values that the folio carries, where nothing is said here.
fn carried(
    changing: &Changing,
    opened: &Opened,
    changed: &Changed,
    folio: &Folio,
    (stages, names, asked): (&[StageId], &Names, &ToEnter),
) -> Result<(Vec<Edit>, Vec<Written>), Trouble> {
    if !folio.manifest.values {
        return Err(Trouble::usage("the folio carries no values").help("leave --with-values out"));
    }
    let ledger = &opened.ledger;
    let (keys, outside) = (changing.keys(changed), opened.unfetched());
    let setter = Setter { ledger, keys: &keys, plain_secrets: asked.plain_secrets };
    let resolver = Resolver::new(ledger, &outside, &[]);
    let note = Note { why: asked.consent.why.clone(), ..Note::default() };
    let (mut edits, mut written) = (Vec::new(), Vec::new());
    for (address, held) in folio.carried(&opened.at.identity)? {
        let address = places::with_names(&address, names);
        for &stage in stages {
            let name = &ledger.stage(stage).name;
            // A field that somebody keeps otherwise here, or an instance that is not there, has no place for it.
            let Ok(place) = opened.place(&format!("{address}@{name}"), None) else { continue };
            let Target::Layer(layer) = place.target else { continue };
            let users = places::users(ledger, place.subject, stage);
            let is_said = users.iter().any(|&subject| {
                let slot = places::slot_of(ledger, subject, &place);
                slot.is_some_and(|slot| {
                    let mut session = resolver.session(unit_of(subject));
                    matches!(session.winners(subject, stage).get(slot.0 as usize), Some(Winner::Set(..)))
                })
            });
            if is_said || users.is_empty() {
                continue;
            }
            let said = match &held {
                Some(held) => setter.said(&place, Given::System(held), None)?,
                None => cledger_core::model::SettingValue::Absent,
            };
            let (edit, this) = write(ledger, &place, layer, &said, &note);
            edits.extend(edit);
            written.push(this);
        }
    }
    Ok((edits, written))
}

/// Asks for what the stages lack for the units of the folio.
fn fill(
    changing: &Changing,
    opened: &Opened,
    changed: &mut Changed,
    entered: &mut Entered,
    (units, stages, asked): (&[Name], &[StageId], &ToEnter),
) -> Result<(), Trouble> {
    let ledger = &opened.ledger;
    let is_meant =
        |subject: &Subject| unit_of(*subject).is_some_and(|unit| units.contains(&ledger.unit(unit).name));
    let to_ask = ToAsk {
        answers: asked.answers.clone(),
        plain_secrets: asked.plain_secrets,
        write: asked.write,
        note: Note { why: asked.consent.why.clone(), ..Note::default() },
    };
    let filling = Filling::of(opened, &changing.keys(changed), stages, &is_meant, &to_ask)?;
    changed.extend(apply(&Overlay::new(changing.disk(), changed), &filling.edits)?);
    entered.settings.extend(filling.written);
    (entered.lacking, entered.form) = (filling.lacking, filling.form);
    Ok(())
}

/// Works out what all of it does, and writes it where nothing stands in its way.
fn finish(
    changing: &Changing,
    changed: Changed,
    entered: &mut Entered,
    (stages, asked): (&[StageId], &ToEnter),
) -> Result<(), Trouble> {
    let ledger = changing.ledger();
    let planned = changing.plan_texts(changed)?;
    changing.refuse_bad_rows(&planned)?;
    entered.gone = places::gone(ledger, &planned.after);
    entered.files = touched(ledger, &planned.changed);
    entered.effects.clone_from(&planned.effects);
    let (new, _) = changing.differing(&planned);
    let is_lacking = |finding: &Finding| entered.lacking.iter().any(|it| it.address == finding.address);
    let is_ours = |finding: &Finding| {
        finding.severity == Severity::Error
            && !is_lacking(finding)
            // Those whose fields went are told by themselves.
            && finding.code != Code::UnknownName
            && finding.stage.as_ref().is_none_or(|stage| entered.stages.contains(stage))
    };
    let lacks = !entered.lacking.is_empty();
    let errors = new.into_iter().filter(is_ours).filter(|finding| {
        // What refers to something that is lacking is told by that.
        !lacks || finding.code != Code::MissingValue
    });
    let errors: Vec<Finding> = errors.collect();
    entered.errors = (Arc::new(planned.after.clone()), errors);
    let layers: Vec<LayerId> = stages.iter().map(|&id| LayerId::Stage(id)).collect();
    let is_whole = entered.form.is_none() && (!lacks || asked.leave_open);
    if asked.write && is_whole && !planned.changed.is_empty() {
        changing.guard(&layers, &planned, &asked.consent)?;
        changing.write(&planned)?;
    } else if !asked.write {
        changing.tell_needs(&layers, &[], &planned.effects, &asked.consent)?;
    }
    entered.written = asked.write && is_whole;
    Ok(())
}
