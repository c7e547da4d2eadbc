//! The data directory: one Verax at a time, and the administrator token in it.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use crate::failure::Failure;

/// A data directory that this process holds.
#[derive(Debug)]
pub(super) struct DataDirectory {
    path: PathBuf,
    // The lock ends with the file, which the system closes even after SIGKILL.
    _lock: File,
}

fn failed(what: &str, path: &Path, error: &std::io::Error) -> Failure {
    Failure::failed(format!("{what} {}: {error}", path.display()))
}

impl DataDirectory {
    /// Makes the directory if need be, and takes hold of it.
    pub(super) fn hold(path: &Path) -> Result<Self, Failure> {
        fs::create_dir_all(path)
            .map_err(|e| failed("the data directory cannot be made:", path, &e))?;
        let lock_path = path.join("verax.lock");
        let mut lock = OpenOptions::new()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .mode(0o600)
            .open(&lock_path)
            .map_err(|e| failed("the data directory cannot be used:", &lock_path, &e))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut holder = String::new();
                let _ = lock.read_to_string(&mut holder);
                return Err(Failure::failed(format!(
                    "the data directory {} is in use by another Verax (process {}): stop that one, or choose another directory with --data-dir",
                    path.display(),
                    holder.trim(),
                )));
            }
            Err(TryLockError::Error(e)) => {
                return Err(failed("the data directory cannot be locked:", &lock_path, &e));
            }
        }
        lock.set_len(0)
            .and_then(|()| writeln!(lock, "{}", std::process::id()))
            .map_err(|e| failed("the data directory cannot be written:", &lock_path, &e))?;
        Ok(Self { path: path.to_owned(), _lock: lock })
    }

    /// Where the private MariaDB lives.
    pub(super) fn records(&self) -> PathBuf {
        self.path.join("records")
    }

    /// Where a copy of the records is kept.
    pub(super) fn records_copy(&self) -> PathBuf {
        self.path.join("records.copy")
    }

    /// Where the secrets of origins lie, unless the settings say otherwise.
    pub(super) fn credentials(&self) -> PathBuf {
        self.path.join("credentials")
    }

    /// Where the administrator token is.
    pub(super) fn token_path(&self) -> PathBuf {
        self.path.join("admin.token")
    }

    /// The administrator token of an earlier start.
    pub(super) fn token(&self) -> Option<String> {
        let text = fs::read_to_string(self.token_path()).ok()?;
        Some(text.trim().to_owned()).filter(|token| !token.is_empty())
    }

    /// Keeps the administrator token where only its owner can read it.
    pub(super) fn keep_token(&self, token: &str) -> Result<(), Failure> {
        keep_secret(&self.token_path(), token)
    }
}

/// Writes a secret to a file that only its owner can read.
pub(super) fn keep_secret(path: &Path, secret: &str) -> Result<(), Failure> {
    let wrong = |e: std::io::Error| failed("a secret cannot be kept:", path, &e);
    if let Some(directory) = path.parent() {
        fs::create_dir_all(directory).map_err(wrong)?;
    }
    let mut file = OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(path)
        .map_err(wrong)?;
    file.set_permissions(fs::Permissions::from_mode(0o600)).map_err(wrong)?;
    writeln!(file, "{secret}").map_err(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_process_holds_a_directory_and_its_token_is_private() {
        let place = tempfile::tempdir().unwrap();
        let held = DataDirectory::hold(place.path()).unwrap();
        let second = format!("{:?}", DataDirectory::hold(place.path()).unwrap_err());
        assert!(second.contains("in use by another Verax"), "{second}");
        assert_eq!(held.token(), None);
        held.keep_token("secret").unwrap();
        let mode = fs::metadata(held.token_path()).unwrap().permissions().mode();
        assert_eq!((held.token().as_deref(), mode & 0o777), (Some("secret"), 0o600));
        drop(held);
        assert!(DataDirectory::hold(place.path()).is_ok());
    }
}
