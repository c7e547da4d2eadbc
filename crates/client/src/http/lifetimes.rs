//! Lifetimes of entries over HTTP.

use reqwest::Method;
use reqwest::header::CACHE_CONTROL;

use crate::error::ClientError;
use crate::http::entries::Namespace;
use crate::options::LifetimeOptions;
use verax_api::FailureKind;

impl Namespace {
    /// Sets an entry's lifetime, counted from now; returns whether the entry exists.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn set_lifetime(
        &self,
        key: &str,
        lifetime: LifetimeOptions,
    ) -> Result<bool, ClientError> {
        let mut request = self.client().request(Method::PATCH, self.of_key("entries", key)?);
        if let Some(field) = lifetime.field() {
            request = request.header(CACHE_CONTROL, field);
        }
        match self.client().send(request).await {
            Ok(_) => Ok(true),
            Err(error) if error.failure() == Some(FailureKind::Miss) => Ok(false),
            Err(error) => Err(error),
        }
    }
}
