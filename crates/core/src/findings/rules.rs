//! `rule`: what the ledger's own rules demand.

use std::collections::{BTreeMap, BTreeSet};

use compact_str::CompactString;
use rustc_hash::{FxHashMap, FxHashSet};

use super::bounds::Bounds;
use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called, whose};
use super::standing::{UnitStanding, standing_of};
use crate::model::{Demand, Ledger, Rule, Slot, StageId, Subject, Vary};
use crate::name::Name;
use crate::resolve::{Effective, FieldId, Layer, Outcome, Session, Winner};
use crate::types::{Measure, Type};
use crate::value::Value;

/// What the rules have seen of one unit.
#[derive(Debug, Default)]
pub(super) struct Seen {
    /// Whether each rule covered a field.
    covered: Vec<bool>,
    /// The values that must be unique in their stage, by the position of the rule.
    unique: Vec<(usize, StageId, CompactString, FieldId)>,
}

/// Whether a rule counts in a stage.
fn is_for(ledger: &Ledger, rule: &Rule, stage: StageId) -> bool {
    let stage = ledger.stage(stage);
    (rule.classes.is_empty() || rule.classes.contains(&stage.class))
        && (rule.stages.is_empty() || rule.stages.iter().any(|known| known.covers_stage(stage.name.as_str())))
}

/// Whether what a rule is for is so: where the other field has no value, it is not.
fn is_so(session: &mut Session<'_, '_>, (subject, stage): (Subject, StageId), rule: &Rule) -> bool {
    let Some(condition) = &rule.when else { return true };
    let ledger = session.ledger();
    let name = condition.field.as_ref().map(Name::as_str);
    let Ok(slot) = ledger.find_slot(subject, condition.entry.as_str(), name) else { return false };
    let this = ledger.field(subject, slot).1.this_type;
    let outcome = session.outcome(FieldId { subject, stage, slot });
    let value = outcome.value().and_then(Effective::expose);
    value.is_some_and(|value| is_among(value, std::slice::from_ref(&condition.is), this))
}

/// Whether a field is of a type and a kind that a rule is for.
fn is_of(ledger: &Ledger, subject: Subject, slot: Slot, rule: &Rule) -> bool {
    let (entry, field) = ledger.field(subject, slot);
    (rule.types.is_empty() || rule.types.contains(&field.this_type))
        && (rule.kinds.is_empty() || rule.kinds.iter().any(|kind| kind == entry.kind.name()))
}

/// The fields of a subject that patterns cover; those of shared entries also by the name of these.
fn covered(ledger: &Ledger, subject: Subject, patterns: &[crate::address::Pattern]) -> Vec<Slot> {
    let owner = ledger.owner(subject);
    let (name, instance) = owner.names();
    let is_covered = |slot: &Slot| {
        let (entry, field) = ledger.field(subject, *slot);
        let shared = ledger.slots(subject).entry_of(*slot).0.entry.shared().is_some();
        let field = field.name.as_ref().map(Name::as_str);
        patterns.iter().any(|pattern| {
            pattern.covers_field(entry.name.as_str(), field)
                && (pattern.covers_owner(name, instance) || shared && pattern.covers_owner("shared", None))
        })
    };
    ledger.slots(subject).all().filter(is_covered).collect()
}

/// Judges a unit by all rules.
pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) -> Seen {
    look(checking, true)
}

/// What shows only once all units are seen, and nothing else.
pub(super) fn seen_of_unit(checking: &mut Checking<'_, '_, '_>) -> Seen {
    look(checking, false)
}

