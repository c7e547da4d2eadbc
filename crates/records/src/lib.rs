//! Verax's durable records: tenants, namespaces, origins, tokens, runs and activity.
//!
//! They live in MariaDB, reached through Diesel. [`Records`] is the handle. Every change is one
//! transaction that raises the records' revision and writes the [`Activity`] it amounts to, so what
//! is acknowledged is never lost and always has an author. Exchanges with MariaDB are bounded in
//! time, and a connection on which one did not end is never used again.
//!
//! A [`RecordsSnapshot`] in a file lets Verax start while MariaDB is away. [`launcher`] runs a
//! private MariaDB for those who have none.
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

mod changes;
mod connection;
mod error;
mod identities;
pub mod launcher;
mod membership;
mod migrations;
mod schema;
mod snapshot;
pub mod tables;

pub use changes::Changed;
pub use connection::Records;
pub use error::RecordsError;
pub use identities::Identities;
pub use membership::{LEASE_VALIDITY, Membership, Ownership};
pub use snapshot::RecordsSnapshot;
pub use tables::{
    Activity, Actor, Change, InvalidNodeId, NamespaceRecord, NewRun, Node, NodeId, NodeState,
    OriginRecord, RunKind, RunRecord, RunState, TenantRecord, TokenRecord, Topology,
};
