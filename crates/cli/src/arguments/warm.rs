//! Arguments about warm plans, warm runs and hot keys.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use verax_api::{FreshChoice, KeyOrder, OverlapChoice, WarmRows};

use super::values::{GivenValues, NamespacePath, length_of_time, values};

/// The keys of a run, and how they are refilled.
#[derive(Debug, Args)]
pub(crate) struct WarmOptions {
    /// A key to refill; may be repeated
    #[arg(long = "key", value_name = "KEY", help_heading = "Keys")]
    pub(crate) keys: Vec<String>,
    /// A file of keys, one a line, or `-` for standard input
    #[arg(long, value_name = "FILE", help_heading = "Keys")]
    pub(crate) keys_from: Option<PathBuf>,
    /// The pattern of the keys [default: the namespace's key pattern]
    #[arg(long, help_heading = "Keys")]
    pub(crate) pattern: Option<String>,
    /// The values of a variable: VARIABLE=VALUE,VALUE or VARIABLE=@FILE (one value a line),
    /// VARIABLE=origin:/PATH (a JSON array from the origin), VARIABLE=range:1..20 or
    /// VARIABLE=days:-1..7 (days from today)
    #[arg(long = "values", value_parser = values, value_name = "VALUES", help_heading = "Keys")]
    pub(crate) values: Vec<GivenValues>,
    /// Rows with values for the pattern's variables: origin:/PATH (JSON objects, page by page) or
    /// query:ORIGIN (an SQL origin without variables)
    #[arg(long, value_parser = rows, value_name = "ROWS", help_heading = "Keys")]
    pub(crate) rows: Option<WarmRows>,
    /// The keys of entries with this tag; may be repeated
    #[arg(long = "tag", value_name = "TAG", help_heading = "Keys")]
    pub(crate) tags: Vec<String>,
    /// The keys of entries that start with this; may be repeated
    #[arg(long = "prefix", value_name = "PREFIX", help_heading = "Keys")]
    pub(crate) prefixes: Vec<String>,
    /// So many of the keys that are read most, 1 to 256
    #[arg(long, value_name = "N", help_heading = "Keys")]
    pub(crate) hottest: Option<u32>,
    /// In which order [default: given]
    #[arg(long, help_heading = "Pace")]
    pub(crate) order: Option<OrderOption>,
    /// The most concurrent refills, 1 to 256 [default: 4]
    #[arg(long, value_name = "N", help_heading = "Pace")]
    pub(crate) concurrency: Option<u32>,
    /// The most refills that begin in a second
    #[arg(long, value_name = "N", help_heading = "Pace")]
    pub(crate) max_per_second: Option<f64>,
    /// The most of the origin's concurrent calls that may be for warming, in percent [default: 50]
    #[arg(long, value_name = "PERCENT", help_heading = "Pace")]
    pub(crate) origin_share: Option<u32>,
    /// End the run after this time
    #[arg(long, value_parser = length_of_time, value_name = "TIME", help_heading = "Pace")]
    pub(crate) deadline: Option<Duration>,
    /// Leave fresh entries as they are
    #[arg(long, help_heading = "Entries")]
    pub(crate) skip_fresh: bool,
    /// Leave entries that are fresh for longer than this as they are
    #[arg(long, value_parser = length_of_time, value_name = "TIME", help_heading = "Entries")]
    pub(crate) refresh_within: Option<Duration>,
    /// The max-age of what is stored [default: the policy's]
    #[arg(long, value_parser = length_of_time, value_name = "TIME", help_heading = "Entries")]
    pub(crate) max_age: Option<Duration>,
    /// End the run when more keys than this have failed
    #[arg(long, value_name = "N", help_heading = "Entries")]
    pub(crate) tolerate: Option<u64>,
    /// How often a failed key is tried again, 0 to 10 [default: 2]
    #[arg(long, value_name = "N", help_heading = "Entries")]
    pub(crate) retries: Option<u32>,
}

/// The order of keys, on the command line.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum OrderOption {
    /// As the plan names them
    Given,
    /// Those that are read most first
    HottestFirst,
    /// Those that are refilled fastest first
    CheapestFirst,
}

impl From<OrderOption> for KeyOrder {
    fn from(order: OrderOption) -> Self {
        match order {
            OrderOption::Given => Self::Given,
            OrderOption::HottestFirst => Self::HottestFirst,
            OrderOption::CheapestFirst => Self::CheapestFirst,
        }
    }
}

/// What a second run of a plan does, on the command line.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum OverlapOption {
    /// It is refused
    Refuse,
    /// It follows the active run instead
    Join,
    /// It begins when the active run has ended
    Queue,
}

impl From<OverlapOption> for OverlapChoice {
    fn from(overlap: OverlapOption) -> Self {
        match overlap {
            OverlapOption::Refuse => Self::Refuse,
            OverlapOption::Join => Self::Join,
            OverlapOption::Queue => Self::Queue,
        }
    }
}

fn rows(text: &str) -> Result<WarmRows, String> {
    match text.split_once(':') {
        Some(("origin", reference)) => Ok(WarmRows::Listing(reference.to_owned())),
        Some(("query", origin)) => Ok(WarmRows::Query(origin.to_owned())),
        _ => Err("write it as origin:/PATH or query:ORIGIN".to_owned()),
    }
}

