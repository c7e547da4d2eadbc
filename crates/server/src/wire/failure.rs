//! Failures as wire replies.

use verax_api::FailureKind;
use verax_wire::Reply;

use crate::failure::Failure;

impl Failure {
    /// As a reply. Failures of the service are logged under their id.
    pub(super) fn reply(&self) -> Reply<'_> {
        // Refusals by a standby and under overload are expected, and a peer can repeat them.
        let is_refusal = matches!(self.kind(), FailureKind::Standby | FailureKind::Overloaded);
        let millis = |seconds: f64| (seconds * 1_000.0).ceil() as u64;
        if self.kind().status() >= 500 && !is_refusal {
            let request_id = format!("{:016x}", self.id());
            let problem = self.kind().name();
            tracing::warn!(%request_id, problem, detail = self.detail(), "a request failed");
        }
        Reply::Failed {
            code: self.kind().code(),
            unchanged: self.is_unchanged(),
            request_id: self.id(),
            retry_after: self.retry_after_seconds().map(millis),
            detail: self.detail(),
        }
    }
}
