//! The data directory: one Verax at a time, and the administrator token in it.

use std::fs::{self, DirBuilder, File, OpenOptions, TryLockError};
use std::io::{ErrorKind, Read, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use verax_cli::Failure;
use verax_control::NodeId;

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
    ///
    /// It is for this user alone. Where the private MariaDB runs as a user of its own (because
    /// Verax runs as root), that user's group may pass through to the directory of the records, and
    /// nothing else.
    pub(super) fn hold(path: &Path, private_mariadb: bool) -> Result<Self, Failure> {
        let made = DirBuilder::new().recursive(true).mode(0o700).create(path);
        made.map_err(|e| failed("the data directory cannot be made:", path, &e))?;
        protect(path, private_mariadb)
            .map_err(|e| failed("the data directory cannot be protected:", path, &e))?;
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

    /// Its path.
    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// Where the private MariaDB lives.
    pub(super) fn records(&self) -> PathBuf {
        self.path.join("records")
    }

    /// Where a snapshot of the records is kept.
    pub(super) fn records_snapshot(&self) -> PathBuf {
        self.path.join("records.snapshot")
    }

    /// Where the latest epoch of fencing tokens is kept.
    pub(super) fn epoch_file(&self) -> PathBuf {
        self.path.join("lock.epoch")
    }

    /// Where the demo's ferry network lives.
    pub(super) fn ferry(&self) -> PathBuf {
        self.path.join("ferry")
    }

    /// Where the secrets of origins lie, unless the settings say otherwise.
    pub(super) fn credentials(&self) -> PathBuf {
        self.path.join("credentials")
    }

    /// The identity of this node, which belongs to its data directory.
    pub(super) fn node_id(&self) -> Result<NodeId, Failure> {
        let path = self.path.join("node.id");
        match fs::read_to_string(&path) {
            Ok(text) => text.trim().parse().map_err(|e| {
                Failure::failed(format!(
                    "{} is damaged: {e}; remove the file, and this Verax starts as a new node",
                    path.display()
                ))
            }),
            Err(error) if error.kind() == ErrorKind::NotFound => {
                let id = NodeId::random();
                keep_secret(&path, &id.to_string())?;
                Ok(id)
            }
            Err(error) => Err(failed("the identity of this node cannot be read:", &path, &error)),
        }
    }

    /// Where the administrator token is.
    pub(super) fn token_path(&self) -> PathBuf {
        self.path.join("admin.token")
    }

    /// The administrator token of an earlier start; `None` when the file is not there. One that
    /// others can read is reported, and protected from then on.
    pub(super) fn token(&self) -> Result<Option<String>, Failure> {
        let path = self.token_path();
        let text = match fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
            Err(error) => {
                return Err(failed("the administrator token cannot be read:", &path, &error));
            }
        };
        if is_exposed(&path) {
            tracing::warn!(
                path = %path.display(),
                "others could read the administrator token: if in doubt, create another with `verax token create --scope admin` and revoke this one"
            );
            fs::set_permissions(&path, fs::Permissions::from_mode(0o600))
                .map_err(|e| failed("the administrator token cannot be protected:", &path, &e))?;
        }
        Ok(Some(text.trim().to_owned()))
    }

    /// Tells of secrets of origins that others can read.
    pub(super) fn check_credentials(directory: &Path) {
        let Ok(files) = fs::read_dir(directory) else { return };
        for file in files.flatten().filter(|file| is_exposed(&file.path())) {
            tracing::warn!(
                path = %file.path().display(),
                "others can read this credential: chmod 600 it"
            );
        }
    }

    /// Keeps the administrator token where only its owner can read it.
    pub(super) fn keep_token(&self, token: &str) -> Result<(), Failure> {
        keep_secret(&self.token_path(), token)
    }
}

/// Whether anybody but its owner can read a file.
fn is_exposed(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|metadata| metadata.permissions().mode() & 0o077 != 0)
}

fn protect(path: &Path, private_mariadb: bool) -> std::io::Result<()> {
    let mode = match verax_records::launcher::server_group() {
        Some(group) if private_mariadb => {
            std::os::unix::fs::chown(path, None, Some(group))?;
            0o710
        }
        _ => 0o700,
    };
    fs::set_permissions(path, fs::Permissions::from_mode(mode))
}

/// Writes a secret to a file that only its owner can read.
pub(super) fn keep_secret(path: &Path, secret: &str) -> Result<(), Failure> {
    let wrong = |e: std::io::Error| failed("a secret cannot be written:", path, &e);
    if let Some(directory) = path.parent() {
        DirBuilder::new().recursive(true).mode(0o700).create(directory).map_err(wrong)?;
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
        let held = DataDirectory::hold(place.path(), false).unwrap();
        let second = format!("{:?}", DataDirectory::hold(place.path(), false).unwrap_err());
        assert!(second.contains("in use by another Verax"), "{second}");
        assert_eq!(held.token().unwrap(), None);
        held.keep_token("secret").unwrap();
        let mode = fs::metadata(held.token_path()).unwrap().permissions().mode();
        assert_eq!((held.token().unwrap().as_deref(), mode & 0o777), (Some("secret"), 0o600));
        drop(held);
        assert!(DataDirectory::hold(place.path(), false).is_ok());
    }

    #[test]
    fn files_readable_by_others_are_protected() {
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        let open = |path: &Path, mode| {
            fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        };
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("data");
        fs::create_dir(&path).unwrap();
        open(&path, 0o755);
        let held = DataDirectory::hold(&path, false).unwrap();
        assert_eq!(mode(&path), 0o700);
        held.keep_token("secret").unwrap();
        open(&held.token_path(), 0o644);
        assert!(is_exposed(&held.token_path()));
        held.token().unwrap();
        assert_eq!(mode(&held.token_path()), 0o600);
        let credential = held.credentials().join("reader");
        keep_secret(&credential, "secret").unwrap();
        assert_eq!((mode(&held.credentials()), mode(&credential)), (0o700, 0o600));
        let id = held.node_id().unwrap();
        assert_eq!((held.node_id().unwrap(), mode(&path.join("node.id"))), (id, 0o600));
        drop(held);
        // Nobody but the server's own group may pass through, and nobody may look around.
        drop(DataDirectory::hold(&path, true).unwrap());
        assert_eq!(mode(&path) & !0o010, 0o700);
    }
}
