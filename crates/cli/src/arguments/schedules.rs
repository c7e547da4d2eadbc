//! Arguments about schedules.

use std::time::Duration;

use clap::{Args, Subcommand};

use super::values::{NamespacePath, length_of_time};

/// When a schedule runs.
#[derive(Debug, Args)]
pub(crate) struct TimingOptions {
    /// Minute, hour, day of the month, month and day of the week, such as "0 7 * * 1-5"
    #[arg(long, value_name = "EXPRESSION", required_unless_present = "every")]
    pub(crate) cron: Option<String>,
    /// So often, counted from when the schedule was created
    #[arg(long, value_parser = length_of_time, value_name = "TIME", conflicts_with = "cron")]
    pub(crate) every: Option<Duration>,
    /// The time zone of the times, as an IANA name such as Europe/Lisbon [default: UTC]
    #[arg(long, value_name = "ZONE")]
    pub(crate) time_zone: Option<String>,
    /// Run only between these times of day, such as 08:00-18:00
    #[arg(long, value_name = "FROM-UNTIL")]
    pub(crate) between: Option<String>,
    /// Run only on these days, such as mon-fri or sat,sun
    #[arg(long, value_name = "DAYS")]
    pub(crate) on: Option<String>,
    /// Start up to this much later, at random
    #[arg(long, value_parser = length_of_time, value_name = "TIME")]
    pub(crate) jitter: Option<Duration>,
    /// Run once for times that were missed, instead of skipping them
    #[arg(long)]
    pub(crate) run_missed: bool,
}

/// What a schedule does.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct ActionOptions {
    /// Run this warm plan of the tenant
    #[arg(long, value_name = "PLAN")]
    pub(crate) warm_plan: Option<String>,
    /// Run this load profile
    #[arg(long, value_name = "PROFILE")]
    pub(crate) load_profile: Option<String>,
    /// Remove the entries of this namespace of the tenant
    #[arg(long, value_name = "NAMESPACE")]
    pub(crate) invalidate: Option<String>,
    /// Check the stored values of this namespace of the tenant
    #[arg(long, value_name = "NAMESPACE")]
    pub(crate) check: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ScheduleCommand {
    /// List the schedules
    List {
        /// Only those of this tenant
        tenant: Option<String>,
    },
    /// Show a schedule, its next ten times and the latest that passed
    Show {
        /// The schedule, as TENANT/SCHEDULE
        schedule: NamespacePath,
    },
    /// Create or replace a schedule, and show its next ten times
    #[command(after_help = "Examples:\n  \
        verax schedule set ferrydesk/mornings --warm-plan morning-boards --cron \"0 7 * * *\" \
        --time-zone Europe/Lisbon\n  \
        verax schedule set ferrydesk/hourly --warm-plan hot-boards --cron \"0 * * * *\" \
        --between 08:00-18:00 --on mon-fri --jitter 2m\n  \
        verax schedule set ferrydesk/nightly --check boards --remove --cron \"0 3 * * *\"")]
    Set {
        /// The schedule, as TENANT/SCHEDULE
        schedule: NamespacePath,
        #[command(flatten)]
        action: ActionOptions,
        /// Only entries with this tag, with --invalidate
        #[arg(long, requires = "invalidate", conflicts_with = "prefix")]
        tag: Option<String>,
        /// Only entries whose keys start with this, with --invalidate or --check
        #[arg(long)]
        prefix: Option<String>,
        /// Remove damaged entries, with --check
        #[arg(long, requires = "check")]
        remove: bool,
        #[command(flatten)]
        timing: Box<TimingOptions>,
        /// What it is for
        #[arg(long, default_value = "")]
        note: String,
        /// Only show its next ten times
        #[arg(long)]
        dry_run: bool,
    },
    /// Pause a schedule
    Pause {
        /// The schedule, as TENANT/SCHEDULE
        schedule: NamespacePath,
    },
    /// Let a paused schedule go on
    Resume {
        /// The schedule, as TENANT/SCHEDULE
        schedule: NamespacePath,
    },
    /// Do now what a schedule does, apart from its times
    Run {
        /// The schedule, as TENANT/SCHEDULE
        schedule: NamespacePath,
    },
    /// List the times of a schedule that have passed
    History {
        /// The schedule, as TENANT/SCHEDULE
        schedule: NamespacePath,
        /// At most this many, 1 to 500
        #[arg(long, value_name = "N", default_value_t = 20)]
        limit: u32,
    },
    /// Delete a schedule
    Delete {
        /// The schedule, as TENANT/SCHEDULE
        schedule: NamespacePath,
    },
}
