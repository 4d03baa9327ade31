//! Where to look and to bring things: the outlets of stages, one folder, or what the ledger said.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::time::Duration;

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::model::{
    DocumentPlace, HttpOutlet, Ledger, NoLabel, Outlet, OutletKind, RowsOutlet, StageId, StageText, Subject,
};
use cledger_core::trust::of_outlet;
use cledger_core::uri::ENCODED;
use cledger_outlets::held::{Asked, DocumentOf, RowsOf, Said, UnitFiles, Values};
use cledger_outlets::reach::Reach;
use cledger_outlets::read_back::{Listing, ReadBack, Source};
use cledger_store::Links;
use percent_encoding::utf8_percent_encode;

use crate::known::require;
use crate::reality::around::Around;
use crate::reality::standing::SAID;
use crate::reality::way::Reading;
use crate::trouble::Trouble;

/// How long a folder that is named may take.
const FOLDER: Duration = Duration::from_secs(60);

/// An outlet in a stage, or a folder.
#[derive(Clone)]
pub(crate) struct Place<'l> {
    pub(crate) outlet: Option<&'l Outlet>,
    pub(crate) stage: StageId,
    pub(crate) subjects: Vec<Subject>,
    /// Whether all units are looked at, so that what is left over is nobody's.
    pub(crate) is_whole: bool,
    pub(crate) source: Source,
    /// Whether it is none of these, but what the ledger said when a capture was taken.
    pub(crate) is_ledger: bool,
    /// What the texts of the outlet are read with, if it is one.
    reading: Option<Reading<'l>>,
    /// The address of the service, if it is one that all units have.
    base: String,
    /// What is asked for so far, and by whom.
    taken: BTreeMap<String, String>,
}

/// One folder in place of a stage's outlets.
pub(crate) fn folder<'l>(
    folder: PathBuf,
    stage: StageId,
    subjects: Vec<Subject>,
    is_whole: bool,
) -> Result<Place<'l>, Trouble> {
    if let Err(error) = std::fs::read_dir(&folder) {
        let message = format!("`{}` cannot be read: {error}", folder.display());
        return Err(Trouble::usage(message).help("name the folder that holds a folder for each unit"));
    }
    let source = Source {
        reach: Reach::Local(PathBuf::new()),
        own: BTreeMap::new(),
        asked: BTreeMap::new(),
        // Whoever names a folder has looked at what is in it.
        listing: Some(Listing::Folders(folder, Links::Followed)),
        limit: FOLDER,
    };
    Ok(Place::without_outlet(stage, subjects, is_whole, source))
}

/// What the ledger said of the units of a stage that these patterns cover.
pub(crate) fn said<'l>(
    patterns: &[Pattern],
    ledger: &'l Ledger,
    stage: StageId,
) -> Result<Place<'l>, Trouble> {
    let is_covered = |subject: &Subject| {
        let owner = ledger.owner(*subject);
        let (unit, instance) = owner.names();
        patterns.iter().any(|pattern| pattern.covers_owner(unit, instance))
    };
    let subjects: Vec<Subject> = ledger.subjects_in(stage).filter(is_covered).collect();
    let is_whole = patterns.iter().all(|pattern| !pattern.has_owner());
    if subjects.is_empty() && !is_whole {
        let texts: Vec<String> = patterns.iter().map(ToString::to_string).collect();
        return Err(Trouble::usage(format!("the ledger has no unit {}", texts.join(", ")))
            .help("`cledger list units` shows them, and in which stages they are"));
    }
    let reach = Reach::None("what the ledger said is reached nowhere".to_owned());
    let (own, asked) = (BTreeMap::new(), BTreeMap::new());
    let source = Source { reach, own, asked, listing: None, limit: FOLDER };
    Ok(Place { is_ledger: true, ..Place::without_outlet(stage, subjects, is_whole, source) })
}

