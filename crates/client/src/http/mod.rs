//! The client over HTTP: every call of the API, one file per resource.

pub(crate) mod administration;
pub(crate) mod answer;
pub(crate) mod batches;
pub(crate) mod browse;
pub(crate) mod carry_out;
pub(crate) mod connection;
pub(crate) mod counters;
pub(crate) mod damage;
pub(crate) mod entries;
pub(crate) mod lifetimes;
pub(crate) mod locks;
pub(crate) mod permits;
pub(crate) mod pinned;
pub(crate) mod rate_limits;
pub(crate) mod runs;
pub(crate) mod schedules;
pub(crate) mod tags;
pub(crate) mod warm;