fn look(checking: &mut Checking<'_, '_, '_>, judges: bool) -> Seen {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let rules = &ledger.judging.rules;
    let mut seen = Seen { covered: vec![false; rules.len()], unique: Vec::new() };
    if !rules.iter().any(|rule| bounds.covers_rule(rule)) {
        return seen;
    }
    let near: FxHashSet<(Subject, StageId)> = bounds.places_of(id).collect();
    for (at, rule) in rules.iter().enumerate().filter(|(_, rule)| bounds.covers_rule(rule)) {
        let mut fields: FxHashMap<Subject, Vec<Slot>> = FxHashMap::default();
        let is_unique = rule.compares_units();
        // What compares stages is told in one of them, whichever it is that changes.
        let compares = rule.demands.iter().any(|it| matches!(it, Demand::EqualIn(_) | Demand::DistinctIn(_)));
        let places = bounds.all_places_of(id).filter(|place| compares || near.contains(place));
        for (subject, stage) in places.filter(|(_, stage)| is_for(ledger, rule, *stage)) {
            let slots = &*fields.entry(subject).or_insert_with(|| {
                let covered = covered(ledger, subject, &rule.fields).into_iter();
                covered.filter(|slot| is_of(ledger, subject, *slot, rule)).collect()
            });
            seen.covered[at] |= !slots.is_empty();
            let is_asked = !slots.is_empty() && (judges || is_unique);
            if !is_asked || !is_so(checking.session, (subject, stage), rule) {
                continue;
            }
            for &slot in slots {
                let field = FieldId { subject, stage, slot };
                for demand in rule.demands.iter().filter(|_| judges) {
                    if let Some(broken) = broken(checking.session, field, demand) {
                        add(checking, field, rule, &broken);
                    }
                }
                if !is_unique {
                    continue;
                }
                if let Outcome::Value(effective) = checking.session.outcome(field)
                    && let Some(value) = effective.expose().filter(|_| !effective.is_secret())
                {
                    let about = whose(ledger, checking.session, field, |outcome| outcome.value().is_some());
                    seen.unique.push((at, stage, value.to_text(), about));
                }
            }
        }
    }
    seen
}

/// What a value must be and is not; `None` if all is well, or nothing is known of it.
fn broken(session: &mut Session<'_, '_>, field: FieldId, demand: &Demand) -> Option<String> {
    let ledger = session.ledger();
    let this = ledger.field(field.subject, field.slot).1.this_type;
    if is_by_itself(demand)
        && let Some(held) = session.value_as_written(field)
    {
        return by_itself(demand, held.expose(), this);
    }
    let outcome = session.outcome(field);
    let stage_name = |stage: StageId| &ledger.stage(stage).name;
    match demand {
        Demand::PresentWith(pattern) => {
            if !matches!(outcome, Outcome::Unset | Outcome::Absent(_)) {
                return None;
            }
            let others = covered(ledger, field.subject, std::slice::from_ref(pattern));
            let other = others.into_iter().find(|&slot| {
                let other = FieldId { slot, ..field };
                slot != field.slot && session.outcome(other).value().is_some()
            })?;
            let (entry, declaration) = ledger.field(field.subject, other);
            return Some(format!("it must be set, since {} is", called(entry, declaration)));
        }
        Demand::AbsentIn(stages) => {
            let there = stages.contains(&field.stage) && outcome.value().is_some();
            return there.then(|| format!("it must have no value in `{}`", stage_name(field.stage)));
        }
        Demand::EqualIn(stages) | Demand::DistinctIn(stages) => {
            let equal = matches!(demand, Demand::EqualIn(_));
            if !stages.contains(&field.stage) {
                return None;
            }
            let belongs = |stage: &StageId| match field.subject {
                Subject::Unit(unit, instance) => ledger.unit(unit).belongs_to(*stage, instance),
                Subject::Shared => true,
            };
            // Each is compared with those before it, so that two that clash are told once.
            let before = stages.iter().copied().filter(belongs).take_while(|stage| *stage != field.stage);
            for stage in before {
                let other = session.outcome(FieldId { stage, ..field });
                let (Some(one), Some(other)) = (outcome.value(), other.value()) else { continue };
                let (Some(one), Some(other)) = (one.expose(), other.expose()) else { continue };
                if (one == other) != equal {
                    let what = if equal { "the same as" } else { "another than" };
                    return Some(format!("it must be {what} in `{}`", stage_name(stage)));
                }
            }
            return None;
        }
        Demand::Stated => {
            let declaration = ledger.field(field.subject, field.slot).1;
            let winner = session.winners(field.subject, field.stage)[field.slot.0 as usize];
            let is_stated = match winner {
                Winner::Set(_, layer, _) => layer == Layer::Stage(field.stage),
                Winner::Assumed(_) => true,
                Winner::Nothing | Winner::Default(..) => false,
            };
            // What has no value is not wrong by that: others tell what is missing.
            let is_fixed = declaration.derived || declaration.vary == Vary::Never;
            let is_open = outcome.value().is_some() && !is_stated && !is_fixed;
            return is_open.then(|| format!("`{}` must state it itself", stage_name(field.stage)));
        }
        Demand::UniqueInStage => return None,
        _ => {}
    }
    let effective = outcome.value()?;
    by_itself(demand, effective.expose()?, this)
}

