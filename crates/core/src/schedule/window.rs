//! The hours and days at which a schedule is active.

use std::fmt;

use jiff::ToSpan;
use jiff::civil::{DateTime, Time, Weekday};

/// The hours of some weekdays, in local time, both ends included. A window that ends before it
/// begins goes on after midnight, and belongs to the day on which it begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ActiveWindow {
    /// By number, Monday first.
    days: [bool; 7],
    from: Time,
    until: Time,
}

/// Why a text is not an [`ActiveWindow`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidWindow {
    /// A day that is none.
    #[error("{0:?} names no days of the week: use mon, mon-fri, or sat,sun")]
    Days(String),
    /// A time that is none.
    #[error("{0:?} is not a time of day: use HH:MM, 00:00 to 23:59, or 24:00 for the end of a day")]
    Time(String),
}

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

fn day_number(text: &str) -> Option<usize> {
    DAYS.iter().position(|day| day.eq_ignore_ascii_case(text))
}

fn time_of_day(text: &str) -> Result<Time, InvalidWindow> {
    let invalid = || InvalidWindow::Time(text.chars().take(40).collect());
    if text == "24:00" {
        return Ok(Time::MAX);
    }
    let (hour, minute) = text.split_once(':').ok_or_else(invalid)?;
    let two_digits = |part: &str| part.len() == 2 && part.bytes().all(|b| b.is_ascii_digit());
    if !two_digits(hour) || !two_digits(minute) {
        return Err(invalid());
    }
    let read = |part: &str| part.parse::<i8>().map_err(|_| invalid());
    Time::new(read(hour)?, read(minute)?, 0, 0).map_err(|_| invalid())
}

impl ActiveWindow {
    /// A window on `days` (such as `mon-fri`; `None` for every day), from and until a time of day,
    /// such as `08:00`.
    ///
    /// # Errors
    /// [`InvalidWindow`] says which part is wrong.
    pub fn new(days: Option<&str>, from: &str, until: &str) -> Result<Self, InvalidWindow> {
        let mut chosen = [days.is_none(); 7];
        for part in days.into_iter().flat_map(|days| days.split(',')) {
            let invalid = || InvalidWindow::Days(part.chars().take(40).collect());
            let (first, last) = part.trim().split_once('-').unwrap_or((part.trim(), part.trim()));
            let (first, last) = (day_number(first).ok_or_else(invalid)?, day_number(last));
            let last = last.ok_or_else(invalid)?;
            // A range may pass the end of the week.
            let length = (last + 7 - first) % 7;
            (0..=length).for_each(|step| chosen[(first + step) % 7] = true);
        }
        Ok(Self { days: chosen, from: time_of_day(from)?, until: time_of_day(until)? })
    }

    /// Whether a local time is within.
    pub fn contains(&self, local: DateTime) -> bool {
        let on = |day: Weekday| self.days[day.to_monday_zero_offset() as usize];
        let (day, time) = (local.weekday(), local.time());
        match self.from <= self.until {
            true => on(day) && self.from <= time && time <= self.until,
            false => (on(day) && time >= self.from) || (on(day.previous()) && time <= self.until),
        }
    }
}

impl ActiveWindow {
    /// The first local time after `local` at which it begins.
    pub(crate) fn next_beginning(&self, local: DateTime) -> Option<DateTime> {
        (0..=7_i64).find_map(|later| {
            let day = local.date().checked_add(later.days()).ok()?;
            let begins = day.to_datetime(self.from);
            let is_on = self.days[day.weekday().to_monday_zero_offset() as usize];
            (is_on && begins > local).then_some(begins)
        })
    }
}

impl fmt::Display for ActiveWindow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let days: Vec<&str> = DAYS.iter().zip(self.days).filter(|d| d.1).map(|d| *d.0).collect();
        match days.len() {
            7 => f.write_str("every day")?,
            _ => f.write_str(&days.join(", "))?,
        }
        let until = match self.until {
            Time::MAX => "24:00".to_owned(),
            until => until.strftime("%H:%M").to_string(),
        };
        write!(f, " from {} to {until}", self.from.strftime("%H:%M"))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    // 2 May 2031 is a Friday.
    #[case(Some("mon-fri"), "08:00", "18:00", "2031-05-02T08:00", true)]
    #[case(Some("mon-fri"), "08:00", "18:00", "2031-05-02T07:59", false)]
    #[case(Some("mon-fri"), "08:00", "18:00", "2031-05-02T18:00", true)]
    #[case(Some("mon-fri"), "08:00", "18:00", "2031-05-02T18:01", false)]
    #[case(Some("mon-fri"), "08:00", "18:00", "2031-05-03T12:00", false)]
    #[case(Some("sat-mon"), "00:00", "24:00", "2031-05-04T23:59", true)]
    #[case(Some("sat-mon"), "00:00", "24:00", "2031-05-06T00:00", false)]
    #[case(Some("fri"), "22:00", "04:00", "2031-05-03T03:30", true)]
    #[case(Some("fri"), "22:00", "04:00", "2031-05-02T03:30", false)]
    #[case(None, "22:00", "04:00", "2031-05-02T03:30", true)]
    fn windows_contain_their_ends(
        #[case] days: Option<&str>,
        #[case] from: &str,
        #[case] until: &str,
        #[case] local: DateTime,
        #[case] within: bool,
    ) {
        assert_eq!(ActiveWindow::new(days, from, until).unwrap().contains(local), within);
    }

    #[rstest]
    #[case(Some("mon-holiday"), "08:00", "18:00")]
    #[case(Some(""), "08:00", "18:00")]
    #[case(None, "8:00", "18:00")]
    #[case(None, "08:00", "24:01")]
    #[case(None, "+8:00", "18:00")]
    fn windows_are_checked(#[case] days: Option<&str>, #[case] from: &str, #[case] until: &str) {
        assert!(ActiveWindow::new(days, from, until).is_err());
    }

    #[test]
    fn windows_are_shown() {
        let shown = |days, from, until| ActiveWindow::new(days, from, until).unwrap().to_string();
        assert_eq!(shown(Some("sat,sun"), "08:00", "24:00"), "sat, sun from 08:00 to 24:00");
        assert_eq!(shown(None, "22:00", "04:30"), "every day from 22:00 to 04:30");
    }
}
