//! A large frame that is arriving: its memory is reserved as it arrives, and it must keep arriving.

use std::time::Duration;

use bytes::{Buf, BytesMut};
use tokio::time::Instant;
use verax_engine::EngineError;
use verax_engine::in_flight::{InFlightBudget, InFlightReservation, SMALL};
use verax_wire::{Frame, frame};

/// How much is reserved ahead of the received part: an announced length alone costs nothing.
pub(super) const MAX_AHEAD: usize = 256 << 10;

/// How long a frame may take to arrive, beyond its time at [`MIN_RATE`].
const ARRIVAL_GRACE: Duration = Duration::from_secs(10);

/// The minimum rate at which a frame must arrive, in bytes per second.
const MIN_RATE: u64 = 256 << 10;

/// The state of the frame that is arriving.
#[derive(Debug, Default)]
pub(super) struct Arrival {
    reserved: InFlightReservation,
    reserved_bytes: usize,
    /// When an incomplete frame began to arrive, and when it must be complete.
    deadline: Option<Instant>,
    /// How many bytes of a refused frame are still to be discarded.
    refused_bytes: usize,
}

/// A frame for which there is no memory. The rest of it is discarded as it arrives.
#[derive(Debug)]
pub(super) struct NoRoom {
    pub(super) frame: Frame,
    pub(super) error: EngineError,
}

impl Arrival {
    /// Discards the received part of a refused frame.
    pub(super) fn discard(&mut self, received: &mut BytesMut) {
        let gone = self.refused_bytes.min(received.len());
        received.advance(gone);
        self.refused_bytes -= gone;
        if gone > 0 && self.refused_bytes == 0 {
            self.deadline = None;
        }
    }

    /// Reserves memory for the next part of the frame that `received` begins with, in the budget
    /// that `budget` returns for its namespace.
    ///
    /// # Errors
    /// [`NoRoom`]; what had arrived of the frame is gone.
    pub(super) fn expect(
        &mut self,
        received: &mut BytesMut,
        budget: impl FnOnce(u16) -> InFlightBudget,
    ) -> Result<(), NoRoom> {
        let missing = frame::missing(received);
        if missing == 0 {
            if self.refused_bytes == 0 {
                self.deadline = None;
            }
            return Ok(());
        }
        let whole = received.len() + missing;
        if self.deadline.is_none() {
            let needs = Duration::from_secs(whole as u64 / MIN_RATE);
            self.deadline = Some(Instant::now() + ARRIVAL_GRACE + needs);
        }
        if whole <= SMALL {
            return Ok(());
        }
        let wanted = whole.min(received.len() + MAX_AHEAD);
        if wanted <= self.reserved_bytes {
            return Ok(());
        }
        let about = frame::about(received);
        match budget(about.namespace).reserve_all(wanted - self.reserved_bytes) {
            Ok(more) => {
                self.reserved.join(more);
                self.reserved_bytes = wanted;
                Ok(())
            }
            Err(error) => {
                // The rest of it must also keep arriving.
                self.refused_bytes = missing;
                self.end();
                received.clear();
                Err(NoRoom { frame: about, error })
            }
        }
    }

    /// The frame is complete; returns its reservation.
    pub(super) fn end(&mut self) -> InFlightReservation {
        self.reserved_bytes = 0;
        if self.refused_bytes == 0 {
            self.deadline = None;
        }
        std::mem::take(&mut self.reserved)
    }

    /// Waits until the deadline of the arriving frame.
    pub(super) async fn overdue(&self) {
        match self.deadline {
            Some(deadline) => tokio::time::sleep_until(deadline).await,
            None => std::future::pending().await,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_refused_frame_is_skipped_to_its_end() {
        let (mut whole, mut arrival) = (Vec::new(), Arrival::default());
        let tag = "x".repeat(1 << 20);
        let request = verax_wire::Request::InvalidateTag { tag: &tag };
        request.encode(Frame { namespace: 1, id: 2 }, &mut whole);
        let budget = InFlightBudget::new(1 << 10);
        let mut received = BytesMut::from(&whole[..1_000]);
        let refused = arrival.expect(&mut received, |_| budget.clone()).unwrap_err();
        assert_eq!(refused.frame.id, 2);
        assert!(received.is_empty() && arrival.deadline.is_some());
        // All but the last byte: it is still incomplete.
        received.extend_from_slice(&whole[1_000..whole.len() - 1]);
        arrival.discard(&mut received);
        arrival.expect(&mut received, |_| budget.clone()).unwrap();
        assert!(received.is_empty() && arrival.deadline.is_some());
        // The last byte, and the beginning of another frame with its own deadline.
        received.extend_from_slice(&whole[whole.len() - 1..]);
        received.extend_from_slice(b"ab");
        arrival.discard(&mut received);
        assert!(arrival.deadline.is_none());
        assert_eq!(&received[..], b"ab");
    }
}