/// Whether a demand is about a value alone, whatever other fields and stages have.
fn is_by_itself(demand: &Demand) -> bool {
    match demand {
        Demand::OneOf(_)
        | Demand::NotOneOf(_)
        | Demand::Matches(_)
        | Demand::MatchesNot(_)
        | Demand::Min(_)
        | Demand::Max(_)
        | Demand::MaxLength(_) => true,
        Demand::PresentWith(_)
        | Demand::AbsentIn(_)
        | Demand::EqualIn(_)
        | Demand::DistinctIn(_)
        | Demand::Stated
        | Demand::UniqueInStage => false,
    }
}

/// What a value must be and is not, whatever other fields and stages have.
fn by_itself(demand: &Demand, value: &Value, this: Type) -> Option<String> {
    let all = |test: &dyn Fn(&Value) -> bool| match value {
        Value::List(items) => items.iter().all(test),
        Value::Map(map) => map.values().all(test),
        value => test(value),
    };
    let texts = |test: &dyn Fn(&str) -> bool| {
        all(&|value| match value {
            Value::Text(text) => test(text),
            value => test(&value.to_text()),
        })
    };
    let against = |bound: &Value| {
        let bound = match bound.as_text() {
            Some(text) => Measure::of(&this.read(text)?, this),
            None => Measure::of(bound, this),
        };
        Measure::of(value, this)?.partial_cmp(&bound?)
    };
    let holds = match demand {
        Demand::OneOf(values) => all(&|value| is_among(value, values, this)),
        Demand::NotOneOf(values) => all(&|value| !is_among(value, values, this)),
        Demand::Matches(regex) => texts(&|text| regex.is_match(text)),
        Demand::MatchesNot(regex) => texts(&|text| !regex.is_match(text)),
        Demand::Min(bound) => against(bound).is_none_or(std::cmp::Ordering::is_ge),
        Demand::Max(bound) => against(bound).is_none_or(std::cmp::Ordering::is_le),
        Demand::MaxLength(most) => texts(&|text| text.chars().count() <= *most),
        _ => return None,
    };
    (!holds).then(|| format!("it must be {}", asked_for(demand)))
}

/// What a demand on a value by itself asks for.
fn asked_for(demand: &Demand) -> String {
    let listed = |values: &[Value]| {
        let texts: Vec<String> = values.iter().map(|value| value.to_text().to_string()).collect();
        texts.join(", ")
    };
    match demand {
        Demand::OneOf(values) => format!("one of {}", listed(values)),
        Demand::NotOneOf(values) => format!("none of {}", listed(values)),
        Demand::Matches(regex) => format!("a match of /{regex}/"),
        Demand::MatchesNot(regex) => format!("no match of /{regex}/"),
        Demand::Min(bound) => format!("at least {}", bound.to_text()),
        Demand::Max(bound) => format!("at most {}", bound.to_text()),
        Demand::MaxLength(most) => format!("at most {most} characters"),
        _ => String::new(),
    }
}

