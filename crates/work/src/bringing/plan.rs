//! What bringing a unit to its outlets means, name by name, before anything is done.

use cledger_core::address::Owner;
use cledger_core::delivery::{RowChange, Sides, Step, Whose, alike, row_changes, steps, target};
use cledger_core::kept::Kept;
use cledger_core::model::{Ledger, OutletKind, StageId};
use cledger_core::output::OutputName;
use cledger_core::tree::Tree;
use cledger_core::value::{Held as HeldValue, Value};
use cledger_outlets::held::{Held, Values};
use cledger_store::daybook::{Content, Left};
use zeroize::Zeroizing;

use crate::bringing::at::{AtName, AtOutlet, AtPart, PartNote, Seen};
use crate::bringing::baseline::Baseline;
use crate::bringing::before::{Before, key};
use crate::bringing::forms::{Forms, has_one_thing};
use crate::bringing::part::{Form, Part};
use crate::bringing::putting::Putting;
use crate::bringing::returning::Returning;
use crate::bringing::rules::{Rules, Where};
use crate::bringing::sight::Sight;
use crate::reality::places::Place;
use crate::reality::rows::values_of;
use crate::reality::veiling::Veil;

/// What is to be brought, and all that it is judged by.
pub(crate) struct Bringing<'b> {
    pub(crate) ledger: &'b Ledger,
    pub(crate) owner: &'b Owner,
    pub(crate) stage: StageId,
    /// What the unit is to have.
    pub(crate) content: &'b Content,
    /// Where it comes from.
    pub(crate) from: From<'b>,
    pub(crate) baseline: &'b Baseline,
    pub(crate) forms: &'b Forms<'b>,
    pub(crate) rules: &'b Rules,
    pub(crate) veil: &'b Veil,
}

impl Bringing<'_> {
    /// How the values of rows at an outlet are said now, and were when they were brought.
    pub(crate) fn said(&self, outlet: &str) -> Vec<Values> {
        let now = self.content.rows.get(outlet).and_then(|kept| Form::Rows(&[]).read_kept(kept));
        let kind = self.ledger.outlets.iter().find(|known| known.name.as_str() == outlet);
        let kind = kind.map(|known| &known.kind).filter(|kind| matches!(kind, OutletKind::Rows(_)));
        let brought = kind.map(|kind| self.baseline.brought((outlet, kind), None, Form::Rows(&[])));
        let parts = [now].into_iter().chain(brought.into_iter().flatten());
        parts.filter_map(|part| part?.tree.as_ref().map(values_of)).collect()
    }
}

/// Where that comes from which is to be there.
#[derive(Clone, Copy)]
pub(crate) enum From<'b> {
    /// The ledger says so now.
    Ledger,
    /// It was delivered, or was to be delivered, before.
    Earlier,
    /// It was there before anything was brought: what each outlet is to have in place of the content.
    Before(&'b Content),
    /// What was overwritten is brought back; all else stays as it is there.
    Back(&'b Returning),
    /// It was captured, and is brought back.
    Captured(&'b Putting),
}

impl From<'_> {
    /// The paths of files that are to be looked at, whatever else is.
    pub(crate) fn paths(&self, outlet: &str) -> Vec<String> {
        match self {
            From::Back(returning) => returning.paths(outlet).map(str::to_owned).collect(),
            From::Captured(putting) => putting.paths(outlet).map(str::to_owned).collect(),
            From::Ledger | From::Earlier | From::Before(_) => Vec::new(),
        }
    }
}

/// A unit at an outlet, and what has to be done there.
pub(crate) struct Planned<'l> {
    pub(crate) sight: Sight<'l>,
    pub(crate) at: AtOutlet,
    pub(crate) parts: Vec<ToDo>,
}

/// What has to be done about one file, document or scope of rows.
pub(crate) struct ToDo {
    pub(crate) path: Option<String>,
    pub(crate) end: End,
    /// What was there and is nobody's here, by the key that it is kept under.
    pub(crate) before: Option<(String, Kept)>,
    /// Whether nothing may be done without that being kept.
    pub(crate) before_is_needed: bool,
    /// What of that is just what is brought, and so as open as that: it is kept where all of it is not.
    pub(crate) before_alike: Option<(String, Kept)>,
    /// The names that stay as they are there.
    pub(crate) left: Option<Left>,
    /// Whether it holds a secret.
    pub(crate) is_secret: bool,
    /// What is to be there, of what is brought back from a capture.
    pub(crate) put: Option<Part>,
}

