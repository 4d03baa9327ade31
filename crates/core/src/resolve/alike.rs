//! Whether fields of two ledgers come to the same, told from what is said for them: texts that are alike, and lead to
//! fields of which that is so too. Nothing is expanded, opened or fetched for it.

use super::derived::parts_of;
use super::edges::{Reached, Reader};
use super::session::Session;
use super::sharded::Sharded;
use super::{FieldId, Winner};
use crate::model::{Declaration, Entry, Form, Kind, Required, SettingValue};
use crate::reference::{Piece, pieces};
use crate::value::Value;

/// How many references are followed one after the other.
const DEEPEST: usize = 32;

/// A field before and after.
type Pair = (FieldId, FieldId);

/// The pairs of fields of two ledgers that were looked at, and whether they are alike.
#[derive(Default)]
pub(crate) struct Alike(Sharded<Pair, bool>);

impl Alike {
    /// Whether two fields come to the same. `false` says only that it does not show: their values are to be compared.
    pub(crate) fn are(
        &self,
        (old, new): (&mut Session<'_, '_>, &mut Session<'_, '_>),
        pair: (FieldId, FieldId),
    ) -> bool {
        Comparing { old, new, known: &self.0, open: Vec::new() }.are_alike(pair)
    }
}

struct Comparing<'c, 'r, 'a, 's, 'b> {
    old: &'c mut Session<'r, 'a>,
    new: &'c mut Session<'s, 'b>,
    known: &'c Sharded<Pair, bool>,
    /// The pairs on the way to the one that is looked at.
    open: Vec<Pair>,
}

impl<'a, 'b> Comparing<'_, '_, 'a, '_, 'b> {
    fn are_alike(&mut self, pair: Pair) -> bool {
        if let Some(known) = self.known.get(&pair) {
            return known;
        }
        // What goes in a circle has no value that could be compared.
        if self.open.contains(&pair) || self.open.len() == DEEPEST {
            return false;
        }
        self.open.push(pair);
        let alike = self.are_said_alike(pair);
        self.open.pop();
        self.known.insert(pair, alike);
        alike
    }

    fn are_said_alike(&mut self, (was, is): Pair) -> bool {
        let (one, other) = (self.old.ledger(), self.new.ledger());
        let ((entry, before), (new_entry, after)) =
            (one.field(was.subject, was.slot), other.field(is.subject, is.slot));
        let are_worked_out = is_worked_out(entry, before) || is_worked_out(new_entry, after);
        if are_worked_out || !are_declared_alike(before, after) {
            return false;
        }
        let (node, new_node) = (self.old.node(was), self.new.node(is));
        if self.old.broken(node).is_some() || self.new.broken(new_node).is_some() {
            return false;
        }
        if before.derived {
            return self.have_alike_parts((was, is), (entry, new_entry));
        }
        match (self.old.known_winner(node), self.new.known_winner(new_node)) {
            // Whether it is missed may hang on the value beside it.
            (Winner::Nothing, Winner::Nothing) if !matches!(before.required, Required::WhenAuth(_)) => true,
            (Winner::Nothing, Winner::Nothing) => match (was.beside(one, "auth"), is.beside(other, "auth")) {
                (Some(was), Some(is)) => self.are_alike((was, is)),
                (None, None) => true,
                _ => false,
            },
            (Winner::Default(before, shared), Winner::Default(after, new_shared)) => {
                let readers = (Reader::of(was, shared), Reader::of(is, new_shared));
                before.verdict == after.verdict
                    && self.are_values_alike(readers, (before.value.expose(), after.value.expose()))
            }
            (Winner::Set(before, _, shared), Winner::Set(after, _, new_shared)) => {
                let readers = (Reader::of(was, shared), Reader::of(is, new_shared));
                let values = match (&before.value, &after.value) {
                    (SettingValue::Absent, SettingValue::Absent) => true,
                    (SettingValue::From(before), SettingValue::From(after)) => {
                        self.are_texts_alike(readers, (&before.0, &after.0))
                    }
                    (SettingValue::Value(before), SettingValue::Value(after)) => {
                        before.is_secret() == after.is_secret()
                            && self.are_values_alike(readers, (before.expose(), after.expose()))
                    }
                    _ => false,
                };
                values && before.verdict == after.verdict
            }
            _ => false,
        }
    }

    /// Whether two connections have the same `url`, which is made of their other fields.
    fn have_alike_parts(&mut self, (was, is): Pair, (entry, new_entry): (&Entry, &Entry)) -> bool {
        if !matches!(entry.kind, Kind::Connection { url: Some(_), .. })
            || entry.kind != new_entry.kind
            || !entry.field_names().eq(new_entry.field_names())
        {
            return false;
        }
        let parts = parts_of(self.old.ledger(), was).zip(parts_of(self.new.ledger(), is));
        parts.into_iter().all(|pair| self.are_alike(pair))
    }

    fn are_values_alike(&mut self, readers: (Reader, Reader), values: (&'a Value, &'b Value)) -> bool {
        values.0.is_same_by(values.1, &mut |before, after| self.are_texts_alike(readers, (before, after)))
    }

    fn are_texts_alike(
        &mut self,
        (one, other): (Reader, Reader),
        (before, after): (&'a str, &'b str),
    ) -> bool {
        let (mut before, mut after) = (pieces(before), pieces(after));
        loop {
            match (before.next(), after.next()) {
                (None, None) => return true,
                (Some(Piece::Literal(before)), Some(Piece::Literal(after))) if before == after => {}
                (Some(Piece::Reference(before)), Some(Piece::Reference(after))) => {
                    let alike = match (self.old.reached(one, before), self.new.reached(other, after)) {
                        (Some(Reached::Text(before)), Some(Reached::Text(after))) => before == after,
                        (Some(Reached::Field(was)), Some(Reached::Field(is))) => self.are_alike((was, is)),
                        _ => false,
                    };
                    if !alike {
                        return false;
                    }
                }
                _ => return false,
            }
        }
    }
}

/// Whether a field is made in a way of its own: the rows of a table are merged, and a certificate may know its last day.
fn is_worked_out(entry: &Entry, declaration: &Declaration) -> bool {
    matches!(entry.kind, Kind::Table { .. })
        || entry.kind == Kind::Credential(Form::Certificate)
        || declaration.derived && !matches!(entry.kind, Kind::Connection { .. })
}

/// Whether one text comes to the same value by two declarations.
fn are_declared_alike(before: &Declaration, after: &Declaration) -> bool {
    (before.this_type, before.secret, before.derived, before.required)
        == (after.this_type, after.secret, after.derived, after.required)
}