fn is_among(value: &Value, values: &[Value], this: Type) -> bool {
    values.iter().any(|known| {
        known == value || known.as_text().and_then(|text| this.read(text)).as_ref() == Some(value)
    })
}

fn add(checking: &mut Checking<'_, '_, '_>, field: FieldId, rule: &Rule, broken: &str) {
    let ledger = checking.ledger();
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let about = whose(ledger, checking.session, field, |_| true);
    let message = message(rule, &called(entry, declaration), broken);
    let mut finding = Finding::of_field(ledger, field, about, Code::Rule, message);
    finding.rule = Some(rule.name.clone());
    finding.severity = rule.severity;
    let effective = checking.session.outcome(field);
    finding.place = effective.value().and_then(|value| value.origin.place).or(Some(declaration.place));
    finding.hides_value |= effective.value().is_some_and(Effective::is_secret);
    finding.help = help(rule);
    checking.tell(field, finding);
}

fn message(rule: &Rule, called: &str, broken: &str) -> String {
    let why = rule.why.as_ref().map(|why| format!(" ({why})")).unwrap_or_default();
    format!("{called} breaks the rule `{}`: {broken}{why}", rule.name)
}

fn help(rule: &Rule) -> String {
    rule.help.clone().unwrap_or_else(|| "set it otherwise; ledger.toml says what the rule demands".to_owned())
}

/// What shows only once all units are seen: values that are not unique, and rules that cover nothing.
pub(super) fn of_all(
    bounds: &Bounds<'_>,
    seen: Vec<Seen>,
    standings: &mut [UnitStanding],
    findings: &mut Vec<Finding>,
) {
    let ledger = bounds.ledger;
    let mut values: BTreeMap<(usize, StageId, &str), BTreeSet<FieldId>> = BTreeMap::new();
    for (rule, stage, value, field) in seen.iter().flat_map(|seen| &seen.unique) {
        values.entry((*rule, *stage, value)).or_default().insert(*field);
    }
    for ((rule, stage, value), fields) in values {
        let rule = &ledger.judging.rules[rule];
        let mut fields = fields.into_iter();
        let Some(first) = fields.next() else { continue };
        for field in fields {
            let Subject::Unit(unit, _) = field.subject else { continue };
            let (entry, declaration) = ledger.field(field.subject, field.slot);
            let broken = format!("it is {value}, and so is {}", ledger.address(first));
            let message = message(rule, &called(entry, declaration), &broken);
            let mut finding = Finding::of_field(ledger, field, field, Code::Rule, message);
            finding.rule = Some(rule.name.clone());
            finding.severity = rule.severity;
            finding.place = Some(declaration.place);
            finding.help = help(rule);
            if let Some(standing) = standing_of(standings, unit) {
                standing.stages[usize::from(stage.0)].count(bounds.counts(&finding));
            }
            findings.push(finding);
        }
    }
    // What cannot be read may be what a rule is for.
    if !bounds.is_whole() || !ledger.broken.is_empty() {
        return;
    }
    for (at, rule) in ledger.judging.rules.iter().enumerate() {
        let has_covered = seen.iter().any(|seen| seen.covered.get(at) == Some(&true));
        if has_covered || !bounds.covers_rule(rule) {
            continue;
        }
        let address = rule.fields.first().map(ToString::to_string).unwrap_or_default();
        findings.push(Finding {
            code: Code::Rule,
            severity: Severity::Warning,
            subject: address.clone(),
            address,
            stage: None,
            unit: None,
            message: format!("the rule `{}` covers no field in any stage", rule.name),
            place: Some(rule.place),
            hides_value: false,
            help: "mend its `fields`, `classes` or `stages`, or take the rule out".to_owned(),
            because_of: None,
            needed_by: Vec::new(),
            rule: Some(rule.name.clone()),
        });
    }
}
