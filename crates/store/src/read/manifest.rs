//! `ledger.toml`: the stages and groups, and what is said of the ledger as a whole.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use cledger_core::model::{
    Aligned, Bundle, Class, DaybookStore, Follow, Group, GroupId, Judging, Mistake, Outlet, Stage, StageId,
};
use cledger_core::name::Name;

use super::bundles::bundles;
use super::contract::{chores, formerly};
use super::frame::{In, Item};
use super::judging::judging;
use super::outlets::outlets;
use super::stages::named_stage;
use super::toml_table::{TomlKey, TomlTable};
use crate::vocabulary::{ALIGNED, DAYBOOK, FOLLOW, GROUP, LEDGER, STAGE, names};

/// The format of ledgers that this version reads.
const FORMAT: i64 = 1;

/// The most layers that one stage may have: follows of follows multiply.
const MOST_LAYERS: usize = 10_000;

/// What `ledger.toml` says.
#[derive(Default)]
pub(super) struct Manifest {
    pub(super) name: String,
    pub(super) default_stage: Option<StageId>,
    pub(super) stages: Vec<Stage>,
    pub(super) groups: Vec<Group>,
    pub(super) aligned: Vec<Aligned>,
    pub(super) judging: Judging,
    pub(super) outlets: Vec<Outlet>,
    pub(super) bundles: Vec<Bundle>,
    pub(super) daybook: DaybookStore,
    pub(super) anchors: bool,
}

const KEYS: [&str; LEDGER.len()] = names(&LEDGER);
const STAGE_KEYS: [&str; STAGE.len()] = names(&STAGE);
const ROUTINE_KEYS: [&str; 4] = ["name", "about", "search", "replace"];
const SEARCH_KEYS: [&str; 17] = [
    "pattern",
    "kind",
    "type",
    "class",
    "layer",
    "owner",
    "equals",
    "contains",
    "matches",
    "over",
    "under",
    "beside",
    "secret",
    "no_secret",
    "output_name",
    "with_why",
    "past_until",
];
const REPLACE_KEYS: [&str; 9] =
    ["to", "swap", "lead", "regex", "in_references", "names", "name_swap", "name_lead", "name_regex"];

/// A stage's table, with what in it names other stages and groups.
struct Declared<'t, 'i> {
    table: &'t TomlTable<'i>,
    span: Range<usize>,
}

/// Reads `ledger.toml`.
pub(super) fn manifest(read: In<'_>, table: &TomlTable<'_>) -> Manifest {
    let mut manifest = Manifest::default();
    read.keys(table, &KEYS, |key, item| match key {
        "format" => match read.value(item) {
            cledger_core::value::Value::Integer(FORMAT) => {}
            _ => read.wrong_with(
                item.span(),
                format!("this version of cledger reads ledgers of format {FORMAT}"),
                format!("write `format = {FORMAT}`, or take a newer cledger"),
            ),
        },
        "name" => read.text(item, "`name`").unwrap_or_default().clone_into(&mut manifest.name),
        _ => {}
    });
    for (key, help) in [("format", "write `format = 1` in its first line"), ("name", "write name = \"…\"")]
    {
        if !table.contains_key(key) {
            read.wrong_with(0..0, format!("the ledger has no `{key}`"), help);
        }
    }
    let declared = stages(read, table, &mut manifest);
    groups(read, table, &declared, &mut manifest);
    refuse_claimed_twice(read, &manifest);
    for (position, stage) in declared.iter().enumerate() {
        relate(read, stage, position, &mut manifest);
    }
    circles(read, &manifest, &declared);
    default_stage(read, table, &mut manifest);
    aligned(read, table, &mut manifest);
    manifest.judging = judging(read, table, &manifest.stages);
    manifest.outlets = outlets(read, table, &manifest.stages);
    manifest.bundles = bundles(read, table);
    let (store, anchors) = daybook(read, table);
    manifest.daybook = store.unwrap_or_default();
    manifest.anchors = anchors;
    routines(read, table);
    manifest
}

/// Where deliveries are recorded, and whether each record gets a line in a file of the ledger.
fn daybook(read: In<'_>, table: &TomlTable<'_>) -> (Option<DaybookStore>, bool) {
    let daybook = table.get("daybook").and_then(|item| read.table(item, "`daybook`"));
    let Some(daybook) = daybook else { return (None, false) };
    let (mut store, mut anchors) = (None, false);
    read.keys(daybook, &names(&DAYBOOK), |key, item| match key {
        "store" => store = read.choice(item, "`store`", &DaybookStore::ALL),
        _ => anchors = read.boolean(item, "`anchors`").unwrap_or_default(),
    });
    (store, anchors)
}