/// All outlets of the stages that these patterns cover, with the units that they cover.
pub(crate) fn outlets<'l>(
    patterns: &[Pattern],
    ledger: &'l Ledger,
    around: &Around<'l>,
) -> Result<Vec<Place<'l>>, Trouble> {
    if ledger.outlets.is_empty() {
        return Err(Trouble::usage("the ledger has no outlets to look at")
            .help("declare one in ledger.toml as [[outlet]], or name a folder: --observed DIR"));
    }
    let mut places = Vec::new();
    for stage in ledger.stage_ids() {
        let name = ledger.stage(stage).name.as_str();
        let of_stage: Vec<&Pattern> = patterns.iter().filter(|it| it.covers_stage(name)).collect();
        if of_stage.is_empty() && !patterns.is_empty() {
            continue;
        }
        for outlet in &ledger.outlets {
            if !outlet.stages[usize::from(stage.0)] || outlet.by_hand().is_some() {
                continue;
            }
            let is_wanted = |subject: &Subject| {
                let owner = ledger.owner(*subject);
                let (unit, instance) = owner.names();
                let mut covering = of_stage.iter();
                outlet.takes(stage, (unit, instance))
                    && (patterns.is_empty() || covering.any(|it| it.covers_owner(unit, instance)))
            };
            let subjects: Vec<Subject> = ledger.subjects_in(stage).filter(is_wanted).collect();
            let is_whole = outlet.units.is_empty() && of_stage.iter().all(|it| !it.has_owner());
            if !subjects.is_empty() || is_whole {
                places.push(place(outlet, stage, (subjects, is_whole), ledger, around)?);
            }
        }
    }
    if places.is_empty() {
        let texts: Vec<String> = patterns.iter().map(ToString::to_string).collect();
        let names: Vec<&str> = ledger.outlets.iter().map(|outlet| outlet.name.as_str()).collect();
        return Err(Trouble::usage(format!("no outlet has anything of {}", texts.join(", ")))
            .help(format!("the outlets are {}, in ledger.toml", names.join(", "))));
    }
    Ok(places)
}

/// The outlets that a unit or instance has in a stage, whether the ledger knows it or not.
pub(crate) fn of_owner<'l>(
    ledger: &'l Ledger,
    around: &Around<'l>,
    owner: &Owner,
    stage: StageId,
) -> Result<Vec<Place<'l>>, Trouble> {
    let taking = ledger.outlets.iter().filter(|outlet| ledger.takes(outlet, stage, owner));
    let taking = taking.filter(|outlet| outlet.by_hand().is_none());
    taking.map(|outlet| place(outlet, stage, (Vec::new(), false), ledger, around)).collect()
}

/// An outlet in a stage; nothing is asked of it yet.
pub(super) fn place<'l>(
    outlet: &'l Outlet,
    stage: StageId,
    (subjects, is_whole): (Vec<Subject>, bool),
    ledger: &'l Ledger,
    around: &Around<'l>,
) -> Result<Place<'l>, Trouble> {
    require(&around.granted, &of_outlet(outlet, ledger, stage))?;
    let reading = Reading::of(ledger, stage, around);
    let mut base = String::new();
    let mut listing = None;
    let reach = match &outlet.kind {
        OutletKind::Directory { path, follow_links } => {
            if !path.refers_to_unit() {
                let folder = expand(outlet, path, ledger, &Owner::Shared, stage)?;
                listing = Some(Listing::Folders(folder.into(), links(*follow_links)));
            }
            Reach::Local(around.ledger_folder.to_owned())
        }
        OutletKind::Process { .. } => Reach::Local(around.ledger_folder.to_owned()),
        OutletKind::ByHand { .. } => Reach::None("it is reached by hand alone".to_owned()),
        kind if kind.way_varies_by_unit() => Reach::None("each unit has a way of its own".to_owned()),
        OutletKind::Http(http) => match reading.http(http, &Owner::Shared) {
            Ok((address, reach)) => {
                base = address;
                reach
            }
            Err(reason) => Reach::None(reason),
        },
        OutletKind::Rows(rows) => {
            if rows.scope.is_none() {
                listing = Some(Listing::Scopes(format!("@{}", ledger.stage(stage).name)));
            }
            reading.rows(rows, &Owner::Shared).map_or_else(Reach::None, Reach::Rows)
        }
    };
    let (own, asked) = (BTreeMap::new(), BTreeMap::new());
    let source = Source { reach, own, asked, listing, limit: outlet.timeout };
    let place = Place::without_outlet(stage, subjects, is_whole, source);
    Ok(Place { outlet: Some(outlet), reading: Some(reading), base, ..place })
}

fn links(follow: bool) -> Links {
    if follow { Links::Followed } else { Links::Refused }
}

