//! What people change about an active run.

use serde::{Deserialize, Serialize};

use super::timeline::Moment;

/// What people change about an active run.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Steering {
    /// A level in place of the profile's.
    pub level: Option<ChangedLevel>,
    /// Whether nothing is sent.
    pub is_paused: bool,
}

/// A level that was set for the rest of a stage.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct ChangedLevel {
    /// The round of the stage.
    pub round: usize,
    /// The number of the stage.
    pub stage: usize,
    /// The clients of each lane, or its requests per second.
    pub level: f64,
}

impl Steering {
    /// The load at a moment of a run.
    pub fn level(&self, now: Moment) -> f64 {
        match self.level {
            _ if self.is_paused => 0.0,
            Some(set) if (set.round, set.stage) == (now.round, now.stage.stage) => set.level,
            _ => now.stage.level,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::stages::StageNow;
    use super::*;

    #[test]
    fn a_changed_level_lasts_until_the_stage_of_its_round_ends() {
        let at = |round, stage, level| Moment {
            round,
            stage: StageNow { stage, level, is_warm_up: false },
        };
        let level = Some(ChangedLevel { round: 1, stage: 0, level: 9.0 });
        let changed = Steering { level, is_paused: false };
        let levels = [at(0, 0, 4.0), at(1, 0, 4.0), at(1, 1, 6.0), at(2, 0, 4.0)];
        assert_eq!(levels.map(|now| changed.level(now)), [4.0, 9.0, 6.0, 4.0]);
        assert_eq!(Steering { is_paused: true, ..changed }.level(at(1, 0, 4.0)), 0.0);
    }
}
