//! Where the cipher texts of a daybook belong, and how two of the same secrets stand side by side.

/// What stands between two cipher texts of the same secrets.
pub const BOTH: char = ' ';

/// What cipher texts of the daybook are bound to.
pub fn bound_to(unit: &str, stage: &str) -> String {
    format!("daybook/{unit}@{stage}")
}

/// What the encrypted keys of digests are bound to.
pub fn bound_to_digests(unit: &str, stage: &str) -> String {
    format!("{}/digests", bound_to(unit, stage))
}
