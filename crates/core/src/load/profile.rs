//! A load profile: what a load run does.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::arrivals::Arrivals;
use super::goals::Goal;
use super::invalid_profile::InvalidProfile;
use super::limits::{DURATIONS, LANES, MAX_LENGTH, MAX_STAGES};
use super::meaning::Traffic;
use super::mix::Mix;
use super::popularity::Popularity;
use super::stages::{Stage, Stages};
use super::stop_when::StopWhen;
use crate::name::Name;

/// What a lane reads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum LaneReads {
    /// A namespace, with the client library.
    Cache {
        /// How it is reached.
        through: Transport,
        /// Who refills.
        refill: RefillBy,
        /// The origin that the client refills from, if it is not that of the namespace.
        origin: Option<Name>,
    },
    /// An origin: that of the namespace, or another one of the tenant.
    Origin(Option<Name>),
}

/// How the cache is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub enum Transport {
    /// The wire protocol.
    #[default]
    Wire,
    /// HTTP.
    Http,
}

/// Who refills a key that is missing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub enum RefillBy {
    /// The service reads through.
    #[default]
    ReadThrough,
    /// The client, under a refill permit.
    Permit,
}

/// Whether lanes run together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub enum LaneOrder {
    /// In the same seconds, so that a drift of the machine affects all of them.
    #[default]
    Interleaved,
    /// One after another, so that no lane takes resources from another.
    OneAfterAnother,
}

/// One way of reading inside a load run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LaneProfile {
    /// Its name.
    pub name: Name,
    /// What it reads.
    pub reads: LaneReads,
}

impl LaneProfile {
    /// Whether its reads can hit.
    pub fn is_cached(&self) -> bool {
        matches!(self.reads, LaneReads::Cache { .. })
    }
}

/// What a load run does, apart from which keys it reads.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LoadProfile {
    /// Its name.
    pub name: Name,
    /// The lanes; the first is compared with each of the others.
    pub lanes: Vec<LaneProfile>,
    /// Whether they run together.
    pub order: LaneOrder,
    /// How often each key is read.
    pub popularity: Popularity,
    /// What the requests do.
    pub mix: Mix,
    /// When requests are sent.
    pub arrivals: Arrivals,
    /// How much load, and when.
    pub stages: Stages,
    /// When the run ends early.
    pub stop_when: StopWhen,
    /// What is expected of the figures.
    pub goals: Vec<Goal>,
    /// The traffic that the figures are held against.
    pub traffic: Traffic,
    /// The seed of all random choices, so that two runs make the same ones.
    pub seed: u64,
}

impl LoadProfile {
    /// Checks the profile's numbers.
    ///
    /// # Errors
    /// [`InvalidProfile`] names the first one that is out of range.
    pub fn check(&self) -> Result<(), InvalidProfile> {
        if !LANES.contains(&self.lanes.len()) {
            return Err(InvalidProfile::Lanes(self.lanes.len()));
        }
        for (number, lane) in self.lanes.iter().enumerate() {
            if self.lanes[..number].iter().any(|earlier| earlier.name == lane.name) {
                return Err(InvalidProfile::SameLane(lane.name.clone()));
            }
        }
        let foreign = self.goals.iter().find(|goal| !self.has_lane(&goal.lane));
        if let Some(goal) = foreign {
            return Err(InvalidProfile::GoalLane(goal.lane.clone()));
        }
        self.mix.check()?;
        self.traffic.check()?;
        self.arrivals.check()?;
        self.stop_when.check()?;
        self.check_stages()
    }

    fn has_lane(&self, name: &Name) -> bool {
        self.lanes.iter().any(|lane| lane.name == *name)
    }

    fn check_stages(&self) -> Result<(), InvalidProfile> {
        let stages = self.stages.all();
        if stages.len() > MAX_STAGES {
            return Err(InvalidProfile::Stages(stages.len()));
        }
        let steady = stages.iter().filter(|stage| !stage.is_warm_up).map(|stage| stage.duration);
        let steady = steady.fold(Duration::ZERO, Duration::saturating_add);
        let total = self.length();
        if steady < *DURATIONS.start() || total > MAX_LENGTH {
            let (measured, total) = (steady.as_secs_f64(), total.as_secs_f64());
            return Err(InvalidProfile::Duration { measured, total });
        }
        let mut measured = Duration::ZERO;
        for (number, stage) in stages.iter().enumerate() {
            if stage.duration.is_zero() {
                return Err(InvalidProfile::EmptyStage(number + 1));
            }
            if stage.is_warm_up && !measured.is_zero() {
                return Err(InvalidProfile::LateWarmUp(number + 1));
            }
            if !stage.is_warm_up {
                measured = measured.saturating_add(stage.duration);
            }
            self.check_level(stage)?;
        }
        Ok(())
    }

