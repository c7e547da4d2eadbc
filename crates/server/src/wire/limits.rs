//! The limits of the wire listener.

use std::time::Duration;

use crate::connections::ConnectionLimits;

/// The limits on wire clients.
#[derive(Debug, Clone, Copy)]
pub struct WireLimits {
    /// The connection limits; further connections are told to retry.
    pub connections: ConnectionLimits,
    /// The maximum number of waiting requests of one connection; at the limit, no more are read.
    pub in_flight: usize,
    /// A connection that is idle for this long is closed.
    pub idle: Duration,
    /// The timeout for a connection's hello.
    pub hello: Duration,
}

impl Default for WireLimits {
    fn default() -> Self {
        Self {
            connections: ConnectionLimits::default(),
            in_flight: 1_024,
            idle: Duration::from_secs(120),
            hello: Duration::from_secs(10),
        }
    }
}
