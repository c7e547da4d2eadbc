//! Arguments about load runs and drills.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

use super::values::length_of_time;

#[derive(Debug, Subcommand)]
pub(crate) enum LoadCommand {
    /// Run a load profile: its lanes over the same keys, side by side
    Run(LoadOptions),
    /// List the latest load runs and the one that is running
    List,
    /// Show what a load run measured
    Show {
        /// The run, by its number in the list
        run: u64,
    },
    /// Change the load of the active run until its stage ends
    Change {
        /// The run, by its number in the list
        run: u64,
        /// The clients, instances, or requests per second of each lane, or the pace of a replay
        level: f64,
    },
    /// Pause the active run: nothing is sent
    Pause {
        /// The run, by its number in the list
        run: u64,
    },
    /// Go on with a paused run
    Resume {
        /// The run, by its number in the list
        run: u64,
    },
    /// Mark this moment on the time line of the active run
    Mark {
        /// The run, by its number in the list
        run: u64,
        /// What to write there
        text: String,
    },
    /// End a load run early; its report covers what it measured
    Stop {
        /// The run, by its number in the list
        run: u64,
    },
    /// Compare a load run with an earlier one, figure by figure
    Compare {
        /// The earlier run, by its number in the list
        before: u64,
        /// The later run
        after: u64,
    },
    /// Write a load run to a file
    Export {
        /// The run, by its number in the list
        run: u64,
        /// json (for another Verax), csv, histogram-log (HdrHistogram) or html (a page with charts)
        #[arg(long, value_name = "FORM", default_value = "json",
            value_parser = ["json", "csv", "histogram-log", "html"])]
        form: String,
        /// The file; standard output when absent
        #[arg(long, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Keep a load run that another Verax exported
    Import {
        /// The file (JSON)
        file: PathBuf,
        /// The namespace that it is kept for [default: that of its profile]
        #[arg(long, value_name = "TENANT/NAMESPACE")]
        namespace: Option<String>,
    },
    /// Load profiles: what load runs do
    #[command(subcommand)]
    Profile(LoadProfileCommand),
    /// Recordings of real traffic, which load runs replay
    #[command(subcommand)]
    Recording(RecordingCommand),
    /// Lend this machine to load runs: generate their load until Ctrl-C
    #[command(after_help = "Examples:
  verax load worker --url https://verax.example:8750 --wire verax.example:8751
  verax load run morning-rush --workers 0 --joined        (elsewhere)

It joins runs of the namespaces that its token may load. It reads origins from this
machine, so they must be reached from here by the addresses that are registered.")]
    Worker(WorkerOptions),
    /// List the workers that have joined from other machines
    Workers,
}

/// Options of a load worker.
#[derive(Debug, Args)]
pub(crate) struct WorkerOptions {
    /// What it is named in runs; the name of this machine when absent
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// The address of the wire protocol of Verax, as seen from here [env: VERAX_WIRE_URL]
    /// [default: 127.0.0.1:8751]
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) wire: Option<String>,
    /// The directory with the secrets of origins
    #[arg(long, value_name = "DIRECTORY")]
    pub(crate) credentials_directory: Option<PathBuf>,
    /// Do what the service says on standard input; the service starts this itself
    #[arg(long, hide = true)]
    pub(crate) piped: bool,
}

/// Recordings of traffic.
#[derive(Debug, Subcommand)]
pub(crate) enum RecordingCommand {
    /// Record which keys of a namespace are read, and when; Ctrl-C ends it early
    #[command(after_help = "Examples:
  verax load recording start ferrydesk/boards --for 2m
  verax load recording start ferrydesk/boards --for 10m --hash-keys

A load profile replays it with `recording = NUMBER` in its arrivals.")]
    Start {
        /// The namespace, as TENANT/NAMESPACE
        namespace: String,
        /// For how long, up to an hour
        #[arg(long = "for", value_name = "TIME", value_parser = length_of_time)]
        length: Duration,
        /// Keep hashes of the keys, which cannot be turned back into keys
        #[arg(long)]
        hash_keys: bool,
    },
    /// List the latest recordings
    List,
    /// Show a recording
    Show {
        /// The recording, by its number in the list
        recording: u64,
    },
    /// End a recording early; what it has can be replayed
    Stop {
        /// The recording, by its number in the list
        recording: u64,
    },
}

/// Load profiles.
#[derive(Debug, Subcommand)]
pub(crate) enum LoadProfileCommand {
    /// List the load profiles that the service offers
    List,
    /// Print a load profile of the service as a file
    Show {
        /// The profile
        profile: String,
    },
    /// Write a load profile with every member explained, to start from
    Init {
        /// The file to write
        file: PathBuf,
        /// The namespace that it is about, TENANT/NAMESPACE
        namespace: String,
    },
    /// Check a load profile without running it
    Check {
        /// The file (TOML or JSON)
        file: PathBuf,
    },
    /// Print the JSON Schema of load profiles, for editors
    Schema,
    /// Store a load profile in the service, under its name
    Store {
        /// The file (TOML or JSON)
        file: PathBuf,
    },
    /// Delete a stored load profile
    Delete {
        /// The profile, TENANT/PROFILE
        profile: String,
    },
    /// Set the run that later runs of a load profile are compared with
    Baseline {
        /// The profile, TENANT/PROFILE
        profile: String,
        /// A run of it, by its number in the list
        #[arg(required_unless_present = "none")]
        run: Option<u64>,
        /// No run
        #[arg(long, conflicts_with = "run")]
        none: bool,
    },
}

/// How to run a load profile.
#[derive(Debug, Args)]
pub(crate) struct LoadOptions {
    /// A profile that the service offers, or a file (TOML or JSON)
    pub(crate) profile: String,
    /// Measure one level for this long instead
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) duration: Option<Duration>,
    /// Use this many clients for each lane instead
    #[arg(long, value_name = "N")]
    pub(crate) clients: Option<u32>,
    /// Send this many requests per second in each lane instead
    #[arg(long, value_name = "N", conflicts_with = "clients")]
    pub(crate) rate: Option<f64>,
    /// Replay a recording this many times as fast as it was, such as 10
    #[arg(long, value_name = "N", conflicts_with_all = ["clients", "rate"])]
    pub(crate) speed: Option<f64>,
    /// Read the keys of this file instead, one a line
    #[arg(long, value_name = "FILE")]
    pub(crate) keys_from: Option<PathBuf>,
    /// Generate the load with this many processes
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) workers: u32,
    /// Let the workers that have joined from other machines generate load, too
    #[arg(long)]
    pub(crate) joined: bool,
}

/// The stand-in origin of the demo.
#[derive(Debug, Subcommand)]
pub(crate) enum StandInCommand {
    /// Show the faults of the stand-in
    Show,
    /// Change faults of the stand-in; those that are not named stay
    Change {
        /// Add so much latency to every response
        #[arg(long, value_parser = length_of_time, value_name = "TIME")]
        extra_latency: Option<Duration>,
        /// Fail this share of the calls, in percent
        #[arg(long, value_name = "PERCENT")]
        error_percent: Option<f64>,
        /// Refuse every call, or stop refusing
        #[arg(long, value_name = "BOOL")]
        outage: Option<bool>,
    },
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