/// How one of them is to end.
pub(crate) enum End {
    /// As it is.
    Kept,
    /// With this text, and these permission bits if they are known.
    Written(Zeroizing<String>, Option<u32>),
    /// Not there.
    Gone,
    /// With these rows changed.
    Changed(Vec<RowChange>),
}

impl<'l> Planned<'l> {
    /// Says what has to be done at an outlet.
    pub(crate) fn of(sight: Sight<'l>, bringing: &Bringing<'_>) -> Self {
        let (outlet, kind) = sight.place.outlet_name().unwrap_or_default();
        let since = bringing.baseline.since(&outlet);
        let (seen, parts) = match seen(&sight, bringing, &outlet) {
            Ok((parts, to_do)) => (Seen::Parts(parts), to_do),
            Err(Some(reason)) => (Seen::NotKnown(reason), Vec::new()),
            Err(None) => (Seen::OnlyLookedAt, Vec::new()),
        };
        let has_effect = sight.place.outlet.is_some_and(|outlet| outlet.effect.is_said());
        let is_to_stay = matches!(bringing.from, From::Ledger | From::Earlier);
        let not_in_effect = has_effect && is_to_stay && bringing.baseline.is_not_in_effect(&outlet);
        let mut planned = Self {
            at: AtOutlet { outlet, kind, since, seen, refused: None, not_asked: Vec::new(), not_in_effect },
            sight,
            parts,
        };
        planned.foresee(&bringing.owner.to_string());
        planned
    }

    /// Leaves all of it as it is: its place is another unit's by now.
    pub(crate) fn hand_on(&mut self, to: &Owner) {
        self.at.seen = Seen::HandedOn(to.to_string());
        self.parts.clear();
    }

    /// Whether something has to be done there.
    pub(crate) fn has_work(&self) -> bool {
        self.parts.iter().any(|part| !matches!(part.end, End::Kept))
    }
}

/// The parts of a unit at an outlet; the reason why nobody can tell, or none where nothing is ever brought.
fn seen(
    sight: &Sight<'_>,
    bringing: &Bringing<'_>,
    outlet: &str,
) -> Result<(Vec<AtPart>, Vec<ToDo>), Option<String>> {
    let Some(declared) = sight.place.outlet else { return Err(None) };
    if let OutletKind::Process { .. } = declared.kind {
        return Err(None);
    }
    if let Held::NotKnown(reason) = &sight.held {
        return Err(Some(reason.clone()));
    }
    let paths: Vec<Option<String>> = if has_one_thing(&declared.kind) {
        vec![None]
    } else {
        let mut paths: Vec<String> = bringing.content.files.keys().cloned().collect();
        if bringing.rules.only.is_none() {
            paths.extend(bringing.baseline.paths(outlet).into_iter().cloned());
        }
        paths.extend(bringing.from.paths(outlet));
        paths.sort_unstable();
        paths.dedup();
        paths.into_iter().map(Some).collect()
    };
    let (mut parts, mut to_do) = (Vec::new(), Vec::new());
    for path in paths {
        let one = OnePart::look(sight, bringing, (outlet, &declared.kind), path).map_err(Some)?;
        let (part, this) = one.plan().map_err(Some)?;
        if part.is_there || part.will_be_there || !part.names.is_empty() {
            parts.push(part);
            to_do.push(this);
        }
    }
    Ok((parts, to_do))
}

/// One file, document or scope of rows from all sides.
struct OnePart<'p> {
    bringing: &'p Bringing<'p>,
    place: &'p Place<'p>,
    outlet: &'p str,
    kind: &'p OutletKind,
    path: Option<String>,
    form: Form<'p>,
    there: Option<Part>,
    before: Option<Before>,
    brought: Vec<Option<Part>>,
    ours: Option<Part>,
    /// Whether what is to be there holds a secret.
    is_secret: bool,
    /// The permission bits that it is to have, if they are known.
    mode: Option<u32>,
}

