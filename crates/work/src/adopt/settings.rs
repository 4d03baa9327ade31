//! The settings to be, secrets among them encrypted.

use cledger_core::address::Address;
use cledger_core::cipher::Cipher;
use cledger_core::model::{LayerId, Ledger, Note, SettingValue, StageId, Subject, UnitId};
use cledger_core::name::Name;
use cledger_core::resolve::FieldId;
use cledger_core::value::Held;
use cledger_store::{Changed, Edit, Keys, Overlay, Target, What, apply, extend, literal, setting};
use zeroize::Zeroizing;

use crate::adopt::adoption::Work;
use crate::adopt::known;
use crate::adopt::tables::FoundTable;
use crate::adopt::values::Setting;
use crate::change::Planned;
use crate::setting::setting_literal;
use crate::trouble::Trouble;

impl Work<'_> {
    /// The contract with all settings beside it.
    pub(crate) fn settings(&self, contract: &Changed) -> Result<Planned, Trouble> {
        let after = self.changing.read_after(contract)?;
        let unit = after.unit_id(self.asked.unit.as_str()).unwrap_or(UnitId(0));
        let subject = Subject::Unit(unit, None);
        let mut settings: Vec<Setting> = Vec::new();
        for entry in self.proposed {
            for field in &entry.fields {
                let name = field.name.as_ref().map(Name::as_str);
                let Ok(slot) = after.find_slot(subject, entry.name.as_str(), name) else { continue };
                settings.extend(field.settings.iter().map(|(stage, value)| Setting {
                    stage: Some(*stage),
                    slot,
                    value: value.clone(),
                    secret: after.field(subject, slot).1.secret,
                }));
            }
        }
        // The slots of a unit that was there move as entries are added to it.
        let old = self.unit.map(|id| Subject::Unit(id, None));
        for changed in &self.known.changed {
            let Some((entry, field)) = old.map(|old| self.changing.ledger().field(old, changed.slot)) else {
                continue;
            };
            let name = field.name.as_ref().map(Name::as_str);
            if let Ok(slot) = after.find_slot(subject, entry.name.as_str(), name) {
                settings.push(Setting { slot, value: changed.value.clone(), ..*changed });
            }
        }
        let keys = self.changing.keys(contract);
        let edits = settings.iter().map(|setting| self.edit(&after, &keys, subject, setting));
        let mut edits: Vec<Edit> = edits.collect::<Result<_, _>>()?;
        edits.extend(self.tables.iter().flat_map(|table| table.edits(&after, subject)));
        let base = Overlay::new(self.changing.disk(), contract);
        // Of a unit that nothing mentions yet, no layer has a table.
        let is_mentioned = after.strangers.iter().chain(&self.changing.ledger().strangers);
        let is_mentioned =
            is_mentioned.map(|it| it.unit.as_str()).any(|unit| unit == self.asked.unit.as_str());
        let made =
            if self.unit.is_none() && !is_mentioned { extend(&base, &edits)? } else { apply(&base, &edits)? };
        let mut changed = contract.clone();
        changed.extend(made);
        self.changing.plan_texts(changed)
    }

    fn edit(
        &self,
        after: &Ledger,
        keys: &Keys<'_>,
        subject: Subject,
        this: &Setting,
    ) -> Result<Edit, Trouble> {
        let Some(stage) = this.stage else {
            let literal = literal(&this.value.escaped(), None);
            return Ok(setting(after, Target::Default, subject, this.slot, What::Set(literal)));
        };
        let layer = LayerId::Stage(stage);
        let scope = after.key_scope(layer);
        let said = if this.secret && self.asked.write && keys.has_key(&scope) {
            let field = FieldId { subject, stage, slot: this.slot };
            let address = Address { stage: None, ..after.address(field) }.to_string();
            let text = Zeroizing::new(this.value.to_text().to_string());
            let text = keys.seal(&scope, &address, &text)?.into();
            SettingValue::Cipher(Box::new(Cipher { text, layer, address }))
        } else if this.secret && self.asked.write && !self.asked.plain_secrets {
            let name = &after.stage(stage).name;
            let message = format!("`{name}` has no key: secrets would stand there in plain text");
            let help = format!("make one: cledger key make @{name} --write; or add --plain-secrets");
            return Err(Trouble::refused(message).help(help));
        } else {
            SettingValue::Value(Held::new(this.value.escaped(), this.secret))
        };
        // Elsewhere the reason is that of the change as a whole, and version control keeps it.
        let why = self.asked.consent.why.clone().filter(|_| after.stage(stage).locked);
        let note = Note { why, ..Note::default() };
        let literal = setting_literal(&said, &note, None);
        Ok(setting(after, Target::Layer(layer), subject, this.slot, What::Set(literal)))
    }

    /// The stages whose settings change.
    pub(crate) fn stages(&self) -> Vec<StageId> {
        let new =
            self.proposed.iter().flat_map(|entry| &entry.fields).flat_map(|field| field.settings.keys());
        let mut stages: Vec<StageId> = known::stages_of(&self.known.changed);
        stages.extend(new);
        stages.extend(self.tables.iter().flat_map(FoundTable::stages));
        stages.sort_unstable();
        stages.dedup();
        stages
    }
}
