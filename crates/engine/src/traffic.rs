//! The rates of a tenant or namespace: what passes them, and what is refused.

use std::fmt;
use std::time::Duration;

use verax_core::Timestamp;
use verax_core::traffic::{Throttle, TrafficQuota};

/// A limit of a quota that a request has passed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Limit {
    /// The requests in a second.
    Requests(u64),
    /// The bytes of values in a second.
    Bytes(u64),
    /// The connections.
    Connections(u64),
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Requests(rate) => write!(f, "{rate} requests a second"),
            Self::Bytes(rate) => write!(f, "{rate} bytes of values a second"),
            Self::Connections(most) => write!(f, "{most} connections"),
        }
    }
}

/// The rates of one tenant or namespace.
#[derive(Debug, Default)]
pub(crate) struct Traffic {
    requests: Throttle,
    bytes: Throttle,
}

impl Traffic {
    pub(crate) fn new(quota: TrafficQuota, now: Timestamp) -> Self {
        let traffic = Self::default();
        traffic.set(quota, now);
        traffic
    }

    pub(crate) fn set(&self, quota: TrafficQuota, now: Timestamp) {
        // An unchanged rate forgives nothing.
        for (throttle, rate) in
            [(&self.requests, quota.requests_per_second), (&self.bytes, quota.bytes_per_second)]
        {
            if throttle.rate() != rate {
                throttle.set_rate(rate, now);
            }
        }
    }

    /// Whether there is any limit.
    pub(crate) fn is_limited(&self) -> bool {
        self.requests.rate().is_some() || self.bytes.rate().is_some()
    }

    /// Lets a request pass.
    pub(crate) fn admit(&self, now: Timestamp) -> Result<(), (Limit, Duration)> {
        let of = |limit: fn(u64) -> Limit, throttle: &Throttle, wait| {
            (limit(throttle.rate().unwrap_or(0)), wait)
        };
        self.bytes.look(now).map_err(|wait| of(Limit::Bytes, &self.bytes, wait))?;
        self.requests.admit(now).map_err(|wait| of(Limit::Requests, &self.requests, wait))
    }

    /// Takes back a request that another limit refused.
    pub(crate) fn take_back(&self) {
        self.requests.take_back();
    }

    /// Charges more requests, as a batch has.
    pub(crate) fn charge_requests(&self, requests: u64, now: Timestamp) {
        self.requests.charge(requests, now);
    }

    /// Charges bytes of values.
    pub(crate) fn charge_bytes(&self, bytes: u64, now: Timestamp) {
        self.bytes.charge(bytes, now);
    }
}
