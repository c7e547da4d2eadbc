//! The wire side of the client: [`Cache`], for service instances that read often.

mod active_refills;
mod batches;
mod breaker;
mod cache;
mod compress;
mod connect;
mod counters;
mod entries;
mod frames;
mod lifetimes;
mod link;
mod locks;
mod near;
mod options;
mod pool;
mod rate_limits;
mod refill;
mod tags;
mod write;

pub use cache::Cache;
pub use near::NearCopies;
pub use options::{CacheEvent, CacheOptions, Hit, Page, PutMany};
pub use write::{Outdated, Written};