/// The path of a unit's folder, parted where what depends on the unit begins: what stands before that is the
/// outlet's own folder.
fn parted(expanded: &str, written: &StageText) -> (PathBuf, PathBuf) {
    let fixed = written.as_written().split('/').take_while(|part| !part.contains("${unit.")).count();
    // A reference to the stage expands to one part, since names hold no `/`; a label might hold some.
    let parts: Vec<&str> = expanded.split('/').collect();
    let behind = written.as_written().split('/').count() - fixed;
    let (base, below) = parts.split_at(parts.len().saturating_sub(behind));
    let base = if base == [""] { "/".to_owned() } else { base.join("/") };
    (base.into(), below.iter().filter(|part| !part.is_empty() && **part != ".").collect())
}

/// Whether an outlet has one and the same place for a unit under two names.
fn is_same_place(outlet: &Outlet, ledger: &Ledger, stage: StageId, [one, other]: [&Owner; 2]) -> bool {
    // Where a path says nothing of the unit, the unit's name follows it.
    let (texts, name_follows): (Vec<&StageText>, bool) = match &outlet.kind {
        OutletKind::Directory { path, .. } => (vec![path], !path.refers_to_unit()),
        OutletKind::Http(http) => (http.place_texts().collect(), !http.names_unit()),
        OutletKind::Rows(rows) => (rows.scope.iter().collect(), rows.scope.is_none()),
        OutletKind::Process { .. } | OutletKind::ByHand { .. } => return false,
    };
    let is_parted = name_follows || outlet.kind.way_varies_by_unit();
    let at = |owner| -> Option<Vec<_>> {
        texts.iter().map(|text| text.expand_for(ledger, owner, stage).ok()).collect()
    };
    !is_parted && at(one).is_some() && at(one) == at(other)
}

/// Whether what was recorded under a name came to the place that a unit has at an outlet.
pub(crate) fn is_its_place(
    ledger: &Ledger,
    (owner, stage): (&Owner, StageId),
    outlet: &str,
    (recorded, recorded_stage): (&str, &str),
) -> bool {
    let tells_stage = |name: &str| {
        let outlet = ledger.outlets.iter().find(|known| known.name.as_str() == name);
        outlet.is_some_and(|outlet| outlet.kind.tells_stage())
    };
    if recorded_stage != ledger.stage(stage).name.as_str() && tells_stage(outlet) {
        return false;
    }
    if owner.to_string() == recorded {
        return true;
    }
    let Some(other) = Address::parse(recorded).ok().and_then(|address| address.owner) else { return false };
    let outlet = ledger.outlets.iter().find(|known| known.name.as_str() == outlet);
    outlet.is_some_and(|outlet| is_same_place(outlet, ledger, stage, [owner, &other]))
}

/// The unit or instance of the stage whose place at an outlet is that of another one, which is not there any more.
pub(crate) fn holder(ledger: &Ledger, outlet: &Outlet, stage: StageId, gone: &Owner) -> Option<Owner> {
    let taken = |owner: &Owner| {
        owner != gone
            && outlet.takes(stage, owner.names())
            && is_same_place(outlet, ledger, stage, [owner, gone])
    };
    ledger.subjects_in(stage).map(|subject| ledger.owner(subject)).find(taken)
}

pub(super) fn expand(
    outlet: &Outlet,
    text: &StageText,
    ledger: &Ledger,
    owner: &Owner,
    stage: StageId,
) -> Result<String, Trouble> {
    let expanded = text.expand_for(ledger, owner, stage).map_err(|missing| no_label(outlet, &missing))?;
    Ok(expanded.into_owned())
}

fn no_label(outlet: &Outlet, missing: &NoLabel) -> Trouble {
    Trouble::usage(format!("outlet `{}`: {missing}", outlet.name))
        .help("give the stage the label in ledger.toml, or name fewer stages")
}

/// What rows that are ours hold beside, for messages.
fn said_of(only: &[(String, String)]) -> String {
    only.iter().flat_map(|(column, text)| [", ", column, " ", text]).collect()
}

