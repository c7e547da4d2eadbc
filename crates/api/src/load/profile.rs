//! Load profiles, as in a file or a request.

use std::time::Duration;

use serde::{Deserialize, Serialize};
use verax_core::load::{
    Arrivals, DEFAULT_MAX_IN_FLIGHT, DEFAULT_SECONDS, Goal, InvalidProfile, LaneOrder, LaneProfile,
    LaneReads, LevelUnit, LoadProfile, Measure, Mix, Popularity, RefillBy, Spacing, Stage, Stages,
    StopWhen, Traffic, Transport, ValueSize,
};
use verax_core::{InvalidName, Name};

use crate::tenants::{InvalidSeconds, duration_of};
use crate::warm::KeySource;

const DEFAULT_CLIENTS: u32 = 4;

const DEFAULT_DURATION: f64 = 10.0;

fn default_seed() -> u64 {
    1
}

fn default_lanes() -> Vec<LaneSpec> {
    let lane = |name: &str, reads| LaneSpec {
        name: name.to_owned(),
        reads,
        through: Transport::default(),
        refill: RefillBy::default(),
        origin: None,
    };
    vec![lane("cached", LaneReadsSpec::Cache), lane("direct", LaneReadsSpec::Origin)]
}

fn default_for_seconds() -> u32 {
    DEFAULT_SECONDS
}

fn is_false(value: &bool) -> bool {
    !value
}

fn is_zero(value: &f64) -> bool {
    *value == 0.0
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// A load profile, as in a file or a request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LoadProfileSpec {
    /// Its name.
    pub name: String,
    /// What it is about, in one line.
    #[serde(default)]
    pub title: String,
    /// The namespace that it is about, as `tenant/namespace`.
    pub namespace: String,
    /// The seed of all random choices.
    #[serde(default = "default_seed")]
    pub seed: u64,
    /// How long the lanes run before figures are taken, without `stages`.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub warm_up_seconds: f64,
    /// The measured time, without `stages` and `steps`; when absent, 10 seconds, or as long as a
    /// recording takes at its speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duration_seconds: Option<f64>,
    /// Whether the lanes run in the same seconds.
    #[serde(default, skip_serializing_if = "is_default")]
    pub order: LaneOrder,
    /// How often each key is read: `"uniform"`, `{ "zipf": EXPONENT }`, and others.
    #[serde(default)]
    pub popularity: Popularity,
    /// The lanes; the first is compared with each of the others. By default `cached`, which reads
    /// the namespace over the wire protocol, and `direct`, which reads its origin.
    #[serde(default = "default_lanes")]
    pub lanes: Vec<LaneSpec>,
    /// The keys, most popular first.
    #[serde(default)]
    pub keys: Vec<KeySource>,
    /// When requests are sent.
    #[serde(default)]
    pub arrivals: ArrivalsSpec,
    /// What requests do; by default all read.
    #[serde(default, skip_serializing_if = "is_default")]
    pub mix: MixSpec,
    /// Levels of load, one after another, to find where the system bends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub steps: Option<StepsSpec>,
    /// How much load, and when; by default one level.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stages: Vec<StageSpec>,
    /// When the run ends early.
    #[serde(default, skip_serializing_if = "is_default")]
    pub stop_when: StopWhenSpec,
    /// What is expected of the figures.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub goals: Vec<GoalSpec>,
    /// The traffic that the figures are held against: what they mean for it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub traffic: Traffic,
}

/// A way of reading.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LaneSpec {
    /// Its name.
    pub name: String,
    /// What it reads.
    pub reads: LaneReadsSpec,
    /// How a cache is reached.
    #[serde(default, skip_serializing_if = "is_default")]
    pub through: Transport,
    /// Who refills what is missing in a cache.
    #[serde(default, skip_serializing_if = "is_default")]
    pub refill: RefillBy,
    /// An origin of the tenant by name, such as an endpoint of an application; that of the
    /// namespace when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<String>,
}

/// What a lane reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum LaneReadsSpec {
    /// The namespace.
    Cache,
    /// An origin.
    Origin,
}

