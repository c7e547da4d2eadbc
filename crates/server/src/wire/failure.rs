//! Failures as wire replies.

use verax_wire::Reply;

use crate::failure::Failure;

impl Failure {
    /// As a reply.
    pub(super) fn reply(&self) -> Reply<'_> {
        Reply::Failed {
            code: self.kind().code(),
            unchanged: self.is_unchanged(),
            detail: self.detail(),
        }
    }
}
