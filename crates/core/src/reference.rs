//! References in text: `${entry.field}`, `${unit/entry.field@stage}`, `${stage.name}` and the rest.

use std::fmt;

use crate::address::{Address, Owner};
use crate::name::Name;

/// A part of a text with references in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece<'t> {
    /// Text that stands for itself; `$${` gives `${`.
    Literal(&'t str),
    /// What stands between `${` and `}`.
    Reference(&'t str),
    /// What follows a `${` that is never closed.
    Unclosed(&'t str),
}

/// Whether a text holds `${`, escaped or not.
pub fn is_in(text: &str) -> bool {
    memchr::memchr_iter(b'$', text.as_bytes()).any(|at| text.as_bytes().get(at + 1) == Some(&b'{'))
}

/// A text that stands for this one, with nothing in it taken for a reference.
pub fn escape(text: &str) -> String {
    text.replace("${", "$${")
}

/// Cuts a text at its references, reading from left to right.
pub fn pieces(text: &str) -> impl Iterator<Item = Piece<'_>> {
    let mut rest = text;
    std::iter::from_fn(move || {
        match rest.as_bytes() {
            [] => return None,
            [b'$', b'$', b'{', ..] => {
                let literal = &rest[1..3];
                rest = &rest[3..];
                return Some(Piece::Literal(literal));
            }
            [b'$', b'{', ..] => {
                let inside = &rest[2..];
                let Some(end) = memchr::memchr(b'}', inside.as_bytes()) else {
                    rest = "";
                    return Some(Piece::Unclosed(inside));
                };
                rest = &inside[end + 1..];
                return Some(Piece::Reference(&inside[..end]));
            }
            _ => {}
        }
        let begins = |&at: &usize| matches!(rest.as_bytes()[at..], [b'$', b'{', ..] | [b'$', b'$', b'{', ..]);
        let next = memchr::memchr_iter(b'$', rest.as_bytes()).find(begins);
        let (literal, after) = rest.split_at(next.unwrap_or(rest.len()));
        rest = after;
        Some(Piece::Literal(literal))
    })
}

/// The one reference that a text consists of, if it is one reference and nothing else.
pub fn lone(text: &str) -> Option<&str> {
    let mut pieces = pieces(text);
    match (pieces.next(), pieces.next()) {
        (Some(Piece::Reference(inside)), None) => Some(inside),
        _ => None,
    }
}

/// Whether what all references of a text name is there in every stage and for every unit. Shared text names no units.
pub fn are_always_there(text: &str, is_shared: bool) -> bool {
    pieces(text).all(|piece| match piece {
        Piece::Literal(_) | Piece::Reference("stage.name" | "stage.class") => true,
        Piece::Reference("unit.name" | "unit.instance") => !is_shared,
        Piece::Reference(_) | Piece::Unclosed(_) => false,
    })
}

/// What a reference names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// A field of the unit that is being resolved, or one that it uses.
    Own(FieldName),
    /// A field as this unit or instance sees it.
    OfUnit(Name, Option<Name>, FieldName),
    /// A shared field without any unit's own settings.
    OfShared(FieldName),
    /// `stage.name`.
    StageName,
    /// `stage.class`.
    StageClass,
    /// `stage.label.X`.
    StageLabel(String),
    /// `unit.name`.
    UnitName,
    /// `unit.instance`.
    UnitInstance,
}

/// The field that a reference names, and the stage if it names one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldName {
    /// The entry.
    pub entry: Name,
    /// The field; `None` for a variable's.
    pub field: Option<Name>,
    /// The stage whose value is meant.
    pub stage: Option<Name>,
}

impl fmt::Display for FieldName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.entry)?;
        if let Some(field) = &self.field {
            write!(f, ".{field}")?;
        }
        if let Some(stage) = &self.stage {
            write!(f, "@{stage}")?;
        }
        Ok(())
    }
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Target::Own(field) => write!(f, "{field}"),
            Target::OfUnit(unit, None, field) => write!(f, "{unit}/{field}"),
            Target::OfUnit(unit, Some(instance), field) => write!(f, "{unit}+{instance}/{field}"),
            Target::OfShared(field) => write!(f, "shared/{field}"),
            Target::StageName => f.write_str("stage.name"),
            Target::StageClass => f.write_str("stage.class"),
            Target::StageLabel(label) => write!(f, "stage.label.{label}"),
            Target::UnitName => f.write_str("unit.name"),
            Target::UnitInstance => f.write_str("unit.instance"),
        }
    }
}

/// A text with other references in it; `None` if all stay as they are. What names nothing stays.
pub fn rewrite(text: &str, other: impl Fn(Target) -> Option<Target>) -> Option<String> {
    if !is_in(text) {
        return None;
    }
    let mut rewritten = String::with_capacity(text.len());
    let mut changed = false;
    let mut rest = text;
    for piece in pieces(text) {
        // Pieces follow each other without a gap, an escaped `${` with one more `$` in front.
        let (written, length) = match piece {
            Piece::Literal(literal) => {
                let escaped = rest.starts_with("$${") && literal == "${";
                let length = literal.len() + usize::from(escaped);
                (rest[..length].to_owned(), length)
            }
            Piece::Unclosed(inside) => (rest.to_owned(), inside.len() + 2),
            Piece::Reference(inside) => {
                let target = Target::parse(inside).ok().and_then(&other);
                changed |= target.is_some();
                let inside_now = target.map_or_else(|| inside.to_owned(), |target| target.to_string());
                (format!("${{{inside_now}}}"), inside.len() + 3)
            }
        };
        rewritten.push_str(&written);
        rest = &rest[length..];
    }
    changed.then_some(rewritten)
}

