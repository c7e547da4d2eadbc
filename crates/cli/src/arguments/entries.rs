//! What can be typed about entries, counters and rate limits.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

use super::values::{NamespacePath, length_of_time};

#[derive(Debug, Args)]
pub(crate) struct EntryName {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// The key
    pub(crate) key: String,
}

#[derive(Debug, Args)]
pub(crate) struct GetOptions {
    #[command(flatten)]
    pub(crate) entry: EntryName,
    /// Read the origin anew, and store what it says
    #[arg(long, conflicts_with = "only_if_cached")]
    pub(crate) refresh: bool,
    /// Answer from the cache or not at all
    #[arg(long)]
    pub(crate) only_if_cached: bool,
    /// Print the value as it is stored, even when it is JSON on a terminal
    #[arg(long)]
    pub(crate) raw: bool,
}

#[derive(Debug, Args)]
pub(crate) struct PutOptions {
    #[command(flatten)]
    pub(crate) entry: EntryName,
    /// The value; `-` or nothing reads it from standard input
    pub(crate) value: Option<String>,
    /// A file to read the value from
    #[arg(long, value_name = "FILE", conflicts_with = "value")]
    pub(crate) file: Option<PathBuf>,
    /// Its media type [default: application/json for JSON, else text/plain or
    /// application/octet-stream]
    #[arg(long = "type", value_name = "MEDIA-TYPE")]
    pub(crate) media_type: Option<String>,
    #[command(flatten)]
    pub(crate) lifetime: LifetimeFlags,
    /// A tag; may be given several times
    #[arg(long = "tag", value_name = "TAG")]
    pub(crate) tags: Vec<String>,
    /// Store it only where nothing is
    #[arg(long, conflicts_with = "if_match")]
    pub(crate) if_absent: bool,
    /// Store it only over the entry with this entity tag
    #[arg(long, value_name = "TAG")]
    pub(crate) if_match: Option<String>,
    /// Store it only over the entry with this revision: if nobody has stored or removed anything
    /// since
    #[arg(long, value_name = "REVISION", conflicts_with_all = ["if_match", "if_absent"])]
    pub(crate) if_revision: Option<u64>,
}

/// A lifetime, of an entry or of a namespace's; parts that are left out stay as the namespace has
/// them.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct LifetimeFlags {
    /// How long an entry is fresh, such as 30s; else what the namespace has, at first 60s
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) max_age: Option<Duration>,
    /// How long after that the previous copy may be served while it is refreshed
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) stale_while_revalidate: Option<Duration>,
    /// How long after max-age the previous copy may be served when the origin fails
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) stale_if_error: Option<Duration>,
}

#[derive(Debug, Args)]
pub(crate) struct LifetimeOptions {
    #[command(flatten)]
    pub(crate) entry: EntryName,
    #[command(flatten)]
    pub(crate) lifetime: LifetimeFlags,
}

#[derive(Debug, Args)]
pub(crate) struct BatchOptions {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// A file with one operation as JSON on each line; `-` or nothing reads standard input
    pub(crate) file: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TagCommand {
    /// Invalidate every entry that carries a tag
    Invalidate {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        /// The tag
        tag: String,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum CounterCommand {
    /// Add to a counter, creating it where there is none
    Add {
        #[command(flatten)]
        entry: EntryName,
        /// What to add; negative to subtract
        #[arg(default_value_t = 1, allow_negative_numbers = true)]
        amount: i64,
        #[command(flatten)]
        lifetime: LifetimeFlags,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum RateLimitCommand {
    /// Acquire from a rate limit, if there is enough
    Acquire {
        #[command(flatten)]
        entry: EntryName,
        /// How much to acquire; 0 looks without acquiring
        #[arg(default_value_t = 1)]
        amount: u64,
        /// How much comes back in each period
        #[arg(long, value_name = "N")]
        rate: u64,
        /// The period
        #[arg(long, value_parser = length_of_time, value_name = "TIME", default_value = "1s")]
        period: Duration,
        /// How much may be acquired at once; as much as the rate when left out
        #[arg(long, value_name = "N")]
        burst: Option<u64>,
    },
}

/// How to make a key.
#[derive(Debug, Args)]
pub(crate) struct KeyOptions {
    /// What the key begins with, for people to recognise it by, such as board
    pub(crate) prefix: String,
    /// The criteria: a JSON value, or NAME=VALUE pairs
    #[arg(required = true)]
    pub(crate) criteria: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct ListOptions {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// Only keys that start with this
    #[arg(long, default_value = "", hide_default_value = true)]
    pub(crate) prefix: String,
    /// The most entries on the page, 1 to 1000
    #[arg(long, default_value_t = 100, value_name = "N")]
    pub(crate) limit: usize,
    /// Where to go on, from the page before
    #[arg(long)]
    pub(crate) cursor: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct ClearOptions {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// Only entries whose keys start with this
    #[arg(long, value_name = "TEXT")]
    pub(crate) prefix: Option<String>,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}

#[derive(Debug, Args)]
pub(crate) struct WatchOptions {
    /// Stop after this many seconds
    #[arg(long, value_name = "N")]
    pub(crate) seconds: Option<u64>,
}