impl<'p> OnePart<'p> {
    fn look(
        sight: &'p Sight<'_>,
        bringing: &'p Bringing<'p>,
        (outlet, kind): (&'p str, &'p OutletKind),
        path: Option<String>,
    ) -> Result<Self, String> {
        let form = Form::of(kind, bringing.forms.output(outlet, path.as_deref()));
        if let (Held::Files(files), Some(path)) = (&sight.held, &path)
            && let Some(Err(error)) = files.files.get(path)
            && !matches!(error, cledger_outlets::file::FileError::NotThere)
        {
            return Err(format!("`{path}` cannot be read: {error}"));
        }
        let before = Before::of(&sight.held, path.as_deref());
        let there = before.as_ref().map(|before| form.read(&before.text));
        let brought = bringing.baseline.brought((outlet, kind), path.as_deref(), form);
        let (ours, mode) = match bringing.from {
            From::Before(instead) => match Before::recall(&instead.before, outlet, path.as_deref()) {
                Some(before) => (Some(form.read(&before.text)), before.mode),
                None => (None, None),
            },
            From::Back(returning) => returning.part((outlet, kind), path.as_deref(), form, there.as_ref()),
            From::Captured(putting) => (putting.part(outlet, path.as_deref(), form, there.as_ref()), None),
            From::Ledger | From::Earlier => {
                let kept = of_content(bringing.content, (outlet, kind), path.as_deref());
                let ours = kept.map(|kept| form.read_kept(kept).ok_or("its secrets are not readable here"));
                (ours.transpose()?, None)
            }
        };
        let is_secret = ours.as_ref().is_some_and(|ours| ours.is_secret);
        let place = &sight.place;
        Ok(Self { bringing, place, outlet, kind, path, form, there, before, brought, ours, is_secret, mode })
    }

    fn plan(self) -> Result<(AtPart, ToDo), String> {
        let is_tree = |part: Option<&Part>| part.is_none_or(|part| part.tree.is_some());
        if !matches!(self.form, Form::Text) && is_tree(self.there.as_ref()) && is_tree(self.ours.as_ref()) {
            self.plan_names()
        } else if self.path.is_none() && self.place.outlet.is_some_and(|outlet| !outlet.keep.is_empty()) {
            Err("what is there cannot be read, and names in it are to be kept".to_owned())
        } else {
            Ok(self.plan_whole())
        }
    }

    /// Whether a name is never ours.
    fn is_theirs(&self, steps: &OutputName) -> bool {
        let name = steps.join(".");
        if self.place.keeps(&name) {
            return true;
        }
        let OutletKind::Rows(rows) = self.kind else { return false };
        let has =
            |part: Option<&Part>, steps: &[String]| tree(part).is_some_and(|it| it.get(steps).is_some());
        if rows.is_of_lookup(steps) {
            let row = &steps[..2];
            return !has(self.ours.as_ref(), row) && !self.brought.iter().any(|part| has(part.as_ref(), row));
        }
        // In a table of somebody else's only what the contract names is ours, or was brought before.
        let name = std::slice::from_ref(&name);
        let was_brought = || self.brought.iter().any(|part| has(part.as_ref(), name));
        let is_of_contract = || self.bringing.forms.field(self.outlet, None, &name.to_vec()).is_some();
        rows.columns.are_given && !was_brought() && !is_of_contract()
    }

