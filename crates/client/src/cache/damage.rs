//! Reports of values that cannot be decoded.

use verax_wire::Request;

use super::frames::{checked, entity_tag, was_there};
use super::handle::Cache;
use crate::error::ClientError;

/// The longest reason that is sent, in bytes.
const MAX_REASON_BYTES: usize = 200;

impl Cache {
    /// Reports that the value with this entity tag cannot be decoded. The service removes it, so
    /// that the next read refills it, unless another value is there by now or the key was removed
    /// three times within a minute. Returns whether it was removed.
    ///
    /// [`get_or_refill`](Self::get_or_refill) needs no report: it replaces such a value by itself.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn report_damage(
        &self,
        key: &str,
        tag: &str,
        reason: &str,
    ) -> Result<bool, ClientError> {
        let (key, entity_tag) = (checked(key)?, entity_tag(tag)?);
        let reason = &reason[..reason.floor_char_boundary(MAX_REASON_BYTES)];
        let raw = self.request(Request::ReportDamage { entity_tag, reason, key }).await;
        self.forget(key);
        was_there(&raw?)
    }
}
