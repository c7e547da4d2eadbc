//! Arguments about tenants, namespaces, origins, tokens and activity.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

use super::entries::LifetimeFlags;
use verax_api::Interval;

use super::values::{
    Limit, NamespacePath, interval, length_of_time, max_age, moment, number_limit, size, size_limit,
};

#[derive(Debug, Subcommand)]
pub(crate) enum TenantCommand {
    /// Create a tenant
    Create {
        /// Its name
        name: String,
    },
    /// List tenants and what they use
    List,
    /// Show a tenant's quota and what it uses
    Show {
        /// Its name
        name: String,
    },
    /// Change parts of a tenant's quota (for administrators)
    Change {
        /// Its name
        name: String,
        #[command(flatten)]
        quota: TenantQuotaFlags,
    },
    /// Delete a tenant that owns nothing
    Delete {
        /// Its name
        name: String,
    },
}

/// Parts of a tenant's quota.
#[derive(Debug, Args)]
pub(crate) struct TenantQuotaFlags {
    /// Memory that no other tenant can push this one below
    #[arg(long, value_parser = size, value_name = "SIZE")]
    pub(crate) reserve: Option<u64>,
    /// Memory that its namespaces never exceed together, or `none`
    #[arg(long, value_parser = size_limit, value_name = "SIZE")]
    pub(crate) cap: Option<Limit>,
    /// The most entries, or `none`
    #[arg(long, value_parser = number_limit, value_name = "N")]
    pub(crate) max_entries: Option<Limit>,
    /// The most namespaces, or `none`
    #[arg(long, value_parser = number_limit, value_name = "N")]
    pub(crate) max_namespaces: Option<Limit>,
    /// The largest value that a namespace may allow, or `none`
    #[arg(long, value_parser = size_limit, value_name = "SIZE")]
    pub(crate) max_value: Option<Limit>,
    /// The most requests in a second, or `none`
    #[arg(long, value_parser = number_limit, value_name = "N")]
    pub(crate) max_request_rate: Option<Limit>,
    /// The most bytes of values in a second, in both directions together, or `none`
    #[arg(long, value_parser = size_limit, value_name = "SIZE")]
    pub(crate) max_byte_rate: Option<Limit>,
    /// The most connections at the same time, or `none`
    #[arg(long, value_parser = number_limit, value_name = "N")]
    pub(crate) max_connections: Option<Limit>,
}

