//! A value that becomes a setting.

use cledger_core::model::{Slot, StageId};
use cledger_core::value::Value;

/// A value that becomes a setting, or a default.
pub(crate) struct Setting {
    /// The stage; `None` for the default.
    pub(crate) stage: Option<StageId>,
    pub(crate) slot: Slot,
    pub(crate) value: Value,
    pub(crate) secret: bool,
}
