//! Counters.

use verax_wire::{Reply, Request};

use super::frames::{checked, lifetime, unexpected};
use super::handle::Cache;
use crate::error::ClientError;
use crate::options::LifetimeOptions;

impl Cache {
    /// Adds to a counter; a missing one starts at 0 with `lifetime`. Returns its value.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `wrong-kind` if the entry is not a number. If Verax could not
    /// be reached, the addition may or may not have happened.
    pub async fn add(
        &self,
        key: &str,
        amount: i64,
        options: LifetimeOptions,
    ) -> Result<i64, ClientError> {
        let key = checked(key)?;
        let raw = self.request(Request::Add { key, amount, lifetime: lifetime(options) }).await;
        self.forget(key);
        match raw?.reply()? {
            Reply::Counted { value, .. } => Ok(value),
            _ => Err(unexpected()),
        }
    }
}
