//! The state of an origin and its servers, as it is shown.

use verax_core::guard::breaker::BreakerState;
use verax_core::guard::endpoints::EndpointState;

/// One server of an origin at a moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndpointView {
    /// Where it is.
    pub url: String,
    /// What its breaker does, and how many reads are under way.
    pub state: EndpointState,
}

/// An origin at a moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginState {
    /// Closed while any server is asked as usual.
    pub breaker: BreakerState,
    /// Calls under way.
    pub under_way: usize,
    /// Calls that wait for a place.
    pub waiting: usize,
    /// Its servers.
    pub endpoints: Vec<EndpointView>,
}
