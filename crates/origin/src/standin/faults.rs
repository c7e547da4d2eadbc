//! The faults and counts of a stand-in.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Serialize};

/// The current faults of a stand-in.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Default)]
#[serde(deny_unknown_fields, default)]
pub struct FaultSettings {
    /// The latency added to every response, in milliseconds.
    pub extra_latency_ms: u64,
    /// More concurrent calls than this are refused with 503; `None` for no limit.
    pub concurrency_limit: Option<u64>,
    /// The share of calls that fail with 500, 0 to 1.
    pub error_rate: f64,
    /// Whether every call is refused with 503.
    pub outage: bool,
}

/// The counts of a stand-in since it started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Counts {
    /// Calls, including refused ones.
    pub calls: u64,
    /// Active calls.
    pub at_once: u64,
    /// The maximum of concurrent calls.
    pub max_concurrency: u64,
}

/// Why faults are not valid.
#[derive(Debug, thiserror::Error)]
pub enum InvalidFault {
    /// The JSON is not an object.
    #[error("the settings must be a JSON object, such as {{\"outage\": true}}")]
    NotAnObject,
    /// The JSON does not describe settings.
    #[error("the settings cannot be read: {0}")]
    Json(#[from] serde_json::Error),
    /// The error rate is not a share.
    #[error("error_rate = {0} is out of range: use 0 to 1")]
    ErrorRate(f64),
    /// The latency is out of range.
    #[error("extra_latency_ms = {0} is out of range: use at most 60000")]
    Latency(u64),
}

/// A handle on a stand-in.
#[derive(Debug, Default)]
pub struct Standin {
    settings: Mutex<FaultSettings>,
    calls: AtomicU64,
    at_once: AtomicU64,
    max_concurrency: AtomicU64,
}

/// An active call, counted until it is dropped, also when its caller disconnects.
pub(super) struct Call<'s> {
    standin: &'s Standin,
    pub(super) at_once: u64,
}

impl Drop for Call<'_> {
    fn drop(&mut self) {
        self.standin.at_once.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Standin {
    /// The current faults.
    pub fn settings(&self) -> FaultSettings {
        *self.settings.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets the faults that a JSON object names, and keeps the others.
    ///
    /// # Errors
    /// [`InvalidFault`]; nothing is changed then.
    pub fn change(&self, change: &serde_json::Value) -> Result<FaultSettings, InvalidFault> {
        let mut settings = self.settings.lock().unwrap_or_else(PoisonError::into_inner);
        let mut merged = serde_json::to_value(*settings)?;
        let change = change.as_object().ok_or(InvalidFault::NotAnObject)?;
        if let Some(merged) = merged.as_object_mut() {
            merged.extend(change.clone());
        }
        let new: FaultSettings = serde_json::from_value(merged)?;
        if !(0.0..=1.0).contains(&new.error_rate) {
            return Err(InvalidFault::ErrorRate(new.error_rate));
        }
        if new.extra_latency_ms > 60_000 {
            return Err(InvalidFault::Latency(new.extra_latency_ms));
        }
        *settings = new;
        Ok(new)
    }

    /// Its counts since it started.
    pub fn counts(&self) -> Counts {
        Counts {
            calls: self.calls.load(Ordering::Relaxed),
            at_once: self.at_once.load(Ordering::Relaxed),
            max_concurrency: self.max_concurrency.load(Ordering::Relaxed),
        }
    }

    /// Resets the maximum of concurrent calls.
    pub fn forget_most_at_once(&self) {
        self.max_concurrency.store(self.at_once.load(Ordering::Relaxed), Ordering::Relaxed);
    }

    pub(super) fn begin(&self) -> Call<'_> {
        self.calls.fetch_add(1, Ordering::Relaxed);
        let at_once = self.at_once.fetch_add(1, Ordering::Relaxed) + 1;
        self.max_concurrency.fetch_max(at_once, Ordering::Relaxed);
        Call { standin: self, at_once }
    }
}