    /// How long all of it takes.
    fn length(&self) -> Duration {
        let rounds = match self.order {
            LaneOrder::Interleaved => 1,
            LaneOrder::OneAfterAnother => u32::try_from(self.lanes.len()).unwrap_or(u32::MAX),
        };
        self.stages.length().saturating_mul(rounds)
    }

    fn check_level(&self, stage: &Stage) -> Result<(), InvalidProfile> {
        self.arrivals.check_level(stage.level)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn profile(clients: f64, warm_up: u64, duration: u64) -> LoadProfile {
        let name = |text: &str| Name::new(text).unwrap();
        let cache = LaneReads::Cache {
            through: Transport::Wire,
            refill: RefillBy::ReadThrough,
            origin: None,
        };
        LoadProfile {
            name: name("rush"),
            lanes: vec![
                LaneProfile { name: name("cached"), reads: cache },
                LaneProfile { name: name("direct"), reads: LaneReads::Origin(None) },
            ],
            order: LaneOrder::Interleaved,
            popularity: Popularity::Uniform,
            mix: Mix::default(),
            arrivals: Arrivals::closed(),
            stages: Stages::simple(
                clients,
                Duration::from_secs(warm_up),
                Duration::from_secs(duration),
            ),
            stop_when: StopWhen::default(),
            goals: Vec::new(),
            traffic: Traffic::default(),
            seed: 1,
        }
    }

    #[rstest]
    #[case(8.0, 2, 10, true)]
    #[case(1.0, 0, 1, true)]
    #[case(0.0, 2, 10, false)]
    #[case(1_000.0, 2, 10, true)]
    #[case(1_001.0, 2, 10, false)]
    #[case(8.0, 2, 0, false)]
    #[case(8.0, 7_190, 10, true)]
    #[case(8.0, 7_190, 11, false)]
    fn numbers_are_bounded(
        #[case] clients: f64,
        #[case] warm_up: u64,
        #[case] duration: u64,
        #[case] is_valid: bool,
    ) {
        assert_eq!(profile(clients, warm_up, duration).check().is_ok(), is_valid);
    }

    #[test]
    fn immense_stages_are_refused() {
        let mut immense = profile(1.0, 0, 2);
        let mut stage = immense.stages.all()[0].clone();
        stage.duration = Duration::MAX;
        immense.stages = Stages::new(vec![stage; 3]);
        immense.order = LaneOrder::OneAfterAnother;
        assert!(matches!(immense.check(), Err(InvalidProfile::Duration { .. })));
    }

    #[test]
    fn lanes_that_take_turns_share_the_longest_run() {
        let mut turns = profile(1.0, 0, 3_600);
        turns.order = LaneOrder::OneAfterAnother;
        assert_eq!(turns.check(), Ok(()));
        turns.stages = Stages::simple(1.0, Duration::ZERO, Duration::from_secs(3_601));
        assert!(matches!(turns.check(), Err(InvalidProfile::Duration { .. })));
    }

    #[test]
    fn lanes_have_names_of_their_own_and_goals_have_lanes() {
        let mut same = profile(1.0, 0, 2);
        same.lanes[1].name = same.lanes[0].name.clone();
        assert!(matches!(same.check(), Err(InvalidProfile::SameLane(_))));
        same.lanes.pop();
        assert_eq!(same.check(), Err(InvalidProfile::Lanes(1)));
        let mut goal = profile(1.0, 0, 2);
        let lane = Name::new("cold").unwrap();
        let measure = super::super::goals::Measure::P50;
        goal.goals.push(Goal { lane, measure, bound: 1.0 });
        assert!(matches!(goal.check(), Err(InvalidProfile::GoalLane(_))));
    }

    #[test]
    fn a_warm_up_comes_first_and_stages_have_a_length() {
        let mut late = profile(1.0, 0, 2);
        let mut stages = late.stages.all().to_vec();
        stages.push(Stage { is_warm_up: true, ..stages[0].clone() });
        late.stages = Stages::new(stages.clone());
        assert_eq!(late.check(), Err(InvalidProfile::LateWarmUp(2)));
        stages[1].duration = Duration::ZERO;
        late.stages = Stages::new(stages.clone());
        assert_eq!(late.check(), Err(InvalidProfile::EmptyStage(2)));
        late.stages = Stages::new(vec![stages[0].clone(); MAX_STAGES]);
        assert_eq!(late.check(), Ok(()));
        late.stages = Stages::new(vec![stages[0].clone(); MAX_STAGES + 1]);
        assert_eq!(late.check(), Err(InvalidProfile::Stages(MAX_STAGES + 1)));
    }
}
