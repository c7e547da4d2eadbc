//! Warm plans and warm runs.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Where the values of a variable come from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum WarmValues {
    /// These values.
    List(Vec<String>),
    /// A JSON array of strings that the origin answers at this URL reference, such as `/harbors`.
    Listing(String),
    /// Numbers.
    Range(WarmRange),
    /// Days around today.
    Days(WarmDays),
}

/// Numbers, both ends included.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WarmRange {
    /// The first.
    pub from: i64,
    /// The last.
    pub to: i64,
    /// From one to the next; 1 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<i64>,
}

/// Days around today, both ends included.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WarmDays {
    /// The first, in days from today: -1 is yesterday.
    pub from: i64,
    /// The last.
    pub to: i64,
    /// How a day is written, in the codes of `strftime`; `%Y-%m-%d` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    /// The time zone that says which day is today, as an IANA name; UTC when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_zone: Option<String>,
}

/// Rows whose members are the values of a pattern's variables.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum WarmRows {
    /// The rows of a query: an origin of the tenant whose query has no variables.
    Query(String),
    /// The items of a listing of the namespace's origin, such as `/sailings`: JSON objects, page by
    /// page (RFC 8288, `rel="next"`).
    Listing(String),
}

/// A pattern with values for its variables; every combination is one key.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PatternKeys {
    /// The pattern; the namespace's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
    /// The values of each variable.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub values: BTreeMap<String, WarmValues>,
    /// Rows with values for several variables together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<WarmRows>,
}

/// Some of the keys of a plan.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum KeySource {
    /// These keys.
    List(Vec<String>),
    /// A pattern with values.
    Pattern(PatternKeys),
    /// The keys of the entries with this tag.
    Tag(String),
    /// The keys of the entries whose keys start with this; all for an empty text.
    Prefix(String),
    /// So many of the keys that are read most.
    Hottest(u32),
}

/// In which order keys are refilled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum KeyOrder {
    /// As the plan names them.
    #[default]
    Given,
    /// Those that are read most first.
    HottestFirst,
    /// Those that are refilled fastest first.
    CheapestFirst,
}

/// What is done with a key whose entry is fresh.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FreshChoice {
    /// It is refilled, too; its entry stays readable meanwhile.
    #[default]
    Refresh,
    /// It is left as it is, unless `refresh_within_seconds` says otherwise.
    Skip,
}

/// What a start does while a run of the same plan is active.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum OverlapChoice {
    /// It is refused.
    #[default]
    Refuse,
    /// It follows the active run instead.
    Join,
    /// It begins when the active run has ended. One run waits at a time.
    Queue,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// Declares a shape with what is to be filled, and how, after members of its own.
macro_rules! warm_shape {
    ($(#[$attribute:meta])* $Shape:ident { $($own:tt)* }) => {
        $(#[$attribute])*
        #[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
        #[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
        #[serde(deny_unknown_fields)]
        pub struct $Shape {
            $($own)*
            /// The keys. A key that several of them name is refilled once.
            pub keys: Vec<KeySource>,
            /// In which order; as given when absent.
            #[serde(default, skip_serializing_if = "is_default")]
            pub order: KeyOrder,
            /// The most concurrent refills, 1 to 256; 4 when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub concurrency: Option<u32>,
            /// The most refills that begin in a second; no limit when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub max_per_second: Option<f64>,
            /// The most of the origin's concurrent calls that may be for warming, in percent; 50
            /// when absent. One call is always left to readers.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub origin_share_percent: Option<u32>,
            /// After this time the run ends; no limit when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub deadline_seconds: Option<f64>,
            /// What is done with fresh entries; they are refreshed when absent.
            #[serde(default, skip_serializing_if = "is_default")]
            pub fresh: FreshChoice,
            /// With `fresh` = `skip`: entries that are fresh for less than this are refreshed.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub refresh_within_seconds: Option<f64>,
            /// With more failed keys than this, the run ends; no limit when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub tolerated_failures: Option<u64>,
            /// How often a failed key is tried again, 0 to 10; 2 when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub retries: Option<u32>,
            /// The longest pause before the first retry, which doubles with each; 0.2 when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub first_pause_seconds: Option<f64>,
            /// The max-age of what is stored; the policy's when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub max_age_seconds: Option<f64>,
            /// What a second run of the plan does; it is refused when absent.
            #[serde(default, skip_serializing_if = "is_default")]
            pub overlap: OverlapChoice,
        }
    };
}

/// A run of a plan after an invalidation in its namespace: it refills those of the plan's keys that
/// are no longer there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AfterInvalidation {
    /// How long the namespace must be without another invalidation before the run begins, so that
    /// one run follows a burst of them; 0.1 to 60.
    pub quiet_seconds: f64,
    /// How long the run is put off at most; 0.1 to 600.
    pub within_seconds: f64,
}

warm_shape! {
    /// What to fill, and how.
    WarmRequest {}
}

warm_shape! {
    /// A warm plan to keep.
    WarmPlanSpec {
        /// The namespace that it fills.
        pub namespace: String,
        /// What it is for.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        pub note: String,
        /// Whether it runs by itself after an invalidation in its namespace.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub after_invalidation: Option<AfterInvalidation>,
        /// Whether it runs by itself when the service has started; hot keys are then those of
        /// before.
        #[serde(default, skip_serializing_if = "is_default")]
        pub after_start: bool,
    }
}

impl WarmPlanSpec {
    /// A plan that fills a namespace with what a request says.
    pub fn new(namespace: &str, request: WarmRequest) -> Self {
        let WarmRequest {
            keys,
            order,
            concurrency,
            max_per_second,
            origin_share_percent,
            deadline_seconds,
            fresh,
            refresh_within_seconds,
            tolerated_failures,
            retries,
            first_pause_seconds,
            max_age_seconds,
            overlap,
        } = request;
        Self {
            namespace: namespace.to_owned(),
            note: String::new(),
            after_invalidation: None,
            after_start: false,
            keys,
            order,
            concurrency,
            max_per_second,
            origin_share_percent,
            deadline_seconds,
            fresh,
            refresh_within_seconds,
            tolerated_failures,
            retries,
            first_pause_seconds,
            max_age_seconds,
            overlap,
        }
    }

    /// What it fills, and how.
    pub fn request(&self) -> WarmRequest {
        let Self {
            keys,
            order,
            concurrency,
            max_per_second,
            origin_share_percent,
            deadline_seconds,
            fresh,
            refresh_within_seconds,
            tolerated_failures,
            retries,
            first_pause_seconds,
            max_age_seconds,
            overlap,
            ..
        } = self.clone();
        WarmRequest {
            keys,
            order,
            concurrency,
            max_per_second,
            origin_share_percent,
            deadline_seconds,
            fresh,
            refresh_within_seconds,
            tolerated_failures,
            retries,
            first_pause_seconds,
            max_age_seconds,
            overlap,
        }
    }
}

/// A warm plan.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WarmPlan {
    /// Its tenant.
    pub tenant: String,
    /// Its name.
    pub name: String,
    /// When it was last changed.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub changed_at: Timestamp,
    /// What it says.
    #[serde(flatten)]
    pub spec: WarmPlanSpec,
}

