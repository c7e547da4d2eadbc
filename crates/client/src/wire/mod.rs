//! The wire side of the client: [`Cache`], for service instances that read often.

mod active_refills;
mod batches;
mod breaker;
mod cache;
mod cached;
mod codec;
mod compress;
mod connect;
mod counters;
mod entries;
mod entry;
mod events;
mod frames;
mod lifetimes;
mod link;
mod locks;
mod lost;
mod near;
mod options;
mod outdated;
mod pool;
mod rate_limits;
mod refill;
mod tags;
mod write;

pub use cache::Cache;
pub use cached::{Cached, CachedFrom, Refilled};
pub use codec::{Codec, Json, Raw};
pub use entry::CacheEntry;
pub use events::{CacheEvent, CacheEventKind, EventHook};
pub use near::NearCopies;
pub use options::{CacheOptions, Hit, Page, PutMany};
pub use outdated::Outdated;
pub use rate_limits::{RateDecision, WithoutService};
pub use write::Written;