/// Checks the keys and names of routines; what is in them is read when one is used.
fn routines(read: In<'_>, table: &TomlTable<'_>) {
    let mut names: Vec<Name> = Vec::new();
    for item in table.get("routine").map(|item| read.list(item, "`routine`")).unwrap_or_default() {
        let Some(routine) = read.table(item, "a routine") else { continue };
        read.keys(routine, &ROUTINE_KEYS, |key, item| {
            let known: &[&str] = match key {
                "search" => &SEARCH_KEYS,
                "replace" => &REPLACE_KEYS,
                _ => return,
            };
            if let Some(table) = read.table(item, &format!("`{key}`")) {
                read.keys(table, known, |_, _| {});
            }
        });
        let Some(name_item) = routine.get("name") else {
            read.wrong(item.span(), "this routine has no `name`");
            continue;
        };
        let text = read.text(name_item, "a routine's name");
        let Some(name) = text.and_then(|text| read.name_text(text, name_item.span(), "a routine", false))
        else {
            continue;
        };
        if names.contains(&name) {
            read.wrong(name_item.span(), format!("there is a routine `{name}` already"));
        }
        names.push(name);
    }
}

/// The stages with what stands in their own tables alone.
fn stages<'t, 'i>(read: In<'_>, table: &'t TomlTable<'i>, manifest: &mut Manifest) -> Vec<Declared<'t, 'i>> {
    let mut declared = Vec::new();
    let items = table.get("stage").map(|item| read.list(item, "`stage`")).unwrap_or_default();
    let mut names = BTreeSet::new();
    for item in items {
        let Some(table) = read.table(item, "a stage") else { continue };
        read.keys(table, &STAGE_KEYS, |_, _| {});
        let Some(name_item) = table.get("name") else {
            read.wrong(item.span(), "this stage has no `name`");
            continue;
        };
        let text = read.text(name_item, "a stage's name");
        let Some(name) = text.and_then(|text| read.name_text(text, name_item.span(), "a stage", true)) else {
            continue;
        };
        if !names.insert(name.clone()) {
            read.wrong(name_item.span(), format!("there is a stage `{name}` already"));
            continue;
        }
        let classes = Class::ALL;
        let class = if let Some(item) = table.get("class") {
            read.choice(item, "the class", &classes)
        } else {
            let help = "write class = \"development\", \"test\" or \"production\"";
            read.wrong_with(item.span(), format!("stage `{name}` has no `class`"), help);
            None
        };
        let as_tested = table.get("as_tested").and_then(|item| read.boolean(item, "`as_tested`"));
        let locked = table.get("locked").and_then(|item| read.boolean(item, "`locked`"));
        let own = table.get("own").map(|item| read.texts(item, "`own`")).unwrap_or_default();
        let formerly = table.get("formerly").map(|item| formerly(read, item, (name.as_str(), "stage")));
        manifest.stages.push(Stage {
            name,
            formerly: formerly.unwrap_or_default(),
            class: class.unwrap_or(Class::Production),
            groups: Vec::new(),
            after: Vec::new(),
            locked: locked.unwrap_or(false),
            as_tested: as_tested.unwrap_or(false),
            own: own.into_iter().filter_map(|(text, span)| read.pattern(text, span)).collect(),
            labels: table.get("labels").map(|item| labels(read, item)).unwrap_or_default(),
            follows: Vec::new(),
            chores: table.get("chore").map(|item| chores(read, item)).unwrap_or_default(),
            place: read.place(name_item.span()),
        });
        declared.push(Declared { table, span: name_item.span() });
    }
    declared
}

fn labels(read: In<'_>, item: Item<'_, '_>) -> BTreeMap<Name, String> {
    let table = read.table(item, "`labels`").into_iter().flatten();
    let label = |(key, item): (&TomlKey<'_>, Item<'_, '_>)| {
        Some((read.name(key, "a label", false)?, read.text(item, "a label")?.to_owned()))
    };
    table.filter_map(label).collect()
}