/// Starts a run of a plan.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct StartWarmRun {
    /// More keys, before those of the plan.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<String>,
    /// What the start does while another run of the plan is active; as the plan says when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub overlap: Option<OverlapChoice>,
}

/// What a run would do.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WarmEstimate {
    /// How many keys it has.
    pub keys: u64,
    /// How many of them have a fresh entry.
    pub fresh: u64,
    /// How many would be refilled.
    pub refills: u64,
    /// How long that would take; absent if no refill was measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// The mean latency of a refill, of this many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refill_ms: Option<f64>,
    /// How many refills were measured for it.
    pub measured_refills: u64,
    /// Concurrent calls of the origin meanwhile.
    pub origin_concurrency: u32,
    /// Reads of the origin in a second meanwhile.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin_reads_per_second: Option<f64>,
    /// The bytes that would be added; absent if no entry was measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub added_bytes: Option<u64>,
    /// The bytes that the namespace holds now.
    pub used_bytes: u64,
    /// The bytes that it may hold.
    pub limit_bytes: u64,
    /// The bytes that would be evicted.
    pub evicted_bytes: u64,
    /// The first keys, at most 10.
    pub first_keys: Vec<String>,
    /// What to look at before the run is started.
    pub warnings: Vec<String>,
}

/// A key that could not be refilled.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WarmFailure {
    /// The key.
    pub key: String,
    /// Why.
    pub reason: String,
}

/// How many keys could not be refilled for a reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FailureCount {
    /// The kind of failure, as in problem details.
    pub kind: String,
    /// How many.
    pub keys: u64,
}

/// A warm run, running or ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WarmRun {
    /// Its identifier.
    pub id: u64,
    /// The tenant of the namespace.
    pub tenant: String,
    /// The namespace it fills.
    pub namespace: String,
    /// The plan; absent for a run without one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<String>,
    /// Who or what started it.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub cause: String,
    /// `running`, `done`, `stopped`, `failed` or `interrupted`: the service stopped before the run
    /// ended.
    pub state: String,
    /// While it is running: `queued`, `refilling`, `paused` or `restoring`, which refills what a
    /// restart lost.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub phase: String,
    /// Why it ended early.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it started.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub started_at: Timestamp,
    /// How long it ran so far, without pauses.
    pub elapsed_ms: f64,
    /// How many keys it has.
    pub keys: u64,
    /// How many are stored.
    pub stored: u64,
    /// How many were left as they are, because they were fresh.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub skipped: u64,
    /// For how many the origin has no value.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub no_value: u64,
    /// How many could not be refilled or stored.
    pub failed: u64,
    /// The bytes of the values that are stored.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub bytes: u64,
    /// Keys per second so far.
    pub per_second: f64,
    /// The time left at this rate; absent without one, and once ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds_left: Option<f64>,
    /// Concurrent calls of the origin, on average.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub origin_concurrency: f64,
    /// How many keys from the start are finished: an interrupted run resumes here.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub position: u64,
    /// How often it was resumed after the service had stopped.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub resumed: u32,
    /// What to look at.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// The failures by kind.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required = true))]
    pub failure_counts: Vec<FailureCount>,
    /// The first failures, at most 20.
    pub failures: Vec<WarmFailure>,
}

impl WarmRun {
    /// How many keys are finished, in whatever way.
    pub fn finished(&self) -> u64 {
        self.stored + self.skipped + self.no_value + self.failed
    }
}

/// Pauses a run or lets it go on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WarmRunChange {
    /// Whether it is to pause.
    pub paused: bool,
}
