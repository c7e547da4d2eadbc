//! The slots of a schedule: which is next, and which are due.

use std::ops::RangeInclusive;
use std::time::Duration;

use jiff::tz::TimeZone;
use xxhash_rust::xxh3::xxh3_64_with_seed;

use super::cron::{CronExpression, InvalidCron};
use super::window::{ActiveWindow, InvalidWindow};
use crate::time::Timestamp;

/// The intervals that are allowed.
pub const INTERVALS: RangeInclusive<Duration> =
    Duration::from_secs(1)..=Duration::from_secs(31 * 24 * 3_600);

/// The longest jitter.
pub const MAX_JITTER: Duration = Duration::from_secs(24 * 3_600);

/// A slot that is found no later than this after its start is not missed: another process may have
/// been active at its time.
pub const MAX_LATENESS: Duration = Duration::from_secs(60);

/// The most times that a search goes on to the next active window: the days of eleven years.
const MAX_PASSED: usize = 4_000;

/// How many slots are compared with the jitter.
const CHECKED_SLOTS: usize = 200;

/// The most missed slots that are counted.
const MAX_MISSED: u64 = 10_000;

/// Which times a schedule has.
#[derive(Debug, Clone, PartialEq)]
pub enum Timing {
    /// Those of a cron expression.
    Cron(CronExpression),
    /// So often, counted from when the schedule was created.
    Every(Duration),
}

/// What is done about times at which nothing could run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum MissedTimes {
    /// Nothing.
    #[default]
    Skip,
    /// It runs once, however many were missed.
    RunOnce,
}

/// When something runs.
#[derive(Debug, Clone, PartialEq)]
pub struct Schedule {
    /// Its times.
    pub timing: Timing,
    /// The time zone of its times and its window.
    pub zone: TimeZone,
    /// When it is active; `None` for always.
    pub active: Option<ActiveWindow>,
    /// By how much a start may be later than its slot, at random.
    pub jitter: Duration,
    /// What is done about missed times.
    pub missed: MissedTimes,
    /// When it was created: intervals count from here.
    pub anchor: Timestamp,
    /// Distinguishes its jitter from that of other schedules.
    pub seed: u64,
}

/// Why a schedule is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidSchedule {
    /// The cron expression.
    #[error(transparent)]
    Cron(#[from] InvalidCron),
    /// The active window.
    #[error(transparent)]
    Window(#[from] InvalidWindow),
    /// The time zone.
    #[error("there is no time zone {0:?}: use an IANA name such as Europe/Lisbon, or UTC")]
    Zone(String),
    /// The interval.
    #[error("an interval of {} s is out of range: use 1 s to 31 days", .0.as_secs_f64())]
    Interval(Duration),
    /// The jitter.
    #[error("a jitter of {} s is too long: use at most a day", .0.as_secs_f64())]
    Jitter(Duration),
    /// A jitter beyond the interval, so that starts could change places.
    #[error(
        "a jitter of {} s is longer than the {} s from one time to the next",
        jitter.as_secs_f64(), interval.as_secs_f64()
    )]
    JitterBeyondInterval {
        /// The jitter.
        jitter: Duration,
        /// The interval.
        interval: Duration,
    },
    /// No time, or two kinds of them.
    #[error("a schedule needs a cron expression or an interval, and not both")]
    Timing,
    /// No slot within the active window.
    #[error("none of its times is within the active window ({0})")]
    NeverActive(ActiveWindow),
}

/// What is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DueSlots {
    /// The slot to run.
    pub run: Option<Timestamp>,
    /// How many slots before it, or without it, were missed; at most 10,000.
    pub missed: u64,
    /// The latest slot that is dealt with by this.
    pub latest: Timestamp,
}

