//! Schedules: what runs when.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What a schedule does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ScheduledAction {
    /// Runs a warm plan of the tenant.
    WarmPlan(String),
    /// Removes entries of a namespace.
    Invalidate(ScheduledInvalidation),
    /// Runs a load profile that reads a namespace of the tenant.
    LoadProfile(String),
    /// Checks the stored values of a namespace.
    Check(ScheduledCheck),
}

/// Which entries are removed: all, unless a tag or a prefix is given.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ScheduledInvalidation {
    /// The namespace.
    pub namespace: String,
    /// Entries with this tag.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// Entries whose keys start with this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prefix: Option<String>,
}

/// Which values are checked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ScheduledCheck {
    /// The namespace.
    pub namespace: String,
    /// Entries whose keys start with this; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prefix: Option<String>,
    /// Whether damaged entries are removed.
    #[serde(default)]
    pub remove: bool,
}

/// The hours and days at which a schedule is active, both ends included.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ActiveHours {
    /// The days of the week, such as `mon-fri`; every day when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<String>,
    /// From this time of day, such as `08:00`.
    pub from: String,
    /// Until this time of day.
    pub until: String,
}

/// What is done about times at which nothing could run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum MissedChoice {
    /// Nothing.
    #[default]
    Skip,
    /// It runs once, however many were missed.
    RunOnce,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// Declares a shape with the times of a schedule, after members of its own.
macro_rules! timed_shape {
    ($(#[$attribute:meta])* $Shape:ident { $($own:tt)* }) => {
        $(#[$attribute])*
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
        #[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
        #[serde(deny_unknown_fields)]
        pub struct $Shape {
            $($own)*
            /// Minute, hour, day of the month, month and day of the week.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub cron: Option<String>,
            /// So often, counted from when the schedule was created.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub every_seconds: Option<f64>,
            /// The time zone of the times, as an IANA name; UTC when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub time_zone: Option<String>,
            /// When it is active; always when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub active: Option<ActiveHours>,
            /// By how much a start may be later than its time, at random; 0 when absent.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub jitter_seconds: Option<f64>,
            /// What is done about times at which nothing could run; nothing when absent.
            #[serde(default, skip_serializing_if = "is_default")]
            pub missed: MissedChoice,
        }
    };
}

timed_shape! {
    /// When a schedule runs: a cron expression or an interval.
    ScheduleTiming {}
}

timed_shape! {
    /// A schedule to keep.
    ScheduleSpec {
        /// What it does.
        pub action: ScheduledAction,
        /// What it is for.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        pub note: String,
        /// Whether it does nothing for now.
        #[serde(default, skip_serializing_if = "is_default")]
        pub paused: bool,
    }
}

impl ScheduleSpec {
    /// A schedule that does something at some times.
    pub fn new(action: ScheduledAction, timing: ScheduleTiming) -> Self {
        let ScheduleTiming { cron, every_seconds, time_zone, active, jitter_seconds, missed } =
            timing;
        let (note, paused) = (String::new(), false);
        Self {
            action,
            note,
            paused,
            cron,
            every_seconds,
            time_zone,
            active,
            jitter_seconds,
            missed,
        }
    }

    /// When it runs.
    pub fn timing(&self) -> ScheduleTiming {
        let Self { cron, every_seconds, time_zone, active, jitter_seconds, missed, .. } =
            self.clone();
        ScheduleTiming { cron, every_seconds, time_zone, active, jitter_seconds, missed }
    }
}

/// A schedule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Schedule {
    /// Its tenant.
    pub tenant: String,
    /// Its name.
    pub name: String,
    /// When it was last changed.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub changed_at: Timestamp,
    /// Its next times, at most 10, without jitter; none while it is paused.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub next: Vec<Timestamp>,
    /// The latest time at which it ran.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<ScheduleSlot>,
    /// What it says.
    #[serde(flatten)]
    pub spec: ScheduleSpec,
}

/// A time of a schedule that has passed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ScheduleSlot {
    /// The time.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub time: Timestamp,
    /// When it was begun.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub taken_at: Timestamp,
    /// `taken`, `started` (a run), `done`, `failed` or `missed`.
    pub state: String,
    /// The run that was started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<u64>,
    /// Whether somebody ran it by hand.
    pub by_hand: bool,
    /// More about it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// Pauses a schedule or lets it go on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ScheduleChange {
    /// Whether it is to pause.
    pub paused: bool,
}

/// The next times of a timing.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SchedulePreview {
    /// At most 10, without jitter.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub next: Vec<Timestamp>,
}
