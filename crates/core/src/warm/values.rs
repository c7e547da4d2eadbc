//! Values of a variable that need no list: numbers, and days around today.

use jiff::ToSpan;
use jiff::civil::Date;

use super::keys::MAX_KEYS;

/// The longest format of a day, in bytes.
const MAX_FORMAT_BYTES: usize = 60;

/// Why values cannot be made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidValues {
    /// A step of zero, or a range that ends before it begins.
    #[error("the range from {from} to {to} by {step} has no values: use from ≤ to and a step ≥ 1")]
    Range {
        /// The first.
        from: i64,
        /// The last.
        to: i64,
        /// The step.
        step: i64,
    },
    /// A range of too many.
    #[error("the range from {from} to {to} has more than {MAX_KEYS} values")]
    TooMany {
        /// The first.
        from: i64,
        /// The last.
        to: i64,
    },
    /// A format that makes no text.
    #[error("{0:?} is not a format of days: use codes such as %Y-%m-%d")]
    Format(String),
    /// Days beyond the calendar.
    #[error("{0} days from today is beyond the calendar: use at most 3,650 days")]
    Calendar(i64),
}

/// Numbers, both ends included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ValueRange {
    /// The first.
    pub from: i64,
    /// The last.
    pub to: i64,
    /// From one to the next.
    pub step: i64,
}

impl ValueRange {
    /// The numbers, as texts.
    ///
    /// # Errors
    /// [`InvalidValues`].
    pub fn values(&self) -> Result<Vec<String>, InvalidValues> {
        let Self { from, to, step } = *self;
        if step < 1 || from > to {
            return Err(InvalidValues::Range { from, to, step });
        }
        if to.saturating_sub(from) / step >= MAX_KEYS as i64 {
            return Err(InvalidValues::TooMany { from, to });
        }
        Ok(std::iter::successors(Some(from), |n| n.checked_add(step).filter(|n| *n <= to))
            .map(|number| number.to_string())
            .collect())
    }
}

/// Days around today, both ends included.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DayRange {
    /// The first, in days from today: -1 is yesterday.
    pub from: i64,
    /// The last.
    pub to: i64,
    /// How a day is written, in the codes of `strftime`.
    pub format: String,
}

/// The most days from today.
const MAX_DAYS: i64 = 3_650;

impl DayRange {
    /// The days, as texts.
    ///
    /// # Errors
    /// [`InvalidValues`].
    pub fn values(&self, today: Date) -> Result<Vec<String>, InvalidValues> {
        let Self { from, to, format } = self;
        if from > to {
            return Err(InvalidValues::Range { from: *from, to: *to, step: 1 });
        }
        if let Some(far) = [*from, *to].into_iter().find(|days| days.abs() > MAX_DAYS) {
            return Err(InvalidValues::Calendar(far));
        }
        let invalid = || InvalidValues::Format(format.chars().take(MAX_FORMAT_BYTES).collect());
        if format.is_empty() || format.len() > MAX_FORMAT_BYTES {
            return Err(invalid());
        }
        (*from..=*to)
            .map(|days| {
                let day = today.checked_add(days.days()).map_err(|_| InvalidValues::Calendar(days));
                jiff::fmt::strtime::format(format, day?).map_err(|_| invalid())
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use jiff::civil::date;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(1, 3, 1, Some("1 2 3"))]
    #[case(-1, 4, 2, Some("-1 1 3"))]
    #[case(5, 5, 1, Some("5"))]
    #[case(i64::MAX - 1, i64::MAX, 1, Some("9223372036854775806 9223372036854775807"))]
    #[case(5, 4, 1, None)]
    #[case(1, 3, 0, None)]
    #[case(1, 1_000_001, 1, None)]
    #[case(i64::MIN, i64::MAX, 1, None)]
    fn ranges_have_both_ends(
        #[case] from: i64,
        #[case] to: i64,
        #[case] step: i64,
        #[case] expected: Option<&str>,
    ) {
        let values = ValueRange { from, to, step }.values().ok();
        assert_eq!(values.map(|values| values.join(" ")).as_deref(), expected);
    }

    #[test]
    fn the_largest_range_is_a_million() {
        assert_eq!(
            ValueRange { from: 1, to: 1_000_000, step: 1 }.values().unwrap().len(),
            MAX_KEYS
        );
    }

    #[test]
    fn days_are_counted_from_today() {
        let days = |from, to, format: &str| DayRange { from, to, format: format.into() };
        let today = date(2031, 5, 1);
        let around = days(-1, 1, "%Y-%m-%d").values(today).unwrap();
        assert_eq!(around, ["2031-04-30", "2031-05-01", "2031-05-02"]);
        assert_eq!(days(0, 0, "%d%b").values(today).unwrap(), ["01May"]);
        assert!(days(-3_650, -3_650, "%F").values(today).is_ok());
        for refused in [days(1, 0, "%F"), days(0, 3_651, "%F"), days(0, 1, ""), days(0, 1, "%H")] {
            assert!(refused.values(today).is_err(), "{refused:?}");
        }
    }
}
