//! A Verax in the process of a test: the service's own store, guards and wire protocol, with
//! records in memory, without a socket, a process or a disk.
//!
//! [`TestService::cache`] returns the [`Cache`](verax_client::Cache) that the application uses in
//! production, so the code under test does not change. With Tokio's paused clock the time is
//! virtual: [`TestService::advance`] passes it for the service and the client together, and waits
//! cost nothing. [`Fault`]s come to order.
//!
//! ```
//! use std::time::Duration;
//! use verax_client::{CacheOptions, CachedFrom};
//! use verax_testing::{Fault, TestService};
//!
//! # #[tokio::main(flavor = "current_thread", start_paused = true)]
//! # async fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let verax = TestService::start().await?;
//! verax.create_namespace("ferrydesk", "boards", Default::default()).await?;
//! let boards = verax.cache("ferrydesk", "boards", CacheOptions::default())?;
//! let hour = Duration::from_secs(3_600);
//! let entry = boards.entry("board/saltmere").max_age(hour).stale_if_error(hour);
//! entry.get_or_refill(async || Ok::<_, String>("07:10".to_owned())).await?;
//!
//! // The board is stale, and the database is away.
//! verax.advance(hour + Duration::from_secs(1)).await;
//! let served = entry.get_or_refill(async || Err::<String, _>("away".to_owned())).await?;
//! assert_eq!((&*served.value, served.from), ("07:10", CachedFrom::StaleOnError));
//!
//! // Without Verax, the application's own refill serves.
//! verax.set_fault(Fault::Unreachable);
//! let own = entry.get_or_refill(async || Ok::<_, String>("07:40".to_owned())).await?;
//! assert_eq!((&*own.value, own.from), ("07:40", CachedFrom::Refill));
//! # Ok(())
//! # }
//! ```

mod fault;
mod relay;
mod service;

pub use fault::Fault;
pub use service::{TestService, TestServiceError};
pub use verax_api::PolicyChange;