/// When requests are sent: with `clients` or `instances` in a closed loop, or at a `rate` or as in
/// a `recording` in an open one.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct ArrivalsSpec {
    /// The clients of each lane, each of which sends its next request after the response to the one
    /// before; 4 when neither is given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clients: Option<u32>,
    /// The instances of an application in each lane, each with connections of its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instances: Option<u32>,
    /// The clients of an instance, which share its connections; 4 when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clients_each: Option<u32>,
    /// How long a client pauses in between.
    #[serde(skip_serializing_if = "is_zero")]
    pub think_seconds: f64,
    /// The requests per second of each lane, whether or not earlier ones were answered.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// How they are spread.
    #[serde(skip_serializing_if = "is_default")]
    pub spacing: Spacing,
    /// The recording whose traffic is replayed: which keys are read, and when.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recording: Option<u64>,
    /// How many times as fast as it was recorded; once when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub speed: Option<f64>,
    /// The most requests of a lane in flight in an open loop; 256 when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_in_flight: Option<u32>,
}

/// What requests do. The rest of them read.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct MixSpec {
    /// The share that ends the entry of a key, as an application does after a write of its own.
    #[serde(skip_serializing_if = "is_zero")]
    pub invalidate_percent: f64,
    /// The share that puts a made-up value.
    #[serde(skip_serializing_if = "is_zero")]
    pub put_percent: f64,
    /// The sizes of these values.
    #[serde(skip_serializing_if = "is_default")]
    pub value_bytes: ValueSize,
    /// Whether made-up values may be put into the namespace.
    #[serde(skip_serializing_if = "is_false")]
    pub writes_allowed: bool,
}

/// Levels of load, one after another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct StepsSpec {
    /// The clients, or the requests per second, of each lane at each step.
    pub levels: Vec<f64>,
    /// The length of a step.
    pub each_seconds: f64,
}

/// A stretch of a run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct StageSpec {
    /// What it is called on the time line.
    pub name: String,
    /// Its length.
    pub seconds: f64,
    /// The clients, or the requests per second, of each lane; as `arrivals` says when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level: Option<f64>,
    /// Whether the load moves there from the level before, instead of jumping.
    #[serde(default, skip_serializing_if = "is_false")]
    pub ramp: bool,
    /// Whether it belongs to the warm-up, which is reported apart.
    #[serde(default, skip_serializing_if = "is_false")]
    pub warm_up: bool,
}

/// When a run ends early.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct StopWhenSpec {
    /// More failed requests in any lane.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error_percent: Option<f64>,
    /// A longer 99th percentile in any lane.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p99_ms: Option<f64>,
    /// For how many seconds in a row.
    #[serde(default = "default_for_seconds")]
    pub for_seconds: u32,
    /// More requests in all lanes together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests: Option<u64>,
}

impl Default for StopWhenSpec {
    fn default() -> Self {
        let for_seconds = default_for_seconds();
        Self { error_percent: None, p99_ms: None, for_seconds, requests: None }
    }
}

/// What is expected of a lane: each given figure is a goal.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct GoalSpec {
    /// The lane.
    pub lane: String,
    /// The median, at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p50_ms: Option<f64>,
    /// The 90th percentile, at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p90_ms: Option<f64>,
    /// The 99th percentile, at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p99_ms: Option<f64>,
    /// The 99.9th percentile, at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p999_ms: Option<f64>,
    /// Failed requests, at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error_percent: Option<f64>,
    /// Successful requests per second, at least.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min_per_second: Option<f64>,
    /// Hits, at least.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min_hit_percent: Option<f64>,
    /// How many times the median of each other lane is that of this one, at least.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min_times_faster: Option<f64>,
}

