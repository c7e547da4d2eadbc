//! Statistics and recent events of the engine.
//!
//! [`Observatory`] opens a [`Statistics`] for every namespace: an observer of the engine that
//! counts, and keeps the latest refills and lock events. [`Live`] samples the counts once a second
//! for watchers.
//!
//! Not here: anything that decides what the engine does. Observing costs the serving path a relaxed
//! add per event, and a short lock for rare events.
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
