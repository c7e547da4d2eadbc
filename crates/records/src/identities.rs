//! Identifiers that must not be reused after the records were rolled back to an earlier state.

use crate::snapshot::RecordsSnapshot;

/// The largest identifiers known to have been used. (Namespaces have random ones.)
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Identities {
    /// Of a tenant.
    pub tenant: u64,
    /// Of an origin.
    pub origin: u64,
    /// Of a token.
    pub token: u64,
    /// Of a run.
    pub run: u64,
}

impl Identities {
    /// Those in a snapshot, which has no runs.
    pub fn of(snapshot: &RecordsSnapshot) -> Self {
        Self {
            tenant: snapshot.tenants.iter().map(|record| record.id).max().unwrap_or(0),
            origin: snapshot.origins.iter().map(|record| record.id).max().unwrap_or(0),
            token: snapshot.tokens.iter().map(|record| record.id).max().unwrap_or(0),
            run: 0,
        }
    }
}
