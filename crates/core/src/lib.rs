//! The heart of Verax: every decision, no I/O.
//!
//! There are no sockets, no files, no clock, no async and no logging in this crate. Time comes in
//! as a [`Timestamp`], randomness as a seeded generator, so that every hard interleaving is an
//! ordinary unit test.
//!
//! * [`store`] keeps entries within a limit of bytes: [`Store`].
//! * [`guard`] grants refill permits and locks to one caller at a time: [`RefillTable`],
//!   [`LockTable`](guard::LockTable).
//! * [`advice`] says what other lifetimes would mean.
//! * [`access`] defines what a token allows.
//! * [`interval`] defines what is removed or refreshed every so often.
//! * [`lifetime`] defines how long an entry is fresh and what may be served after that.
//! * [`content_schema`] holds JSON values to a schema.
//! * [`content`] defines what the values of a namespace must be.
//! * [`pattern`] turns keys into named values for an origin, and values back into keys.
//! * [`damage_limit`] bounds how often reports of damage remove an entry.
//! * [`usage`] says what is kept of usage over time.
//! * [`value_filter`] finds JSON values by their contents.
//! * [`traffic`] bounds how much passes in a second.
//! * [`heat`] knows which keys are read most.
//! * [`memory_curve`] says what more memory would buy, and how to divide it.
//! * [`schedule`] says when something runs, in local time.
//! * [`warm`] plans which keys to refill ahead of time, and how fast.
//! * [`meter`] counts latencies on the serving path at little cost.
//! * [`load`] is the maths of load runs: popularity of keys, lanes, and their comparison.
//!
//! # Example
//!
//! A look-up, a guarded refill, and the hit that follows:
//!
//! ```
//! use std::time::Duration;
//! use verax_core::{
//!     Entry, JoinOutcome, Key, Lifetime, NamespaceId, Precondition, Quota, RefillTable, Store,
//!     Timestamp,
//! };
//!
//! let store = Store::new(64 << 20);
//! let boards = store.open(NamespaceId(1), Quota::default());
//! let mut refills = RefillTable::new(Default::default(), 0);
//! let (key, now) = (Key::new("board/aldermouth")?, Timestamp::from_millis(0));
//!
//! assert!(boards.get("board/aldermouth", now).is_none());
//! let joined = refills.join(NamespaceId(1), &key, "caller 1", now, Duration::from_secs(5));
//! let JoinOutcome::Holder(permit) = joined else { panic!("the first caller gets the permit") };
//!
//! // The holder reads the origin; its value is stored only if the permit still stands.
//! let finished = refills.finish(NamespaceId(1), &key, permit.number, now);
//! let waiters = finished.expect("nothing voided the permit");
//! let entry = Entry::new("[]", "application/json", Lifetime::of(Duration::from_secs(30)), now);
//! boards.put(&key, &entry, Precondition::Always, now)?;
//!
//! assert_eq!(waiters, ["caller 1"]);
//! assert_eq!(boards.get("board/aldermouth", now).unwrap().value(), b"[]");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod access;
pub mod advice;
pub mod content;
pub mod content_schema;
pub mod damage_limit;
pub mod early;
pub mod entry;
pub mod guard;
pub mod heat;
pub mod interval;
pub(crate) mod json_position;
pub mod key;
pub mod lifetime;
pub mod load;
pub mod memory_curve;
pub mod meter;
pub mod name;
pub mod origin;
pub mod pattern;
pub mod policy;
pub mod schedule;
pub mod source;
pub mod store;
pub mod tenant_quota;
pub mod time;
pub mod traffic;
pub mod usage;
pub mod value_filter;
pub mod warm;

pub use content::ContentRule;
pub use entry::{EntityTag, Entry, EntryRevision, Tag};
pub use guard::{JoinOutcome, Permit, PermitNumber, RefillTable, Voided};
pub use key::{Key, NamespaceId};
pub use lifetime::{Freshness, Lifetime};
pub use name::{InvalidName, Name};
pub use origin::OriginSettings;
pub use pattern::KeyPattern;
pub use policy::{NamespacePolicy, OriginBinding};
pub use store::{EntryRef, Partition, Precondition, Quota, Store};
pub use tenant_quota::TenantQuota;
pub use time::Timestamp;
