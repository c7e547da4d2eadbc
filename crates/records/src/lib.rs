//! Verax's durable records: tenants, namespaces, origins, tokens, runs and activity.
//!
//! They live in MariaDB, reached through Diesel. [`Records`] is the handle; every change it makes
//! is one transaction that also writes the [`Activity`] it amounts to, so that
//! what is acknowledged is never lost and always has an author. Calls are bounded in time: a
//! MariaDB that hangs is [`RecordsError::Unavailable`], never a caller that waits for ever.
//!
//! A [`RecordsCopy`] in a file lets Verax start while MariaDB is away. [`launcher`] starts a private MariaDB on loopback for those who have none.
//!
//! ```no_run
//! use verax_core::{Name, Timestamp};
//! use verax_records::{Actor, Records, launcher::PrivateServer};
//!
//! # async fn example() -> Result<(), Box<dyn std::error::Error>> {
//! let server = PrivateServer::start("data/records".as_ref()).await?;
//! let records = Records::open(server.url("verax")).await?;
//! let actor = Actor::new("token 1 (administrator)");
//! let now = Timestamp::from_millis(0);
//! records.create_tenant(&Name::new("ferrydesk")?, &actor, now).await?;
//! assert_eq!(records.tenants().await?.len(), 1);
//! server.stop().await?;
//! # Ok(())
//! # }
//! ```

mod connection;
mod copy;
mod error;
pub mod launcher;
mod schema;
pub mod tables;

pub use connection::Records;
pub use copy::RecordsCopy;
pub use error::RecordsError;
pub use tables::{
    Activity, Actor, Change, NamespaceRecord, OriginRecord, RunKind, RunRecord, RunState,
    TenantRecord, TokenRecord,
};
