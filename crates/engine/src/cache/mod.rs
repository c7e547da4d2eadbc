//! Reading, storing and refilling entries.

mod batches;
mod change;
mod check;
mod counters;
mod damage;
mod entries;
mod find;
mod invalidation;
mod permits;
mod put_request;
mod rate_limits;
mod read;
mod refill;
mod refill_tables;
mod tags;
mod waiter;
mod watch;
mod write_through;
mod write_turns;
mod written;

pub use batches::{BatchAccess, MAX_BATCH_OPERATIONS, Operation, Outcome};
pub use check::{CheckStep, DamagedEntry};
pub use damage::MAX_REASON_BYTES;
pub use entries::{Counted, MAX_PAGE_ENTRIES};
pub use find::{FindStep, FoundValue};
pub(crate) use invalidation::Watchers;
pub use invalidation::{Invalidated, InvalidationWatch};
pub(crate) use permits::end_permits_in_time;
pub use permits::{LEASES, MAX_WAIT, PermitOutcome, PermitRequest, RefillCounts};
pub use put_request::PutRequest;
pub use read::{Cached, ReadOptions, ReadResult, Source};
pub use refill::RefillTerms;
pub(crate) use refill_tables::Cache;
pub use tags::{InvalidTags, checked_tags, parse_tags, write_tags};
pub use waiter::Refilled;
pub use written::{Stored, Written};
