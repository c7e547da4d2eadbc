//! Cron expressions of five fields, in local time.
//!
//! The expression is matched against local times as if there were no changes of the clock. Each
//! stretch of time between two changes is then searched with its own offset from UTC:
//!
//! * If the hours start with an asterisk, times follow the elapsed time: an hour that the clock
//!   repeats has them twice, an hour that it skips has none.
//! * Otherwise every local time is used once: the first time that an hour is repeated, and for one
//!   that is skipped, the moment at which the clock jumps.

use std::fmt;

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

/// The longest expression, in bytes.
const MAX_BYTES: usize = 200;

/// A cron expression: minute, hour, day of the month, month, day of the week.
///
/// ```
/// use jiff::{Timestamp, tz::TimeZone};
/// use verax_core::schedule::CronExpression;
///
/// let mornings = CronExpression::parse("0 7 * * 1-5")?;
/// let friday: Timestamp = "2031-05-02T12:00:00Z".parse()?;
/// let next = mornings.next(friday, &TimeZone::UTC).unwrap();
/// assert_eq!(next.to_string(), "2031-05-05T07:00:00Z");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug, Clone)]
pub struct CronExpression {
    text: String,
    times: cronexpr::Crontab,
    every_hour: bool,
}

/// Why a text is not a [`CronExpression`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidCron {
    /// Not five fields.
    #[error(
        "the cron expression {text:?} has {fields} fields: use five, minute hour day-of-month month day-of-week, such as 0 7 * * 1-5"
    )]
    Fields {
        /// The expression.
        text: String,
        /// How many it has.
        fields: usize,
    },
    /// A field that cannot be read.
    #[error("the cron expression {text:?} cannot be read at character {column}: {reason}")]
    Field {
        /// The expression.
        text: String,
        /// Where, from 1.
        column: usize,
        /// What is wrong there.
        reason: String,
    },
    /// An expression that no date matches.
    #[error("the cron expression {0:?} names no date within four years")]
    Never(String),
}

impl PartialEq for CronExpression {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl fmt::Display for CronExpression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl CronExpression {
    /// Reads an expression.
    ///
    /// # Errors
    /// [`InvalidCron`] says where it is wrong.
    pub fn parse(text: &str) -> Result<Self, InvalidCron> {
        let shown = || text.chars().take(MAX_BYTES).collect::<String>();
        let fields: Vec<&str> = text.split_ascii_whitespace().collect();
        if fields.len() != 5 || text.len() > MAX_BYTES {
            return Err(InvalidCron::Fields { text: shown(), fields: fields.len() });
        }
        let text = fields.join(" ");
        let times = cronexpr::parse_crontab(&format!("{text} UTC")).map_err(|error| {
            let message = error.to_string();
            let last = message.lines().last().unwrap_or_default();
            let (before, reason) = last.split_once('^').unwrap_or(("", last));
            let (column, reason) = (before.chars().count() + 1, reason.trim().to_owned());
            InvalidCron::Field { text: text.clone(), column, reason }
        })?;
        let every_hour = fields[1].starts_with('*');
        let cron = Self { text, times, every_hour };
        // A date that comes once in four years is found from every start.
        match cron.next_local(DateTime::constant(2031, 1, 1, 0, 0, 0, 0)) {
            Some(_) => Ok(cron),
            None => Err(InvalidCron::Never(cron.text)),
        }
    }

    /// The first local time after `local` that matches.
    fn next_local(&self, local: DateTime) -> Option<DateTime> {
        let as_if_utc = TimeZone::UTC.to_timestamp(local).ok()?;
        let next = self.times.find_next(cronexpr::MakeTimestamp(as_if_utc)).ok()?;
        Some(next.datetime())
    }

    /// The first local time at or after `local` that matches.
    fn next_local_from(&self, local: DateTime) -> Option<DateTime> {
        self.next_local(local.checked_sub(SignedDuration::from_nanos(1)).ok()?)
    }

