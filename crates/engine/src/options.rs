//! How an engine is set up, and the memory that it takes.

use std::num::NonZero;

/// How an engine is set up.
#[derive(Debug, Clone, Copy)]
pub struct EngineOptions {
    /// The most memory that entries may take, in bytes, bookkeeping included.
    pub memory_limit: u64,
    /// The most callers that may wait for one key.
    pub max_waiters: usize,
    /// The most memory for values on their way in and out, in bytes.
    pub in_flight_limit: u64,
    /// How many processors there are, which tenants share.
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

/// The memory that entries take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MemoryUse {
    /// In bytes, bookkeeping included.
    pub used: u64,
    /// The limit, in bytes.
    pub limit: u64,
    /// How many entries were removed to make room.
    pub evicted: u64,
}