impl Schedule {
    /// Checks it.
    ///
    /// # Errors
    /// [`InvalidSchedule`].
    pub fn check(&self) -> Result<(), InvalidSchedule> {
        if self.jitter > MAX_JITTER {
            return Err(InvalidSchedule::Jitter(self.jitter));
        }
        if let Timing::Every(interval) = self.timing
            && !INTERVALS.contains(&interval)
        {
            return Err(InvalidSchedule::Interval(interval));
        }
        let mut slots = std::iter::successors(self.next(self.anchor), |slot| self.next(*slot));
        let Some(mut before) = slots.next() else {
            return self.active.map_or(Ok(()), |active| Err(InvalidSchedule::NeverActive(active)));
        };
        if self.jitter.is_zero() {
            return Ok(());
        }
        for slot in slots.take(CHECKED_SLOTS) {
            let (jitter, interval) = (self.jitter, slot.since(before));
            if jitter > interval {
                return Err(InvalidSchedule::JitterBeyondInterval { jitter, interval });
            }
            before = slot;
        }
        Ok(())
    }

    /// The first slot after `after`; `None` if there is none in sight.
    pub fn next(&self, after: Timestamp) -> Option<Timestamp> {
        let mut at = after;
        for _ in 0..MAX_PASSED {
            at = match &self.timing {
                Timing::Every(interval) => next_on_grid(self.anchor, *interval, at),
                Timing::Cron(cron) => from_jiff(cron.next(to_jiff(at)?, &self.zone)?)?,
            };
            let Some(active) = &self.active else { return Some(at) };
            let moment = to_jiff(at)?;
            if active.contains(self.zone.to_datetime(moment)) {
                return Some(at);
            }
            // A slot may be at the very beginning of the window.
            at = from_jiff(self.may_be_active(active, moment)?)? - Duration::from_millis(1);
        }
        None
    }

    /// The first moment after an inactive one at which the window may be active: when it begins, or
    /// at a change of the clock if that comes first.
    fn may_be_active(&self, active: &ActiveWindow, at: jiff::Timestamp) -> Option<jiff::Timestamp> {
        let begins = active.next_beginning(self.zone.to_datetime(at))?;
        let begins = self.zone.to_ambiguous_timestamp(begins);
        // Of a local time that the clock repeats, the second is next once the first has passed.
        let begins = match begins.compatible() {
            Ok(first) if first > at => first,
            _ => begins.later().ok()?,
        };
        let change = self.zone.following(at).next().map(|change| change.timestamp());
        Some(change.map_or(begins, |change| change.min(begins)))
    }

    /// When a slot starts: up to the jitter later, always the same.
    pub fn start_of(&self, slot: Timestamp) -> Timestamp {
        let jitter = u64::try_from(self.jitter.as_millis()).unwrap_or(u64::MAX);
        match jitter {
            0 => slot,
            jitter => {
                let random = xxh3_64_with_seed(&slot.as_millis().to_le_bytes(), self.seed);
                slot + Duration::from_millis(random % jitter)
            }
        }
    }

    /// What is due at `now`, if the latest slot that was dealt with is `latest`.
    pub fn due(&self, latest: Timestamp, now: Timestamp) -> Option<DueSlots> {
        let mut due: Option<DueSlots> = None;
        let mut slot = self.next(latest)?;
        let mut on_time = None;
        loop {
            let start = self.start_of(slot);
            if start > now {
                break;
            }
            let missed = due.map_or(0, |due| due.missed + 1);
            due = Some(DueSlots { run: None, missed, latest: slot });
            if now.since(start) <= MAX_LATENESS {
                // Slots so close that several are due run one after the other.
                on_time = Some(slot);
                break;
            }
            if missed >= MAX_MISSED {
                // What is left of them is passed over.
                due = due.map(|due| DueSlots { latest: now - MAX_LATENESS, ..due });
                break;
            }
            slot = self.next(slot)?;
        }
        due.map(|due| match (on_time, self.missed) {
            (Some(slot), _) => DueSlots { run: Some(slot), ..due },
            // The latest of the missed ones.
            (None, MissedTimes::RunOnce) => DueSlots { run: Some(due.latest), ..due },
            (None, MissedTimes::Skip) => DueSlots { missed: due.missed + 1, ..due },
        })
    }
}

