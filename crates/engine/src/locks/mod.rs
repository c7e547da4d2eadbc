//! Named locks: the state machine of `verax_core` with the engine's clock and callers that wait.

mod acquire;
mod state;
mod waiting;

pub(crate) use acquire::end_locks_in_time;
pub use acquire::{LEASES, LockRequest, LockSession};
pub use state::Acquired;
pub(crate) use state::Locks;
pub use verax_core::guard::lock::LockCounts;
