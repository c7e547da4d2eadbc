//! Policies from the literature, each reduced to its decisions (which entry goes when room is
//! needed), and the store as it is. The former are here to be compared with, not to be used.

mod lru;
mod s3_fifo;
mod sieve;
mod tiny_lfu;
mod verax;

pub(crate) use lru::Lru;
pub(crate) use s3_fifo::S3Fifo;
pub(crate) use sieve::Sieve;
pub(crate) use tiny_lfu::TinyLfu;
pub(crate) use verax::Verax;

/// A cache under test.
pub(crate) trait Policy {
    /// One request for `key`, whose value takes `size` bytes: whether it was a hit. After a miss
    /// the value is stored, unless it is larger than the whole cache.
    fn request(&mut self, key: u64, size: u32) -> bool;
}
