//! The JSON shapes of the Verax HTTP API.
//!
//! Server and client share them. Field names carry their units (`_seconds`, `_ms`, `_bytes`); times
//! are RFC 3339. With the feature `openapi`, every shape also has a schema for the OpenAPI
//! document.
//!
//! ```
//! let request: verax_api::CreateNamespace =
//!     serde_json::from_str(r#"{ "name": "boards", "policy": { "max_age_seconds": 30 } }"#)?;
//! assert_eq!(request.policy.max_age_seconds, Some(30.0));
//! # Ok::<(), serde_json::Error>(())
//! ```

mod advice;
mod batches;
mod check;
mod counters;
mod damage;
mod definition_file;
mod drills;
mod entries;
mod failure;
mod heat;
mod live;
mod load;
mod locks;
mod memory;
mod moment;
mod object;
mod origins;
mod permits;
mod problem;
mod quotas;
mod rate_limits;
mod run;
mod schedules;
mod searches;
mod stand_in;
mod tenants;
mod tokens;
mod usage;
mod waiting;
mod warm;

pub use advice::{AdvicePoint, LifetimeAdvice};
pub use batches::{
    BatchAnswer, BatchFound, BatchOperation, BatchPut, BatchRequest, BatchResult, BatchValue,
};
pub use check::{CheckRequest, CheckStep, DamagedValue};
pub use counters::{AddRequest, Counter};
pub use damage::{DamageOutcome, DamageReport, DamageReports, ReportDamage};
pub use definition_file::DefinitionFile;
pub use drills::{
    DrillEvent, DrillFigure, DrillRequest, DrillRun, DrillSide, DrillSpec, DrillTick,
};
pub use entries::{EntryPage, EntrySummary, Removal, SampleSize};
pub use failure::FailureKind;
pub use heat::{HotKey, HotKeys};
pub use live::{Latency, LiveSample, NamespaceSample, Node, Ready};
pub use load::{
    ArrivalsSpec, ChangeLoad, ExportedRun, GoalSpec, InvalidProfileSpec, JoinedWorker,
    LOAD_WORKER_PROTOCOL, LaneComparison, LaneDifference, LaneReadsSpec, LaneReport, LaneSpec,
    LoadDoubt, LoadMark, LoadMarkKind, LoadProfileSpec, LoadProgress, LoadReport, LoadRequest,
    LoadRun, LoadTick, LoadWorker, MachineTick, MarkLoad, MetGoal, MixSpec, OfferedProfile,
    ProfileChoice, ReadErrors, RecordTraffic, RecordingPart, RunComparison, ServiceTick,
    SetBaseline, StageReport, StageSpec, StepsSpec, StopWhenSpec, TrafficRecording, WorkerState,
};
pub use locks::{
    AcquireLock, Lock, LockEvent, LockHolder, LockLease, Locks, QueuedCaller, RenewLock,
};
pub use memory::{DividedNamespace, MemoryCurve, MemoryDivision, MemoryPoint};
pub use moment::moment;
pub use object::Object;
pub use origins::{
    CreateOrigin, Endpoint, Guard, GuardChange, Origin, OriginChange, Pool, PoolChange, Sql,
    SqlChange,
};
pub use permits::{AcquirePermit, AwaitRefill, PermitGrant, PermitInUse, Permits, RefillEvent};
pub use problem::{Problem, RETRY_AFTER_SECONDS};
pub use quotas::{TenantQuota, TenantQuotaChange, TenantUsage};
pub use rate_limits::{AcquireRate, RateLimit};
pub use run::Run;
pub use schedules::{
    ActiveHours, MissedChoice, Schedule, ScheduleChange, SchedulePreview, ScheduleSlot,
    ScheduleSpec, ScheduleTiming, ScheduledAction, ScheduledCheck, ScheduledInvalidation,
};
pub use searches::{FoundEntry, SearchRequest, SearchStep};
pub use stand_in::{StandIn, StandInChange};
pub use tenants::{
    ActivityItem, CreateNamespace, CreateTenant, Interval, InvalidSeconds, Namespace, OriginChoice,
    Policy, PolicyChange, Tenant, Usage, duration_of,
};
pub use tokens::{
    CreateSession, CreateToken, CreatedToken, LiveSession, RotateToken, RotatedToken, Session,
    SignInLink, Token,
};
pub use usage::{UsageHistory, UsagePoint};
pub use verax_core::load::{
    Comparison, ErrorKind, LaneFigures, LaneOrder, PercentilePoint, Percentiles, Popularity,
    RefillBy, Spacing, Transport, ValueSize,
};
pub use waiting::{Waiting, WaitingLock, WaitingLockEvent, WaitingPermit, WaitingRefill};
pub use warm::{
    AfterInvalidation, FailureCount, FreshChoice, KeyOrder, KeySource, OverlapChoice, PatternKeys,
    StartWarmRun, WarmDays, WarmEstimate, WarmFailure, WarmPlan, WarmPlanSpec, WarmRange,
    WarmRequest, WarmRows, WarmRun, WarmRunChange, WarmValues,
};

/// A list of items, as every collection of the API is returned.
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Items<T> {
    /// The items.
    pub items: Vec<T>,
}

/// A page of items that a collection of the API has.
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ItemPage<T> {
    /// The items.
    pub items: Vec<T>,
    /// Where the next page starts; absent on the last one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}
