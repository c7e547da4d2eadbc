//! What can be typed about tenants, namespaces, origins, tokens and activity.

use std::time::Duration;

use clap::{Args, Subcommand};

use super::entries::LifetimeFlags;
use super::values::{Cap, NamespacePath, cap, length_of_time, size};

#[derive(Debug, Subcommand)]
pub(crate) enum TenantCommand {
    /// Create a tenant
    Create {
        /// Its name
        name: String,
    },
    /// List tenants
    List,
    /// Delete a tenant that owns nothing any more
    Delete {
        /// Its name
        name: String,
    },
}

/// Parts of a policy.
#[derive(Debug, Args)]
pub(crate) struct PolicyFlags {
    #[command(flatten)]
    pub(crate) lifetime: LifetimeFlags,
    /// The largest value, such as 512KiB [default for a new namespace: 1MiB]
    #[arg(long, value_parser = size, value_name = "SIZE")]
    pub(crate) max_value: Option<u64>,
    /// By how much of max-age, in percent, entries may end early, so that they do not end together
    #[arg(long, value_name = "PERCENT")]
    pub(crate) jitter: Option<u8>,
    /// How long it is kept that the origin has no value for a key, such as 5s; 0s does not keep it
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) negative_max_age: Option<Duration>,
    /// How early entries are refreshed that a refill brought, as a factor in percent: 100 is the
    /// usual rule, 0 leaves them until they end
    #[arg(long, value_name = "PERCENT")]
    pub(crate) early_refresh: Option<u16>,
    /// Whether values that are stored or deleted go to the origin first
    #[arg(long, value_name = "true|false")]
    pub(crate) write_through: Option<bool>,
    /// Memory that no other namespace can push this one below (for administrators)
    #[arg(long, value_parser = size, value_name = "SIZE")]
    pub(crate) reserve: Option<u64>,
    /// Memory that the namespace never exceeds, or `none` (for administrators)
    #[arg(long, value_parser = cap, value_name = "SIZE")]
    pub(crate) cap: Option<Cap>,
    /// The origin to read through to, by its name within the tenant
    #[arg(long, value_name = "ORIGIN")]
    pub(crate) origin: Option<String>,
    /// The shape of the keys, such as 'board/{harbour}'
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
    /// Delete a namespace and everything in it
    Delete {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

/// An origin's settings.
#[derive(Debug, Args)]
pub(crate) struct OriginFlags {
    /// The longest time to connect [default for a new origin: 1s]
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) connect_timeout: Option<Duration>,
    /// The longest time from asking to the last byte [default for a new origin: 10s]
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME")]
    pub(crate) total_timeout: Option<Duration>,
    /// The largest response [default for a new origin: 8MiB]
    #[arg(long, value_parser = size, value_name = "SIZE")]
    pub(crate) max_response: Option<u64>,
    /// The name of the secret that opens it, which lies in the variable VERAX_CREDENTIAL_NAME or in
    /// a file of that name among the service's credentials; an empty name is none
    #[arg(long, value_name = "NAME")]
    pub(crate) credential: Option<String>,
    /// A namespace whose own managers may bind to it; may be given several times, and an empty one
    /// alone is none
    #[arg(long = "open-to", value_name = "NAMESPACE")]
    pub(crate) open_to: Vec<String>,
    /// A further server that is alike, as http://HOST:PORT; may be given several times, and an
    /// empty one alone leaves the URL's own server
    #[arg(long = "endpoint", value_name = "URL", help_heading = "For an HTTP service")]
    pub(crate) endpoints: Vec<String>,
    /// A path on its server that runs may read a list of values from, such as /harbours; may be
    /// given several times, and an empty one alone is none
    #[arg(long = "listing", value_name = "PATH", help_heading = "For an HTTP service")]
    pub(crate) listings: Vec<String>,
    /// Which of its servers is asked: round-robin or least-outstanding
    #[arg(long, value_name = "HOW", help_heading = "For an HTTP service")]
    pub(crate) balance: Option<String>,
    /// An answer that takes longer speaks against the server that gave it, as long as another is
    /// well
    #[arg(long, value_parser = length_of_time, allow_hyphen_values = true, value_name = "TIME",
        help_heading = "For an HTTP service")]
    pub(crate) slow_after: Option<Duration>,
    /// One SELECT, with :name for each variable of the key patterns; @FILE reads it from a file
    #[arg(long, value_name = "SQL", help_heading = "For a database")]
    pub(crate) query: Option<String>,
    /// What the query's result is as a value: rows (an array) or row (one object, or no value)
    #[arg(long, value_name = "WHAT", help_heading = "For a database")]
    pub(crate) result: Option<String>,
    /// The most rows [default for a new origin: 10000]
    #[arg(long, value_name = "N", help_heading = "For a database")]
    pub(crate) max_rows: Option<u32>,
    /// Reads at once; further ones wait [default for a new origin: 256, for a database 32]
    #[arg(long, value_name = "N", help_heading = "Overload protection")]
    pub(crate) max_concurrency: Option<u32>,
    /// Reads that may wait [default for a new origin: 10000]
    #[arg(long, value_name = "N", help_heading = "Overload protection")]
    pub(crate) max_queue: Option<u32>,
    /// How many reads in a hundred may be tried a second time [default for a new origin: 10]
    #[arg(long, value_name = "PERCENT", help_heading = "Overload protection")]
    pub(crate) retry_budget: Option<u8>,
    /// Failures in a row after which a server is left alone [default for a new origin: 5]
    #[arg(long, value_name = "N", help_heading = "Overload protection")]
    pub(crate) failure_threshold: Option<u32>,
    /// For how long it is left alone at first [default for a new origin: 500ms]
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
        /// A URL template, such as 'http://127.0.0.1:8752/boards/{harbour}', or a database, as
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
    /// Create a token; its secret is shown this once
    Create {
        /// What it opens: admin, or read:, write:, manage: and TENANT or TENANT/NAMESPACE; may be
        /// given several times
        #[arg(long = "scope", required = true, value_name = "SCOPE")]
        scopes: Vec<String>,
        /// What it is for
        #[arg(long, default_value = "", hide_default_value = true)]
        note: String,
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
    /// List them, with what each does
    List,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ActivityCommand {
    /// List who changed what, newest first
    List {
        /// Only this tenant's
        #[arg(long)]
        tenant: Option<String>,
        /// The most rows
        #[arg(long, default_value_t = 20, value_name = "N")]
        limit: u32,
    },
}