/// Parts of a policy.
#[derive(Debug, Args)]
pub(crate) struct PolicyFlags {
    #[command(flatten)]
    pub(crate) lifetime: LifetimeFlags,
    /// The largest value, such as 512KiB [default for a new namespace: 1MiB]
    #[arg(long, value_parser = size, value_name = "SIZE")]
    pub(crate) max_value: Option<u64>,
    /// The shortest max-age that a caller may give an entry
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) shortest_max_age: Option<Duration>,
    /// The longest max-age that a caller may give an entry, or unlimited
    #[arg(long, value_parser = max_age, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) longest_max_age: Option<Duration>,
    /// What every value must be: any, text (UTF-8) or json
    #[arg(long, value_name = "any|text|json")]
    pub(crate) content: Option<String>,
    /// A file with a JSON Schema that values must match (with --content json), or `none`
    #[arg(long, value_name = "FILE")]
    pub(crate) content_schema: Option<PathBuf>,
    /// Store values of more than this compressed, such as 4KiB, or `none`
    #[arg(long, value_parser = size_limit, value_name = "SIZE")]
    pub(crate) compress_above: Option<Limit>,
    /// Expire entries earlier by a random part of max-age, up to this percentage, so that they do
    /// not expire together
    #[arg(long, value_name = "PERCENT")]
    pub(crate) jitter: Option<u8>,
    /// The max-age of negative entries, such as 5s; 0s stores none
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) negative_max_age: Option<Duration>,
    /// The factor of early refresh, in percent: 100 is the published rule, 0 disables it
    #[arg(long, value_name = "PERCENT")]
    pub(crate) early_refresh: Option<u16>,
    /// Whether writes go to the origin first
    #[arg(long, value_name = "true|false")]
    pub(crate) write_through: Option<bool>,
    /// Memory that no other namespace can push this one below (for administrators)
    #[arg(long, value_parser = size, value_name = "SIZE")]
    pub(crate) reserve: Option<u64>,
    /// Memory that the namespace never exceeds, or `none` (for administrators)
    #[arg(long, value_parser = size_limit, value_name = "SIZE")]
    pub(crate) cap: Option<Limit>,
    /// The most entries, or `none` (for administrators)
    #[arg(long, value_parser = number_limit, value_name = "N")]
    pub(crate) max_entries: Option<Limit>,
    /// The most requests in a second, or `none` (for administrators)
    #[arg(long, value_parser = number_limit, value_name = "N")]
    pub(crate) max_request_rate: Option<Limit>,
    /// The most bytes of values in a second, in both directions together, or `none` (for
    /// administrators)
    #[arg(long, value_parser = size_limit, value_name = "SIZE")]
    pub(crate) max_byte_rate: Option<Limit>,
    /// Remove entries every so often: all=TIME, tag:TAG=TIME or prefix:PREFIX=TIME; repeatable.
    /// What is given replaces all intervals
    #[arg(long, value_parser = interval, value_name = "WHAT=TIME")]
    pub(crate) remove_every: Vec<Interval>,
    /// Read entries anew from the origin every so often, as --remove-every
    #[arg(long, value_parser = interval, value_name = "WHAT=TIME")]
    pub(crate) refresh_every: Vec<Interval>,
    /// End all intervals
    #[arg(long, conflicts_with_all = ["remove_every", "refresh_every"])]
    pub(crate) no_intervals: bool,
    /// The name of the tenant's origin to read through to
    #[arg(long, value_name = "ORIGIN")]
    pub(crate) origin: Option<String>,
    /// The pattern of the keys, such as 'board/{harbor}'
    #[arg(long, value_name = "PATTERN", requires = "origin")]
    pub(crate) key_pattern: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum NamespaceCommand {
    /// Create a namespace
    Create {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        #[command(flatten)]
        policy: PolicyFlags,
    },
    /// List the namespaces of a tenant, or of all
    List {
        /// The tenant
        tenant: Option<String>,
    },
    /// Advise on the max-age: what others would mean for the origin and for readers
    Advice {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
    },
    /// Show a namespace's policy and what it holds
    Show {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
    },
    /// Change parts of a namespace's policy
    Change {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        #[command(flatten)]
        policy: PolicyFlags,
        /// Stop reading through to an origin
        #[arg(long, conflicts_with = "origin")]
        no_origin: bool,
    },
    /// Read past the cache for a while: is it the cache?
    Bypass {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        /// How long, at most a day
        #[arg(long = "for", value_parser = length_of_time, value_name = "TIME", required_unless_present = "end")]
        length: Option<Duration>,
        /// End it now
        #[arg(long, conflicts_with = "length")]
        end: bool,
    },
    /// Delete a namespace and everything in it
    Delete {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        /// Skip the confirmation
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum MemoryCommand {
    /// Show the hit ratio that a namespace would have with other amounts of memory
    Curve {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
    },
    /// Suggest how to divide memory among namespaces
    Divide,
}

/// An origin's settings.
#[derive(Debug, Args)]
pub(crate) struct OriginFlags {
    /// The longest time to connect [default for a new origin: 1s]
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) connect_timeout: Option<Duration>,
    /// The longest time from the request to the last byte [default for a new origin: 10s]
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) total_timeout: Option<Duration>,
    /// The largest response [default for a new origin: 8MiB]
    #[arg(long, value_parser = size, value_name = "SIZE")]
    pub(crate) max_response: Option<u64>,
    /// The name of its credential, in the variable VERAX_CREDENTIAL_NAME or in a file of that name
    /// in the service's credentials directory; empty for none
    #[arg(long, value_name = "NAME")]
    pub(crate) credential: Option<String>,
    /// A namespace whose own managers may bind to it; repeatable, and a single empty one clears the
    /// list
    #[arg(long = "open-to", value_name = "NAMESPACE")]
    pub(crate) open_to: Vec<String>,
    /// A replica, as http://HOST:PORT; repeatable, and a single empty one leaves only the URL's own
    /// server
    #[arg(long = "endpoint", value_name = "URL", help_heading = "For an HTTP service")]
    pub(crate) endpoints: Vec<String>,
    /// A path on its server that runs may read a list of values from, such as /harbors;
    /// repeatable, and a single empty one clears the list
    #[arg(long = "listing", value_name = "PATH", help_heading = "For an HTTP service")]
    pub(crate) listings: Vec<String>,
    /// How a server is picked: round-robin or least-outstanding
    #[arg(long, value_name = "HOW", help_heading = "For an HTTP service")]
    pub(crate) balance: Option<String>,
    /// Count a slower response as a failure of its server while another server is healthy
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME",
        help_heading = "For an HTTP service")]
    pub(crate) slow_after: Option<Duration>,
    /// One SELECT, with :name for each variable of the key patterns; @FILE reads it from a file
    #[arg(long, value_name = "SQL", help_heading = "For a database")]
    pub(crate) query: Option<String>,
    /// How the query's result becomes a value: rows (an array) or row (one object, or no value)
    #[arg(long, value_name = "WHAT", help_heading = "For a database")]
    pub(crate) result: Option<String>,
    /// The most rows [default for a new origin: 10000]
    #[arg(long, value_name = "N", help_heading = "For a database")]
    pub(crate) max_rows: Option<u32>,
    /// The most concurrent reads; further ones are queued [default for a new origin: 256, for a
    /// database 32]
    #[arg(long, value_name = "N", help_heading = "Overload protection")]
    pub(crate) max_concurrency: Option<u32>,
    /// The most queued reads [default for a new origin: 10000]
    #[arg(long, value_name = "N", help_heading = "Overload protection")]
    pub(crate) max_queue: Option<u32>,
    /// How many reads in a hundred may be retried [default for a new origin: 10]
    #[arg(long, value_name = "PERCENT", help_heading = "Overload protection")]
    pub(crate) retry_budget: Option<u8>,
    /// Consecutive failures that open a server's circuit [default for a new origin: 5]
    #[arg(long, value_name = "N", help_heading = "Overload protection")]
    pub(crate) failure_threshold: Option<u32>,
    /// How long the circuit stays open at first [default for a new origin: 500ms]
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME",
        help_heading = "Overload protection")]
    pub(crate) open_for: Option<Duration>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum OriginCommand {
    /// Create an origin
    Create {
        /// The origin, as TENANT/ORIGIN
        place: NamespacePath,
        /// A URL template, such as 'http://127.0.0.1:8752/boards/{harbor}', or a database, as
        /// mysql://USER@HOST:PORT/DATABASE
        #[arg(long, value_name = "URL")]
        at: String,
        #[command(flatten)]
        flags: OriginFlags,
    },
    /// List the origins of a tenant
    List {
        /// The tenant
        tenant: String,
    },
    /// Show an origin's settings and the state of its servers
    Show {
        /// The origin, as TENANT/ORIGIN
        place: NamespacePath,
    },
    /// Change an origin
    Change {
        /// The origin, as TENANT/ORIGIN
        place: NamespacePath,
        /// A URL template, or a database
        #[arg(long, value_name = "URL")]
        at: Option<String>,
        #[command(flatten)]
        flags: OriginFlags,
    },
    /// Delete an origin that no namespace is bound to
    Delete {
        /// The origin, as TENANT/ORIGIN
        place: NamespacePath,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum TokenCommand {
    /// Create a token; its secret is shown only once
    Create {
        /// A scope: admin, or read:, write:, invalidate:, lock:, warm:, load:, observe: or manage:
        /// followed by TENANT or TENANT/NAMESPACE; repeatable
        #[arg(long = "scope", required = true, value_name = "SCOPE")]
        scopes: Vec<String>,
        /// What it is for
        #[arg(long, default_value = "", hide_default_value = true)]
        note: String,
        /// How long it lasts, such as 90d [default: until it is revoked]
        #[arg(long, value_name = "TIME", value_parser = length_of_time)]
        expires_in: Option<Duration>,
    },
    /// Replace a token by another with the same scopes and note, shown only once
    Rotate {
        /// Its number
        id: u64,
        /// How long the previous token stays valid [default: 1d]
        #[arg(long, value_name = "TIME", value_parser = length_of_time)]
        overlap: Option<Duration>,
    },
    /// List tokens, without their secrets
    List,
    /// Revoke a token
    Revoke {
        /// Its number
        id: u64,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum NodeCommand {
    /// List the nodes and their roles
    List,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SessionCommand {
    /// List the live console sessions: all for administrators, else those of your token
    List,
    /// End a session, with everything that was begun in it
    End {
        /// Its number in the list
        id: u64,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum ActivityCommand {
    /// List who changed what, newest first
    List {
        #[command(flatten)]
        filter: ActivityFlags,
        /// The most rows
        #[arg(long, default_value_t = 20, value_name = "N")]
        limit: u32,
    },
    /// Write all of it as JSON lines, newest first
    Export {
        #[command(flatten)]
        filter: ActivityFlags,
    },
}

/// Which activity; texts match anywhere.
#[derive(Debug, Args)]
pub(crate) struct ActivityFlags {
    /// Only this tenant's
    #[arg(long)]
    pub(crate) tenant: Option<String>,
    /// Only by actors that contain this
    #[arg(long, value_name = "TEXT")]
    pub(crate) actor: Option<String>,
    /// Only actions that contain this, such as namespace.change or delete
    #[arg(long, value_name = "TEXT")]
    pub(crate) action: Option<String>,
    /// Only of subjects that contain this
    #[arg(long, value_name = "TEXT")]
    pub(crate) subject: Option<String>,
    /// Only since a moment, such as 2026-11-26T07:00:00Z, or a length of time ago, such as 2h
    #[arg(long, value_parser = moment, value_name = "WHEN")]
    pub(crate) since: Option<jiff::Timestamp>,
    /// Only before a moment
    #[arg(long, value_parser = moment, value_name = "WHEN")]
    pub(crate) until: Option<jiff::Timestamp>,
}

#[derive(Debug, Args)]
pub(crate) struct UsageOptions {
    /// Whose, as TENANT or TENANT/NAMESPACE [default: the whole service]
    #[arg(value_name = "TENANT[/NAMESPACE]")]
    pub(crate) of: Option<String>,
    /// The beginning: a moment, or a length of time ago, such as 2h [default: 1h before the end]
    #[arg(long, value_parser = moment, value_name = "WHEN")]
    pub(crate) since: Option<jiff::Timestamp>,
    /// The end [default: now]
    #[arg(long, value_parser = moment, value_name = "WHEN")]
    pub(crate) until: Option<jiff::Timestamp>,
    /// The length of a step: 10s (kept for an hour), 1m (a day), 15m (31 days) or 1d (two years)
    /// [default: the finest that is kept for the range]
    #[arg(long, value_parser = ["10s", "1m", "15m", "1d"])]
    pub(crate) step: Option<String>,
    /// Print comma-separated values
    #[arg(long, conflicts_with = "json")]
    pub(crate) csv: bool,
}
