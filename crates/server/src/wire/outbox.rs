//! What is to be written to a connection.

use tokio::io::{AsyncWrite, AsyncWriteExt};
use verax_core::EntryRef;
use verax_engine::in_flight::InFlightReservation;
use verax_wire::{Frame, Reply, Value};

/// Values from this size on are written from the store's memory; copying a smaller one costs less
/// than a write of its own.
const NOT_COPIED_FROM: usize = 32 << 10;

/// Memory that an outbox keeps for the next replies.
const KEPT: usize = 64 << 10;

/// Frames that were encoded elsewhere, with their reservation among all that is on its way out.
#[derive(Debug, Default)]
pub(super) struct Encoded {
    pub(super) frames: Vec<u8>,
    pub(super) reservation: InFlightReservation,
}

/// Replies to be written, in order.
#[derive(Debug, Default)]
pub(super) struct Outbox {
    bytes: Vec<u8>,
    /// Values that belong behind so many of the bytes.
    large: Vec<(usize, EntryRef)>,
    /// The reservations that what waits here takes among all that is on its way out.
    reservations: Vec<InFlightReservation>,
    large_bytes: usize,
}

impl Outbox {
    pub(super) fn add(&mut self, frame: Frame, reply: &Reply<'_>) {
        reply.encode(frame, &mut self.bytes);
    }

    /// Adds the reply to a look-up; the value's bytes are those of what `found` gives.
    pub(super) fn add_value(
        &mut self,
        frame: Frame,
        value: Value<'_>,
        found: impl FnOnce() -> EntryRef,
    ) {
        if value.value.len() < NOT_COPIED_FROM {
            return self.add(frame, &Reply::Value(value));
        }
        value.encode_before_bytes(frame, &mut self.bytes);
        self.large_bytes += value.value.len();
        self.large.push((self.bytes.len(), found()));
    }

    /// Adds frames that were encoded elsewhere.
    pub(super) fn add_encoded(&mut self, encoded: Encoded) {
        self.bytes.extend_from_slice(&encoded.frames);
        self.reservations.push(encoded.reservation);
    }

    /// Holds a reservation until everything is written.
    pub(super) fn hold(&mut self, reservation: InFlightReservation) {
        self.reservations.push(reservation);
    }

    pub(super) fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// How much waits to be written.
    pub(super) fn len(&self) -> usize {
        self.bytes.len() + self.large_bytes
    }

    /// Writes everything.
    pub(super) async fn write(
        &mut self,
        stream: &mut (impl AsyncWrite + Unpin),
    ) -> std::io::Result<()> {
        let mut from = 0;
        for (at, found) in self.large.drain(..) {
            stream.write_all(&self.bytes[from..at]).await?;
            stream.write_all(found.value()).await?;
            from = at;
        }
        stream.write_all(&self.bytes[from..]).await?;
        stream.flush().await?;
        self.large_bytes = 0;
        self.reservations.clear();
        self.bytes.clear();
        self.bytes.shrink_to(KEPT);
        Ok(())
    }
}