    fn plan_names(self) -> Result<(AtPart, ToDo), String> {
        let brought: Vec<Option<Tree>> =
            self.brought.iter().map(|part| tree(part.as_ref()).cloned()).collect();
        let is_found = self.bringing.baseline.is_found(self.outlet);
        let (there, ours) = (tree(self.there.as_ref()), tree(self.ours.as_ref()));
        let sides = Sides { there, brought: &brought, is_found, ours };
        let theirs = |name: &OutputName| self.is_theirs(name);
        let steps = steps(sides, theirs);
        let last = brought.first().and_then(Option::as_ref);
        let names: Vec<AtName> = steps
            .iter()
            .map(|step| {
                let changes = last.and_then(|last| last.get(&step.name)) != step.will.as_ref();
                self.name(step, changes)
            })
            .collect();
        let staying: Vec<&Step> =
            steps.iter().zip(&names).filter(|(_, name)| name.stays.is_some()).map(|(step, _)| step).collect();
        let end = if staying.len() == steps.len() {
            End::Kept
        } else {
            let target = target(sides, theirs, &staying).map_err(|error| error.to_string())?;
            self.end_of_names(sides, target)?
        };
        let is_lost = names.iter().any(|name| name.is_blocking() && name.there.is_some());
        let text = |part: Option<&Part>| part.map(|part| part.text.clone());
        let (there, ours) = (text(self.there.as_ref()), text(self.ours.as_ref()));
        let is_file = self.path.is_some();
        let is_same = steps.is_empty() && there.is_some() && ours.is_some();
        let is_first = self.brought.is_empty() || is_found;
        let note = if is_same && is_first {
            Some(PartNote::ThereBefore)
        } else if is_same && is_file && there != ours {
            Some(PartNote::OtherwiseWritten)
        } else {
            None
        };
        let was_brought_so = self.brought.iter().any(|part| text(part.as_ref()) == there);
        let loses_form = is_file && there.is_some() && !was_brought_so && !matches!(end, End::Kept);
        // What was found is brought back one day just as it is there now.
        let was_found = is_found && there.is_some() && !matches!(end, End::Kept);
        let is_needed = is_lost || was_found || note == Some(PartNote::ThereBefore);
        // What was there before just as it is brought counts as ours, and is not lost where ours is taken off.
        let alike = if is_first { alike(sides) } else { Tree::default() };
        let has_alike = !alike.0.is_empty() && !matches!(end, End::Kept);
        let alike = has_alike.then(|| self.form.write(&alike)).transpose()?;
        let keeps = (is_needed || loses_form || has_alike).then_some(is_needed);
        let outlet = self.outlet;
        let (part, mut to_do) = self.finish((names, end), note, keeps);
        to_do.before_alike = alike.map(|text| {
            let before = Before { text, mode: None };
            (key(outlet, to_do.path.as_deref()), before.kept(to_do.is_secret))
        });
        Ok((part, to_do))
    }

    /// How it ends where these names and values are to be there.
    fn end_of_names(&self, sides: Sides<'_>, target: Tree) -> Result<End, String> {
        if let OutletKind::Rows(_) = self.kind {
            let there = sides.there.map(values_of).unwrap_or_default();
            return Ok(End::Changed(row_changes(&there, &values_of(&target))));
        }
        if self.ours.is_none() && target.0.is_empty() {
            return Ok(End::Gone);
        }
        match &self.ours {
            Some(ours) if ours.tree.as_ref() == Some(&target) => {
                Ok(End::Written(ours.text.clone(), self.mode))
            }
            _ => Ok(End::Written(self.form.write(&target)?, self.mode)),
        }
    }

    /// A file of which only the text as a whole can be told.
    fn plan_whole(self) -> (AtPart, ToDo) {
        let text = |part: &Option<Part>| part.as_ref().map(|part| part.text.clone());
        let (there, ours) = (text(&self.there), text(&self.ours));
        let is_found = self.bringing.baseline.is_found(self.outlet);
        let is_first = self.brought.is_empty() || is_found;
        if there == ours {
            let was_there_before = is_first && there.is_some();
            let note = was_there_before.then_some(PartNote::ThereBefore);
            return self.finish((Vec::new(), End::Kept), note, note.map(|_| true));
        }
        let whose = if self.brought.iter().any(|part| text(part) == there) {
            Whose::Ours
        } else if !is_first {
            Whose::Edited
        } else if there.is_some() {
            Whose::Before
        } else {
            Whose::Ours
        };
        let changes = self.brought.first().and_then(text) != ours;
        let stays = self.bringing.rules.stays(None, self.at_where(None), changes);
        let is_open = whose == Whose::Ours && self.brought.iter().flatten().any(|part| !part.is_secret);
        let held = |text: &Option<Zeroizing<String>>, secret: bool| {
            text.as_ref().map(|text| HeldValue::new(Value::text(text), secret))
        };
        let name = AtName {
            name: None,
            address: None,
            there: held(&there, !is_open),
            will: held(&ours, self.is_secret),
            whose,
            stays,
        };
        let end = match (&ours, stays) {
            (_, Some(_)) => End::Kept,
            (Some(text), None) => End::Written(text.clone(), self.mode),
            (None, None) => End::Gone,
        };
        let was_found = is_found && name.there.is_some() && name.stays.is_none();
        let is_lost = name.is_blocking() && name.there.is_some();
        self.finish((vec![name], end), None, (is_lost || was_found).then_some(true))
    }

