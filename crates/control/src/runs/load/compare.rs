//! Comparing runs with each other, and a run with the baseline of its profile.

use verax_api::{LaneDifference, LoadRun, LoadTick, RunComparison};
use verax_core::load::{LaneFigures, Timeline, difference};

use super::place::place_of;
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;

/// A figure that is compared.
struct Figure {
    name: &'static str,
    unit: &'static str,
    is_larger_better: bool,
    of: fn(&LaneFigures) -> Option<f64>,
}

const FIGURES: [Figure; 4] = [
    Figure {
        name: "throughput",
        unit: "/s",
        is_larger_better: true,
        of: |figures| Some(figures.per_second),
    },
    Figure { name: "p50", unit: "ms", is_larger_better: false, of: |figures| figures.p50_ms },
    Figure { name: "p99", unit: "ms", is_larger_better: false, of: |figures| figures.p99_ms },
    Figure { name: "hit ratio", unit: "", is_larger_better: true, of: |figures| figures.hit_ratio },
];

/// A figure of a lane in each measured second in which the lane had its turn.
fn seconds(run: &LoadRun, lane: usize, of: fn(&LaneFigures) -> Option<f64>) -> Vec<f64> {
    let timeline = run.profile.profile().ok().map(|profile| Timeline::of(&profile));
    let has_turn = |tick: &LoadTick| {
        let Some(timeline) = &timeline else { return true };
        // The second ends then; it is long over when the next one does.
        let within = std::time::Duration::try_from_secs_f64((tick.at_seconds - 0.5).max(0.0));
        let moment = within.ok().and_then(|within| timeline.at(within));
        moment.is_none_or(|moment| timeline.is_active(lane, moment.round))
    };
    let measured = run.ticks.iter().filter(|tick| !tick.warm_up && has_turn(tick));
    measured.filter_map(|tick| tick.lanes.get(lane).and_then(of)).collect()
}

/// Compares two runs by the lanes that both have.
pub(super) fn compare(before: &LoadRun, after: &LoadRun) -> RunComparison {
    let mut differences = Vec::new();
    for (number, lane) in after.profile.lanes.iter().enumerate() {
        let earlier = before.profile.lanes.iter().position(|earlier| earlier.name == lane.name);
        let Some(earlier) = earlier else { continue };
        for Figure { name, unit, is_larger_better, of } in FIGURES {
            let (was, is) = (seconds(before, earlier, of), seconds(after, number, of));
            if let Some(difference) = difference(&was, &is, is_larger_better) {
                differences.push(LaneDifference {
                    lane: lane.name.clone(),
                    figure: name.to_owned(),
                    unit: unit.to_owned(),
                    difference,
                });
            }
        }
    }
    RunComparison { before: before.id, after: after.id, differences }
}

impl Control {
    /// Compares two runs.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see one of them; the records.
    pub async fn compare_load_runs(
        &self,
        caller: &Caller,
        before: u64,
        after: u64,
    ) -> Result<RunComparison, ControlError> {
        let before = self.load_run(caller, before).await?;
        let after = self.load_run(caller, after).await?;
        Ok(compare(&before, &after))
    }

    /// Compares a run with the baseline of its profile, if it has one that the caller may see.
    pub(super) async fn against_baseline(
        &self,
        caller: &Caller,
        run: &LoadRun,
    ) -> Option<RunComparison> {
        let (tenant, _) = place_of(&run.profile.namespace).ok()?;
        let name = verax_core::Name::new(&*run.profile.name).ok()?;
        let profile = self.load_profile(caller, &tenant, &name).await.ok()?;
        let baseline = self.load_run(caller, profile.baseline?).await.ok()?;
        Some(compare(&baseline, run))
    }
}
