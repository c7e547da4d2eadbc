//! The bounds of the wire listener.

use std::time::Duration;

use crate::connections::ConnectionLimits;

/// The bounds on what clients of the wire may take.
#[derive(Debug, Clone, Copy)]
pub struct WireLimits {
    /// Connections at a time; further ones are told to come back later.
    pub connections: ConnectionLimits,
    /// Requests of one connection that wait for something; while they do, no more are read.
    pub in_flight: usize,
    /// A connection on which nothing is heard for this long is closed.
    pub idle: Duration,
    /// The time in which a connection must have said its hello.
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
