//! The wire protocol as the client speaks it: addresses, connections, and a pool of them.

pub(crate) mod connect;
pub(crate) mod link;
pub(crate) mod pool;
