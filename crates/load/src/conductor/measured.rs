//! What a run measured: the ticks of all generators, merged.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::time::Duration;

use verax_api::{
    LaneComparison, LaneReport, LoadDoubt, LoadReport, MetGoal, ReadErrors, StageReport,
};
use verax_core::load::{
    Bend, Capacities, Comparison, ConfidenceInterval, Doubt, ErrorKind, GeneratorLimit, JudgedLane,
    LaneFigures, LaneRecorder, LoadProfile, LoadStep, MIN_STEPS, Meaning, PairedSlice, Timeline,
    bend, doubts, mean_interval, meanings,
};

use crate::generator::OTHER_MESSAGES;
use crate::message::CountedFailure;

/// How many messages of each lane are told apart.
const MAX_MESSAGES: usize = 100;

/// How many messages of each lane a report lists.
const LISTED_MESSAGES: usize = 5;

/// Equal runs have equal intervals.
const SEED: u64 = 1;

/// A tick of all generators.
#[derive(Debug)]
pub(super) struct MergedTick {
    /// Its begin and end on the time line of the run.
    pub(super) begin: Duration,
    /// Its length as it was.
    pub(super) length: Duration,
    pub(super) lanes: Vec<LaneRecorder>,
    pub(super) failures: Vec<CountedFailure>,
    /// The requests of each lane that were due before and have not ended.
    pub(super) unanswered: Vec<u64>,
    /// The processors that the busiest generator used.
    pub(super) busiest: Option<f64>,
    pub(super) late_ms: f64,
}

/// A stretch of a lane.
#[derive(Debug, Default, Clone)]
struct Stretch {
    recorder: LaneRecorder,
    length: Duration,
}

impl Stretch {
    fn add(&mut self, recorder: &LaneRecorder, length: Duration) {
        self.recorder.add(recorder);
        self.length += length;
    }

    fn figures(&self, is_cached: bool) -> LaneFigures {
        self.recorder.figures(self.length, is_cached)
    }
}

/// The processors that the busiest generator used over a stretch.
#[derive(Debug, Default, Clone, Copy)]
struct Busy {
    used: Duration,
    length: Duration,
}

impl Busy {
    fn add(&mut self, tick: &MergedTick) {
        if let Some(busiest) = tick.busiest {
            self.used += tick.length.mul_f64(busiest.max(0.0));
            self.length += tick.length;
        }
    }

    fn processors(self) -> Option<f64> {
        let length = self.length.as_secs_f64();
        (length > 0.0).then(|| self.used.as_secs_f64() / length)
    }
}

/// How often each message of a lane was the reason of a failure.
#[derive(Debug, Default)]
struct Messages(HashMap<(ErrorKind, String), u64>);

impl Messages {
    fn add(&mut self, failure: &CountedFailure) {
        let is_full = self.0.len() >= MAX_MESSAGES;
        let mut reason = (failure.kind, failure.message.clone());
        if is_full && !self.0.contains_key(&reason) {
            reason.1 = OTHER_MESSAGES.to_owned();
        }
        *self.0.entry(reason).or_default() += failure.count;
    }

    /// The most frequent ones; the rest is summed up for each kind.
    fn listed(&self, lane: &str) -> Vec<ReadErrors> {
        let errors = |kind: &ErrorKind, message: &str, count| ReadErrors {
            lane: lane.to_owned(),
            kind: *kind,
            message: message.to_owned(),
            count,
        };
        let (others, mut named): (Vec<_>, Vec<_>) = self
            .0
            .iter()
            .map(|((kind, message), count)| errors(kind, message, *count))
            .partition(|errors| errors.message == OTHER_MESSAGES);
        named.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.message.cmp(&b.message)));
        let mut rest = [0; ErrorKind::ALL.len()];
        let beyond = named.split_off(LISTED_MESSAGES.min(named.len()));
        for errors in others.into_iter().chain(beyond) {
            rest[errors.kind as usize] += errors.count;
        }
        let rest = ErrorKind::ALL.iter().zip(rest).filter(|(_, count)| *count > 0);
        named.extend(rest.map(|(kind, count)| errors(kind, OTHER_MESSAGES, count)));
        named
    }
}