/// Why a profile cannot be run.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum InvalidProfileSpec {
    /// A name.
    #[error(transparent)]
    Name(#[from] InvalidName),
    /// A number of seconds.
    #[error(transparent)]
    Seconds(#[from] InvalidSeconds),
    /// A number of the profile.
    #[error(transparent)]
    Profile(#[from] InvalidProfile),
    /// More than one kind of arrivals.
    #[error("arrivals have {one} and {other}: give one of clients, instances, rate and recording")]
    TwoArrivals {
        /// One member.
        one: &'static str,
        /// The other.
        other: &'static str,
    },
    /// Keys or a popularity beside a recording that has both.
    #[error("a recording says how often each key is read: leave the popularity out")]
    RecordedPopularity,
    /// A member that only one kind of loop has.
    #[error("arrivals have {member}, which belongs to {of}")]
    OtherLoop {
        /// The member.
        member: &'static str,
        /// The members that it goes with.
        of: String,
    },
    /// Stages and steps.
    #[error("the profile has stages and steps: give one of them")]
    StagesAndSteps,
    /// A member of a lane that reads an origin.
    #[error("the lane {lane} reads an origin, which has no {member}")]
    OriginLane {
        /// The lane.
        lane: String,
        /// The member.
        member: &'static str,
    },
    /// A goal without a figure.
    #[error("a goal of the lane {0} has no figure: give it one, such as p99_ms")]
    EmptyGoal(String),
}

impl InvalidProfileSpec {
    /// Where the fault may be in the profile, as paths of members separated by dots; the first that
    /// the profile has is the place.
    pub fn paths(&self) -> &'static [&'static str] {
        match self {
            Self::Name(_) => &["name"],
            Self::Seconds(InvalidSeconds { field, .. }) => match *field {
                "think_seconds" => &["arrivals.think_seconds"],
                "each_seconds" => &["steps.each_seconds"],
                "p99_ms" => &["stop_when.p99_ms"],
                "seconds" => &["stages"],
                "warm_up_seconds" => &["warm_up_seconds"],
                _ => &["duration_seconds"],
            },
            Self::TwoArrivals { other, .. } => match *other {
                "instances" => &["arrivals.instances"],
                "rate" => &["arrivals.rate"],
                _ => &["arrivals.recording"],
            },
            Self::RecordedPopularity => &["popularity"],
            Self::OtherLoop { member, .. } => match *member {
                "think_seconds" => &["arrivals.think_seconds"],
                "spacing" => &["arrivals.spacing"],
                "clients_each" => &["arrivals.clients_each"],
                "speed" => &["arrivals.speed"],
                _ => &["arrivals.max_in_flight"],
            },
            Self::StagesAndSteps => &["stages"],
            Self::OriginLane { .. } => &["lanes"],
            Self::EmptyGoal(_) => &["goals"],
            Self::Profile(fault) => match fault {
                InvalidProfile::Clients(_) => &["arrivals.clients", "steps.levels", "stages"],
                InvalidProfile::Instances { .. } => {
                    &["arrivals.instances", "steps.levels", "stages"]
                }
                InvalidProfile::Pace(_) => &["arrivals.speed", "steps.levels", "stages"],
                InvalidProfile::Rate(_) => &["arrivals.rate", "steps.levels", "stages"],
                InvalidProfile::Duration { .. } => {
                    &["duration_seconds", "stages", "steps", "warm_up_seconds"]
                }
                InvalidProfile::EmptyStage(_)
                | InvalidProfile::Stages(_)
                | InvalidProfile::LateWarmUp(_) => &["stages", "steps"],
                InvalidProfile::Lanes(_) | InvalidProfile::SameLane(_) => &["lanes"],
                InvalidProfile::GoalLane(_) => &["goals"],
                InvalidProfile::Writes => &["mix.put_percent"],
                InvalidProfile::Share { what, .. } => match *what {
                    "error_percent" => &["stop_when.error_percent"],
                    "put_percent" => &["mix.put_percent"],
                    _ => &["mix.invalidate_percent"],
                },
                InvalidProfile::Number { what, .. } => match *what {
                    "think_seconds" => &["arrivals.think_seconds"],
                    "max_in_flight" => &["arrivals.max_in_flight"],
                    "clients_each" => &["arrivals.clients_each"],
                    "value_bytes" => &["mix.value_bytes"],
                    "p99_ms" => &["stop_when.p99_ms"],
                    "for_seconds" => &["stop_when.for_seconds"],
                    "peak_to_average" => &["traffic.peak_to_average"],
                    "peak_per_second" | "instance_price" | "million_reads_price" => &["traffic"],
                    _ => &["stop_when.requests"],
                },
            },
        }
    }
}

impl LaneSpec {
    fn lane(&self) -> Result<LaneProfile, InvalidProfileSpec> {
        let origin = self.origin.as_deref().map(Name::new).transpose()?;
        let foreign =
            |member| Err(InvalidProfileSpec::OriginLane { lane: self.name.clone(), member });
        let reads = match self.reads {
            LaneReadsSpec::Cache => {
                LaneReads::Cache { through: self.through, refill: self.refill, origin }
            }
            LaneReadsSpec::Origin if !is_default(&self.through) => return foreign("through"),
            LaneReadsSpec::Origin if !is_default(&self.refill) => return foreign("refill"),
            LaneReadsSpec::Origin => LaneReads::Origin(origin),
        };
        Ok(LaneProfile { name: Name::new(&*self.name)?, reads })
    }
}

impl ArrivalsSpec {
    /// The kinds of arrivals that it has.
    fn kinds(&self) -> Vec<&'static str> {
        let kinds = [
            ("clients", self.clients.is_some()),
            ("instances", self.instances.is_some()),
            ("rate", self.rate.is_some()),
            ("recording", self.recording.is_some()),
        ];
        kinds.into_iter().filter(|(_, is_given)| *is_given).map(|(name, _)| name).collect()
    }

    /// The members that belong to some kinds only, those kinds, and whether each is given.
    fn members(&self) -> [(&'static str, &'static [&'static str], bool); 5] {
        const CLOSED: &[&str] = &["clients", "instances"];
        const OPEN: &[&str] = &["a rate", "a recording"];
        [
            ("think_seconds", CLOSED, self.think_seconds != 0.0),
            ("clients_each", &CLOSED[1..], self.clients_each.is_some()),
            ("spacing", &OPEN[..1], !is_default(&self.spacing)),
            ("speed", &OPEN[1..], self.speed.is_some()),
            ("max_in_flight", OPEN, self.max_in_flight.is_some()),
        ]
    }

    fn arrivals(&self) -> Result<Arrivals, InvalidProfileSpec> {
        let kinds = self.kinds();
        if let [one, other, ..] = kinds[..] {
            return Err(InvalidProfileSpec::TwoArrivals { one, other });
        }
        let kind = kinds.first().copied().unwrap_or("clients");
        let goes_with = |of: &str| of.trim_start_matches("a ") == kind;
        let foreign = self
            .members()
            .into_iter()
            .find(|(_, of, is_given)| *is_given && !of.iter().any(|of| goes_with(of)));
        if let Some((member, of, _)) = foreign {
            return Err(InvalidProfileSpec::OtherLoop { member, of: of.join(" or ") });
        }
        let think_time = duration_of("think_seconds", self.think_seconds)?;
        let max_in_flight = self.max_in_flight.unwrap_or(DEFAULT_MAX_IN_FLIGHT);
        let clients_each = self.clients_each.unwrap_or(DEFAULT_CLIENTS);
        Ok(match kind {
            "instances" => Arrivals::Instances { clients_each, think_time },
            "rate" => Arrivals::Open { spacing: self.spacing, max_in_flight },
            "recording" => Arrivals::Recorded { max_in_flight },
            _ => Arrivals::Closed { think_time },
        })
    }

    /// What the level of a stage counts.
    pub fn unit(&self) -> LevelUnit {
        match (self.rate, self.recording, self.instances) {
            (Some(_), ..) => LevelUnit::PerSecond,
            (_, Some(_), _) => LevelUnit::Pace,
            (.., Some(_)) => LevelUnit::Instances,
            _ => LevelUnit::Clients,
        }
    }

    /// The level of stages that have none of their own.
    fn level(&self) -> f64 {
        match self.unit() {
            LevelUnit::PerSecond => self.rate.unwrap_or_default(),
            LevelUnit::Pace => self.speed.unwrap_or(1.0),
            LevelUnit::Instances => self.instances.map_or(0.0, f64::from),
            LevelUnit::Clients => f64::from(self.clients.unwrap_or(DEFAULT_CLIENTS)),
        }
    }
}

impl GoalSpec {
    fn goals(&self) -> Result<Vec<Goal>, InvalidProfileSpec> {
        let lane = Name::new(&*self.lane)?;
        let goals: Vec<Goal> = [
            (Measure::P50, self.p50_ms),
            (Measure::P90, self.p90_ms),
            (Measure::P99, self.p99_ms),
            (Measure::P999, self.p999_ms),
            (Measure::Errors, self.error_percent),
            (Measure::Throughput, self.min_per_second),
            (Measure::Hits, self.min_hit_percent),
            (Measure::TimesFaster, self.min_times_faster),
        ]
        .into_iter()
        .filter_map(|(measure, bound)| Some(Goal { lane: lane.clone(), measure, bound: bound? }))
        .collect();
        match goals.is_empty() {
            true => Err(InvalidProfileSpec::EmptyGoal(self.lane.clone())),
            false => Ok(goals),
        }
    }
}

impl LoadProfileSpec {
    /// Reads the profile.
    ///
    /// # Errors
    /// [`InvalidProfileSpec`] names what is wrong with it.
    pub fn profile(&self) -> Result<LoadProfile, InvalidProfileSpec> {
        if self.arrivals.recording.is_some() && !is_default(&self.popularity) {
            return Err(InvalidProfileSpec::RecordedPopularity);
        }
        let goals: Result<Vec<_>, _> = self.goals.iter().map(GoalSpec::goals).collect();
        let lanes: Result<_, _> = self.lanes.iter().map(LaneSpec::lane).collect();
        let StopWhenSpec { error_percent, p99_ms, for_seconds, requests } = self.stop_when;
        let p99 = p99_ms.map(|ms| duration_of("p99_ms", ms / 1_000.0)).transpose()?;
        let profile = LoadProfile {
            name: Name::new(&*self.name)?,
            lanes: lanes?,
            order: self.order,
            popularity: self.popularity,
            mix: Mix {
                invalidate_percent: self.mix.invalidate_percent,
                put_percent: self.mix.put_percent,
                value_bytes: self.mix.value_bytes,
                writes_allowed: self.mix.writes_allowed,
            },
            arrivals: self.arrivals.arrivals()?,
            stages: self.stages()?,
            stop_when: StopWhen { error_percent, p99, seconds: for_seconds, requests },
            goals: goals?.concat(),
            traffic: self.traffic,
            seed: self.seed,
        };
        profile.check()?;
        Ok(profile)
    }

    fn stages(&self) -> Result<Stages, InvalidProfileSpec> {
        let level = self.arrivals.level();
        let warm_up = duration_of("warm_up_seconds", self.warm_up_seconds)?;
        if self.stages.is_empty() && self.steps.is_none() {
            let seconds = self.duration_seconds.unwrap_or(DEFAULT_DURATION);
            let duration = duration_of("duration_seconds", seconds)?;
            return Ok(Stages::simple(level, warm_up, duration));
        }
        let mut stages = Vec::new();
        let first = self.steps.as_ref().and_then(|steps| steps.levels.first().copied());
        if !warm_up.is_zero() {
            let first = first.or_else(|| self.stages.first()?.level);
            stages.extend(
                Stages::simple(first.unwrap_or(level), warm_up, Duration::ZERO).all()[..1].to_vec(),
            );
        }
        match &self.steps {
            Some(_) if !self.stages.is_empty() => return Err(InvalidProfileSpec::StagesAndSteps),
            Some(steps) => {
                let duration = duration_of("each_seconds", steps.each_seconds)?;
                stages.extend(steps.levels.iter().map(|level| Stage {
                    name: level.to_string(),
                    duration,
                    level: *level,
                    is_ramp: false,
                    is_warm_up: false,
                }));
            }
            None => {
                for stage in &self.stages {
                    stages.push(Stage {
                        name: stage.name.clone(),
                        duration: duration_of("seconds", stage.seconds)?,
                        level: stage.level.unwrap_or(level),
                        is_ramp: stage.ramp,
                        is_warm_up: stage.warm_up,
                    });
                }
            }
        }
        Ok(Stages::new(stages))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    fn read(more: serde_json::Value) -> Result<LoadProfile, String> {
        let mut spec = json!({ "name": "rush", "namespace": "ferrydesk/boards" });
        let (Some(spec), Some(more)) = (spec.as_object_mut(), more.as_object()) else {
            return Err("not an object".into());
        };
        spec.extend(more.clone());
        let spec: LoadProfileSpec =
            serde_json::from_value(json!(spec)).map_err(|e| e.to_string())?;
        spec.profile().map_err(|e| e.to_string())
    }

    #[test]
    fn a_short_profile_has_two_lanes_and_four_clients() {
        let profile = read(json!({})).unwrap();
        let names: Vec<_> = profile.lanes.iter().map(|lane| lane.name.as_str()).collect();
        assert_eq!(names, ["cached", "direct"]);
        assert_eq!(profile.arrivals, Arrivals::closed());
        assert_eq!((profile.stages.highest(), profile.stages.length().as_secs()), (4.0, 10));
    }

    #[test]
    fn steps_and_stages_become_stages() {
        let steps =
            json!({ "steps": { "levels": [1, 2, 4], "each_seconds": 5 }, "warm_up_seconds": 3 });
        let stages = read(steps).unwrap().stages;
        let levels: Vec<_> = stages.all().iter().map(|stage| stage.level).collect();
        assert_eq!((levels, stages.length().as_secs()), (vec![1.0, 1.0, 2.0, 4.0], 18));
        assert!(stages.all()[0].is_warm_up && !stages.all()[1].is_warm_up);
        let spike = json!({
            "arrivals": { "rate": 50.0, "spacing": "even" },
            "stages": [
                { "name": "calm", "seconds": 5 },
                { "name": "warning", "seconds": 2, "level": 400.0, "ramp": true },
            ],
        });
        let profile = read(spike).unwrap();
        assert!(profile.arrivals.is_open());
        let levels: Vec<_> = profile.stages.all().iter().map(|stage| stage.level).collect();
        assert_eq!(levels, [50.0, 400.0]);
    }

    #[test]
    fn levels_count_what_arrivals_have() {
        let of = |arrivals: serde_json::Value| {
            let profile = read(json!({ "arrivals": arrivals })).unwrap();
            (profile.arrivals, profile.stages.highest())
        };
        let think_time = Duration::from_millis(50);
        assert_eq!(
            of(json!({ "instances": 3, "clients_each": 8, "think_seconds": 0.05 })),
            (Arrivals::Instances { clients_each: 8, think_time }, 3.0)
        );
        assert_eq!(
            of(json!({ "recording": 7, "speed": 2.5, "max_in_flight": 9 })),
            (Arrivals::Recorded { max_in_flight: 9 }, 2.5)
        );
    }

    #[test]
    fn each_figure_of_a_goal_is_a_goal() {
        let goals = json!({ "goals": [{ "lane": "cached", "p99_ms": 20, "min_hit_percent": 90 }] });
        assert_eq!(read(goals).unwrap().goals.len(), 2);
    }

    #[rstest]
    #[case(json!({ "users": 3 }), "users")]
    #[case(json!({ "arrivals": { "clients": 0 } }), "clients = 0")]
    #[case(json!({ "arrivals": { "clients": 2, "rate": 5 } }), "clients and rate")]
    #[case(json!({ "arrivals": { "rate": 5, "think_seconds": 1 } }), "think_seconds")]
    #[case(json!({ "arrivals": { "max_in_flight": 5 } }), "max_in_flight")]
    #[case(json!({ "arrivals": { "spacing": "even" } }), "spacing")]
    #[case(json!({ "arrivals": { "instances": 2, "recording": 5 } }), "instances and recording")]
    #[case(json!({ "arrivals": { "instances": 200, "clients_each": 6 } }), "instances = 200")]
    #[case(json!({ "arrivals": { "clients_each": 6 } }), "clients_each, which belongs to instances")]
    #[case(json!({ "arrivals": { "rate": 5, "speed": 2 } }), "speed, which belongs to a recording")]
    #[case(json!({ "arrivals": { "recording": 5, "speed": 0 } }), "speed = 0")]
    #[case(json!({ "arrivals": { "recording": 5, "spacing": "even" } }), "spacing")]
    #[case(
        json!({ "arrivals": { "recording": 5 }, "popularity": { "zipf": 1.0 } }),
        "leave the popularity out"
    )]
    #[case(json!({ "duration_seconds": -1 }), "duration_seconds = -1")]
    #[case(json!({ "goals": [{ "lane": "cached" }] }), "no figure")]
    #[case(json!({ "goals": [{ "lane": "cold", "p50_ms": 1 }] }), "does not have")]
    #[case(json!({ "lanes": [{ "name": "a", "reads": "cache" }] }), "1 lanes")]
    #[case(
        json!({ "lanes": [
            { "name": "a", "reads": "cache" }, { "name": "b", "reads": "origin", "through": "http" },
        ] }),
        "the lane b reads an origin, which has no through"
    )]
    #[case(
        json!({
            "steps": { "levels": [1], "each_seconds": 5 },
            "stages": [{ "name": "calm", "seconds": 5 }],
        }),
        "stages and steps"
    )]
    #[case(json!({ "mix": { "put_percent": 1 } }), "writes_allowed")]
    #[case(json!({ "stop_when": { "p99_ms": 0 } }), "p99_ms")]
    fn a_profile_that_makes_no_sense_says_why(#[case] spec: serde_json::Value, #[case] why: &str) {
        let error = read(spec).unwrap_err();
        assert!(error.contains(why), "{error}");
    }

    #[test]
    fn a_profile_is_written_as_it_was_read() {
        let spec: LoadProfileSpec = serde_json::from_value(json!({
            "name": "rush", "namespace": "ferrydesk/boards",
            "lanes": [
                { "name": "near", "reads": "cache", "through": "http", "refill": "permit" },
                { "name": "far", "reads": "origin", "origin": "desk" },
            ],
            "mix": { "invalidate_percent": 2 }, "stop_when": { "error_percent": 5 },
        }))
        .unwrap();
        let text = serde_json::to_string(&spec).unwrap();
        assert_eq!(serde_json::from_str::<LoadProfileSpec>(&text).unwrap(), spec);
    }
}
