//! Recipes for applications of Verax: what docs/recipes.md explains, as code that its tests run in
//! virtual time.
//!
//! [`Database`] stands for the application's own: its reads count, and it can be away.

pub mod departure_service;
pub mod invalidation;
pub mod job;
pub mod levels;
pub mod metrics_page;
pub mod passengers;
pub mod rate_limited;
pub mod sailings;
pub mod schema;

mod database;

pub use database::{Board, Database, DatabaseError};
