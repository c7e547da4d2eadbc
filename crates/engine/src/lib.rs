//! The data plane of Verax: entries, refills and locks, without records and without transport.
//!
//! [`Engine`] owns the store, the refill guards, and the locks. The control plane opens
//! [namespaces](Engine::open_namespace) in it and hands out [`Handle`]s: what a handle's type does
//! not offer, its holder cannot do.
//!
//! * [`cache`] reads, stores, refills and invalidates entries. Every change goes through one write
//!   path, under the guard of its key.
//! * [`locks`] grants named locks and queues callers.
//! * [`events`] are published to an [`Observer`](events::Observer).
//!
//! Not here: tokens and scopes, MariaDB, HTTP, and JSON.
//!
//! ```
//! use std::sync::Arc;
//!
//! use verax_core::lifetime::CacheControl;
//! use verax_core::{Key, Name, NamespaceId, NamespacePolicy, Precondition};
//! use verax_engine::cache::{PutRequest, ReadOptions};
//! use verax_engine::events::{Event, Observer};
//! use verax_engine::{Binding, Engine, EngineOptions, NamespaceIdentity, Reader, Writer};
//!
//! #[derive(Debug)]
//! struct Deaf;
//!
//! impl Observer for Deaf {
//!     fn observe(&self, _: &Event<'_>) {}
//! }
//!
//! # tokio::runtime::Builder::new_current_thread().build()?.block_on(async {
//! let engine = Engine::new(EngineOptions::default());
//! let identity = NamespaceIdentity {
//!     id: NamespaceId(1),
//!     tenant: Name::new("ferrydesk")?,
//!     name: Name::new("boards")?,
//! };
//! let binding = Binding { policy: NamespacePolicy::default(), origin: None };
//! let boards = engine.open_namespace(identity, binding, Arc::new(Deaf));
//!
//! let key = Key::new("board/aldermouth")?;
//! let writer = Writer::open(Arc::clone(&boards));
//! let request = PutRequest {
//!     value: "[]".into(),
//!     media_type: "application/json".into(),
//!     cache_control: CacheControl::default(),
//!     tags: Vec::new(),
//!     condition: Precondition::Always,
//! };
//! writer.put(&key, request, None).await?;
//!
//! let answer = Reader::open(boards).read(&key, ReadOptions::default()).await?;
//! assert_eq!(answer.unwrap().entry.value, "[]");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! # }).unwrap();
//! # Ok::<(), std::io::Error>(())
//! ```

mod access;
mod background;
mod binding;
pub mod cache;
mod clock;
mod engine;
mod error;
pub mod events;
mod handle;
pub mod in_flight;
pub mod locks;
mod options;
mod recording;
mod tasks;
mod tenant;
mod traffic;
pub mod turns;

pub use access::{AccessSignal, LeasedBy};
pub use background::{Work, supervise};
pub use binding::{Binding, NamespaceIdentity};
pub use clock::Clock;
pub use engine::{Engine, Namespace};
pub use error::{EngineError, InvalidInput, Overload};
pub use handle::{
    Clearer, Deleter, Handle, Locker, Manager, Reader, Refiller, Warmer, Writer, right,
};
pub use options::{EngineOptions, MemoryUse};
pub use recording::TrafficRecorder;
pub use tenant::{TenantConnection, TenantShare};
pub use traffic::Limit;
pub use verax_origin::{OriginError, TraceContext};
