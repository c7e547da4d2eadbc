//! Lifetimes of stored entries.

use verax_wire::{Reply, Request};

use super::frames::{checked, lifetime, unexpected};
use super::handle::Cache;
use crate::error::ClientError;
use crate::options::LifetimeOptions;

impl Cache {
    /// Sets an entry's lifetime, counted from now; returns whether the entry exists.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn set_lifetime(
        &self,
        key: &str,
        options: LifetimeOptions,
    ) -> Result<bool, ClientError> {
        let key = checked(key)?;
        let raw = self.request(Request::SetLifetime { key, lifetime: lifetime(options) }).await;
        self.forget(key);
        match raw?.reply()? {
            Reply::Done { .. } => Ok(true),
            Reply::Miss => Ok(false),
            _ => Err(unexpected()),
        }
    }
}
