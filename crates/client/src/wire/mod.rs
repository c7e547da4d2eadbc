//! The wire side of the client: [`Cache`], for service instances that read often.

mod breaker;
mod cache;
mod connect;
mod link;
mod near;
mod pool;

pub use cache::{Cache, CacheEvent, CacheOptions, Hit, Page, PutMany};
pub use near::NearCopies;
