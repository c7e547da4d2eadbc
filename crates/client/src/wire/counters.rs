//! Counters.

use verax_wire::{Reply, Request};

use super::cache::Cache;
use super::frames::{checked, lifetime, unexpected};
use crate::error::ClientError;
use crate::options::LifetimeOptions;

impl Cache {
    /// Adds to a counter; a missing one starts at 0 with `lifetime`. Returns its number.
    ///
    /// # Errors
    /// [`ClientError`]; what is no number is the problem `wrong-kind`. After a failure to reach
    /// Verax the addition may or may not have happened.
    pub async fn add(
        &self,
        key: &str,
        amount: i64,
        options: LifetimeOptions,
    ) -> Result<i64, ClientError> {
        let key = checked(key)?;
        let raw = self.ask(Request::Add { key, amount, lifetime: lifetime(options) }).await;
        self.forget(key);
        match raw?.reply()? {
            Reply::Counted { value, .. } => Ok(value),
            _ => Err(unexpected()),
        }
    }
}
