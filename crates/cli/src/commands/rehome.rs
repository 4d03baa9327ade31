//! `cledger rehome`: an artifact exported from one stage, with the values of another.

mod archive;

use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::compare;
use cledger_core::model::{FieldPatterns, Ledger};
use cledger_core::name::Name;
use cledger_core::rehome::{Rehomed, Spot, Swap, rehome, swaps};
use cledger_core::resolve::{FieldId, Resolver};
use cledger_formats::{Artifact, stretches};
use cledger_outlets::file::FileError;
use cledger_store::{Mode, write_atomically};
use zeroize::Zeroizing;

use super::show::without_delivery;
use crate::app::{App, known_stage, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::existing;
use crate::options::HandOutOptions;
use crate::output::{json, text};
use crate::rendered::not_readable;

/// The largest artifact, in bytes.
const LARGEST: usize = 64 << 20;

#[derive(Debug, Args)]
pub(crate) struct RehomeArgs {
    /// The artifact: JSON, XML, any other text, or a zip archive of them
    file: PathBuf,
    /// Whose values are in it: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), long, value_name = "ADDRESS")]
    from: String,
    /// Whose values take their places: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), long, value_name = "ADDRESS")]
    to: String,
    /// Only these fields (ENTRY or ENTRY.FIELD, a pattern), or only at and below a place (/JSON/POINTER)
    #[arg(long, value_name = "FIELD|PLACE", value_delimiter = ',')]
    only: Vec<String>,
    /// Write to this file instead of the artifact itself
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    hand_out: HandOutOptions,
}

/// What rehoming one file, or one member of an archive, came to.
pub(crate) struct Part {
    /// The member's name in an archive.
    pub(crate) member: Option<String>,
    /// `None` for a member that is no text.
    pub(crate) rehomed: Option<Rehomed>,
}

/// What rehoming came to.
pub(crate) struct Report<'r> {
    pub(crate) parts: &'r [Part],
    pub(crate) swaps: &'r [Swap],
    /// Values that were looked for and stand nowhere.
    pub(crate) not_found: Vec<usize>,
    /// Values that say too little to be looked for.
    pub(crate) common: Vec<usize>,
    pub(crate) out: &'r Path,
    pub(crate) written: bool,
}

/// What is to be replaced.
struct Only {
    /// One for each that was named.
    fields: Vec<FieldPatterns>,
    places: Vec<String>,
}

pub(crate) fn run(args: &RehomeArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (from, to) = (side(&args.from)?, side(&args.to)?);
    let only = Only::read(&args.only)?;
    let (root, ledger) = app.open(&scope_of([&from.0, &to.0]))?;
    let stages = (known_stage(&ledger, from.1.as_str())?, known_stage(&ledger, to.1.as_str())?);
    let subject = |address: &Address, stage| match &address.owner {
        Some(owner) => app.subject_in(&ledger, owner, stage),
        None => Err(CliError::usage(format!("`{address}` names no unit"))),
    };
    let subjects = (subject(&from.0, stages.0)?, subject(&to.0, stages.1)?);
    if unit_of(subjects.0) != unit_of(subjects.1) {
        let message = "the two are different units, whose entries do not correspond";
        return Err(CliError::usage(message).help("name one unit in two stages"));
    }
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let mut session = resolver.session(unit_of(subjects.0));
    let compared = compare::fields(&mut session, (subjects.0, stages.0), (subjects.1, stages.1));
    let unread = |value: &cledger_core::resolve::Effective<'_>| value.unread().is_some();
    if compared.iter().any(|one| one.left_value.iter().chain(&one.right_value).any(unread)) {
        return Err(not_readable(&[ledger.owner(subjects.0).to_string()], &outside, ""));
    }
    only.refuse_unknown(&ledger, compared.iter().map(|one| one.left))?;
    let swaps = swaps(&ledger, &compared);
    let bytes = existing::bytes(&args.file, LARGEST).map_err(|error| cannot_be_read(&args.file, &error))?;
    let is_archive = archive::is_archive(&bytes);
    let parts = parts(args, &bytes, is_archive, &swaps, &only)?;
    refuse_undecided(&parts, &swaps)?;
    let out = args.out.as_deref().unwrap_or(&args.file);
    let changes = parts.iter().filter_map(|part| part.rehomed.as_ref()).any(|it| !it.replaced.is_empty());
    let written = args.write && (changes || args.out.is_some());
    if written {
        let is_secret = |spot: &Spot| swaps[spot.swap].secret;
        let mut spots = parts.iter().filter_map(|part| part.rehomed.as_ref()).flat_map(|it| &it.replaced);
        let holds_secrets = spots.any(is_secret);
        args.hand_out.grant(ledger.stage(stages.1), holds_secrets)?;
        let mode = if holds_secrets { Mode::OwnerOnly } else { Mode::AsBefore };
        write_atomically(out, &content(&bytes, is_archive, &parts)?, mode)?;
    }
    let found = |swap: usize| {
        let spots = parts.iter().filter_map(|part| part.rehomed.as_ref());
        spots
            .flat_map(|it| it.replaced.iter().chain(it.left.iter().map(|(spot, _)| spot)))
            .any(|spot| spot.swap == swap)
    };
    let looked_for = |at: &usize| only.takes(&swaps[*at]);
    let report = Report {
        not_found: (0..swaps.len()).filter(looked_for).filter(|at| !found(*at)).collect(),
        common: (0..swaps.len()).filter(|at| swaps[*at].is_common && !looked_for(at)).collect(),
        parts: &parts,
        swaps: &swaps,
        out,
        written,
    };
    let is_left = parts.iter().filter_map(|part| part.rehomed.as_ref()).any(|it| !it.left.is_empty());
    if app.console.is_json() {
        app.console.document(&json::rehome::document(&report));
    } else {
        text::rehome::print(app.console, &report);
    }
    Ok(if is_left { status::FOUND } else { status::CLEAN })
}

