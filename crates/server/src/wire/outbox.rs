//! The replies to write to a connection.

use tokio::io::{AsyncWrite, AsyncWriteExt};
use verax_core::EntryRef;
use verax_engine::in_flight::InFlightReservation;
use verax_wire::{Frame, Reply, Value};

/// Values of at least this size, in bytes, are written from the store's memory; copying a smaller
/// one costs less than a separate write.
const NOT_COPIED_FROM: usize = 32 << 10;

/// The memory an outbox keeps for the next replies, in bytes.
const KEPT: usize = 64 << 10;

/// Frames that were encoded elsewhere, with their in-flight reservation.
#[derive(Debug, Default)]
pub(super) struct Encoded {
    pub(super) frames: Vec<u8>,
    pub(super) reservation: InFlightReservation,
}

/// Replies to be written, in order.
#[derive(Debug, Default)]
pub(super) struct Outbox {
    bytes: Vec<u8>,
    /// Values to insert, each at an offset in the bytes.
    large: Vec<(usize, EntryRef)>,
    /// The in-flight reservations of the queued replies.
    reservations: Vec<InFlightReservation>,
    large_bytes: usize,
}

impl Outbox {
    pub(super) fn add(&mut self, frame: Frame, reply: &Reply<'_>) {
        reply.encode(frame, &mut self.bytes);
    }

    /// Adds the reply to a read; the value's bytes come from `found`.
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

    /// How many bytes are queued.
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