/// The first time after `after` on the grid of an interval that began at `anchor`.
pub(crate) fn next_on_grid(anchor: Timestamp, interval: Duration, after: Timestamp) -> Timestamp {
    if after < anchor {
        return anchor + interval;
    }
    let every = interval.as_millis().max(1) as u64;
    let passed = after.since(anchor).as_millis() as u64 / every;
    anchor + Duration::from_millis(every.saturating_mul(passed + 1))
}

fn to_jiff(at: Timestamp) -> Option<jiff::Timestamp> {
    jiff::Timestamp::from_millisecond(i64::try_from(at.as_millis()).ok()?).ok()
}

fn from_jiff(at: jiff::Timestamp) -> Option<Timestamp> {
    Some(Timestamp::from_millis(u64::try_from(at.as_millisecond()).ok()?))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(text: &str) -> Timestamp {
        from_jiff(text.parse().unwrap()).unwrap()
    }

    fn schedule(timing: Timing, zone: &str) -> Schedule {
        Schedule {
            timing,
            zone: TimeZone::get(zone).unwrap(),
            active: None,
            jitter: Duration::ZERO,
            missed: MissedTimes::Skip,
            anchor: at("2031-05-02T06:10:00Z"),
            seed: 7,
        }
    }

    fn every(seconds: u64) -> Schedule {
        schedule(Timing::Every(Duration::from_secs(seconds)), "UTC")
    }

    fn cron(text: &str, zone: &str) -> Schedule {
        schedule(Timing::Cron(CronExpression::parse(text).unwrap()), zone)
    }

    #[test]
    fn hourly_in_business_hours_on_weekdays() {
        let mut hourly = cron("0 * * * *", "Europe/Lisbon");
        hourly.active = Some(ActiveWindow::new(Some("mon-fri"), "08:00", "18:00").unwrap());
        let mut slot = at("2031-05-02T15:30:00Z");
        let mut shown = Vec::new();
        for _ in 0..4 {
            slot = hourly.next(slot).unwrap();
            shown.push(to_jiff(slot).unwrap().to_string());
        }
        // In summer, Lisbon is an hour ahead of UTC; the third and fourth of May are a weekend.
        let expected = ["02T16:00:00Z", "02T17:00:00Z", "05T07:00:00Z", "05T08:00:00Z"];
        assert_eq!(shown, expected.map(|end| format!("2031-05-{end}")));
    }

    #[test]
    fn missed_times_are_skipped_or_run_once() {
        let mut hourly = every(3_600);
        let latest = hourly.anchor;
        let on_time = hourly.due(latest, latest + Duration::from_secs(3_600)).unwrap();
        assert_eq!(on_time.run, Some(latest + Duration::from_secs(3_600)));
        assert_eq!(hourly.due(latest, latest + Duration::from_millis(3_599_999)), None);
        let late = latest + Duration::from_secs(3_600) + MAX_LATENESS;
        assert!(hourly.due(latest, late).unwrap().run.is_some());
        let too_late = late + Duration::from_millis(1);
        let expected = DueSlots { run: None, missed: 1, latest: on_time.latest };
        assert_eq!(hourly.due(latest, too_late), Some(expected));
        let down = latest + Duration::from_secs(5 * 3_600 + 1_800);
        let skipped = hourly.due(latest, down).unwrap();
        assert_eq!((skipped.run, skipped.missed), (None, 5));
        hourly.missed = MissedTimes::RunOnce;
        let once = hourly.due(latest, down).unwrap();
        assert_eq!((once.run, once.missed), (Some(latest + Duration::from_secs(5 * 3_600)), 4));
        assert_eq!(hourly.due(once.latest, down), None);
    }

    #[test]
    fn a_year_of_missed_seconds_is_passed_over_in_one_step() {
        let secondly = every(1);
        let now = secondly.anchor + Duration::from_secs(365 * 86_400);
        let due = secondly.due(secondly.anchor, now).unwrap();
        assert_eq!((due.run, due.latest), (None, now - MAX_LATENESS));
        assert!(due.missed > MAX_MISSED && secondly.due(due.latest, now).unwrap().run.is_some());
    }

    #[test]
    fn a_schedule_is_checked() {
        assert!(every(1).check().is_ok() && every(0).check().is_err());
        assert!(every(31 * 86_400).check().is_ok() && every(31 * 86_400 + 1).check().is_err());
        let mut hourly = every(3_600);
        hourly.jitter = Duration::from_secs(3_600);
        assert!(hourly.check().is_ok());
        hourly.jitter = Duration::from_secs(3_601);
        assert!(hourly.check().is_err());
        let mut never = cron("0 6 * * *", "UTC");
        never.active = Some(ActiveWindow::new(None, "08:00", "18:00").unwrap());
        assert!(matches!(never.check(), Err(InvalidSchedule::NeverActive(_))));
        let mut short = cron("0,10 6 * * *", "UTC");
        short.jitter = Duration::from_secs(600);
        assert!(short.check().is_ok());
        short.jitter = Duration::from_secs(601);
        assert!(matches!(short.check(), Err(InvalidSchedule::JitterBeyondInterval { .. })));
        let mut long = cron("0 6 * * *", "UTC");
        long.jitter = MAX_JITTER;
        assert!(long.check().is_ok());
        long.jitter += Duration::from_millis(1);
        assert!(long.check().is_err());
    }

    #[test]
    fn a_window_is_found_however_many_times_are_outside() {
        // A weekend has 223,200 seconds outside these hours.
        let mut secondly = every(1);
        secondly.active = Some(ActiveWindow::new(Some("mon-fri"), "08:00", "18:00").unwrap());
        let friday = at("2031-05-02T18:00:00Z");
        assert_eq!(secondly.next(friday - Duration::from_secs(1)), Some(friday));
        assert_eq!(secondly.next(friday), Some(at("2031-05-05T08:00:00Z")));
    }

    #[test]
    fn the_end_of_an_hour_that_the_clock_repeats_is_active_twice() {
        // In Lisbon, 01:00 to 02:00 came twice on 26 October 2031.
        let mut often = cron("*/10 * * * *", "Europe/Lisbon");
        often.active = Some(ActiveWindow::new(None, "01:30", "01:40").unwrap());
        let mut slot = at("2031-10-25T20:00:00Z");
        let mut shown = Vec::new();
        for _ in 0..5 {
            slot = often.next(slot).unwrap();
            shown.push(to_jiff(slot).unwrap().to_string());
        }
        let expected = ["26T00:30", "26T00:40", "26T01:30", "26T01:40", "27T01:30"];
        assert_eq!(shown, expected.map(|end| format!("2031-10-{end}:00Z")));
    }

    /// The first slot within the active window, slot by slot.
    fn next_by_steps(schedule: &Schedule, after: Timestamp) -> Option<Timestamp> {
        let always = Schedule { active: None, ..schedule.clone() };
        let active = schedule.active.unwrap();
        let mut slots = std::iter::successors(always.next(after), |slot| always.next(*slot));
        let mut within = slots.by_ref().take(3_000);
        within.find(|slot| active.contains(schedule.zone.to_datetime(to_jiff(*slot).unwrap())))
    }

    /// Runs a schedule for some time, in processes that come and go, and returns what ran.
    fn simulate(schedule: &Schedule, ends: Timestamp, away: &[(u64, u64)]) -> Vec<Timestamp> {
        let (mut now, mut latest, mut ran) = (schedule.anchor, schedule.anchor, Vec::new());
        while now < ends {
            let minute = now.since(schedule.anchor).as_secs() / 60;
            if !away.iter().any(|(from, to)| (*from..*to).contains(&minute)) {
                while let Some(due) = schedule.due(latest, now) {
                    ran.extend(due.run);
                    assert!(due.latest > latest, "no slot is dealt with twice");
                    latest = due.latest;
                }
            }
            now = now + Duration::from_secs(20);
        }
        ran
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        #[test]
        fn the_next_slot_in_the_window_is_that_found_by_steps(
            minutes in 7_u64..400,
            (from, until) in (0_u8..24, 0_u8..24),
            days in prop::sample::select(vec!["mon", "tue-thu", "sat-mon", "sun", "mon-sun"]),
            zone in prop::sample::select(vec![
                "UTC", "Europe/Lisbon", "America/St_Johns", "Australia/Lord_Howe", "Pacific/Apia",
            ]),
            start in 0_u64..400,
        ) {
            let mut schedule = schedule(Timing::Every(Duration::from_secs(minutes * 60)), zone);
            let window = ActiveWindow::new(Some(days), &format!("{from:02}:30"), &format!("{until:02}:10"));
            schedule.active = Some(window.unwrap());
            let mut slot = schedule.anchor + Duration::from_secs(start * 86_400);
            for _ in 0..5 {
                // Slots so far apart that these steps find none are found by days.
                let Some(found) = next_by_steps(&schedule, slot) else { break };
                prop_assert_eq!(schedule.next(slot), Some(found));
                slot = found;
            }
        }

        #[test]
        fn each_slot_runs_once_and_none_is_lost(
            minutes in 1_u64..90,
            jitter in 0_u64..60,
            away in proptest::collection::vec((0_u64..2_880, 0_u64..300), 0..4),
            once in any::<bool>(),
        ) {
            let mut schedule = every(minutes * 60);
            schedule.jitter = Duration::from_secs(jitter.min(minutes * 60));
            schedule.missed = if once { MissedTimes::RunOnce } else { MissedTimes::Skip };
            let away: Vec<_> = away.iter().map(|(from, long)| (*from, from + long)).collect();
            let ends = schedule.anchor + Duration::from_secs(2 * 86_400);
            let ran = simulate(&schedule, ends, &away);
            prop_assert!(ran.windows(2).all(|pair| pair[0] < pair[1]));
            // Every slot whose start was seen in time by a process has run.
            let mut slot = schedule.anchor;
            while let Some(next) =
                schedule.next(slot).filter(|next| *next < ends - Duration::from_secs(7_200))
            {
                slot = next;
                // A process looks every 20 s, so it sees a start at the next multiple of that.
                let start = schedule.start_of(slot).since(schedule.anchor).as_millis();
                let start = (start.div_ceil(20_000) * 20) as u64;
                let present = !away.iter().any(|(from, to)| (from * 60..to * 60).contains(&start));
                prop_assert!(!present || ran.contains(&slot), "{} s was lost", start);
            }
        }

        #[test]
        fn starts_are_within_the_jitter_and_always_the_same(
            slot in 0_u64..1 << 42,
            jitter in 1_u64..86_400,
        ) {
            let mut schedule = cron("0 7 * * *", "UTC");
            schedule.jitter = Duration::from_secs(jitter);
            let slot = Timestamp::from_millis(slot);
            let start = schedule.start_of(slot);
            prop_assert!(start >= slot && start.since(slot) < schedule.jitter);
            prop_assert_eq!(start, schedule.clone().start_of(slot));
        }

        #[test]
        fn intervals_do_not_drift(seconds in 1_u64..100_000, late in 0_u64..10_000_000) {
            let schedule = every(seconds);
            let next = schedule.next(schedule.anchor + Duration::from_secs(late)).unwrap();
            prop_assert_eq!(next.since(schedule.anchor).as_secs() % seconds, 0);
        }
    }
}
