//! Policies from the literature, each reduced to its decisions (which entry goes when room is
//! needed), and the store as it is. The former are here to be compared with, not to be used.

mod lru;
mod policy;
mod s3_fifo;
mod sieve;
mod tiny_lfu;
mod verax;

pub(crate) use lru::Lru;
pub(crate) use policy::Policy;
pub(crate) use s3_fifo::S3Fifo;
pub(crate) use sieve::Sieve;
pub(crate) use tiny_lfu::TinyLfu;
pub(crate) use verax::Verax;
