//! Verax's durable records: tenants, namespaces, origins, tokens, runs, activity and usage.
//!
//! They are in MariaDB, accessed through Diesel, or in memory for a service that keeps nothing.
//! [`Records`] is the handle. Every administrative
//! change is one transaction that increments the records' revision and writes its [`Activity`], so
//! an acknowledged change is never lost and always has an author. A run writes an activity when it
//! starts; its progress and end are written without one. Exchanges with MariaDB have timeouts, and
//! a connection with an incomplete exchange is never reused.
//!
//! A [`RecordsSnapshot`] in a file lets Verax start while MariaDB is away. [`launcher`] runs a
//! private MariaDB if none is configured.
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

mod changed;
mod error;
mod identities;
mod mariadb;
mod memory;
mod model;
mod records;
mod snapshot;

pub use changed::Changed;
pub use error::RecordsError;
pub use identities::Identities;
pub use mariadb::{LEASE_VALIDITY, Membership, Ownership, launcher};
pub use model::{
    Activity, ActivityFilter, Actor, Change, DefinitionKind, DefinitionPath, DefinitionRecord,
    InvalidNodeId, NamespaceRecord, NewRun, NewToken, Node, NodeId, NodeState, OriginRecord,
    Rotated, RunFailure, RunKind, RunRecord, RunState, SlotRecord, SlotState, TenantRecord,
    TokenRecord, Topology, UsageOf, UsagePoint, UsageQuery, UsageSample,
};
pub use records::Records;
pub use snapshot::RecordsSnapshot;
