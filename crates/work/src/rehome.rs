//! An artifact exported from one stage, with the values of another.

pub mod suggest;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use cledger_core::address::Address;
use cledger_core::compare;
use cledger_core::model::{FieldPatterns, Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::rehome::{Left, Rehomed, Spot, Swap, rehome as rehomed, swaps};
use cledger_core::resolve::{Assumption, Effective, FieldId};
use cledger_formats::{Artifact, stretches};
use cledger_outlets::file::FileError;
use cledger_store::{Mode, write_atomically};
use zeroize::Zeroizing;

use crate::answers::{Answers, Question};
use crate::archive::{self, Unpacked};
use crate::change::hands_out;
use crate::existing;
use crate::meant::{known_stage, unit_of};
use crate::opened::Opened;
use crate::rendered::not_readable;
use crate::shown::escape;
use crate::trouble::{Kind, Trouble};

/// The largest artifact, in bytes.
const LARGEST: usize = 64 << 20;

/// What rehoming one file, or one member of an archive, came to.
pub struct Part {
    /// The member's name in an archive.
    pub member: Option<String>,
    /// What became of it; `None` for a member that is no text.
    pub rehomed: Option<Rehomed>,
}

/// What rehoming came to.
// Its texts may be secrets: it is not printed by itself.
pub struct RehomeReport {
    /// The file, or each member of the archive.
    pub parts: Vec<Part>,
    /// The values that take each other's places.
    pub swaps: Vec<Swap>,
    /// Values that were looked for and stand nowhere, by their places in `swaps`.
    pub not_found: Vec<usize>,
    /// Values that say too little to be looked for, likewise.
    pub common: Vec<usize>,
    /// The file that is written.
    pub out: PathBuf,
    /// The form that was written for the values that the second stage lacks, and how many these are.
    pub form: Option<(PathBuf, usize)>,
    /// Whether it was written.
    pub written: bool,
}

impl RehomeReport {
    /// What kind of trouble there was: something was left that could not be replaced.
    pub fn kind(&self) -> Option<Kind> {
        let mut parts = self.parts.iter().filter_map(|part| part.rehomed.as_ref());
        parts.any(|it| !it.left.is_empty()).then_some(Kind::Found)
    }
}

/// What is to be rehomed.
#[derive(Debug, Clone)]
pub struct ToRehome {
    /// The artifact.
    pub file: PathBuf,
    /// Whose values are in it: UNIT[+INSTANCE]@STAGE.
    pub from: Address,
    /// Whose values take their places.
    pub to: Address,
    /// Only these fields, or only at and below a place.
    pub only: Vec<String>,
    /// The file to write instead of the artifact itself.
    pub out: Option<PathBuf>,
    /// Whether that file may be there already.
    pub overwrite: bool,
    /// The form with the values that the second stage lacks; it is written where it is not there.
    pub answers: Option<PathBuf>,
    /// The production stages whose secrets may be handed out, by their names.
    pub countersign: Vec<Name>,
    /// Do it.
    pub write: bool,
}

/// What is to be replaced.
struct Only {
    /// One for each that was named.
    fields: Vec<FieldPatterns>,
    places: Vec<String>,
}

/// Puts the values of a unit in one stage in place of those in another, in an artifact. Values that the second stage
/// lacks are asked for; nothing is written while one is missing.
pub fn rehome(
    opened: &Opened,
    assumptions: &[Assumption],
    asked: &ToRehome,
) -> Result<RehomeReport, Trouble> {
    let ledger = &opened.ledger;
    let only = Only::read(&asked.only)?;
    let ((from, from_stage), (to, to_stage)) = (side(opened, &asked.from)?, side(opened, &asked.to)?);
    if unit_of(from) != unit_of(to) {
        let message = "the two are different units, whose entries do not correspond";
        return Err(Trouble::usage(message).help("name one unit in two stages"));
    }
    let bytes = existing::bytes(&asked.file, LARGEST).map_err(|error| cannot_be_read(&asked.file, &error))?;
    let mut assumptions = assumptions.to_vec();
    let sides = [(from, from_stage), (to, to_stage)];
    let (mut swaps, mut parts) = looked_into(opened, asked, &bytes, sides, (&assumptions, &only))?;
    let mut form = None;
    let questions = questions(ledger, &swaps, &parts);
    if !questions.is_empty() {
        let answers = Answers::read(opened, asked.answers.as_deref(), asked.write, &questions)?;
        let before = assumptions.len();
        for question in &questions {
            let address = Address::parse(&question.address)?;
            let judge = |answer: &Zeroizing<String>| {
                Ok(Assumption::new(ledger, &address, answer.as_str(), to_stage)?)
            };
            assumptions.extend(answers.of(&opened.at, question, judge)?);
        }
        if let Answers::Form(path, count) = answers {
            form = Some((path, count));
        }
        if assumptions.len() > before {
            assumptions.sort_by_key(Assumption::strength);
            (swaps, parts) = looked_into(opened, asked, &bytes, sides, (&assumptions, &only))?;
        }
    }
    if asked.write && form.is_none() {
        refuse_lacking(ledger, &asked.to, &swaps, &parts)?;
    }
    refuse_undecided(&parts, &swaps)?;
    let out = asked.out.clone().unwrap_or_else(|| asked.file.clone());
    let changes = parts.iter().filter_map(|part| part.rehomed.as_ref()).any(|it| !it.replaced.is_empty());
    let written = asked.write && form.is_none() && (changes || asked.out.is_some());
    if written {
        if asked.out.as_ref().is_some_and(|out| out.exists()) && !asked.overwrite {
            let message = format!("`{}` is there already, and is not written over", out.display());
            return Err(Trouble::usage(message).help("name another file, or add --overwrite"));
        }
        let mut spots = parts.iter().filter_map(|part| part.rehomed.as_ref()).flat_map(|it| &it.replaced);
        let holds_secrets = spots.any(|spot| swaps[spot.swap].secret);
        hands_out(&opened.at, ledger.stage(to_stage), holds_secrets, &asked.countersign)?;
        let mode = if holds_secrets { Mode::OwnerOnly } else { Mode::AsBefore };
        write_atomically(&out, &content(&bytes, &parts)?, mode)?;
    }
    let found = |swap: usize| {
        let spots = parts.iter().filter_map(|part| part.rehomed.as_ref());
        spots
            .flat_map(|it| it.replaced.iter().chain(it.left.iter().map(|(spot, _)| spot)))
            .any(|spot| spot.swap == swap)
    };
    let looked_for = |at: &usize| only.takes(&swaps[*at]);
    Ok(RehomeReport {
        not_found: (0..swaps.len()).filter(looked_for).filter(|at| !found(*at)).collect(),
        common: (0..swaps.len()).filter(|at| swaps[*at].is_common && !looked_for(at)).collect(),
        parts,
        swaps,
        out,
        form,
        written,
    })
}

/// The values that differ between two sides, and what becomes of each part of the artifact.
fn looked_into(
    opened: &Opened,
    asked: &ToRehome,
    bytes: &[u8],
    [from, to]: [(Subject, StageId); 2],
    (assumptions, only): (&[Assumption], &Only),
) -> Result<(Vec<Swap>, Vec<Part>), Trouble> {
    let ledger = &opened.ledger;
    let resolver = opened.assuming(assumptions);
    let mut session = resolver.session(unit_of(from.0));
    let compared = compare::fields(&mut session, from, to);
    let unread = |value: &Effective<'_>| value.unread().is_some();
    if compared.iter().any(|one| one.left_value.iter().chain(&one.right_value).any(unread)) {
        return Err(not_readable(&[ledger.owner(from.0).to_string()], &opened.surroundings, ""));
    }
    only.refuse_unknown(ledger, compared.iter().map(|one| one.left))?;
    let swaps = swaps(ledger, &compared);
    let parts = parts(asked, bytes, &swaps, only)?;
    Ok((swaps, parts))
}

/// The values of the first stage that stand in the parts and that nothing takes the place of, by their positions.
fn lacking(parts: &[Part]) -> BTreeSet<usize> {
    let left = parts.iter().filter_map(|part| part.rehomed.as_ref()).flat_map(|it| &it.left);
    left.filter(|(_, why)| *why == Left::NoValue).map(|(spot, _)| spot.swap).collect()
}

/// What is asked for: the values that the second stage lacks for what stands in the artifact.
fn questions(ledger: &Ledger, swaps: &[Swap], parts: &[Part]) -> Vec<Question> {
    let mut questions: BTreeMap<String, Question> = BTreeMap::new();
    for swap in lacking(parts).into_iter().map(|at| &swaps[at]) {
        // One part of a list or a map is not asked for by itself.
        for (id, _) in swap.ids.iter().zip(&swap.fields).filter(|(_, name)| !name.contains('[')) {
            let (declaration, address) =
                (ledger.field(id.subject, id.slot).1, ledger.address(*id).to_string());
            let elsewhere = swap.shown().map(|(from, _)| ("in the artifact".to_owned(), from.to_owned()));
            questions.entry(address.clone()).or_insert_with(|| Question {
                address,
                asks: declaration.this_type.typed().to_owned(),
                about: declaration.about.as_deref().map(str::to_owned),
                elsewhere,
                secret: declaration.secret || swap.secret,
            });
        }
    }
    questions.into_values().collect()
}

/// Refuses to write while something of the first stage would stay since the second has no value for it.
fn refuse_lacking(ledger: &Ledger, to: &Address, swaps: &[Swap], parts: &[Part]) -> Result<(), Trouble> {
    let lacking: Vec<&Swap> = lacking(parts).into_iter().map(|at| &swaps[at]).collect();
    let Some(first) = lacking.first() else { return Ok(()) };
    let address = first.ids.first().map(|id| ledger.address(*id).to_string()).unwrap_or_default();
    let fields: Vec<String> =
        lacking.iter().flat_map(|swap| &swap.fields).map(|name| format!("`{name}`")).collect();
    let stage = to.stage.as_ref().map(Name::as_str).unwrap_or_default();
    let (stand, have) = if fields.len() == 1 { ("stands", "has") } else { ("stand", "have") };
    let message = format!(
        "nothing is written: {} {stand} in there, and {have} no value in `{stage}`",
        fields.join(", ")
    );
    let for_once = if first.secret { " --stdin" } else { "=VALUE" };
    let help = format!(
        "set it: cledger set {address}; give it for this once: --assume {address}{for_once}, or by a form: \
         --answers FILE; or choose others: --only FIELD"
    );
    Err(Trouble::new(Kind::Found, message).help(help))
}

/// A unit in a stage that an address names.
fn side(opened: &Opened, address: &Address) -> Result<(Subject, StageId), Trouble> {
    let (Some(owner), None, Some(stage)) = (&address.owner, &address.entry, &address.stage) else {
        return Err(Trouble::usage(format!("`{address}` names no unit in a stage"))
            .help("write UNIT[+INSTANCE]@STAGE"));
    };
    let stage = known_stage(&opened.ledger, stage.as_str())?;
    Ok((opened.subject_in(owner, stage)?, stage))
}

/// Where something stands: in a member of an archive, or in the file itself.
pub fn place_of(member: Option<&str>, place: &str) -> String {
    let place = escape(place);
    member.map_or_else(|| place.clone(), |member| format!("{} {place}", escape(member)))
}

impl Only {
    fn read(texts: &[String]) -> Result<Self, Trouble> {
        let mut only = Self { fields: Vec::new(), places: Vec::new() };
        for text in texts {
            if text.starts_with('/') {
                only.places.push(text.clone());
                continue;
            }
            let mut pattern = FieldPatterns::default();
            pattern.add(text).map_err(|_| {
                Trouble::usage(format!("`{text}` is neither a pattern of fields nor a place"))
                    .help("write ENTRY, ENTRY.FIELD, or a place like /server/host")
            })?;
            only.fields.push(pattern);
        }
        Ok(only)
    }

    /// Refuses patterns of fields that the unit does not have.
    fn refuse_unknown(
        &self,
        ledger: &Ledger,
        fields: impl Iterator<Item = FieldId> + Clone,
    ) -> Result<(), Trouble> {
        for pattern in &self.fields {
            let mut named = fields.clone().map(|id| ledger.field(id.subject, id.slot));
            if !named.any(|(entry, field)| {
                pattern.covers(entry.name.as_str(), field.name.as_ref().map(Name::as_str))
            }) {
                let text = pattern.texts().join(", ");
                return Err(Trouble::usage(format!("the unit has no field `{text}`"))
                    .help("`cledger list UNIT` shows its fields"));
            }
        }
        Ok(())
    }

    /// Whether a value is looked for: one that is named, else one that says something by itself.
    fn takes(&self, swap: &Swap) -> bool {
        if self.fields.is_empty() {
            return !swap.is_common;
        }
        let mut names = swap.fields.iter().map(|name| {
            let name = name.split('[').next().unwrap_or(name);
            name.split_once('.').map_or((name, None), |(entry, field)| (entry, Some(field)))
        });
        names.any(|(entry, field)| self.fields.iter().any(|pattern| pattern.covers(entry, field)))
    }

    fn takes_place(&self, place: &str) -> bool {
        let at_or_below = |known: &String| {
            place.strip_prefix(known.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        self.places.is_empty() || self.places.iter().any(at_or_below)
    }
}

fn cannot_be_read(path: &Path, error: &FileError) -> Trouble {
    let message = match error {
        FileError::TooLarge(_) => {
            format!("`{}` is larger than {} MiB, which no artifact is", path.display(), LARGEST >> 20)
        }
        other => format!("`{}` cannot be read: {other}", path.display()),
    };
    Trouble::usage(message).help("name the file that was exported")
}

/// How many archives may be inside one another.
const DEEPEST: usize = 4;

/// The parts of an artifact, one after the other, and what becomes of each.
fn parts(asked: &ToRehome, bytes: &[u8], swaps: &[Swap], only: &Only) -> Result<Vec<Part>, Trouble> {
    let of_text = |name: &str, text: &str| -> Result<Rehomed, Trouble> {
        let found = stretches(Artifact::of(name, text), text).map_err(|error| {
            let message = format!("{name}:{}: this is not what its name says: {}", error.line, error.reason);
            Trouble::usage(message).help("export it again, or give it a name that does not end so")
        })?;
        let chosen = |place: &str, swap: usize| only.takes(&swaps[swap]) && only.takes_place(place);
        Ok(rehomed(text, &found, swaps, chosen))
    };
    let mut parts = Vec::new();
    each(&asked.file, bytes, &mut |member, text| {
        let name = member.map_or_else(|| asked.file.display().to_string(), str::to_owned);
        let rehomed = text.map(|text| of_text(&name, text)).transpose()?;
        parts.push(Part { member: member.map(str::to_owned), rehomed });
        Ok(())
    })?;
    Ok(parts)
}

/// Takes the name of a member, and its text if it has one.
type Look<'l> = dyn FnMut(Option<&str>, Option<&str>) -> Result<(), Trouble> + 'l;

/// Gives the text of a file, or of each member of an archive and of those in it, with the member's name; no text where
/// there is none.
fn each(file: &Path, bytes: &[u8], look: &mut Look<'_>) -> Result<(), Trouble> {
    if archive::is_archive(bytes) {
        return each_member(("", 1), bytes, &mut Unpacked::default(), look);
    }
    let text = std::str::from_utf8(bytes).map_err(|_| cannot_be_read(file, &FileError::NotText))?;
    look(None, Some(text))
}

fn each_member(
    (within, depth): (&str, usize),
    bytes: &[u8],
    so_far: &mut Unpacked,
    look: &mut Look<'_>,
) -> Result<(), Trouble> {
    for member in archive::members(bytes, so_far)? {
        let name = format!("{within}{}", member.name);
        match (member.archive, member.text.map(Zeroizing::new)) {
            (Some(inner), _) if depth < DEEPEST => {
                each_member((&format!("{name}/"), depth + 1), &inner, so_far, look)?;
            }
            (_, text) => look(Some(&name), text.as_ref().map(|text| text.as_str()))?,
        }
    }
    Ok(())
}

/// Refuses what somebody has to decide.
fn refuse_undecided(parts: &[Part], swaps: &[Swap]) -> Result<(), Trouble> {
    let first = |list: fn(&Rehomed) -> &Vec<Spot>| {
        let mut with = parts.iter().filter_map(|part| Some((part.member.as_deref(), part.rehomed.as_ref()?)));
        with.find_map(|(member, rehomed)| {
            Some((place_of(member, &list(rehomed).first()?.place), list(rehomed).first()?.swap))
        })
    };
    if let Some((place, swap)) = first(|it| &it.ambiguous) {
        let same = swaps.iter().filter(|other| other.is_same_text(&swaps[swap]));
        let names: Vec<String> = same.flat_map(|swap| swap.fields.clone()).collect();
        let message =
            format!("the text at {place} can be {}, which get different values", names.join(" or "));
        return Err(Trouble::refused(message).help(format!("say which is meant: --only {}", names[0])));
    }
    if let Some((place, swap)) = first(|it| &it.no_number) {
        let field = &swaps[swap].fields[0];
        let message = format!("the number at {place} is `{field}`, whose new value is no number");
        return Err(Trouble::refused(message).help("choose other fields or places with --only"));
    }
    Ok(())
}

/// The bytes of the new file.
fn content(bytes: &[u8], parts: &[Part]) -> Result<Zeroizing<Vec<u8>>, Trouble> {
    let mut parts = parts.iter();
    let new = if archive::is_archive(bytes) {
        archive_of(bytes, 1, &mut Unpacked::default(), &mut parts)?
    } else {
        parts.next().and_then(changed)
    };
    Ok(new.unwrap_or_else(|| Zeroizing::new(bytes.to_vec())))
}

/// An archive with what became of its parts; `None` where nothing in it changes.
fn archive_of(
    bytes: &[u8],
    depth: usize,
    so_far: &mut Unpacked,
    parts: &mut std::slice::Iter<'_, Part>,
) -> Result<Option<Zeroizing<Vec<u8>>>, Trouble> {
    let mut new = Vec::new();
    for member in archive::members(bytes, so_far)? {
        new.push(match member.archive {
            Some(inner) if depth < DEEPEST => archive_of(&inner, depth + 1, so_far, parts)?,
            _ => parts.next().and_then(changed),
        });
    }
    let changes = new.iter().any(Option::is_some);
    Ok(changes.then(|| archive::packed(bytes, &new)).transpose()?.map(Zeroizing::new))
}

/// The new content of a part, if it has one.
fn changed(part: &Part) -> Option<Zeroizing<Vec<u8>>> {
    let rehomed = part.rehomed.as_ref().filter(|it| !it.replaced.is_empty())?;
    Some(Zeroizing::new(rehomed.text.as_bytes().to_vec()))
}
