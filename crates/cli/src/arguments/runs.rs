//! Arguments about load runs and drills.

use std::time::Duration;

use clap::Subcommand;

use super::values::length_of_time;

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
        /// Which: stampede, allocation, old-data, warm-up, deployment, noisy-neighbor or outage
        drill: String,
        /// How many callers, instances, rounds or clients take part [default: the drill's own
        /// number]
        #[arg(long, value_name = "N")]
        callers: Option<u32>,
    },
}
