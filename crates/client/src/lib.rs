//! The Verax client library for service instances.
//!
//! A [`Client`] has the addresses of Verax; clone it freely. An application reads through a
//! [`Cache`]: a handle on one namespace of one tenant, over the wire protocol.
//! [`Cache::get_or_refill`] replaces look-up, branch and store, and returns a value even when Verax
//! does not respond. This is `examples/departure_board.rs`, which the tests of Verax run:
//!
//! ```no_run
#![doc = include_str!("../examples/departure_board.rs")]
//! ```
//!
//! Applications see what happens by events: see [`CacheOptions::hook`]. The feature `metrics`
//! counts them for OpenMetrics, and the feature `tracing` writes them to the application's log.
//!
//! A [`Namespace`] does the same operations over HTTP, one request each; for tools that read
//! seldom, and for the listings and descriptions that only HTTP has.
//!
//! A cache may lose any entry at any time: read `None` as "ask the origin", never as an error.

mod addresses;
mod cache;
mod error;
mod http;
mod lock_guard;
mod lookup;
#[cfg(feature = "metrics")]
mod metrics;
mod options;
mod stable_key;
mod token;
mod trace;
#[cfg(feature = "tracing")]
mod traced;
mod wire;

pub use cache::{
    Cache, CacheEntry, CacheEvent, CacheEventKind, CacheOptions, Cached, CachedFrom, Codec,
    Details, EventHook, Hit, Json, NearCopies, Outdated, Page, PutMany, RateDecision, Raw,
    Refilled, WithoutService, Written,
};
pub use error::ClientError;
pub use http::administration::{ActivityQuery, UsageQuery};
pub use http::answer::ReadResult;
pub use http::browse::ListOptions;
pub use http::connection::{Client, ClientOptions, DEFAULT_URL, DEFAULT_WIRE};
pub use http::entries::Namespace;
pub use http::permits::{PermitOptions, PermitOutcome};
pub use http::warm::DefinitionCondition;
pub use lock_guard::LockGuard;
pub use lookup::{Lookup, ReadOptions};
#[cfg(feature = "metrics")]
pub use metrics::CacheMetrics;
pub use options::{LifetimeOptions, LockOptions, LockOutcome, PutCondition, PutOptions};
pub use stable_key::stable_key;
pub use token::TokenSource;
pub use trace::{TraceContext, TraceHook};
#[cfg(feature = "tracing")]
pub use traced::traced;
/// The shapes of the HTTP interface, which calls of [`Client`] and [`Namespace`] take and return.
pub use verax_api as api;
pub use verax_api::{FailureKind, LockHolder, Problem};
pub use verax_core::source::Source;
pub use verax_core::store::{InvalidRate, Rate, RateLimitOutcome};
pub use wire::connect::{ByteStream, Connector};

/// The guide for application developers, whose code is compiled here.
#[cfg(doctest)]
#[doc = include_str!("../../../docs/application-guide.md")]
mod guide {}