impl Place<'_> {
    fn without_outlet(stage: StageId, subjects: Vec<Subject>, is_whole: bool, source: Source) -> Self {
        let (base, taken) = (String::new(), BTreeMap::new());
        let (outlet, reading, is_ledger) = (None, None, false);
        Self { outlet, stage, subjects, is_whole, source, is_ledger, reading, base, taken }
    }

    /// Asks for these files of a unit or instance, or whatever else it has there.
    pub(crate) fn ask(&mut self, ledger: &Ledger, of: &Owner, files: Vec<String>) -> Result<(), Trouble> {
        let owner = of.to_string();
        self.find_own_way(of);
        let text = |outlet, text| expand(outlet, text, ledger, of, self.stage);
        let asked = match self.outlet.map(|outlet| (outlet, &outlet.kind)) {
            Some((outlet, OutletKind::Process { pid_file })) => {
                Asked::Environment(text(outlet, pid_file)?.into())
            }
            Some((outlet, OutletKind::Http(http))) => {
                Asked::Document(self.document((outlet, http), ledger, of)?)
            }
            Some((outlet, OutletKind::Rows(rows))) => Asked::Rows(self.rows(outlet, rows, of)?),
            directory => {
                let (base, below, links) = match (&self.source.listing, directory) {
                    (Some(Listing::Folders(folder, links)), _) => {
                        (folder.clone(), owner.clone().into(), *links)
                    }
                    (_, Some((outlet, OutletKind::Directory { path, follow_links }))) => {
                        let (base, below) = parted(&text(outlet, path)?, path);
                        (base, below, links(*follow_links))
                    }
                    _ => (PathBuf::new(), owner.clone().into(), Links::Refused),
                };
                // What else is in a folder is the unit's business only where the folder is its own.
                let all = !below.as_os_str().is_empty();
                Asked::Files(UnitFiles { base, below, paths: files, links, all })
            }
        };
        self.refuse_sharing(&asked, &owner)?;
        self.source.asked.insert(owner, asked);
        Ok(())
    }

    /// Says in which words the values of a unit were said, for rows whose columns have words of their own.
    pub(crate) fn say(&mut self, of: &Owner, said: Vec<Values>) {
        if let Some(Asked::Rows(rows)) = self.source.asked.get_mut(&of.to_string()) {
            rows.said = Said(said);
        }
    }

    /// Finds the way of a unit, where each has one of its own.
    fn find_own_way(&mut self, of: &Owner) {
        let (Some(outlet), Some(reading)) = (self.outlet, &self.reading) else { return };
        if !outlet.kind.way_varies_by_unit() {
            return;
        }
        let reach = match &outlet.kind {
            OutletKind::Http(http) => reading.http(http, of).map(|(base, reach)| {
                self.base = base;
                reach
            }),
            OutletKind::Rows(rows) => reading.rows(rows, of).map(Reach::Rows),
            OutletKind::Directory { .. } | OutletKind::Process { .. } | OutletKind::ByHand { .. } => return,
        };
        self.source.own.insert(of.to_string(), reach.unwrap_or_else(Reach::None));
    }

    /// The rows of a unit.
    fn rows(&self, outlet: &Outlet, rows: &RowsOutlet, of: &Owner) -> Result<RowsOf, Trouble> {
        let Some(reading) = &self.reading else { return Ok(RowsOf::default()) };
        reading.rows_of((outlet, rows), of)
    }

    /// The address of a unit's document.
    fn url(
        &self,
        outlet: &Outlet,
        http: &HttpOutlet,
        ledger: &Ledger,
        owner: &Owner,
    ) -> Result<String, Trouble> {
        let path = expand(outlet, &http.path, ledger, owner, self.stage)?;
        let mut url = self.base.trim_end_matches('/').to_owned();
        let path = path.trim_matches('/');
        if !path.is_empty() {
            url.push('/');
            url.push_str(path);
        }
        if !http.names_unit() {
            url.push('/');
            url.extend(utf8_percent_encode(&owner.to_string(), ENCODED));
        }
        Ok(url)
    }

    /// A unit's document, and what of it is the unit's.
    fn document(
        &self,
        (outlet, http): (&Outlet, &HttpOutlet),
        ledger: &Ledger,
        owner: &Owner,
    ) -> Result<DocumentOf, Trouble> {
        let text = |text: &StageText| expand(outlet, text, ledger, owner, self.stage);
        let DocumentPlace { at, find, next, new } = &http.place;
        let pair = |(name, said): &(String, StageText)| Ok((name.clone(), text(said)?));
        Ok(DocumentOf {
            url: self.url(outlet, http, ledger, owner)?,
            find: find.as_ref().map(text).transpose()?,
            next: next.clone(),
            at: at.iter().map(text).collect::<Result<_, _>>()?,
            new: new.iter().map(pair).collect::<Result<_, Trouble>>()?,
        })
    }

    /// Two units cannot have one place: each would take what the other has for its own.
    fn refuse_sharing(&mut self, asked: &Asked, owner: &str) -> Result<(), Trouble> {
        // What is not reached is told with its reason.
        if matches!(self.source.own.get(owner), Some(Reach::None(_))) {
            return Ok(());
        }
        let key = match asked {
            Asked::Files(files) => files.base.join(&files.below).display().to_string(),
            Asked::Document(of) => {
                let parts = of.find.iter().chain(&of.at).map(|text| format!(", {text}"));
                format!("{}{}", of.url, parts.collect::<String>())
            }
            Asked::Rows(of) => {
                // Ways that differ may lead to one and the same table all the same.
                let way = self.way_in_words(owner);
                for table in of.tables.iter().filter(|table| table.is_needed) {
                    let key = format!("{way}{}{}", table.table.join("."), said_of(&table.only));
                    self.refuse_twice(key, owner)?;
                }
                format!("{way}{}{}", of.scope, said_of(&of.only))
            }
            // One process can be several units.
            Asked::Environment(_) => return Ok(()),
        };
        self.refuse_twice(key, owner)
    }

    /// Where the way of a unit leads, as the outlet says it; empty where all have one.
    fn way_in_words(&self, owner: &str) -> String {
        let (Some(outlet), Some(reading)) = (self.outlet, &self.reading) else { return String::new() };
        match &outlet.kind {
            OutletKind::Rows(rows) if self.source.own.contains_key(owner) => reading.place_of(rows, owner),
            _ => String::new(),
        }
    }

    fn refuse_twice(&mut self, key: String, owner: &str) -> Result<(), Trouble> {
        let outlet = self.outlet.map(|outlet| outlet.name.to_string()).unwrap_or_default();
        if let Some(other) = self.taken.get(&key).filter(|other| *other != owner) {
            let message = format!("outlet `{outlet}` has one place, `{key}`, for `{other}` and `{owner}`");
            return Err(Trouble::usage(message).help("let it refer to ${unit.name} and ${unit.instance}"));
        }
        self.taken.insert(key, owner.to_owned());
        Ok(())
    }

    /// Whether files are not what it has.
    pub(crate) fn is_process(&self) -> bool {
        self.outlet.is_some_and(|outlet| matches!(outlet.kind, OutletKind::Process { .. }))
    }

    /// Whether its table is an application's own, if it has rows.
    pub(crate) fn has_rows(&self) -> Option<bool> {
        match self.outlet.map(|outlet| &outlet.kind) {
            Some(OutletKind::Rows(rows)) => Some(rows.columns.are_given),
            _ => None,
        }
    }

    /// Whether it can tell which units are there.
    pub(crate) fn tells_names(&self) -> bool {
        self.is_whole && self.source.listing.is_some()
    }

    /// Whether a name there is never ours.
    pub(crate) fn keeps(&self, name: &str) -> bool {
        self.outlet.is_some_and(|outlet| outlet.keeps(name))
    }

    /// Why nothing came back.
    pub(crate) fn trouble(&self, back: &ReadBack) -> String {
        let late = || format!("no answer within {} s", self.source.limit.as_secs_f32());
        back.trouble.clone().unwrap_or_else(late)
    }

    /// The outlet's name and kind, if it is one, or what stands for these.
    pub(crate) fn outlet_name(&self) -> Option<(String, &'static str)> {
        if self.is_ledger {
            return Some((SAID.0.to_owned(), SAID.1));
        }
        self.outlet.map(|outlet| (outlet.name.to_string(), outlet.kind.name()))
    }

    /// What is there that no unit of the stage is.
    pub(crate) fn unknown<'b>(&self, ledger: &Ledger, back: &'b ReadBack) -> Vec<&'b String> {
        if !self.is_whole {
            return Vec::new();
        }
        let subjects = ledger.subjects_in(self.stage);
        let known: BTreeSet<String> = subjects.map(|subject| ledger.owner(subject).to_string()).collect();
        back.names.iter().filter(|name| !known.contains(*name) && !self.keeps(name)).collect()
    }
}
