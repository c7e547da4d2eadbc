//! How the holder of a lock is shown.

use std::time::Duration;

use verax_api::LockHolder;

use crate::figures;

pub(super) fn holder_text(holder: &LockHolder) -> String {
    format!(
        "{} · fencing token {} · ends in {} unless renewed",
        holder.owner,
        holder.fencing_token,
        time(holder.ends_in_seconds)
    )
}

/// A tenth of a second matters below ten.
pub(super) fn time(seconds: f64) -> String {
    match seconds {
        s if s < 10.0 => format!("{s:.1}s"),
        s => figures::time(Duration::try_from_secs_f64(s).unwrap_or_default()),
    }
}
