//! The command line.

mod administration;
mod entries;
mod locks;
mod runs;
mod schedules;
mod service;
mod values;
mod warm;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

pub(crate) use administration::*;
pub(crate) use entries::*;
pub(crate) use locks::*;
pub(crate) use runs::*;
pub(crate) use schedules::*;
pub use service::*;
pub use values::size;
pub(crate) use values::{NamespacePath, gather};
pub(crate) use warm::*;

/// Verax: a shared cache for many services and tenants.
#[derive(Debug, Parser)]
#[command(name = "verax", version, propagate_version = true, max_term_width = 100)]
#[command(after_help = "Exit codes: 0 done, 1 failed, 2 wrong usage, 3 not found or a miss, \
    4 refused, 5 unreachable, 6 a warm run was partial, 7 a run was stopped.\nVERAX_URL and VERAX_TOKEN say which Verax to talk to, and as whom.")]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) connection: Connection,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// The Verax to connect to, and the output format.
#[derive(Debug, Args)]
pub(crate) struct Connection {
    /// The address of Verax, or several separated by commas; the active node answers [env:
    /// VERAX_URL] [default: http://127.0.0.1:8750]
    #[arg(long, global = true, value_name = "URL", help_heading = "Connection")]
    pub(crate) url: Option<String>,
    /// A file with the token to send, or `-` for standard input; else VERAX_TOKEN is sent
    #[arg(long, global = true, value_name = "FILE", help_heading = "Connection")]
    pub(crate) token_file: Option<PathBuf>,
    /// Print JSON for programs
    #[arg(long, global = true, help_heading = "Connection")]
    pub(crate) json: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start the service
    Serve(ServeOptions),
    /// Start the service with the demo: a ferry network's data, a slow origin and light traffic
    Demo(DemoOptions),
    /// Look an entry up; a miss reads the namespace's origin, if it has one
    Get(GetOptions),
    /// Store a value
    Put(PutOptions),
    /// Delete entries
    Delete(DeleteOptions),
    /// Change an entry's lifetime without sending its value
    Lifetime(LifetimeOptions),
    /// Carry out many operations in one request
    Batch(BatchOptions),
    /// Derive a key from criteria: the same key for the same criteria, in any order and language
    Key(KeyOptions),
    /// List the entries of a namespace
    List(ListOptions),
    /// Show an entry's metadata
    Show(EntryName),
    /// Remove every entry of a namespace, or those whose keys start with a prefix
    Clear(ClearOptions),
    /// Check stored values, and remove damaged ones
    Check(CheckOptions),
    /// Find entries by what is in their JSON values
    Find(FindOptions),
    /// Values that clients could not decode
    #[command(subcommand)]
    Damage(DamageCommand),
    /// Follow the service's figures, second by second
    Watch(WatchOptions),
    /// Tags that entries carry
    #[command(subcommand)]
    Tag(TagCommand),
    /// Counters
    #[command(subcommand)]
    Counter(CounterCommand),
    /// Rate limits
    #[command(subcommand)]
    RateLimit(RateLimitCommand),
    /// Named locks
    #[command(subcommand)]
    Lock(LockCommand),
    /// Tenants
    #[command(subcommand)]
    Tenant(TenantCommand),
    /// Namespaces and their policies
    #[command(subcommand)]
    Namespace(NamespaceCommand),
    /// Origins that namespaces read through to
    #[command(subcommand)]
    Origin(OriginCommand),
    /// Access tokens
    #[command(subcommand)]
    Token(TokenCommand),
    /// Console sessions
    #[command(subcommand)]
    Session(SessionCommand),
    /// Fill namespaces before users arrive: warm plans and their runs
    #[command(subcommand)]
    Warm(WarmCommand),
    /// What runs when: warm plans, invalidations, checks, load profiles
    #[command(subcommand)]
    Schedule(ScheduleCommand),
    /// List the keys of a namespace that are read most
    Hot(HotOptions),
    /// What more memory would buy, and how to divide it
    #[command(subcommand)]
    Memory(MemoryCommand),
    /// Measure cached against direct reads
    #[command(subcommand)]
    Load(LoadCommand),
    /// The demo's stand-in origin: make it slow, or fail
    #[command(subcommand)]
    StandIn(StandInCommand),
    /// Experiments that show one guarantee each, with and without it
    #[command(subcommand)]
    Drill(DrillCommand),
    /// The nodes that share the records: one active, the others standby
    #[command(subcommand)]
    Node(NodeCommand),
    /// Usage over time: memory, reads, hits, bytes, origin reads, refusals
    Usage(UsageOptions),
    /// Who changed what
    #[command(subcommand)]
    Activity(ActivityCommand),
    /// Create a one-time link that signs a browser in to the console
    SignIn,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;
    use rstest::rstest;

    use verax_api::{WarmDays, WarmRange, WarmValues};

    use super::values::{length_of_time, max_age, values};
    use super::*;

    #[test]
    fn command_definitions_are_consistent() {
        Arguments::command().debug_assert();
    }

    #[rstest]
    #[case("30s", Ok(30_000))]
    #[case("1h 30m", Ok(5_400_000))]
    #[case("0.5", Ok(500))]
    #[case("12", Ok(12_000))]
    #[case("-1s", Err(()))]
    #[case("-1", Err(()))]
    #[case("soon", Err(()))]
    #[case("", Err(()))]
    fn lengths_of_time(#[case] text: &str, #[case] expected: Result<u128, ()>) {
        assert_eq!(length_of_time(text).map(|d| d.as_millis()).map_err(drop), expected);
    }

    #[test]
    fn an_unlimited_max_age_is_written_out() {
        assert_eq!(max_age("unlimited").map(|age| age.as_secs()), Ok(3_650 * 86_400));
        assert_eq!(max_age("0s").map(|age| age.as_secs()), Ok(0));
        assert!(max_age("none").is_err() && length_of_time("unlimited").is_err());
    }

    #[test]
    fn values_come_from_lists_files_and_the_origin() {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), "# busiest\naldermouth\n\n brinewick \n").unwrap();
        let from_file = values(&format!("harbor=@{}", file.path().display())).unwrap().1;
        let listed = WarmValues::List(vec!["aldermouth".into(), "brinewick".into()]);
        assert_eq!(from_file, listed);
        assert_eq!(values("harbor=aldermouth, brinewick").unwrap().1, listed);
        let listing = WarmValues::Listing("/harbors".into());
        assert_eq!(values("harbor=origin:/harbors").unwrap().1, listing);
        let range = WarmRange { from: 1, to: 20, step: None };
        assert_eq!(values("berth=range:1..20").unwrap().1, WarmValues::Range(range));
        let range = WarmRange { from: -5, to: 20, step: Some(5) };
        assert_eq!(values("berth=range:-5..20/5").unwrap().1, WarmValues::Range(range));
        let days = WarmDays { from: -1, to: 7, format: None, time_zone: None };
        assert_eq!(values("day=days:-1..7").unwrap().1, WarmValues::Days(days));
        assert!(values("berth=range:1").is_err() && values("day=days:a..b").is_err());
        assert!(values("harbor").is_err());
        assert!(values("harbor=@/nowhere").unwrap_err().contains("/nowhere"));
    }
}
