//! What Verax counts and remembers of the events of its engine.
//!
//! [`Observatory`] opens a [`Statistics`] for every namespace, which is the observer that the
//! engine tells: it counts, and keeps the latest refills and lock events. [`Live`] makes samples of
//! the counts, once a second, for whoever watches.
//!
//! What may not live here: anything that decides what the engine does. Observing costs the serving
//! path a relaxed add for each event, and a short lock for the rare ones.
//!
//! ```
//! use std::time::Duration;
//!
//! use verax_core::NamespaceId;
//! use verax_engine::events::{Event, Observer};
//! use verax_observe::Observatory;
//!
//! let observatory = Observatory::default();
//! let statistics = observatory.open(NamespaceId(1));
//! statistics.observe(&Event::Hits { fresh: 3, stale: 0, each: Duration::from_micros(4) });
//! assert_eq!(statistics.reading().hits, 3);
//! ```

mod counters;
mod hits;
mod live;
mod recent;
mod statistics;

pub use counters::CounterReading;
pub use live::{Gauges, Live, LiveReceiver, Window};
pub use statistics::{Observatory, Statistics};
