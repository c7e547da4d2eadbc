//! The user of the server's process, which is never root.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use nix::unistd::{Gid, Uid, User, chown, geteuid};

use super::error::LaunchError;

/// The user that Debian's package creates for the server.
const NAME: &str = "mysql";

/// The unprivileged user of the server if Verax itself runs as root.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ServerUser {
    pub(super) uid: Uid,
    pub(super) gid: Gid,
}

impl ServerUser {
    /// The user to switch to; `None` if this process is not root, and the server runs as the same
    /// user.
    ///
    /// # Errors
    /// [`LaunchError::NoUser`].
    pub(super) fn needed() -> Result<Option<Self>, LaunchError> {
        if !geteuid().is_root() {
            return Ok(None);
        }
        match User::from_name(NAME) {
            Ok(Some(user)) if !user.uid.is_root() => {
                Ok(Some(Self { uid: user.uid, gid: user.gid }))
            }
            _ => Err(LaunchError::NoUser(NAME)),
        }
    }

    /// Changes the owner of a file or directory.
    pub(super) fn own(&self, path: &Path) -> std::io::Result<()> {
        chown(path, Some(self.uid), Some(self.gid)).map_err(std::io::Error::from)
    }

    /// The first directory on the way to `path` that the user cannot traverse.
    pub(super) fn barrier(&self, path: &Path) -> Option<PathBuf> {
        let parents: Vec<&Path> = path.ancestors().skip(1).collect();
        parents.into_iter().rev().find(|parent| !self.passes(parent)).map(Path::to_owned)
    }

    fn passes(&self, directory: &Path) -> bool {
        let Ok(metadata) = fs::metadata(directory) else { return false };
        let mode = metadata.permissions().mode();
        let bit = if metadata.uid() == self.uid.as_raw() {
            0o100
        } else if metadata.gid() == self.gid.as_raw() {
            0o010
        } else {
            0o001
        };
        mode & bit != 0
    }
}
