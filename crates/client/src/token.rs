//! Where a client gets its token from. A token is never printed.

use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use reqwest::header::HeaderValue;

use crate::error::ClientError;

type Callback = Arc<dyn Fn() -> Option<String> + Send + Sync>;

#[derive(Clone)]
enum Source {
    Fixed(Arc<str>),
    Environment(String),
    File(PathBuf),
    Callback(Callback),
}

/// Where a client gets its token from: each HTTP request and each connection over the wire reads
/// it, so a token can be replaced while the application runs.
///
/// ```
/// use verax_client::{ClientOptions, TokenSource};
///
/// // A secret that an orchestrator mounts and replaces.
/// let token = Some(TokenSource::file("/run/secrets/verax-token"));
/// let options = ClientOptions { token, ..ClientOptions::default() };
/// let fixed: TokenSource = "verax-token-0".into();
/// assert!(!format!("{options:?} {fixed:?}").contains("verax-token-0"));
/// ```
#[derive(Clone)]
pub struct TokenSource(Source);

impl TokenSource {
    /// A token that does not change.
    pub fn fixed(token: impl AsRef<str>) -> Self {
        Self(Source::Fixed(token.as_ref().trim().into()))
    }

    /// An environment variable.
    pub fn environment(variable: impl Into<String>) -> Self {
        Self(Source::Environment(variable.into()))
    }

    /// A file with the token, which may be replaced.
    pub fn file(path: impl AsRef<Path>) -> Self {
        Self(Source::File(path.as_ref().to_owned()))
    }

    /// A function that returns the current token; it is called in the task that needs it, so it
    /// must not block.
    pub fn callback(current: impl Fn() -> Option<String> + Send + Sync + 'static) -> Self {
        Self(Source::Callback(Arc::new(current)))
    }

    /// The current token.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] names the source that has none.
    pub(crate) fn current(&self) -> Result<String, ClientError> {
        let missing = |what: String| ClientError::Invalid(format!("there is no token: {what}"));
        let token = match &self.0 {
            Source::Fixed(token) => return Ok(token.to_string()),
            Source::Environment(variable) => std::env::var(variable)
                .map_err(|_| missing(format!("the environment variable {variable} is not set")))?,
            Source::File(path) => std::fs::read_to_string(path).map_err(|error| {
                missing(format!("the file {} cannot be read: {error}", path.display()))
            })?,
            Source::Callback(current) => {
                current().ok_or_else(|| missing("the application provides none now".into()))?
            }
        };
        Ok(token.trim().to_owned())
    }

    /// The current token as an `Authorization` field (RFC 6750).
    ///
    /// # Errors
    /// [`ClientError::Invalid`] if there is no token, or none that a field can carry.
    pub(crate) fn field(&self) -> Result<HeaderValue, ClientError> {
        let mut field = HeaderValue::try_from(format!("Bearer {}", self.current()?))
            .map_err(|_| ClientError::Invalid("the token has invalid characters".into()))?;
        field.set_sensitive(true);
        Ok(field)
    }

    /// Refuses a fixed token that no field can carry.
    pub(crate) fn check(&self) -> Result<(), ClientError> {
        match self.0 {
            Source::Fixed(_) => self.field().map(drop),
            _ => Ok(()),
        }
    }
}

impl fmt::Debug for TokenSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Source::Fixed(_) => f.write_str("TokenSource(fixed)"),
            Source::Environment(variable) => write!(f, "TokenSource(environment {variable})"),
            Source::File(path) => write!(f, "TokenSource(file {})", path.display()),
            Source::Callback(_) => f.write_str("TokenSource(callback)"),
        }
    }
}

impl From<String> for TokenSource {
    fn from(token: String) -> Self {
        Self::fixed(token)
    }
}

impl From<&str> for TokenSource {
    fn from(token: &str) -> Self {
        Self::fixed(token)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_replaced_token_is_read_and_none_is_printed() {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), "verax-token-1\n").unwrap();
        let source = TokenSource::file(file.path());
        assert_eq!(source.current().unwrap(), "verax-token-1");
        std::fs::write(file.path(), "verax-token-2\n").unwrap();
        assert_eq!(source.field().unwrap(), "Bearer verax-token-2");
        drop(file);
        let error = source.current().unwrap_err().to_string();
        assert!(error.contains("there is no token: the file"), "{error}");
        let sources = [source, "verax-token-3".into(), TokenSource::callback(|| None)];
        assert!(!format!("{sources:?}").contains("verax-token"), "{sources:?}");
        assert!(TokenSource::fixed("a\nb").check().is_err());
        assert!(sources[2].check().is_ok() && sources[2].field().is_err());
    }
}
