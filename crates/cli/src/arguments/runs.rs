//! What can be typed about warm runs, load runs and drills.

use std::time::Duration;

use clap::Subcommand;

use super::values::{GivenValues, NamespacePath, length_of_time, values};

#[derive(Debug, Subcommand)]
pub(crate) enum WarmCommand {
    /// Refill many keys of a namespace ahead of time
    #[command(after_help = "Examples:\n  \
        verax warm run ferrydesk/boards --values harbour=origin:/harbours\n  \
        verax warm run ferrydesk/boards --values harbour=aldermouth,brinewick --concurrency 2")]
    Run {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        /// The shape of the keys [default: the namespace's key pattern]
        #[arg(long)]
        pattern: Option<String>,
        /// The values of a variable: VARIABLE=VALUE,VALUE or VARIABLE=@FILE (a value a line) or
        /// VARIABLE=origin:/REFERENCE (a JSON array that the origin answers there)
        #[arg(long = "values", value_parser = values, value_name = "VALUES")]
        values: Vec<GivenValues>,
        /// How many refills may be under way at once, 1 to 256
        #[arg(long, default_value_t = 4, value_name = "N")]
        concurrency: u32,
    },
    /// List the latest warm runs; those under way are always among them
    List,
    /// Stop a warm run after the refills that are under way
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
        /// Use this many clients a lane instead
        #[arg(long, value_name = "N")]
        clients: Option<u32>,
    },
    /// List the latest load runs; one under way is always among them
    List,
    /// End a load run early; what it measured so far is its report
    Stop {
        /// The run, by its number in the list
        run: u64,
    },
    /// List the load profiles that the service offers
    Profiles,
}

#[derive(Debug, Subcommand)]
pub(crate) enum DrillCommand {
    /// List the drills; there are some on the demo
    List,
    /// Run a drill
    Run {
        /// Which: stampede, allocation, old-data or outage
        drill: String,
        /// How many callers, instances, rounds or clients take part; the drill's own number when
        /// left out
        #[arg(long, value_name = "N")]
        callers: Option<u32>,
    },
}