    /// The first time after `after` at which it is due in a time zone.
    pub fn next(&self, after: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let mut offset = zone.to_offset(after);
        let mut from = self.next_local(offset.to_datetime(after))?;
        let mut repeated_until = self.repeated_until(after, zone);
        let mut changes = zone.following(after);
        loop {
            if let Some(until) = repeated_until.filter(|until| from < *until) {
                from = self.next_local_from(until)?;
            }
            let found = offset.to_timestamp(from).ok()?;
            let Some(change) = changes.next() else { return Some(found) };
            if found < change.timestamp() {
                return Some(found);
            }
            let changed_at = change.timestamp();
            let (ends, begins) =
                (offset.to_datetime(changed_at), change.offset().to_datetime(changed_at));
            offset = change.offset();
            from = self.next_local_from(begins)?;
            repeated_until = None;
            if self.every_hour {
                continue;
            }
            if begins < ends {
                repeated_until = Some(ends);
            } else if self.next_local_from(ends)? < begins {
                return Some(changed_at);
            }
        }
    }

    /// Until which local time the clock repeats at `at` what it has shown before.
    fn repeated_until(&self, at: Timestamp, zone: &TimeZone) -> Option<DateTime> {
        if self.every_hour {
            return None;
        }
        // A change at this very moment has happened.
        let last = zone.preceding(at.checked_add(SignedDuration::from_nanos(1)).ok()?).next()?;
        let before = last.timestamp().checked_sub(SignedDuration::from_nanos(1)).ok()?;
        let ends = zone.to_offset(before).to_datetime(last.timestamp());
        (last.offset().to_datetime(last.timestamp()) < ends).then_some(ends)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn times(cron: &str, zone: &str, after: &str, most: usize) -> Vec<String> {
        let (cron, zone) = (CronExpression::parse(cron).unwrap(), TimeZone::get(zone).unwrap());
        let mut at: Timestamp = after.parse().unwrap();
        (0..most)
            .map(|_| {
                at = cron.next(at, &zone).unwrap();
                at.to_zoned(zone.clone()).strftime("%m-%d %H:%M%:z").to_string()
            })
            .collect()
    }

    #[rstest]
    // Lisbon skips 01:00 to 02:00 on 30 March and repeats it on 26 October 2031.
    #[case("30 1 * * *", "2031-03-29T12:00:00Z", &["03-30 02:00+01:00", "03-31 01:30+01:00"])]
    #[case("0,30 1 * * *", "2031-03-29T12:00:00Z", &["03-30 02:00+01:00", "03-31 01:00+01:00"])]
    #[case("30 * * * *", "2031-03-30T00:00:00Z", &["03-30 00:30+00:00", "03-30 02:30+01:00"])]
    #[case("30 1 * * *", "2031-10-25T12:00:00Z", &["10-26 01:30+01:00", "10-27 01:30+00:00"])]
    #[case("30 1 * * *", "2031-10-26T01:10:00Z", &["10-27 01:30+00:00"])]
    #[case("0 2 * * *", "2031-10-26T00:30:00Z", &["10-26 02:00+00:00", "10-27 02:00+00:00"])]
    #[case("30 * * * *", "2031-10-26T00:00:00Z",
        &["10-26 01:30+01:00", "10-26 01:30+00:00", "10-26 02:30+00:00"])]
    fn changes_of_the_clock_are_followed(
        #[case] cron: &str,
        #[case] after: &str,
        #[case] expected: &[&str],
    ) {
        assert_eq!(times(cron, "Europe/Lisbon", after, expected.len()), expected);
    }

    #[rstest]
    #[case("0 7 * * 1-5", true)]
    #[case("*/15 8-18 * * MON-FRI", true)]
    #[case("0 0 29 2 *", true)]
    #[case("0 0 30 2 *", false)]
    #[case("0 7 * *", false)]
    #[case("0 0 7 * * 1", false)]
    #[case("60 7 * * *", false)]
    #[case("0 7 * * monkey", false)]
    #[case("@daily", false)]
    #[case("", false)]
    fn expressions_are_checked(#[case] text: &str, #[case] valid: bool) {
        assert_eq!(CronExpression::parse(text).is_ok(), valid, "{:?}", CronExpression::parse(text));
    }

    #[test]
    fn errors_say_where() {
        let error = CronExpression::parse("0 25 * * *").unwrap_err();
        let InvalidCron::Field { column, reason, .. } = &error else { panic!("{error}") };
        assert_eq!(*column, 3);
        assert!(reason.contains("25") && reason.contains("23"), "{error}");
        assert!(CronExpression::parse(&"* ".repeat(300)).is_err());
    }

    const ZONES: [&str; 7] = [
        "Europe/Lisbon",
        "America/New_York",
        "Australia/Lord_Howe",
        "America/St_Johns",
        "Africa/Casablanca",
        "Pacific/Apia",
        "Asia/Kolkata",
    ];

