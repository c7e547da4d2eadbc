//! Lets requests pass within the quotas of their tenant and namespace, for both transports.
//!
//! Administrators are not limited, so that they can look and repair while a tenant floods.

use std::sync::Arc;
use std::time::Duration;

use verax_control::access::Caller;
use verax_engine::{EngineError, Namespace};

use crate::connections::ConnectionSlot;

/// After a refusal, nothing more is read from the connection for this long: a peer that repeats
/// refused requests costs others nothing.
pub(crate) const PAUSE: Duration = Duration::from_millis(10);

/// Lets a request pass.
///
/// # Errors
/// [`EngineError::QuotaExceeded`]; nothing was changed.
pub(crate) fn admit(
    caller: &Caller,
    namespace: &Namespace,
    connection: &Arc<ConnectionSlot>,
) -> Result<(), EngineError> {
    if caller.is_admin() {
        return Ok(());
    }
    connection.count_for(namespace.share())?;
    namespace.admit()
}
