//! Contracts: what `units/<unit>.toml` and the shared files declare.

use cledger_core::address::Owner;
use cledger_core::model::{Chore, Entry, EntryRef, FormerName, Instance, SharedId, Slots, Stage, Unit, When};
use cledger_core::name::{Name, nearest};

use super::entries::{KINDS, entries};
use super::expectations::expectations;
use super::frame::{In, Item};
use super::outputs::outputs;
use super::patterns::Patterns;
use super::stages::belongs;
use super::toml_table::{TomlTable, TomlValue};
use crate::vocabulary::{CHORE, INSTANCE, UNIT, names};

/// The shared entries, by name.
#[derive(Default)]
pub(super) struct Shared {
    pub(super) entries: Vec<Entry>,
    pub(super) slots: Slots,
}

impl Shared {
    /// Takes entries that are sorted by name.
    pub(super) fn new(entries: Vec<Entry>) -> Self {
        let own = (0_u16..).zip(&entries).map(|(at, entry)| (EntryRef::Own(at), entry));
        Self { slots: Slots::number(own), entries }
    }

    pub(super) fn find(&self, name: &str) -> Option<(&Entry, SharedId)> {
        let found = self.entries.binary_search_by(|entry| entry.name.as_str().cmp(name)).ok()?;
        Some((&self.entries[found], SharedId(u16::try_from(found).ok()?)))
    }
}

/// What contracts are read against.
pub(super) struct Surroundings<'s> {
    pub(super) stages: &'s [Stage],
    pub(super) shared: &'s Shared,
    pub(super) patterns: &'s Patterns,
}

/// The entries of one shared file.
pub(super) fn shared_entries(read: In<'_>, table: &TomlTable<'_>, patterns: &Patterns) -> Vec<Entry> {
    read.keys(table, &KINDS, |_, _| {});
    entries(read, table, patterns, &Owner::Shared)
}

const KEYS: [&str; UNIT.len()] = names(&UNIT);

/// A unit's contract. Its settings are still to come.
pub(super) fn unit(read: In<'_>, name: Name, table: &TomlTable<'_>, around: &Surroundings<'_>) -> Unit {
    let owner = Owner::Unit(name.clone(), None);
    let mut unit = Unit {
        name,
        about: None,
        owner: None,
        version: None,
        formerly: Vec::new(),
        belongs: vec![true; around.stages.len()],
        instances: Vec::new(),
        entries: entries(read, table, around.patterns, &owner),
        uses: Vec::new(),
        slots: Slots::default(),
        outputs: Vec::new(),
        chores: Vec::new(),
        expectations: Vec::new(),
        settings: Vec::new(),
        strays: Vec::new(),
        place: read.place(0..0),
    };
    read.keys(table, &KEYS, |key, item| match key {
        "about" => unit.about = read.text(item, "`about`").map(str::to_owned),
        "owner" => unit.owner = read.text(item, "`owner`").map(str::to_owned),
        "version" => unit.version = read.text(item, "`version`").map(str::to_owned),
        "formerly" => unit.formerly = formerly(read, item, (owner.names().0, "unit")),
        "stages" => unit.belongs = belongs(read, item, around.stages),
        "uses" => unit.uses = uses(read, item, around.shared),
        "instances" => unit.instances = instances(read, item, around.stages),
        "chore" => unit.chores = chores(read, item),
        _ => {}
    });
    for instance in &mut unit.instances {
        for (here, unit_here) in instance.belongs.iter_mut().zip(&unit.belongs) {
            *here &= unit_here;
        }
    }
    number(read, &mut unit, around.shared);
    let used = unit.uses.iter().map(|&id| &around.shared.entries[usize::from(id.0)]);
    let entries: Vec<&Entry> = unit.entries.iter().chain(used).collect();
    let outputs = table.get("output").map(|item| outputs(read, item, (&entries, around.stages)));
    let expectations = table.get("probe").map(|item| expectations(read, item, (&entries, around.stages)));
    unit.outputs = outputs.unwrap_or_default();
    unit.expectations = expectations.unwrap_or_default();
    unit
}

