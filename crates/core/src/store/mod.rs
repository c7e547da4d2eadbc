//! The store: entries of all namespaces within one limit of bytes.
//!
//! A [`Store`] is opened for each namespace, which gives its [`Partition`]: the entries of that
//! namespace and no others, and every operation on them. A partition is cut into shards, each
//! behind a lock that hits only share. In a shard, an index maps the hash of a key to a numbered
//! slot; the slot holds times, marks for the eviction order, and a pointer to key and value, which
//! readers share. Metadata that few entries have (tags, stale times, unusual media types) is stored
//! beside.
//!
//! * Memory: everything is counted, and [`Quota`] says who is guaranteed what: a namespace, or all
//!   namespaces of a tenant ([`TenantMemory`]). When memory is full, entries are evicted from the
//!   tenant furthest over what it is guaranteed, and there from the namespace furthest over its
//!   reserve.
//! * Eviction: new entries must prove themselves in a small window before they reach the main part.
//! * Expiry: exact on read. Each chunk of slots knows when its first entry ends, so that
//!   [`Store::tidy`] finds expired entries without a search, in small steps.
//! * Clearing a namespace or invalidating a tag takes the same short time for any number of
//!   entries; [`Store::tidy`] frees their memory.

mod account;
// The header of every entry is worth it; the module says why each step is sound.
#[allow(unsafe_code)]
mod blob;
mod bound;
mod browse;
mod counters;
mod eviction;
mod found;
mod heat_sample;
mod index;
mod listing;
mod memory;
mod memory_budget;
mod metadata;
mod outcome;
pub(crate) mod packing;
mod partition;
mod precondition;
mod quota;
mod rate_limits;
mod read_sample;
mod shard;
mod slots;
mod tenant_memory;
mod traffic_recording;
mod whole;

pub use browse::SAMPLE_SLOTS;
pub use counters::{AddError, Counted};
pub use found::EntryRef;
pub use listing::{
    CountStep, ENDS_SOON, EntryFilter, EntryOrder, EntryState, InvalidOrder, InvalidPosition,
    InvalidState, ListedEntry, Listing, Position, Sample,
};
pub use partition::{EntryView, Partition};
pub use quota::Quota;
pub use rate_limits::{
    InvalidRate, MAX_RATE_COUNT, MAX_RATE_PERIOD, Rate, RateLimitError, RateLimitOutcome,
};
pub use read_sample::{MAX_REUSE_READS, ReuseSample, SampledRead, WHOLE, place_of};
pub use traffic_recording::RecordedTraffic;

pub use outcome::{PutError, PutOutcome, Usage};
pub use precondition::{ConditionFailed, Precondition};
pub use tenant_memory::TenantMemory;
pub use whole::Store;

#[cfg(test)]
mod tests;
