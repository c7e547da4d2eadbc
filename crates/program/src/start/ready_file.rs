//! A file that exists while the service can be used, for scripts and tests that start it.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::json;
use verax_cli::Failure;

use super::data_directory::keep_secret;

/// A ready file, removed when it is dropped.
#[derive(Debug)]
pub(super) struct ReadyFile(PathBuf);

impl ReadyFile {
    /// Removes a file that an earlier process left behind, which would mislead who waits for it.
    pub(super) fn prepare(path: &Path) -> Result<(), Failure> {
        match fs::remove_file(path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(Failure::failed(format!("the ready file {}: {error}", path.display())))
            }
            _ => Ok(()),
        }
    }

    /// Writes it, complete from the moment it exists. Only its owner can read it, since an
    /// ephemeral service tells its administrator token there.
    pub(super) fn write(
        path: &Path,
        (http, wire): (&str, &str),
        token: Option<&str>,
    ) -> Result<Self, Failure> {
        let mut content = json!({ "http": http, "wire": wire });
        if let Some(token) = token {
            content["token"] = json!(token);
        }
        let mut new = path.as_os_str().to_owned();
        new.push(".new");
        let new = PathBuf::from(new);
        keep_secret(&new, &content.to_string())?;
        fs::rename(&new, path)
            .map_err(|e| Failure::failed(format!("the ready file {}: {e}", path.display())))?;
        Ok(Self(path.to_owned()))
    }
}

impl Drop for ReadyFile {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ready_file_is_whole_private_and_gone_at_the_end() {
        use std::os::unix::fs::PermissionsExt;
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("ready.json");
        fs::write(&path, "left over").unwrap();
        ReadyFile::prepare(&path).unwrap();
        assert!(!path.exists());
        ReadyFile::prepare(&path).unwrap();
        let file = ReadyFile::write(&path, ("http://h", "w"), Some("secret")).unwrap();
        let content: serde_json::Value = serde_json::from_slice(&fs::read(&path).unwrap()).unwrap();
        assert_eq!(content, json!({ "http": "http://h", "wire": "w", "token": "secret" }));
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        drop(file);
        assert_eq!(fs::read_dir(place.path()).unwrap().count(), 0);
    }
}