/// The groups: those that stages list, those declared as `[[group]]`, those with a file.
fn groups(read: In<'_>, table: &TomlTable<'_>, stages: &[Declared<'_, '_>], manifest: &mut Manifest) {
    let mut groups: BTreeMap<Name, Option<String>> = BTreeMap::new();
    let is_stage = |name: &Name| manifest.stages.iter().any(|stage| stage.name == *name);
    let mut add = |text: &str, span: Range<usize>, about: Option<String>| {
        let Some(name) = read.name_text(text, span.clone(), "a group", true) else { return };
        if is_stage(&name) {
            read.wrong(span, format!("`{name}` is a stage: stages and groups share one set of names"));
            return;
        }
        let known = groups.entry(name).or_default();
        *known = known.take().or(about);
    };
    for item in table.get("group").map(|item| read.list(item, "`group`")).unwrap_or_default() {
        let Some(group) = read.table(item, "a group") else { continue };
        let (mut name, mut about) = (None, None);
        read.keys(group, &names(&GROUP), |key, item| match key {
            "name" => name = read.text(item, "a group's name").map(|text| (text, item.span())),
            _ => about = read.text(item, "`about`").map(str::to_owned),
        });
        match name {
            Some((text, span)) => add(text, span, about),
            None => read.wrong(item.span(), "this group has no `name`"),
        }
    }
    for stage in stages {
        let Some(item) = stage.table.get("groups") else { continue };
        read.texts(item, "`groups`").into_iter().for_each(|(text, span)| add(text, span, None));
    }
    manifest.groups = groups.into_iter().map(|(name, about)| Group { name, about }).collect();
}

impl Manifest {
    fn group(&self, name: &str) -> Option<GroupId> {
        let found = self.groups.iter().position(|group| group.name.as_str() == name)?;
        u16::try_from(found).ok().map(GroupId)
    }

    /// The stage that a text names, or a mistake with the nearest one.
    fn named_stage(&self, read: In<'_>, text: &str, span: Range<usize>) -> Option<StageId> {
        named_stage(read, &self.stages, text, span)
    }
}

/// A name leads to one stage: a former one is neither another one's name now nor its former one, nor a group's.
fn refuse_claimed_twice(read: In<'_>, manifest: &Manifest) {
    let mut claimed: BTreeMap<&Name, &Name> = BTreeMap::new();
    for (stage, former) in
        manifest.stages.iter().flat_map(|stage| stage.formerly.iter().map(move |it| (stage, it)))
    {
        let name = &former.name;
        let is_one = manifest.stages.iter().any(|known| known.name == *name)
            || manifest.group(name.as_str()).is_some();
        let message = if is_one {
            format!(
                "`{name}` is a stage or a group of the ledger, so `{}` cannot have been called so",
                stage.name
            )
        } else if let Some(other) = claimed.insert(name, &stage.name) {
            format!("`{name}` is a former name of `{other}`, too")
        } else {
            continue;
        };
        let help = "what was delivered under a name is the history of one stage: leave it out of `formerly` of the other";
        read.mistakes.push(Mistake::at(former.place, message).help(help));
    }
}

/// What a stage's table says of other stages and of groups.
fn relate(read: In<'_>, declared: &Declared<'_, '_>, position: usize, manifest: &mut Manifest) {
    let texts = |key: &str| {
        let item = declared.table.get(key);
        item.map(|item| read.texts(item, &format!("`{key}`"))).unwrap_or_default()
    };
    let mut groups: Vec<GroupId> = Vec::new();
    for (text, span) in texts("groups") {
        match manifest.group(text) {
            Some(group) if groups.contains(&group) => {
                read.wrong(span, format!("group `{text}` is listed twice"));
            }
            Some(group) => groups.push(group),
            // Refused when the groups were collected.
            None => {}
        }
    }
    let named = |(text, span): (&str, Range<usize>)| manifest.named_stage(read, text, span);
    let after = texts("after").into_iter().filter_map(named).collect();
    let items = declared.table.get("follow").map(|item| read.list(item, "`follow`"));
    let follows =
        items.unwrap_or_default().into_iter().filter_map(|item| follow(read, item, manifest)).collect();
    let stage = &mut manifest.stages[position];
    (stage.groups, stage.after, stage.follows) = (groups, after, follows);
}

fn follow(read: In<'_>, item: Item<'_, '_>, manifest: &Manifest) -> Option<Follow> {
    let table = read.table(item, "a follow")?;
    let mut stage = None;
    let (mut only, mut except) = (Vec::new(), Vec::new());
    read.keys(table, &names(&FOLLOW), |key, item| {
        if key == "stage" {
            let text = read.text(item, "`stage`");
            stage = text.and_then(|text| manifest.named_stage(read, text, item.span()));
        } else {
            let texts = read.texts(item, &format!("`{key}`")).into_iter();
            let patterns = texts.filter_map(|(text, span)| read.pattern(text, span)).collect();
            *(if key == "only" { &mut only } else { &mut except }) = patterns;
        }
    });
    if !table.contains_key("stage") {
        read.wrong(item.span(), "this follow has no `stage`");
    }
    Some(Follow { stage: stage?, only, except, place: read.place(item.span()) })
}

