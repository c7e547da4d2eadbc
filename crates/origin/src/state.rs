//! The state of an origin and its servers.

use verax_core::guard::breaker::BreakerState;
use verax_core::guard::endpoints::EndpointState;

/// A snapshot of one server of an origin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndpointView {
    /// Where it is.
    pub url: String,
    /// The state of its circuit, and the number of active reads.
    pub state: EndpointState,
}

/// A snapshot of an origin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginState {
    /// Closed while the circuit of any server is closed.
    pub breaker: BreakerState,
    /// Calls under way.
    pub under_way: usize,
    /// Queued calls.
    pub waiting: usize,
    /// Its servers.
    pub endpoints: Vec<EndpointView>,
}
