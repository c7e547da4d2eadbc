//! Arguments about warm runs, load runs and drills.

use std::time::Duration;

use clap::Subcommand;

use super::values::{GivenValues, NamespacePath, length_of_time, values};

#[derive(Debug, Subcommand)]
pub(crate) enum WarmCommand {
    /// Refill many keys of a namespace ahead of time
    #[command(after_help = "Examples:\n  \
        verax warm run ferrydesk/boards --values harbor=origin:/harbors\n  \
        verax warm run ferrydesk/boards --values harbor=aldermouth,brinewick --concurrency 2")]
    Run {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        /// The pattern of the keys [default: the namespace's key pattern]
        #[arg(long)]
        pattern: Option<String>,
        /// The values of a variable: VARIABLE=VALUE,VALUE or VARIABLE=@FILE (one value a line) or
        /// VARIABLE=origin:/PATH (a JSON array from the origin)
        #[arg(long = "values", value_parser = values, value_name = "VALUES")]
        values: Vec<GivenValues>,
        /// The most concurrent refills, 1 to 256
        #[arg(long, default_value_t = 4, value_name = "N")]
        concurrency: u32,
    },
    /// List the latest warm runs and all that are running
    List,
    /// Stop a warm run after its refills in flight
    Stop {
        /// The run, by its number in the list
        run: u64,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum LoadCommand {
    /// Run a load profile: both lanes over the same keys, side by side
    Run {
        /// A profile that the service offers, or a JSON file
        profile: String,
        /// Measure for this long instead
        #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
        duration: Option<Duration>,
        /// Use this many clients for each lane instead
        #[arg(long, value_name = "N")]
        clients: Option<u32>,
    },
    /// List the latest load runs and the one that is running
    List,
    /// End a load run early; its report covers what it measured
    Stop {
        /// The run, by its number in the list
        run: u64,
    },
    /// List the load profiles that the service offers
    Profiles,
}

#[derive(Debug, Subcommand)]
pub(crate) enum DrillCommand {
    /// List the drills of the demo
    List,
    /// Run a drill
    Run {
        /// Which: stampede, allocation, old-data or outage
        drill: String,
        /// How many callers, instances, rounds or clients take part [default: the drill's own
        /// number]
        #[arg(long, value_name = "N")]
        callers: Option<u32>,
    },
}