/// Refuses circles of follows and of `after`, and follows that multiply beyond all use.
fn circles(read: In<'_>, manifest: &Manifest, declared: &[Declared<'_, '_>]) {
    type Next = fn(&Stage) -> Vec<StageId>;
    let relations: [(&str, Next); 2] = [
        ("follows itself", |stage| stage.follows.iter().map(|follow| follow.stage).collect()),
        ("comes after itself", |stage| stage.after.clone()),
    ];
    let mut any = false;
    for (what, next) in relations {
        // A circle is told at the first of its stages.
        let mut told: BTreeSet<usize> = BTreeSet::new();
        for (start, stage) in declared.iter().enumerate() {
            if told.contains(&start) {
                continue;
            }
            if let Some(path) = way_back(manifest, start, next) {
                any = true;
                told.extend(&path);
                let names: Vec<_> = path.iter().map(|&at| manifest.stages[at].name.as_str()).collect();
                let name = &manifest.stages[start].name;
                let message = format!("stage `{name}` {what}: {}", names.join(" → "));
                read.wrong_with(stage.span.clone(), message, "take one of these steps out");
            }
        }
    }
    if any {
        return;
    }
    let mut layers = vec![None; manifest.stages.len()];
    for (at, stage) in declared.iter().enumerate() {
        if count_layers(manifest, at, &mut layers) > MOST_LAYERS {
            let message = format!("the follows of this stage make more than {MOST_LAYERS} layers");
            read.wrong_with(stage.span.clone(), message, "let it follow fewer stages that follow others");
            return;
        }
    }
}

/// The shortest way from a stage back to itself, both ends included.
fn way_back(manifest: &Manifest, start: usize, next: fn(&Stage) -> Vec<StageId>) -> Option<Vec<usize>> {
    let mut from = vec![None; manifest.stages.len()];
    let mut queue = std::collections::VecDeque::from([start]);
    while let Some(at) = queue.pop_front() {
        for to in next(&manifest.stages[at]).into_iter().map(|id| usize::from(id.0)) {
            if to == start {
                let mut path = vec![start, at];
                while let Some(before) =
                    path.last().copied().filter(|&last| last != start).and_then(|last| from[last])
                {
                    path.push(before);
                }
                path.reverse();
                return Some(path);
            }
            if from[to].is_none() {
                from[to] = Some(at);
                queue.push_back(to);
            }
        }
    }
    None
}

fn count_layers(manifest: &Manifest, at: usize, known: &mut [Option<usize>]) -> usize {
    if let Some(count) = known[at] {
        return count;
    }
    let stage = &manifest.stages[at];
    let followed = stage.follows.iter().map(|follow| usize::from(follow.stage.0));
    let count = followed
        .fold(stage.groups.len() + 1, |sum, to| sum.saturating_add(count_layers(manifest, to, known)));
    known[at] = Some(count);
    count
}

fn default_stage(read: In<'_>, table: &TomlTable<'_>, manifest: &mut Manifest) {
    let Some(item) = table.get("default_stage") else { return };
    let Some(text) = read.text(item, "`default_stage`") else { return };
    let found = manifest.named_stage(read, text, item.span());
    manifest.default_stage = found.filter(|id| {
        let production = manifest.stages[usize::from(id.0)].class == Class::Production;
        if production {
            let message = format!("`{text}` is of class production, and such a stage is never the default");
            read.wrong_with(item.span(), message, "name a stage of class development or test");
        }
        !production
    });
}

fn aligned(read: In<'_>, table: &TomlTable<'_>, manifest: &mut Manifest) {
    for item in table.get("aligned").map(|item| read.list(item, "`aligned`")).unwrap_or_default() {
        let Some(table) = read.table(item, "an `aligned` table") else { continue };
        let mut aligned = Aligned { stages: Vec::new(), except: Vec::new() };
        read.keys(table, &names(&ALIGNED), |key, item| {
            let texts = read.texts(item, &format!("`{key}`")).into_iter();
            if key == "stages" {
                aligned.stages =
                    texts.filter_map(|(text, span)| manifest.named_stage(read, text, span)).collect();
            } else {
                aligned.except = texts.filter_map(|(text, span)| read.pattern(text, span)).collect();
            }
        });
        if aligned.stages.len() < 2 {
            read.wrong(item.span(), "`aligned` needs at least two stages");
        }
        manifest.aligned.push(aligned);
    }
}
