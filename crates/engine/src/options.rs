//! The engine's options and memory use.

use std::num::NonZero;

/// Options of an engine.
#[derive(Debug, Clone, Copy)]
pub struct EngineOptions {
    /// The memory limit for entries, in bytes, including overhead.
    pub memory_limit: u64,
    /// The maximum number of callers waiting for one key.
    pub max_waiters: usize,
    /// The in-flight budget for values, in bytes.
    pub in_flight_limit: u64,
    /// The number of processors, which tenants share.
    pub processors: usize,
}

impl Default for EngineOptions {
    fn default() -> Self {
        Self {
            memory_limit: 256 << 20,
            max_waiters: 20_000,
            in_flight_limit: 256 << 20,
            processors: std::thread::available_parallelism().map_or(1, NonZero::get),
        }
    }
}

/// The memory of entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MemoryUse {
    /// In bytes, including overhead.
    pub used: u64,
    /// The limit, in bytes.
    pub limit: u64,
    /// How many entries were evicted.
    pub evicted: u64,
}