/// A lane of a run.
#[derive(Debug)]
struct MeasuredLane {
    name: String,
    is_cached: bool,
    warm_up: Stretch,
    steady: Stretch,
    stages: Vec<Stretch>,
    messages: Messages,
    /// The successful requests of each measured tick, and its length.
    slices: Vec<(u64, Duration)>,
    /// The figures of each measured tick.
    seconds: Vec<LaneFigures>,
    /// The requests that were due before the last tick and have not ended.
    unanswered: u64,
}

/// What a run measured so far.
#[derive(Debug)]
pub(super) struct Measured {
    profile: LoadProfile,
    timeline: Timeline,
    keys: u64,
    /// The reads per second of a recording that is replayed.
    pace: Option<f64>,
    lanes: Vec<MeasuredLane>,
    /// The processors that the busiest generator used after the warm-up, and within each stage.
    busy: Busy,
    stages_busy: Vec<Busy>,
    late_ms: Vec<f64>,
    /// What all generators can send at most, for each lane.
    highest_per_second: Vec<f64>,
}

impl Measured {
    pub(super) fn new(profile: &LoadProfile, keys: usize, pace: Option<f64>) -> Self {
        let stages = profile.stages.all().len();
        let lane = |lane: &verax_core::load::LaneProfile| MeasuredLane {
            name: lane.name.to_string(),
            is_cached: lane.is_cached(),
            warm_up: Stretch::default(),
            steady: Stretch::default(),
            stages: vec![Stretch::default(); stages],
            messages: Messages::default(),
            slices: Vec::new(),
            seconds: Vec::new(),
            unanswered: 0,
        };
        Self {
            lanes: profile.lanes.iter().map(lane).collect(),
            timeline: Timeline::of(profile),
            profile: profile.clone(),
            keys: keys as u64,
            pace,
            busy: Busy::default(),
            stages_busy: vec![Busy::default(); stages],
            late_ms: Vec::new(),
            highest_per_second: Vec::new(),
        }
    }

    /// What all generators together can send at most, for each lane.
    pub(super) fn calibrated(&mut self, highest_per_second: Vec<f64>) {
        self.highest_per_second = highest_per_second;
    }

    /// Adds a tick.
    pub(super) fn add(&mut self, tick: &MergedTick) {
        let Some(moment) = self.timeline.at(tick.begin) else { return };
        for (number, recorder) in tick.lanes.iter().enumerate() {
            if !self.timeline.is_active(number, moment.round) {
                continue;
            }
            let lane = &mut self.lanes[number];
            lane.unanswered = tick.unanswered.get(number).copied().unwrap_or_default();
            lane.stages[moment.stage.stage].add(recorder, tick.length);
            if moment.stage.is_warm_up {
                lane.warm_up.add(recorder, tick.length);
                continue;
            }
            lane.steady.add(recorder, tick.length);
            lane.slices.push((recorder.succeeded(), tick.length));
            lane.seconds.push(recorder.figures(tick.length, lane.is_cached));
        }
        self.stages_busy[moment.stage.stage].add(tick);
        if moment.stage.is_warm_up {
            return;
        }
        for failure in &tick.failures {
            self.lanes[failure.lane].messages.add(failure);
        }
        self.busy.add(tick);
        self.late_ms.push(tick.late_ms);
    }

    /// The figures of each lane within a tick.
    pub(super) fn figures_of(&self, tick: &MergedTick) -> Vec<LaneFigures> {
        let lanes = self.lanes.iter().zip(&tick.lanes);
        lanes.map(|(lane, recorder)| recorder.figures(tick.length, lane.is_cached)).collect()
    }

