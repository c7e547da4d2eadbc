//! What a tenant may use, with all of its namespaces together.

use serde::{Deserialize, Serialize};

use crate::policy::{CAPS, MAX_ENTRIES, MAX_VALUE_BYTES};
use crate::store::Quota;
use crate::traffic::{InvalidTraffic, TrafficQuota};

/// The most namespaces of one tenant.
pub const MAX_NAMESPACES: u64 = 1_000;

/// The most connections that a limit may allow.
pub const MAX_CONNECTIONS: u64 = 1_000_000;

/// What a tenant is guaranteed and may never exceed. Parts that are `None` have no limit but the
/// service's.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct TenantQuota {
    /// Memory and entries.
    pub memory: Quota,
    /// Requests and bytes in a second.
    pub traffic: TrafficQuota,
    /// The most namespaces.
    pub namespaces: Option<u64>,
    /// The largest value that a namespace may allow, in bytes.
    pub max_value_bytes: Option<u64>,
    /// The most connections at the same time.
    pub connections: Option<u64>,
}

/// Why a tenant's quota is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum InvalidTenantQuota {
    /// A cap out of range.
    #[error(
        "a cap of {0} bytes is out of range: use {least} (1 MiB) to {most} bytes (1 PiB), or none",
        least = CAPS.start(),
        most = CAPS.end()
    )]
    Cap(u64),
    /// A reserve above the cap.
    #[error(
        "a reserve of {reserve} bytes is above the cap of {cap} bytes: lower the one or raise the other"
    )]
    ReserveAboveCap {
        /// The reserve.
        reserve: u64,
        /// The cap.
        cap: u64,
    },
    /// A limit out of range.
    #[error("a limit of {limit} {what} is out of range: use 1 to {most}, or none")]
    Limit {
        /// What is limited.
        what: &'static str,
        /// The limit.
        limit: u64,
        /// The highest limit.
        most: u64,
    },
    /// A rate out of range.
    #[error(transparent)]
    Traffic(#[from] InvalidTraffic),
}

impl TenantQuota {
    /// Checks its numbers.
    ///
    /// # Errors
    /// [`InvalidTenantQuota`] names the first number out of range.
    pub fn check(&self) -> Result<(), InvalidTenantQuota> {
        let Quota { reserve, cap, entries } = self.memory;
        // The largest number means no cap.
        if cap != u64::MAX && !CAPS.contains(&cap) {
            return Err(InvalidTenantQuota::Cap(cap));
        }
        if reserve > cap {
            return Err(InvalidTenantQuota::ReserveAboveCap { reserve, cap });
        }
        for (what, limit, most) in [
            // The largest number means no limit.
            ("entries", Some(entries).filter(|entries| *entries != u64::MAX), MAX_ENTRIES),
            ("namespaces", self.namespaces, MAX_NAMESPACES),
            ("bytes for a value", self.max_value_bytes, MAX_VALUE_BYTES),
            ("connections", self.connections, MAX_CONNECTIONS),
        ] {
            if let Some(limit) = limit.filter(|limit| *limit == 0 || *limit > most) {
                return Err(InvalidTenantQuota::Limit { what, limit, most });
            }
        }
        Ok(self.traffic.check()?)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn memory(reserve: u64, cap: u64, entries: u64) -> TenantQuota {
        TenantQuota { memory: Quota { reserve, cap, entries }, ..Default::default() }
    }

    fn namespaces(most: u64) -> TenantQuota {
        TenantQuota { namespaces: Some(most), ..Default::default() }
    }

    fn value(most: u64) -> TenantQuota {
        TenantQuota { max_value_bytes: Some(most), ..Default::default() }
    }

    fn connections(most: u64) -> TenantQuota {
        TenantQuota { connections: Some(most), ..Default::default() }
    }

    #[rstest]
    #[case(TenantQuota::default(), true)]
    #[case(memory(1 << 20, 1 << 20, 1), true)]
    #[case(memory((1 << 20) + 1, 1 << 20, 1), false)]
    #[case(memory(0, (1 << 20) - 1, 1), false)]
    #[case(memory(0, (1 << 50) + 1, 1), false)]
    #[case(memory(0, u64::MAX, 0), false)]
    #[case(memory(0, u64::MAX, MAX_ENTRIES), true)]
    #[case(memory(0, u64::MAX, MAX_ENTRIES + 1), false)]
    #[case(namespaces(MAX_NAMESPACES), true)]
    #[case(namespaces(MAX_NAMESPACES + 1), false)]
    #[case(namespaces(0), false)]
    #[case(value(MAX_VALUE_BYTES), true)]
    #[case(value(MAX_VALUE_BYTES + 1), false)]
    #[case(connections(1), true)]
    #[case(connections(0), false)]
    #[case(connections(MAX_CONNECTIONS + 1), false)]
    fn limits_are_bounded(#[case] quota: TenantQuota, #[case] valid: bool) {
        assert_eq!(quota.check().is_ok(), valid, "{quota:?}");
    }
}
