//! The time line of a run: its stages, once for all lanes together, or for one lane after another.

use std::time::Duration;

use super::profile::{LaneOrder, LoadProfile};
use super::stages::{StageNow, Stages};

/// The longest part of a run that is counted by itself.
pub const TICK: Duration = Duration::from_secs(1);

/// The time line of a run.
#[derive(Debug, Clone)]
pub struct Timeline {
    stages: Stages,
    lanes: usize,
    order: LaneOrder,
}

/// Where a run is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment {
    /// The round; each round is of one lane if lanes take turns.
    pub round: usize,
    /// The stage.
    pub stage: StageNow,
}

impl Timeline {
    /// The time line of a profile.
    pub fn of(profile: &LoadProfile) -> Self {
        Self { stages: profile.stages.clone(), lanes: profile.lanes.len(), order: profile.order }
    }

    /// The stages of a round.
    pub fn stages(&self) -> &Stages {
        &self.stages
    }

    fn rounds(&self) -> u32 {
        match self.order {
            LaneOrder::Interleaved => 1,
            LaneOrder::OneAfterAnother => u32::try_from(self.lanes).unwrap_or(u32::MAX),
        }
    }

    /// How long the run takes.
    pub fn length(&self) -> Duration {
        self.stages.length().saturating_mul(self.rounds())
    }

    /// Where the run is; `None` when it is over.
    pub fn at(&self, elapsed: Duration) -> Option<Moment> {
        let length = self.stages.length();
        let mut begin = Duration::ZERO;
        for round in 0..self.rounds() as usize {
            let end = begin.saturating_add(length);
            if elapsed < end {
                let stage = self.stages.at(elapsed - begin)?;
                return Some(Moment { round, stage });
            }
            begin = end;
        }
        None
    }

    /// Whether a lane has its turn in a round.
    pub fn is_active(&self, lane: usize, round: usize) -> bool {
        self.order == LaneOrder::Interleaved || lane == round
    }

    /// When the tick that begins at a moment ends: after a second, or with the stage.
    pub fn end_of_tick(&self, begin: Duration) -> Duration {
        let length = self.stages.length();
        let mut round_begin = Duration::ZERO;
        while !length.is_zero() && begin >= round_begin.saturating_add(length) {
            round_begin += length;
        }
        let end_of_stage = round_begin + self.stages.end_of(begin - round_begin);
        (begin + TICK).min(end_of_stage)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn timeline(order: LaneOrder) -> Timeline {
        let stages =
            Stages::simple(3.0, Duration::from_millis(1_500), Duration::from_millis(2_000));
        Timeline { stages, lanes: 2, order }
    }

    /// The ends of all ticks, in milliseconds.
    fn ticks(timeline: &Timeline) -> Vec<u128> {
        let next = |end: &Duration| timeline.at(*end).map(|_| timeline.end_of_tick(*end));
        let first = Some(timeline.end_of_tick(Duration::ZERO));
        std::iter::successors(first, next).map(|end| end.as_millis()).collect()
    }

    #[test]
    fn ticks_end_with_their_stage() {
        let together = timeline(LaneOrder::Interleaved);
        assert_eq!(ticks(&together), [1_000, 1_500, 2_500, 3_500]);
        assert_eq!(together.length().as_millis(), 3_500);
        assert!([0, 1].into_iter().all(|lane| together.is_active(lane, 0)));
    }

    #[test]
    fn lanes_that_take_turns_have_a_warm_up_each() {
        let turns = timeline(LaneOrder::OneAfterAnother);
        assert_eq!(ticks(&turns), [1_000, 1_500, 2_500, 3_500, 4_500, 5_000, 6_000, 7_000]);
        let second = turns.at(Duration::from_millis(3_500)).unwrap();
        assert_eq!((second.round, second.stage.is_warm_up), (1, true));
        assert!(turns.is_active(1, 1) && !turns.is_active(0, 1));
        assert_eq!(turns.at(Duration::from_secs(7)), None);
    }
}
