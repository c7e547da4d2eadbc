//! The HTTP interface: one file a resource, and what all of them need. docs/http-api.md specifies
//! it; no protocol but HTTP is spoken here.

mod administration;
mod answering;
mod authenticated;
mod batches;
mod browse;
mod console;
mod counters;
mod damage;
mod description;
mod drills;
mod entries;
mod entry_fields;
mod extract;
mod fast_path;
mod health;
mod host;
mod limits;
mod listener;
mod live;
mod load_export;
mod load_profiles;
mod load_workers;
mod locks;
mod metrics;
mod nodes;
#[cfg(test)]
mod openapi;
mod permits;
mod preferences;
mod problem;
mod rate_limits;
mod recordings;
mod request_log;
mod router;
mod routes;
mod runs;
mod schedules;
mod serve;
mod sessions;
mod stand_in;
mod stream;
mod tags;
mod usage;
mod values;
mod waiting;
mod warm;

pub use host::HostNames;
pub use listener::HttpOptions;
pub use serve::serve;
