//! Arguments about entries, counters and rate limits.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

use super::values::{NamespacePath, length_of_time, max_age};

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
    /// Read the origin anew, and store its value
    #[arg(long, conflicts_with = "only_if_cached")]
    pub(crate) refresh: bool,
    /// Answer from the cache or not at all
    #[arg(long)]
    pub(crate) only_if_cached: bool,
    /// Accept a copy within its stale-if-error time
    #[arg(long, conflicts_with = "refresh")]
    pub(crate) stale_if_error: bool,
    /// Print the value as stored, even when it is JSON and the output is a terminal
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
    /// A tag; repeatable
    #[arg(long = "tag", value_name = "TAG")]
    pub(crate) tags: Vec<String>,
    /// Store it only if there is no entry
    #[arg(long, conflicts_with = "if_match")]
    pub(crate) if_absent: bool,
    /// Store it only over the entry with this entity tag
    #[arg(long, value_name = "TAG")]
    pub(crate) if_match: Option<String>,
    /// Store it only over the entry with this revision: if nothing was stored or removed since
    #[arg(long, value_name = "REVISION", conflicts_with_all = ["if_match", "if_absent"])]
    pub(crate) if_revision: Option<u64>,
}

/// A lifetime of an entry or of a namespace's policy; omitted parts come from the namespace.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct LifetimeFlags {
    /// How long an entry is fresh, such as 30s, or unlimited [default: the namespace's, initially
    /// 60s]
    #[arg(long, value_parser = max_age, allow_hyphen_values = true, value_name = "TIME")]
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
        /// Only count the entries that would go
        #[arg(long)]
        dry_run: bool,
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
        /// How much to acquire; 0 to look without acquiring
        #[arg(default_value_t = 1)]
        amount: u64,
        /// How much comes back in each period
        #[arg(long, value_name = "N")]
        rate: u64,
        /// The period
        #[arg(long, value_parser = length_of_time, value_name = "TIME", default_value = "1s")]
        period: Duration,
        /// The most that is available together [default: the rate]
        #[arg(long, value_name = "N")]
        burst: Option<u64>,
    },
}

/// How to make a key.
#[derive(Debug, Args)]
pub(crate) struct KeyOptions {
    /// A readable prefix of the key, such as board
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
    /// Only entries with this tag
    #[arg(long, value_name = "TAG")]
    pub(crate) tag: Option<String>,
    /// Only entries in this state; ends-soon is fresh for at most a minute
    #[arg(long, value_parser = ["fresh", "ends-soon", "stale"])]
    pub(crate) state: Option<String>,
    /// The first in this order, of a bounded sample of the namespace
    #[arg(long, conflicts_with = "cursor",
        value_parser = ["largest", "smallest", "oldest", "newest", "ends-first", "ends-last"])]
    pub(crate) order: Option<String>,
    /// The most entries on the page, 1 to 1000
    #[arg(long, default_value_t = 100, value_name = "N")]
    pub(crate) limit: usize,
    /// Where to continue, from the previous page
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
    /// Only count the entries that would go
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Skip the confirmation
    #[arg(long)]
    pub(crate) yes: bool,
}

#[derive(Debug, Args)]
pub(crate) struct DeleteOptions {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// The keys
    #[arg(required = true, value_name = "KEY")]
    pub(crate) keys: Vec<String>,
    /// Only tell which of them have an entry
    #[arg(long)]
    pub(crate) dry_run: bool,
}

#[derive(Debug, Args)]
pub(crate) struct FindOptions {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    #[arg(help = "A JSONPath query (RFC 9535), such as '$.rows[?@.usual_delay_minutes > 2]'")]
    pub(crate) query: String,
    /// Only keys that start with this
    #[arg(long, default_value = "", hide_default_value = true)]
    pub(crate) prefix: String,
    /// Stop after this many entries were found
    #[arg(long, default_value_t = 100, value_name = "N")]
    pub(crate) limit: u64,
    /// Where to continue, from the previous search
    #[arg(long)]
    pub(crate) cursor: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum DamageCommand {
    /// List the latest reports of values that clients could not decode
    List {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
    },
    /// Report a value that cannot be decoded, which removes its entry
    Report {
        #[command(flatten)]
        entry: EntryName,
        /// The entity tag of the value [default: that of the present one]
        #[arg(long, value_name = "TAG")]
        entity_tag: Option<String>,
        /// Why it cannot be decoded
        #[arg(long, value_name = "TEXT", default_value = "", hide_default_value = true)]
        reason: String,
    },
}

#[derive(Debug, Args)]
pub(crate) struct CheckOptions {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// Only entries whose keys start with this
    #[arg(long, value_name = "TEXT")]
    pub(crate) prefix: Option<String>,
    /// Remove damaged entries, so that the next read refills them
    #[arg(long)]
    pub(crate) remove: bool,
    /// Read damaged entries anew from the origin
    #[arg(long, conflicts_with = "remove")]
    pub(crate) refill: bool,
}

#[derive(Debug, Args)]
pub(crate) struct WatchOptions {
    /// Stop after this many seconds
    #[arg(long, value_name = "N")]
    pub(crate) seconds: Option<u64>,
}