impl WarmOptions {
    /// What is done with fresh entries.
    pub(crate) fn fresh(&self) -> (FreshChoice, Option<f64>) {
        match (self.skip_fresh, self.refresh_within) {
            (_, Some(within)) => (FreshChoice::Skip, Some(within.as_secs_f64())),
            (true, None) => (FreshChoice::Skip, None),
            (false, None) => (FreshChoice::Refresh, None),
        }
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum WarmCommand {
    /// Run a warm plan, and follow it to its end
    #[command(after_help = "Examples:\n  \
        verax warm run ferrydesk/morning-boards --wait\n  \
        verax warm run ferrydesk/morning-boards --dry-run\n\n\
        Exit codes: 0 every key is warm, 6 some keys failed or the run ended early, 7 the run was \
        stopped")]
    Run {
        /// The plan, as TENANT/PLAN
        plan: NamespacePath,
        /// More keys, before those of the plan: a file, one a line, or `-` for standard input
        #[arg(long, value_name = "FILE")]
        keys_from: Option<PathBuf>,
        /// What to do while a run of the plan is active [default: as the plan says]
        #[arg(long)]
        overlap: Option<OverlapOption>,
        /// Follow the run to its end; the default
        #[arg(long, conflicts_with = "no_wait")]
        wait: bool,
        /// Start the run, and do not wait for it
        #[arg(long)]
        no_wait: bool,
        /// Say what the run would do, and do nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// Fill a namespace without a plan, and follow the run to its end
    #[command(after_help = "Examples:\n  \
        verax warm fill ferrydesk/boards --values harbor=origin:/harbors\n  \
        verax warm fill ferrydesk/boards --values harbor=aldermouth,brinewick --concurrency 2\n  \
        verax warm fill ferrydesk/boards --hottest 50 --skip-fresh --dry-run\n\n\
        Exit codes: 0 every key is warm, 6 some keys failed or the run ended early, 7 the run was \
        stopped")]
    Fill {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        #[command(flatten)]
        options: Box<WarmOptions>,
        /// Start the run, and do not wait for it
        #[arg(long)]
        no_wait: bool,
        /// Say what the run would do, and do nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// List the latest warm runs and all that are running
    List,
    /// Show a warm run, with the reason of each failed key
    Show {
        /// The run, by its number in the list
        run: u64,
        /// At most this many failures
        #[arg(long, value_name = "N", default_value_t = 20)]
        failures: u32,
    },
    /// Follow a warm run to its end
    Follow {
        /// The run, by its number in the list
        run: u64,
    },
    /// Pause a warm run after its refills in flight
    Pause {
        /// The run, by its number in the list
        run: u64,
    },
    /// Let a paused warm run go on
    Resume {
        /// The run, by its number in the list
        run: u64,
    },
    /// Stop a warm run after its refills in flight
    Stop {
        /// The run, by its number in the list
        run: u64,
    },
    /// Warm plans
    #[command(subcommand)]
    Plan(PlanCommand),
}

#[derive(Debug, Subcommand)]
pub(crate) enum PlanCommand {
    /// List the warm plans
    List {
        /// Only those of this tenant
        tenant: Option<String>,
    },
    /// Show a warm plan, in the form of a file
    Show {
        /// The plan, as TENANT/PLAN
        plan: NamespacePath,
    },
    /// Create or replace a warm plan
    #[command(after_help = "Example:\n  \
        verax warm plan set ferrydesk/morning-boards --namespace boards \
        --values harbor=origin:/harbors --order hottest-first")]
    Set {
        /// The plan, as TENANT/PLAN
        plan: NamespacePath,
        /// The namespace that it fills
        #[arg(long)]
        namespace: String,
        /// What it is for
        #[arg(long, default_value = "")]
        note: String,
        /// Run it after an invalidation in the namespace, once none came for this time
        #[arg(long, value_parser = length_of_time, value_name = "TIME")]
        after_invalidation: Option<Duration>,
        /// Put such a run off for at most this time
        #[arg(long, value_parser = length_of_time, value_name = "TIME", default_value = "30s",
            requires = "after_invalidation")]
        within: Duration,
        /// Run it when Verax has started
        #[arg(long)]
        after_start: bool,
        /// What a run does while another of the plan is active
        #[arg(long)]
        overlap: Option<OverlapOption>,
        #[command(flatten)]
        options: Box<WarmOptions>,
    },
    /// Delete a warm plan
    Delete {
        /// The plan, as TENANT/PLAN
        plan: NamespacePath,
    },
    /// Create and replace warm plans and schedules as a file says; first tell what would change
    Import {
        /// The file, or `-` for standard input
        file: PathBuf,
        /// Make the changes without being asked
        #[arg(long)]
        yes: bool,
        /// Only tell what would change
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
    },
    /// Print warm plans and schedules in the form of a file
    Export {
        /// Only those of this tenant
        tenant: Option<String>,
    },
}

/// Which hot keys are listed.
#[derive(Debug, Args)]
pub(crate) struct HotOptions {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// At most this many; no more than 256 are known
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) limit: u32,
}
