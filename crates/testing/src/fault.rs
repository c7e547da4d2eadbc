//! Faults to order.

use std::time::Duration;

use verax_wire::Request;

/// What is wrong with the way to the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// No connection can be opened, and open ones break.
    Unreachable,
    /// Connections stay open, and nothing arrives on either side.
    Silent,
    /// Every answer takes this much longer.
    Slow(Duration),
    /// Deletes, clears and invalidations by tag do not arrive; everything else does. Deletes within
    /// a batch arrive.
    LostInvalidations,
}

impl Fault {
    /// Whether a request of this kind does not arrive.
    pub(crate) fn loses(self, kind: u8) -> bool {
        let lost = [
            Request::Delete { key: "" }.kind(),
            Request::InvalidateTag { tag: "" }.kind(),
            Request::Clear { prefix: None }.kind(),
        ];
        self == Self::LostInvalidations && lost.contains(&kind)
    }
}