    /// Which limit of its own a generator reached.
    fn generator_limit(&self) -> Option<GeneratorLimit> {
        // Lanes that run together share the generator.
        let shares = self.lanes.iter().zip(&self.highest_per_second);
        let shares = shares.map(|(lane, highest)| {
            lane.steady.figures(lane.is_cached).per_second / highest.max(1e-9)
        });
        let share = match self.profile.order {
            verax_core::load::LaneOrder::Interleaved => shares.sum(),
            verax_core::load::LaneOrder::OneAfterAnother => shares.fold(0.0, f64::max),
        };
        // One late second of many is the machine's.
        let mut late = self.late_ms.clone();
        late.sort_by(f64::total_cmp);
        let late = late.get(late.len() / 2).copied().unwrap_or(0.0);
        GeneratorLimit::of(self.busy.processors(), share, late)
    }

    fn comparisons(&self, with_interval: bool) -> Vec<LaneComparison> {
        let Some((first, others)) = self.lanes.split_first() else { return Vec::new() };
        let this = first.steady.figures(first.is_cached);
        let compare = |other: &MeasuredLane| {
            // A partial second weighs as much as its length.
            let per_second =
                |(count, length): &(u64, Duration)| *count as f64 / length.as_secs_f64().max(1e-9);
            let paired = first.slices.iter().zip(&other.slices);
            let slices: Vec<PairedSlice> = paired
                .filter(|_| with_interval)
                .map(|(over, under)| PairedSlice {
                    over: per_second(over),
                    under: per_second(under),
                })
                .collect();
            LaneComparison {
                lane: first.name.clone(),
                against: other.name.clone(),
                comparison: Comparison::of(&this, &other.steady.figures(other.is_cached), &slices),
            }
        };
        others.iter().map(compare).collect()
    }

    fn lane_report(&self, lane: &MeasuredLane, is_last: bool) -> LaneReport {
        let recorder = &lane.steady.recorder;
        let figures = lane.steady.figures(lane.is_cached);
        // That of a mean over the seconds, in proportion to the figure over all of them.
        let interval = |of: fn(&LaneFigures) -> Option<f64>| {
            let seconds: Vec<f64> = lane.seconds.iter().filter_map(of).collect();
            let mean = seconds.iter().sum::<f64>() / seconds.len().max(1) as f64;
            let (range, figure) = (mean_interval(&seconds, SEED)?, of(&figures)?);
            let (low, high) = (range.low / mean * figure, range.high / mean * figure);
            Some(ConfidenceInterval { low, high })
        };
        // They take a while, which an active run does not have.
        let interval =
            |of: fn(&LaneFigures) -> Option<f64>| is_last.then(|| interval(of)).flatten();
        let think_time = self.profile.arrivals.think_time();
        let think_time = think_time.filter(|_| recorder.succeeded() > 0);
        let corrected = think_time.map(|think_time| recorder.corrected(think_time));
        let warm_up =
            (!lane.warm_up.length.is_zero()).then(|| lane.warm_up.figures(lane.is_cached));
        LaneReport {
            name: lane.name.clone(),
            is_cached: lane.is_cached,
            figures,
            unanswered: lane.unanswered,
            throughput_interval: interval(|figures| Some(figures.per_second)),
            p50_interval: interval(|figures| figures.p50_ms),
            p99_interval: interval(|figures| figures.p99_ms),
            warm_up,
            corrected,
            from_send: recorder.from_send(),
            curve: recorder.curve(),
            bend: self.bend(lane),
        }
    }

    /// Where a lane bends over the measured stages that keep their level, each level once.
    fn bend(&self, lane: &MeasuredLane) -> Option<Bend> {
        let stages = self.profile.stages.all().iter().enumerate();
        let mut steps: Vec<LoadStep> = Vec::new();
        for (number, stage) in stages.filter(|(_, stage)| !stage.is_warm_up && !stage.is_ramp) {
            let figures = lane.stages[number].figures(lane.is_cached);
            let step = LoadStep {
                // What is due at a pace is known from its recording.
                level: stage.level * self.pace.unwrap_or(1.0),
                per_second: figures.per_second,
                mean_ms: figures.mean_ms.unwrap_or_default(),
                error_share: figures.errors as f64 / (figures.requests as f64).max(1.0),
                generator_processors: self.stages_busy[number].processors(),
            };
            let is_known = steps.iter().any(|known| known.level == step.level);
            if !is_known && figures.requests > 0 {
                steps.push(step);
            }
        }
        steps.sort_by(|a, b| a.level.total_cmp(&b.level));
        // Fewer are a spike or a ramp, not a search for a bend.
        (steps.len() >= MIN_STEPS).then(|| bend(&steps, self.profile.arrivals.is_open())).flatten()
    }