/// Numbers the fields of the unit's own entries and of those it uses.
fn number(read: In<'_>, unit: &mut Unit, shared: &Shared) {
    let own = (0_u16..).zip(&unit.entries).map(|(at, entry)| (EntryRef::Own(at), entry));
    let used = unit.uses.iter().map(|&id| (EntryRef::Shared(id), &shared.entries[usize::from(id.0)]));
    let mut all: Vec<(EntryRef, &Entry)> = own.chain(used).collect();
    all.sort_by(|(_, a), (_, b)| a.name.cmp(&b.name));
    for pair in all.windows(2) {
        if pair[0].1.name == pair[1].1.name {
            // Of the two, the unit's own entry is in this file.
            let own = pair.iter().find(|(entry, _)| matches!(entry, EntryRef::Own(_)));
            if let Some((_, entry)) = own {
                let name = &entry.name;
                read.mistakes.push(
                    cledger_core::model::Mistake::at(
                        entry.place,
                        format!("`{name}` is declared here, and `uses` names a shared entry `{name}`"),
                    )
                    .help("give one of them another name: names are unique within a unit"),
                );
            }
        }
    }
    all.dedup_by(|(_, b), (_, a)| a.name == b.name);
    unit.slots = Slots::number(all.into_iter());
}

/// The names that a unit or a stage had before.
pub(super) fn formerly(read: In<'_>, item: Item<'_, '_>, (own, what): (&str, &str)) -> Vec<FormerName> {
    let mut former: Vec<FormerName> = Vec::new();
    for (text, span) in read.texts(item, "`formerly`") {
        let Some(name) = read.name_text(text, span.clone(), &format!("a {what}"), true) else { continue };
        if name.as_str() == own {
            read.wrong(span, format!("`{name}` is the {what}'s name now"));
        } else if former.iter().any(|known| known.name == name) {
            read.wrong(span, format!("`{name}` is in `formerly` twice"));
        } else {
            former.push(FormerName { name, place: read.place(span) });
        }
    }
    former
}

fn uses(read: In<'_>, item: Item<'_, '_>, shared: &Shared) -> Vec<SharedId> {
    let mut uses: Vec<SharedId> = Vec::new();
    for (text, span) in read.texts(item, "`uses`") {
        match shared.find(text) {
            Some((_, id)) if uses.contains(&id) => {
                read.wrong(span, format!("`{text}` is in `uses` twice"));
            }
            Some((_, id)) => uses.push(id),
            None => {
                let near = nearest(text, shared.entries.iter().map(|entry| entry.name.as_str()));
                let help = near.map_or("shared.toml declares the shared entries".to_owned(), |near| {
                    format!("did you mean \"{near}\"?")
                });
                read.wrong_with(span, format!("there is no shared entry `{text}`"), help);
            }
        }
    }
    uses.sort_unstable();
    uses
}

fn instances(read: In<'_>, item: Item<'_, '_>, stages: &[Stage]) -> Vec<Instance> {
    let mut instances = Vec::new();
    for (key, item) in read.table(item, "`instances`").into_iter().flatten() {
        let (Some(name), Some(table)) =
            (read.name(key, "an instance", false), read.table(item, "an instance"))
        else {
            continue;
        };
        let mut instance =
            Instance { name, belongs: vec![true; stages.len()], place: read.place(key.span()) };
        read.keys(table, &names(&INSTANCE), |key, item| {
            if key == "stages" {
                instance.belongs = belongs(read, item, stages);
            } else {
                read.text(item, "`about`");
            }
        });
        instances.push(instance);
    }
    instances.sort_by(|a, b| a.name.cmp(&b.name));
    instances
}

/// Chores of a unit or of a stage.
pub(super) fn chores(read: In<'_>, item: Item<'_, '_>) -> Vec<Chore> {
    let mut chores = Vec::new();
    for item in read.list(item, "`chore`") {
        let Some(table) = read.table(item, "a chore") else { continue };
        let mut chore = Chore { text: String::new(), when: When::EachDelivery };
        read.keys(table, &names(&CHORE), |key, item| match key {
            "text" => read.text(item, "`text`").unwrap_or_default().clone_into(&mut chore.text),
            _ => chore.when = when(read, item).unwrap_or(When::EachDelivery),
        });
        if !table.contains_key("text") {
            read.wrong(item.span(), "this chore has no `text`");
        }
        chores.push(chore);
    }
    chores
}

fn when(read: In<'_>, item: Item<'_, '_>) -> Option<When> {
    let TomlValue::Table(table) = item.get_ref() else {
        let words = [(0, "each-delivery"), (1, "first-delivery"), (2, "after-first-delivery")];
        let when = [When::EachDelivery, When::FirstDelivery, When::AfterFirstDelivery];
        return when.into_iter().nth(read.choice(item, "`when`", &words)?);
    };
    let mut when = None;
    read.keys(table, &["changed"], |_, item| {
        let fields = read.texts(item, "`changed`").into_iter().map(|(text, _)| text.to_owned());
        when = Some(When::Changed(fields.collect()));
    });
    when
}
