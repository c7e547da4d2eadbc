//! Recording the traffic of a namespace.

use verax_core::store::RecordedTraffic;

use crate::handle::Reader;

/// The recording of a namespace's traffic, which ends when this is dropped.
#[derive(Debug)]
pub struct TrafficRecorder(Reader);

impl Reader {
    /// Records every read of the cache from now on; `None` while somebody else does. Reads past the
    /// cache are not recorded, nor those that a client answers from a copy of its own.
    pub fn record_traffic(&self) -> Option<TrafficRecorder> {
        self.shared().partition().begin_recording().then(|| TrafficRecorder(self.clone()))
    }
}

impl TrafficRecorder {
    /// Takes the reads since the last call, in no particular order.
    pub fn take(&self) -> RecordedTraffic {
        self.0.shared().partition().take_recorded()
    }
}

impl Drop for TrafficRecorder {
    fn drop(&mut self) {
        self.0.shared().partition().end_recording();
    }
}
