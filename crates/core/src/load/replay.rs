//! Says when the reads of recorded traffic are due again.

use std::sync::Arc;
use std::time::Duration;

use super::arrivals::STEP;
use super::recorded::RecordedReads;

/// The moments at which recorded reads are due, at a multiple of their pace. After the last one,
/// the recording starts again.
#[derive(Debug)]
pub struct ReplayClock {
    recorded: Arc<RecordedReads>,
    share: u64,
    of: u64,
    /// How many reads were due, in all generators.
    number: u64,
    at: f64,
    /// Where the recording is, in its own seconds.
    position: f64,
}

impl ReplayClock {
    /// A clock that starts at zero, for every read that `share` of `of` generators has.
    pub fn new(recorded: Arc<RecordedReads>, share: u32, of: u32) -> Self {
        let (share, of) = (u64::from(share), u64::from(of.max(1)));
        Self { recorded, share, of, number: 0, at: 0.0, position: 0.0 }
    }

    /// The next moment after the last one, if it is before `until`, and the key that is read.
    /// `pace` is how many times as fast as it was recorded the traffic is at a moment.
    pub fn next(
        &mut self,
        until: Duration,
        pace: impl Fn(Duration) -> f64,
    ) -> Option<(Duration, u32)> {
        let until = until.as_secs_f64();
        let count = self.recorded.reads.len() as u64;
        while self.at < until && count > 0 {
            let read = self.recorded.reads[(self.number % count) as usize];
            let pace = pace(Duration::from_secs_f64(self.at)).max(0.0);
            let step = STEP.min(until - self.at);
            let left = (f64::from(read.at_millis) / 1_000.0 - self.position).max(0.0);
            if pace == 0.0 || pace * step < left {
                self.position += pace * step;
                self.at += step;
                continue;
            }
            self.at += left / pace;
            self.position += left;
            let is_here = self.number % self.of == self.share;
            self.number += 1;
            if self.number.is_multiple_of(count) {
                // What is left after the last read is silent, too; without any length there would
                // be no end.
                self.position -= self.recorded.length.as_secs_f64().max(1e-3);
            }
            if is_here {
                return Some((Duration::from_secs_f64(self.at), read.key));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::super::recorded::RecordedRead;
    use super::*;

    fn recorded() -> Arc<RecordedReads> {
        let read = |at_millis, key| RecordedRead { at_millis, key };
        let reads = vec![read(0, 0), read(100, 1), read(100, 2), read(900, 0)];
        Arc::new(RecordedReads { length: Duration::from_secs(1), reads })
    }

    /// What is due before a moment, with its own, in milliseconds.
    fn due(mut clock: ReplayClock, until: u64, pace: impl Fn(Duration) -> f64) -> Vec<(u128, u32)> {
        let until = Duration::from_millis(until);
        let next = || clock.next(until, &pace);
        let millis = |at: Duration| (at + Duration::from_micros(1)).as_millis();
        std::iter::from_fn(next).map(|(at, key)| (millis(at), key)).collect()
    }

    #[test]
    fn reads_are_due_as_they_were_and_start_again() {
        let once = [(0, 0), (100, 1), (100, 2), (900, 0)];
        let twice = once.iter().map(|(at, key)| (at + 1_000, *key));
        let expected: Vec<_> = once.iter().copied().chain(twice).collect();
        assert_eq!(due(ReplayClock::new(recorded(), 0, 1), 1_990, |_| 1.0), expected);
    }

    #[test]
    fn a_multiple_of_the_pace_brings_a_multiple_of_the_reads() {
        for (pace, count) in [(0.5, 7), (1.0, 12), (2.0, 24), (10.0, 119)] {
            let due = due(ReplayClock::new(recorded(), 0, 1), 2_985, |_| pace);
            assert_eq!(due.len(), count, "{pace}");
            let second = 100.0 / pace;
            assert!((due[1].0 as f64 - second).abs() <= 1.0, "{pace}: {due:?}");
        }
    }

    #[test]
    fn nothing_is_due_in_a_pause_and_nothing_is_lost_by_it() {
        let paused = |at: Duration| f64::from(!(50..550).contains(&at.as_millis()));
        let due = due(ReplayClock::new(recorded(), 0, 1), 1_000, paused);
        assert_eq!(due[0], (0, 0));
        assert!(due[1].0.abs_diff(600) <= 10 && due[1].1 == 1, "{due:?}");
    }

    #[test]
    fn generators_share_the_reads() {
        let of = |share| due(ReplayClock::new(recorded(), share, 3), 5_980, |_| 2.0);
        let mut all = [of(0), of(1), of(2)].concat();
        all.sort();
        let mut alone = due(ReplayClock::new(recorded(), 0, 1), 5_980, |_| 2.0);
        alone.sort();
        assert_eq!(all, alone);
        assert_eq!(of(0).len(), 16);
    }

    #[test]
    fn an_empty_recording_is_over_at_once() {
        let empty = Arc::new(RecordedReads::default());
        assert!(due(ReplayClock::new(empty, 0, 1), 5_000, |_| 1.0).is_empty());
    }
}