    fn finish(
        self,
        (names, end): (Vec<AtName>, End),
        note: Option<PartNote>,
        keeps_before: Option<bool>,
    ) -> (AtPart, ToDo) {
        let path = self.path.as_deref();
        let before = self.before.as_ref().filter(|_| keeps_before.is_some()).map(|before| {
            // What is there just as it is to be is as open as that.
            let is_same = self.ours.as_ref().is_some_and(|ours| ours.text == before.text);
            (key(self.outlet, path), before.kept(self.is_secret || !is_same))
        });
        let staying: Vec<&AtName> = names.iter().filter(|name| name.stays.is_some()).collect();
        let left = (!staying.is_empty()).then(|| Left {
            outlet: self.outlet.to_owned(),
            path: self.path.clone(),
            names: staying.iter().filter_map(|name| name.name.clone()).collect(),
        });
        let to_do = ToDo {
            path: self.path.clone(),
            end,
            before_is_needed: keeps_before == Some(true),
            before_alike: None,
            before,
            left,
            is_secret: self.is_secret,
            put: self.ours.clone().filter(|_| matches!(self.bringing.from, From::Captured(_))),
        };
        let part = AtPart {
            path: self.path,
            is_there: self.there.is_some(),
            will_be_there: self.ours.is_some(),
            note,
            names,
        };
        (part, to_do)
    }

    fn at_where(&self, field: Option<cledger_core::resolve::FieldId>) -> Where<'_> {
        Where { ledger: self.bringing.ledger, outlet: self.outlet, path: self.path.as_deref(), field }
    }

    fn name(&self, step: &Step, changes: bool) -> AtName {
        let field = self.bringing.forms.field(self.outlet, self.path.as_deref(), &step.name);
        let address = field.map(|(field, _)| self.bringing.ledger.address(field).to_string());
        // Under a name that no field has nobody says that it is no secret, but for what was brought in the open.
        let was_open = step.whose == Whose::Ours && self.brought.iter().flatten().all(|part| !part.is_secret);
        let is_secret_there = field.map_or(!was_open, |(_, secret)| secret);
        let there = step.there.as_ref().map(|value| {
            let secret = is_secret_there || self.bringing.veil.hides(address.as_deref(), value);
            HeldValue::new(value.clone(), secret)
        });
        AtName {
            name: Some(step.name.clone()),
            stays: self.bringing.rules.stays(
                Some(step),
                self.at_where(field.map(|(field, _)| field)),
                changes,
            ),
            address: address.clone(),
            there,
            will: step.will.as_ref().map(|value| {
                let is_secret = match (self.bringing.from, field) {
                    (From::Ledger, Some((_, secret))) => secret,
                    (From::Earlier | From::Captured(_), Some((_, secret))) => {
                        secret || self.bringing.veil.hides(address.as_deref(), value)
                    }
                    (From::Before(_) | From::Back(_), _) | (_, None) => self.is_secret,
                };
                HeldValue::new(value.clone(), is_secret)
            }),
            whose: step.whose,
        }
    }
}

fn tree(part: Option<&Part>) -> Option<&Tree> {
    part.and_then(|part| part.tree.as_ref())
}

/// What a content has of a file, or of the one thing that an outlet has.
pub(super) fn of_content<'c>(
    content: &'c Content,
    (outlet, kind): (&str, &OutletKind),
    path: Option<&str>,
) -> Option<&'c Kept> {
    match (path, kind) {
        (Some(path), _) => content.files.get(path),
        (None, OutletKind::Rows(_)) => content.rows.get(outlet),
        (None, _) => content.documents.get(outlet),
    }
}
