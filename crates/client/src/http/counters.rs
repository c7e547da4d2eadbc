//! Counters over HTTP.

use verax_api::{AddRequest, Counter};

use crate::error::ClientError;
use crate::http::entries::Namespace;
use crate::options::LifetimeOptions;

impl Namespace {
    /// Adds to a counter; a missing one starts at 0 with `lifetime`.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `wrong-kind` if the entry is not a number.
    pub async fn add(
        &self,
        key: &str,
        amount: i64,
        lifetime: LifetimeOptions,
    ) -> Result<Counter, ClientError> {
        let request = AddRequest { add: amount, cache_control: lifetime.field() };
        self.client().post(self.of_key("counters", key)?, &request).await
    }
}
