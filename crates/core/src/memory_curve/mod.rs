//! What more memory would buy: the hit ratio of a namespace by the number of entries it may hold.
//!
//! A [`ReuseObservation`] follows a sample of the keys and keeps a histogram of their *reuse
//! times*: how many reads of the namespace lie between two reads of a key. The sample is of keys,
//! by their hash, at most [`MAX_SAMPLED_KEYS`] (spatially hashed sampling: Waldspurger et al.,
//! SHARDS, FAST 2015). The hottest keys would make such a sample a matter of luck, since one of
//! them is in it or not; so they are left out of it and modelled by the rates that
//! [`heat`](crate::heat) knows.
//!
//! The curve follows from the reuse times by the higher order theory of locality (Xiang et al.,
//! ASPLOS 2013): with S(t) the share of reads whose key is not read again within t reads, a cache
//! that gives up what was not read for τ reads holds ∫₀^τ S(t) dt entries, and hits the reads
//! whose reuse time is at most τ. Reads that come too late for the lifetime never hit, however
//! much memory there is; the entry takes memory until its lifetime ends. S(t) is estimated by the
//! product-limit estimator (Kaplan and Meier, 1958), hits by the cumulative incidence for
//! competing risks (Aalen and Johansen, 1978), since keys that were not read again *yet* say
//! something, too.
//!
//! The error of each point is twice its standard deviation by the jackknife (Efron, 1982) over
//! eight groups of the sampled keys, and [`MODEL_ERROR`].
//!
//! Curves of several namespaces say how to divide memory among them: [`divide`].
//!
//! ```
//! use std::time::Duration;
//! use verax_core::{Lifetime, Timestamp};
//! use verax_core::memory_curve::{AllReads, ReuseObservation};
//! use verax_core::store::{ReuseSample, SampledRead};
//!
//! let start = Timestamp::from_millis(0);
//! let mut observation = ReuseObservation::default();
//! // A thousand boards are read in turn, a thousand reads a second.
//! for second in 0..60 {
//!     let at = |read: u64| Timestamp::from_millis(second * 1_000 + read);
//!     let read = |board| SampledRead { key: board << 41, at: at(board) };
//!     let sample = ReuseSample { reads: (0..1_000).map(read).collect(), left_out: 0.0 };
//!     let all = AllReads { reads: (second + 1) * 1_000, hits: 0 };
//!     observation.take(&sample, all, &Lifetime::of(Duration::MAX), at(1_000));
//! }
//! let curve = observation.curve(&[], start + Duration::from_secs(60)).expect("enough was read");
//! // Half of the memory serves none of them, all of it serves every read.
//! assert!(curve.hit_ratio_at(500.0) < 0.01);
//! assert!(curve.hit_ratio_at(1_000.0) > 0.9);
//! ```

mod curve;
mod division;
mod observation;
mod reuse_times;

pub use curve::{CurvePoint, MODEL_ERROR, MemoryCurve};
pub use division::{Divided, NamespaceMemory, TenantBounds, divide};
pub use observation::{AllReads, MAX_SAMPLED_KEYS, ReuseObservation};

#[cfg(test)]
mod tests;