/// An address of a unit in a stage.
fn side(text: &str) -> Result<(Address, Name), CliError> {
    let address = without_delivery(Address::parse(text)?)?;
    match (&address.owner, &address.entry, &address.stage) {
        (Some(_), None, Some(stage)) => {
            let stage = stage.clone();
            Ok((address, stage))
        }
        _ => {
            Err(CliError::usage(format!("`{text}` names no unit in a stage"))
                .help("write UNIT[+INSTANCE]@STAGE"))
        }
    }
}

impl Only {
    fn read(texts: &[String]) -> Result<Self, CliError> {
        let mut only = Self { fields: Vec::new(), places: Vec::new() };
        for text in texts {
            if text.starts_with('/') {
                only.places.push(text.clone());
                continue;
            }
            let mut pattern = FieldPatterns::default();
            pattern.add(text).map_err(|_| {
                CliError::usage(format!("`{text}` is neither a pattern of fields nor a place"))
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
    ) -> Result<(), CliError> {
        for pattern in &self.fields {
            let mut named = fields.clone().map(|id| ledger.field(id.subject, id.slot));
            if !named.any(|(entry, field)| {
                pattern.covers(entry.name.as_str(), field.name.as_ref().map(Name::as_str))
            }) {
                let text = pattern.texts().join(", ");
                return Err(CliError::usage(format!("the unit has no field `{text}`"))
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

fn cannot_be_read(path: &Path, error: &FileError) -> CliError {
    let message = match error {
        FileError::TooLarge(_) => {
            format!("`{}` is larger than {} MiB, which no artifact is", path.display(), LARGEST >> 20)
        }
        other => format!("`{}` cannot be read: {other}", path.display()),
    };
    CliError::usage(message).help("name the file that was exported")
}

fn parts(
    args: &RehomeArgs,
    bytes: &[u8],
    is_archive: bool,
    swaps: &[Swap],
    only: &Only,
) -> Result<Vec<Part>, CliError> {
    let of_text = |name: &str, text: &str| -> Result<Rehomed, CliError> {
        let found = stretches(Artifact::of(name, text), text).map_err(|error| {
            let message = format!("{name}:{}: this is not what its name says: {}", error.line, error.reason);
            CliError::usage(message).help("export it again, or give it a name that does not end so")
        })?;
        let chosen = |place: &str, swap: usize| only.takes(&swaps[swap]) && only.takes_place(place);
        Ok(rehome(text, &found, swaps, chosen))
    };
    if !is_archive {
        let text = std::str::from_utf8(bytes).map_err(|_| cannot_be_read(&args.file, &FileError::NotText))?;
        let rehomed = of_text(&args.file.display().to_string(), text)?;
        return Ok(vec![Part { member: None, rehomed: Some(rehomed) }]);
    }
    let members = archive::members(bytes)?.into_iter().map(|member| {
        let text = member.text.map(Zeroizing::new);
        let rehomed = text.map(|text| of_text(&member.name, &text)).transpose()?;
        Ok(Part { member: Some(member.name), rehomed })
    });
    members.collect()
}

/// Refuses what somebody has to decide.
fn refuse_undecided(parts: &[Part], swaps: &[Swap]) -> Result<(), CliError> {
    let first = |list: fn(&Rehomed) -> &Vec<Spot>| {
        let mut with = parts.iter().filter_map(|part| Some((part.member.as_deref(), part.rehomed.as_ref()?)));
        with.find_map(|(member, rehomed)| {
            Some((text::rehome::place(member, &list(rehomed).first()?.place), list(rehomed).first()?.swap))
        })
    };
    if let Some((place, swap)) = first(|it| &it.ambiguous) {
        let same = swaps.iter().filter(|other| other.is_same_text(&swaps[swap]));
        let names: Vec<String> = same.flat_map(|swap| swap.fields.clone()).collect();
        let message =
            format!("the text at {place} can be {}, which get different values", names.join(" or "));
        return Err(CliError::refused(message).help(format!("say which is meant: --only {}", names[0])));
    }
    if let Some((place, swap)) = first(|it| &it.no_number) {
        let field = &swaps[swap].fields[0];
        let message = format!("the number at {place} is `{field}`, whose new value is no number");
        return Err(CliError::refused(message).help("choose other fields or places with --only"));
    }
    Ok(())
}

/// The bytes of the new file.
fn content(bytes: &[u8], is_archive: bool, parts: &[Part]) -> Result<Zeroizing<Vec<u8>>, CliError> {
    let new: Vec<Option<&str>> = parts
        .iter()
        .map(|part| {
            let rehomed = part.rehomed.as_ref().filter(|it| !it.replaced.is_empty())?;
            Some(rehomed.text.as_str())
        })
        .collect();
    let content = match new.first() {
        _ if is_archive => archive::packed(bytes, &new)?,
        Some(Some(text)) => text.as_bytes().to_vec(),
        _ => bytes.to_vec(),
    };
    Ok(Zeroizing::new(content))
}
