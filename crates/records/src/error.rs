//! Errors of the records.

/// Why a call to the records failed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RecordsError {
    /// MariaDB cannot be reached or does not respond in time; nothing was changed.
    #[error("the records in MariaDB are not available: {0}")]
    Unavailable(String),
    /// The subject to create already exists.
    #[error("{0} exists already")]
    Exists(String),
    /// The subject to change or delete does not exist.
    #[error("{0} does not exist")]
    Missing(String),
    /// The subject to delete is still in use.
    #[error("{subject} is still in use: {by}")]
    InUse {
        /// The subject.
        subject: String,
        /// What uses it, and what to do.
        by: &'static str,
    },
    /// Another process has this node's identifier.
    #[error(
        "another process uses these records as the same node ({0}): if this data directory was copied, remove node.id from the copy"
    )]
    SameNode(String),
    /// This node no longer owns the share of the keys; nothing was changed.
    #[error("another node has taken over: this one changes nothing until it is active again")]
    NotOwner,
    /// The tables were changed by a later version of Verax.
    #[error(
        "the records were used by a later version of Verax: their tables have version {found}, and this Verax knows versions up to {known}; start the later Verax, or restore a dump that was made before it"
    )]
    NewerSchema {
        /// The version of the tables.
        found: String,
        /// The latest version known to this program.
        known: &'static str,
    },
    /// A stored row is not valid for this version of Verax.
    #[error("a stored record cannot be read: {0}")]
    Unreadable(String),
}