    /// What the first lane, compared with the second, means for the traffic of the profile.
    fn meanings(&self, lanes: &[LaneReport]) -> Vec<Meaning> {
        let [this, other, ..] = lanes else { return Vec::new() };
        // A lane carries what it carries at its knee, or as much as it was seen to.
        let capacity = |lane: &LaneReport| {
            lane.bend.map_or(lane.figures.per_second, |bend| bend.knee_per_second)
        };
        let capacities = Capacities {
            this_per_second: capacity(this),
            other_per_second: capacity(other),
            miss_share: this.figures.hit_ratio.map_or(1.0, |hits| 1.0 - hits),
        };
        meanings(capacities, &self.profile.traffic)
    }

    fn stage_reports(&self) -> Vec<StageReport> {
        let mut from = Duration::ZERO;
        let stages = self.profile.stages.all().iter().enumerate();
        let report = |(number, stage): (usize, &verax_core::load::Stage)| {
            let begin = from;
            from += stage.duration;
            let lanes = self.lanes.iter();
            let measured = lanes.clone().map(|lane| lane.stages[number].length).max();
            let seconds = measured.unwrap_or_default().as_secs_f64();
            (seconds > 0.0).then(|| StageReport {
                name: stage.name.clone(),
                level: stage.level,
                ramp: stage.is_ramp,
                warm_up: stage.is_warm_up,
                from_seconds: begin.as_secs_f64(),
                seconds,
                lanes: lanes.map(|lane| lane.stages[number].figures(lane.is_cached)).collect(),
            })
        };
        stages.filter_map(report).collect()
    }

    fn goals(&self, lanes: &[LaneReport]) -> Vec<MetGoal> {
        let check = |goal: &verax_core::load::Goal| {
            let is_of = |lane: &&LaneReport| lane.name == goal.lane.as_str();
            let others: Vec<_> =
                lanes.iter().filter(|lane| !is_of(lane)).map(|lane| lane.figures).collect();
            let lane = lanes.iter().find(is_of)?;
            let result = goal.check(&lane.figures, &others);
            let (measured, is_met) = (result.measured, result.is_met);
            Some(MetGoal { goal: goal.to_string(), measured, is_met })
        };
        self.profile.goals.iter().filter_map(check).collect()
    }

    /// The report so far, or the last one with `more` doubts and intervals, which take a while.
    /// `stolen` is the share of the processors' time that the machine lost.
    pub(super) fn report(&self, stolen: Option<f64>, more: &[Doubt], is_last: bool) -> LoadReport {
        let lanes: Vec<_> = self.lanes.iter().map(|lane| self.lane_report(lane, is_last)).collect();
        let judged = lanes.iter().map(|lane| JudgedLane {
            name: &lane.name,
            is_cached: lane.is_cached,
            figures: &lane.figures,
            unanswered: lane.unanswered,
        });
        let mut why = doubts(&judged.collect::<Vec<_>>(), stolen);
        why.extend(self.generator_limit().map(Doubt::GeneratorBound));
        why.extend(more.iter().cloned());
        let mut errors: Vec<_> =
            self.lanes.iter().flat_map(|lane| lane.messages.listed(&lane.name)).collect();
        errors.sort_by_key(|errors| Reverse(errors.count));
        LoadReport {
            measured_seconds: self.lanes.first().map_or(0.0, |l| l.steady.length.as_secs_f64()),
            keys: self.keys,
            comparisons: self.comparisons(is_last),
            stages: self.stage_reports(),
            errors,
            doubts: why.iter().map(LoadDoubt::from).collect(),
            goals: self.goals(&lanes),
            against_baseline: None,
            meanings: match is_last && why.is_empty() {
                true => self.meanings(&lanes),
                false => Vec::new(),
            },
            lanes,
        }
    }
}
