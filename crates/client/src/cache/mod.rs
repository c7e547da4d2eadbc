//! [`Cache`], the handle for service instances that read often.

mod active_refills;
mod batches;
mod breaker;
mod cached;
mod codec;
mod compress;
mod counters;
mod damage;
mod entries;
mod entry;
mod events;
mod frames;
mod handle;
mod lifetimes;
mod locks;
mod lost;
mod near;
mod options;
mod outdated;
mod rate_limits;
mod refill;
mod serve_refills;
mod tags;
mod transport;
mod write;

pub use cached::{Cached, CachedFrom, Refilled};
pub use codec::{Codec, Json, Raw};
pub use entry::CacheEntry;
pub use events::{CacheEvent, CacheEventKind, EventHook};
pub use handle::Cache;
pub use near::NearCopies;
pub use options::{CacheOptions, Details, Hit, Page, PutMany};
pub use outdated::Outdated;
pub use rate_limits::{RateDecision, WithoutService};
pub use write::Written;
