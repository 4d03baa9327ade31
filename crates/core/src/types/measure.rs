//! What `min` and `max` compare: numbers, durations in milliseconds, sizes in bytes, days.

use std::cmp::Ordering;

use jiff::civil::Date;

use super::{Type, parse_date};
use crate::value::Value;

/// The magnitude of a value. Magnitudes of different sorts do not compare.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Measure {
    /// A whole number, a duration in milliseconds or a size in bytes.
    Whole(i128),
    /// A number with a fraction.
    Fraction(f64),
    /// A day.
    Day(Date),
}

impl Measure {
    /// The magnitude of a value of the given type; `None` for types that have none.
    pub fn of(value: &Value, this: Type) -> Option<Self> {
        match (this, value) {
            (Type::Integer | Type::Port | Type::Number, Value::Integer(number)) => {
                Some(Measure::Whole(i128::from(*number)))
            }
            (Type::Number, Value::Number(number)) => Some(Measure::Fraction(*number)),
            (Type::Duration, Value::Text(text)) => duration_ms(text).map(Measure::Whole),
            (Type::Size, Value::Text(text)) => size_bytes(text).map(Measure::Whole),
            (Type::Date, Value::Date(date)) => Some(Measure::Day(*date)),
            (Type::Date, Value::Text(text)) => parse_date(text).map(Measure::Day),
            _ => None,
        }
    }
}

impl PartialOrd for Measure {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        #[expect(clippy::cast_precision_loss, reason = "a bound this large is compared roughly")]
        match (self, other) {
            (Measure::Whole(a), Measure::Whole(b)) => a.partial_cmp(b),
            (Measure::Whole(a), Measure::Fraction(b)) => (*a as f64).partial_cmp(b),
            (Measure::Fraction(a), Measure::Whole(b)) => a.partial_cmp(&(*b as f64)),
            (Measure::Fraction(a), Measure::Fraction(b)) => a.partial_cmp(b),
            (Measure::Day(a), Measure::Day(b)) => a.partial_cmp(b),
            (Measure::Day(_), _) | (_, Measure::Day(_)) => None,
        }
    }
}

/// A duration in milliseconds: digits with `ms`, `s`, `m`, `h` or `d`, repeated.
pub(super) fn duration_ms(text: &str) -> Option<i128> {
    let mut rest = text;
    let mut total: i128 = 0;
    while !rest.is_empty() {
        let (digits, after) = split_digits(rest)?;
        let unit_length = after.find(|c: char| c.is_ascii_digit()).unwrap_or(after.len());
        let (unit, after) = after.split_at(unit_length);
        let factor: i128 = match unit {
            "ms" => 1,
            "s" => 1_000,
            "m" => 60_000,
            "h" => 3_600_000,
            "d" => 86_400_000,
            _ => return None,
        };
        total = total.checked_add(digits.parse::<i128>().ok()?.checked_mul(factor)?)?;
        rest = after;
    }
    (!text.is_empty()).then_some(total)
}

/// A size in bytes: digits with one unit, decimal (`kB`) or binary (`KiB`, IEC 80000-13).
pub(super) fn size_bytes(text: &str) -> Option<i128> {
    let (digits, unit) = split_digits(text)?;
    let factor: i128 = match unit {
        "B" => 1,
        "kB" => 1_000,
        "MB" => 1_000_000,
        "GB" => 1_000_000_000,
        "TB" => 1_000_000_000_000,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        "TiB" => 1 << 40,
        _ => return None,
    };
    digits.parse::<i128>().ok()?.checked_mul(factor)
}

/// Leading digits and what follows; `None` without a digit.
fn split_digits(text: &str) -> Option<(&str, &str)> {
    let length = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    (length > 0).then(|| text.split_at(length))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_and_sizes_are_measured() {
        for (text, ms) in [("250ms", 250), ("1h30m", 5_400_000), ("2d", 172_800_000), ("0s", 0)] {
            assert_eq!(duration_ms(text), Some(ms), "{text}");
        }
        for (text, bytes) in [("10B", 10), ("1kB", 1000), ("1KiB", 1024), ("2TiB", 2 << 40)] {
            assert_eq!(size_bytes(text), Some(bytes), "{text}");
        }
        let too_many = "9".repeat(60) + "d";
        assert_eq!((duration_ms(""), duration_ms(&too_many)), (None, None));
    }

    #[test]
    fn measures_of_one_sort_compare() {
        let of = |text: &str| Measure::of(&Value::text(text), Type::Duration);
        assert!(of("90s") < of("2m"));
        assert!(Measure::Whole(2) > Measure::Fraction(1.5));
        assert_eq!(Measure::Whole(2).partial_cmp(&Measure::Day(Date::ZERO)), None);
    }
}