    /// Every time within some years.
    fn all(cron: &CronExpression, zone: &TimeZone, years: [&str; 2]) -> Vec<Timestamp> {
        let [from, to] = years.map(|text| text.parse::<Timestamp>().unwrap());
        let next = |at: &Timestamp| cron.next(*at, zone).filter(|at| *at < to);
        std::iter::successors(next(&from), next).collect()
    }

    #[rstest]
    fn a_daily_time_comes_once_on_every_day_of_ten_years(
        #[values(0, 1, 2, 3, 5, 23)] hour: i8,
        #[values(0, 1, 2, 3, 4, 5, 6)] zone: usize,
    ) {
        let zone = TimeZone::get(ZONES[zone]).unwrap();
        let cron = CronExpression::parse(&format!("30 {hour} * * *")).unwrap();
        let times = all(&cron, &zone, ["2024-01-01T12:00:00Z", "2034-01-01T12:00:00Z"]);
        let dates: Vec<_> = times.iter().map(|at| zone.to_datetime(*at).date()).collect();
        for days in dates.windows(2) {
            assert_eq!(days[0].tomorrow().unwrap(), days[1]);
        }
        for at in &times {
            let local = zone.to_datetime(*at);
            let skipped = zone.preceding(at.checked_add(SignedDuration::from_nanos(1)).unwrap());
            let just_skipped = skipped.take(1).any(|change| change.timestamp() == *at);
            assert!((local.hour(), local.minute()) == (hour, 30) || just_skipped, "{local}");
        }
    }

    #[rstest]
    fn every_hour_is_followed_by_the_next(#[values(0, 1, 3, 4, 6)] zone: usize) {
        // Zones whose clocks change by whole hours.
        let zone = TimeZone::get(ZONES[zone]).unwrap();
        let cron = CronExpression::parse("15 * * * *").unwrap();
        let times = all(&cron, &zone, ["2024-01-01T00:00:00Z", "2026-01-01T00:00:00Z"]);
        assert_eq!(times.len(), (366 + 365) * 24);
        for pair in times.windows(2) {
            assert_eq!(pair[1].duration_since(pair[0]), SignedDuration::from_hours(1));
        }
    }

    #[test]
    fn a_day_that_the_calendar_skips_has_its_time_at_the_change() {
        // Apia had no 30 December 2011.
        let shown = times("0 9 * * *", "Pacific/Apia", "2011-12-29T00:00:00Z", 4);
        assert_eq!(shown[..2], ["12-29 09:00-10:00", "12-31 00:00+14:00"]);
        assert_eq!(shown[2], "12-31 09:00+14:00");
    }

    proptest! {
        #[test]
        fn the_next_time_is_the_first_that_matches(
            minute in 0_u8..60,
            hour in 0_u8..24,
            every in 1_u8..12,
            zone in 0_usize..ZONES.len(),
            start in 1_700_000_000_i64..1_990_000_000,
        ) {
            let zone = TimeZone::get(ZONES[zone]).unwrap();
            let after = Timestamp::from_second(start).unwrap();
            let cron = CronExpression::parse(&format!("{minute} */{every} * * *")).unwrap();
            let next = cron.next(after, &zone).unwrap();
            // Minute by minute, by the clock on the wall.
            let mut at = Timestamp::from_second(start - start.rem_euclid(60)).unwrap();
            loop {
                at = at.checked_add(SignedDuration::from_mins(1)).unwrap();
                let local = zone.to_datetime(at);
                if local.minute() as u8 == minute && (local.hour() as u8).is_multiple_of(every) {
                    break;
                }
            }
            prop_assert_eq!(next, at);
            // A fixed hour is found from any start, and never twice.
            let fixed = CronExpression::parse(&format!("{minute} {hour} * * *")).unwrap();
            let first = fixed.next(after, &zone).unwrap();
            let second = fixed.next(first, &zone).unwrap();
            prop_assert!(first > after && second > first);
            let hours = second.duration_since(first).as_hours();
            prop_assert!((22..=26).contains(&hours), "{} {}", first, second);
            let between = first.checked_sub(SignedDuration::from_nanos(1)).unwrap();
            prop_assert_eq!(fixed.next(between.max(after), &zone), Some(first));
        }
    }
}
