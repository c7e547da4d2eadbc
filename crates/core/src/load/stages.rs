//! How much load a run offers, and when: ramps, steps, spikes, and long stretches.

use std::time::Duration;

use serde::{Deserialize, Serialize};

/// A stretch of a run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Stage {
    /// What it is called on the time line.
    pub name: String,
    /// Its length.
    pub duration: Duration,
    /// The clients of each lane, or the requests per second of each lane.
    pub level: f64,
    /// Whether the load moves there from the level before, instead of jumping.
    pub is_ramp: bool,
    /// Whether it belongs to the warm-up, which is reported apart.
    pub is_warm_up: bool,
}

/// The stages of a run, one after another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Stages(Vec<Stage>);

/// Where a run is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StageNow {
    /// The number of the stage, from 0.
    pub stage: usize,
    /// The load at this moment.
    pub level: f64,
    /// Whether it belongs to the warm-up.
    pub is_warm_up: bool,
}

impl Stages {
    /// Stages one after another.
    pub fn new(stages: Vec<Stage>) -> Self {
        Self(stages)
    }

    /// One level: a warm-up, unless it has no length, and the measured time.
    pub fn simple(level: f64, warm_up: Duration, duration: Duration) -> Self {
        let stage = |name: &str, duration, is_warm_up| Stage {
            name: name.to_owned(),
            duration,
            level,
            is_ramp: false,
            is_warm_up,
        };
        let mut stages = vec![stage("warm-up", warm_up, true), stage("steady", duration, false)];
        stages.retain(|stage| !stage.is_warm_up || !stage.duration.is_zero());
        Self(stages)
    }

    /// All of them.
    pub fn all(&self) -> &[Stage] {
        &self.0
    }

    /// The length of all together.
    pub fn length(&self) -> Duration {
        self.0.iter().fold(Duration::ZERO, |sum, stage| sum.saturating_add(stage.duration))
    }

    /// The highest level of any.
    pub fn highest(&self) -> f64 {
        self.0.iter().map(|stage| stage.level).fold(0.0, f64::max)
    }

    /// The stage and the level at a moment; `None` when all are over.
    pub fn at(&self, elapsed: Duration) -> Option<StageNow> {
        let (mut begin, mut before) = (Duration::ZERO, 0.0);
        for (number, stage) in self.0.iter().enumerate() {
            let end = begin.saturating_add(stage.duration);
            if elapsed < end {
                let done = (elapsed - begin).as_secs_f64() / stage.duration.as_secs_f64();
                let level = match stage.is_ramp {
                    true => before + (stage.level - before) * done,
                    false => stage.level,
                };
                return Some(StageNow { stage: number, level, is_warm_up: stage.is_warm_up });
            }
            (begin, before) = (end, stage.level);
        }
        None
    }

    /// When the stage of a moment ends.
    pub fn end_of(&self, elapsed: Duration) -> Duration {
        let mut end = Duration::ZERO;
        for stage in &self.0 {
            end = end.saturating_add(stage.duration);
            if elapsed < end {
                break;
            }
        }
        end
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stage(seconds: u64, level: f64, is_ramp: bool, is_warm_up: bool) -> Stage {
        let (name, duration) = (String::new(), Duration::from_secs(seconds));
        Stage { name, duration, level, is_ramp, is_warm_up }
    }

    #[test]
    fn ramps_start_at_the_level_before_and_steps_jump() {
        let stages = Stages::new(vec![
            stage(10, 4.0, true, true),
            stage(10, 4.0, false, false),
            stage(10, 20.0, true, false),
            stage(5, 2.0, false, false),
        ]);
        let level = |seconds: f64| stages.at(Duration::from_secs_f64(seconds)).map(|now| now.level);
        assert_eq!([0.0, 5.0, 10.0, 19.9].map(level), [0.0, 2.0, 4.0, 4.0].map(Some));
        assert_eq!([20.0, 25.0, 30.0].map(level), [4.0, 12.0, 2.0].map(Some));
        assert_eq!([35.0, 99.0].map(level), [None, None]);
        assert!(stages.at(Duration::from_secs(9)).is_some_and(|now| now.is_warm_up));
        assert_eq!(stages.at(Duration::from_secs(20)).map(|now| now.stage), Some(2));
        assert_eq!((stages.length().as_secs(), stages.highest()), (35, 20.0));
        let ends = [0, 9, 10, 34, 40].map(|at| stages.end_of(Duration::from_secs(at)).as_secs());
        assert_eq!(ends, [10, 10, 20, 35, 35]);
    }

    #[test]
    fn one_level_has_a_warm_up_only_with_a_length() {
        let lengths = |warm_up| {
            Stages::simple(2.0, Duration::from_secs(warm_up), Duration::from_secs(3)).all().len()
        };
        assert_eq!((lengths(0), lengths(1)), (1, 2));
    }
}
