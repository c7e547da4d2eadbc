//! Load profiles and load runs.

mod comparison;
mod export;
mod joined;
mod offered;
mod profile;
mod recording;
mod run;

pub use comparison::{LaneDifference, RunComparison};
pub use export::ExportedRun;
pub use joined::{JoinedWorker, LOAD_WORKER_PROTOCOL};
pub use offered::{OfferedProfile, SetBaseline};
pub use profile::{
    ArrivalsSpec, GoalSpec, InvalidProfileSpec, LaneReadsSpec, LaneSpec, LoadProfileSpec, MixSpec,
    StageSpec, StepsSpec, StopWhenSpec,
};
pub use recording::{RecordTraffic, RecordingPart, TrafficRecording};
pub use run::{
    ChangeLoad, LaneComparison, LaneReport, LoadDoubt, LoadMark, LoadMarkKind, LoadProgress,
    LoadReport, LoadRequest, LoadRun, LoadTick, LoadWorker, MachineTick, MarkLoad, MetGoal,
    ProfileChoice, ReadErrors, ServiceTick, StageReport, WorkerState,
};