impl Target {
    /// Reads what stands between `${` and `}`. The error says what is wrong with it.
    pub fn parse(inside: &str) -> Result<Self, String> {
        match inside {
            "stage.name" => return Ok(Target::StageName),
            "stage.class" => return Ok(Target::StageClass),
            "unit.name" => return Ok(Target::UnitName),
            "unit.instance" => return Ok(Target::UnitInstance),
            _ => {}
        }
        if let Some(label) = inside.strip_prefix("stage.label.") {
            return Ok(Target::StageLabel(label.to_owned()));
        }
        for (word, known) in [
            ("stage", "`stage.name`, `stage.class` and `stage.label.X`"),
            ("unit", "`unit.name` and `unit.instance`"),
        ] {
            if inside == word || inside.strip_prefix(word).is_some_and(|rest| rest.starts_with(['.', '@'])) {
                return Err(format!("`{word}` has only {known}"));
            }
        }
        if inside.contains('/') {
            let address = Address::parse(inside).map_err(|error| error.to_string())?;
            let (Some(owner), Some(entry), None) = (address.owner, address.entry, address.delivery) else {
                return Err("a reference names a field: ${UNIT/ENTRY.FIELD}".to_owned());
            };
            let field = FieldName { entry, field: address.field, stage: address.stage };
            return Ok(match owner {
                Owner::Shared => Target::OfShared(field),
                Owner::Unit(unit, instance) => Target::OfUnit(unit, instance, field),
            });
        }
        let (path, stage) = match inside.split_once('@') {
            Some((path, stage)) => (path, Some(stage)),
            None => (inside, None),
        };
        let (entry, field) = match path.split_once('.') {
            Some((entry, field)) => (entry, Some(field)),
            None => (path, None),
        };
        let name = |part: &str| Name::parse(part).map_err(|error| format!("`{part}`: {error}"));
        Ok(Target::Own(FieldName {
            entry: name(entry)?,
            field: field.map(name).transpose()?,
            stage: stage.map(name).transpose()?,
        }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Piece::{Literal, Reference, Unclosed};

    #[test]
    fn text_is_cut_from_left_to_right() {
        let cases: [(&str, &[Piece<'_>]); 9] = [
            ("", &[]),
            ("a$b", &[Literal("a$b")]),
            ("${x}", &[Reference("x")]),
            ("a${x}b${y.z}", &[Literal("a"), Reference("x"), Literal("b"), Reference("y.z")]),
            ("$${x}", &[Literal("${"), Literal("x}")]),
            ("$$${x}", &[Literal("$"), Literal("${"), Literal("x}")]),
            ("a${x", &[Literal("a"), Unclosed("x")]),
            ("${}", &[Reference("")]),
            ("€${x}$", &[Literal("€"), Reference("x"), Literal("$")]),
        ];
        for (text, cut) in cases {
            assert_eq!(pieces(text).collect::<Vec<_>>(), cut, "{text}");
        }
        assert_eq!((lone("${x}"), lone("${x} "), lone("x")), (Some("x"), None, None));
    }

    #[test]
    fn every_form_of_a_reference_is_read() {
        let name = |text: &str| Name::parse(text).unwrap();
        let field = |entry: &str, field: Option<&str>, stage: Option<&str>| FieldName {
            entry: name(entry),
            field: field.map(name),
            stage: stage.map(name),
        };
        for (text, target) in [
            ("db.host", Target::Own(field("db", Some("host"), None))),
            ("region@prod", Target::Own(field("region", None, Some("prod")))),
            ("desk/x", Target::OfUnit(name("desk"), None, field("x", None, None))),
            (
                "desk+kiosk/db.host@test",
                Target::OfUnit(name("desk"), Some(name("kiosk")), field("db", Some("host"), Some("test"))),
            ),
            ("shared/db.host", Target::OfShared(field("db", Some("host"), None))),
            ("stage.label.region", Target::StageLabel("region".into())),
            ("unit.instance", Target::UnitInstance),
        ] {
            assert_eq!(Target::parse(text), Ok(target), "{text}");
        }
        for text in
            ["", "a.b.c", "A", "a b", "stage.nmae", "unit", "desk/", "desk@test/x", "a/b@c:1", "a@", "a@s.x"]
        {
            assert!(Target::parse(text).is_err(), "{text}");
        }
    }

    #[test]
    fn references_are_rewritten_and_all_else_stays() {
        let other = |target: Target| match target {
            Target::Own(FieldName { entry, field, stage }) if entry.as_str() == "db" => {
                let entry = Name::parse("store").unwrap();
                Some(Target::Own(FieldName { entry, field, stage }))
            }
            _ => None,
        };
        for (text, expected) in [
            ("a${db.host}:${x}", Some("a${store.host}:${x}")),
            ("${db.host@test}$", Some("${store.host@test}$")),
            ("$${db.host} $$${db} ${db.port}", Some("$${db.host} $$${db} ${store.port}")),
            ("$${db.host}", None),
            ("${db.host", None),
            ("${desk/db.host} ${ü}", None),
            ("ü${db.a}ü${open", Some("ü${store.a}ü${open")),
        ] {
            assert_eq!(rewrite(text, other).as_deref(), expected, "{text}");
        }
    }
}
