//! The Verax client library for service instances.
//!
//! A [`Client`] knows where Verax is and holds one pool of connections; clone it freely. A
//! [`Namespace`] is a handle on one namespace of one tenant and cannot be re-pointed.
//!
//! ```no_run
//! use verax_client::{Client, PutOptions};
//!
//! # async fn example() -> Result<(), verax_client::ClientError> {
//! // Reads VERAX_URL and VERAX_TOKEN.
//! let verax = Client::from_environment()?;
//! let boards = verax.namespace("ferrydesk", "boards")?;
//!
//! if let Some(found) = boards.get("board/aldermouth").await? {
//!     println!("{} bytes, {:?}", found.value.len(), found.source);
//! }
//! boards.put("notice/today", "fog over the sound", PutOptions::default()).await?;
//! # Ok(())
//! # }
//! ```
//!
//! A cache may lose any entry at any time: read `None` as "ask the origin", never as an error.

mod administration;
mod answer;
mod connection;
mod entries;
mod error;
mod operations;
mod runs;
mod stable_key;
mod wire;

pub use answer::{Found, Source};
pub use connection::{Client, ClientOptions, DEFAULT_URL, DEFAULT_WIRE};
pub use entries::{LifetimeOptions, Lookup, Namespace, PutCondition, PutOptions, ReadOptions};
pub use error::ClientError;
pub use operations::{Rate, Taken};
pub use stable_key::stable_key;
pub use wire::{Cache, CacheEvent, CacheOptions, Hit, NearCopies, Page, PutMany};
