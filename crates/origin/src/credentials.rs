//! The secrets of origins. They are kept outside the records, by name: in the environment or in a
//! directory of files, so that neither a copy of the records nor the API reveals them.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use verax_core::Name;

/// The prefix of a secret's environment variable.
pub const VARIABLE_PREFIX: &str = "VERAX_CREDENTIAL_";

/// The maximum length of a secret, in bytes.
const MAX_SECRET_BYTES: usize = 8 << 10;

/// How often a secret is read again, so that a new one is used soon.
const KEPT_FOR: Duration = Duration::from_secs(5);

/// The places of secrets.
#[derive(Debug, Default)]
pub struct Credentials {
    directory: Option<PathBuf>,
}

/// A secret could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the credential {name} cannot be read: {reason}")]
pub struct CredentialError {
    /// Its name.
    pub name: Name,
    /// What is wrong, and where it was expected.
    pub reason: String,
}

/// The environment variable of a secret.
fn variable(name: &Name) -> String {
    format!("{VARIABLE_PREFIX}{}", name.as_str().to_ascii_uppercase().replace('-', "_"))
}

impl Credentials {
    /// Secrets from the environment or else from files in `directory`.
    pub fn new(directory: Option<&Path>) -> Self {
        Self { directory: directory.map(Path::to_owned) }
    }

    /// Reads a secret, without the trailing newline of editors.
    ///
    /// # Errors
    /// [`CredentialError`] says where it was looked for.
    pub async fn read(&self, name: &Name) -> Result<String, CredentialError> {
        let failed = |reason| CredentialError { name: name.clone(), reason };
        let variable = variable(name);
        if let Ok(secret) = std::env::var(&variable) {
            return Ok(secret);
        }
        let Some(directory) = &self.directory else {
            return Err(failed(format!("set the environment variable {variable}")));
        };
        // A name has no separators, so it stays in the directory.
        let path = directory.join(name.as_str());
        let bytes = tokio::fs::read(&path).await.map_err(|error| {
            let path = path.display();
            failed(format!("{path}: {error}; write it there, or set the variable {variable}"))
        })?;
        if bytes.len() > MAX_SECRET_BYTES {
            return Err(failed(format!(
                "{} is longer than {MAX_SECRET_BYTES} bytes",
                path.display()
            )));
        }
        let text = String::from_utf8(bytes)
            .map_err(|_| failed(format!("{} is not UTF-8", path.display())))?;
        Ok(text.trim_end_matches(['\r', '\n']).to_owned())
    }
}

/// One origin's secret, read on demand.
pub(crate) struct Secret {
    name: Name,
    credentials: Arc<Credentials>,
    kept: Mutex<Option<(Instant, Arc<str>)>>,
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The secret itself is never printed.
        write!(f, "Secret({})", self.name)
    }
}

impl Secret {
    pub(crate) fn new(name: Name, credentials: &Arc<Credentials>) -> Self {
        Self { name, credentials: Arc::clone(credentials), kept: Mutex::default() }
    }

    pub(crate) fn name(&self) -> &Name {
        &self.name
    }

    /// The secret, at most a few seconds old.
    pub(crate) async fn read(&self) -> Result<Arc<str>, CredentialError> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner).clone();
        match kept {
            Some((read_at, secret)) if read_at.elapsed() < KEPT_FOR => return Ok(secret),
            _ => {}
        }
        let secret: Arc<str> = self.credentials.read(&self.name).await?.into();
        *self.kept.lock().unwrap_or_else(PoisonError::into_inner) =
            Some((Instant::now(), Arc::clone(&secret)));
        Ok(secret)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[tokio::test]
    async fn a_secret_file_is_read_without_its_line_end() {
        let directory = tempfile::tempdir().unwrap();
        std::fs::write(directory.path().join("tides"), "Bearer abc\n").unwrap();
        let credentials = Credentials::new(Some(directory.path()));
        let name = Name::new("tides").unwrap();
        assert_eq!(credentials.read(&name).await.unwrap(), "Bearer abc");
        let missing = credentials.read(&Name::new("no-such").unwrap()).await.unwrap_err();
        let text = missing.to_string();
        assert!(text.contains("no-such") && text.contains("VERAX_CREDENTIAL_NO_SUCH"), "{text}");
    }

    #[tokio::test]
    async fn without_a_directory_the_variable_is_named() {
        let error = Credentials::default().read(&Name::new("tides").unwrap()).await.unwrap_err();
        assert!(error.to_string().contains("VERAX_CREDENTIAL_TIDES"), "{error}");
    }
}
