//! Making a data directory, and the accounts in it.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::LaunchError;

/// Where everything of the private MariaDB is.
#[derive(Debug, Clone)]
pub(super) struct Paths {
    pub(super) directory: PathBuf,
    pub(super) data: PathBuf,
    pub(super) accounts: PathBuf,
    pub(super) process_id: PathBuf,
    pub(super) log: PathBuf,
    /// A server removes what it takes for leftovers from its temporary directory when it starts, so
    /// two servers must not share one.
    pub(super) temporary: PathBuf,
}

impl Paths {
    /// The paths below `directory`, which is made for this user alone when it is not there.
    pub(super) fn of(directory: &Path) -> Result<Self, LaunchError> {
        fs::create_dir_all(directory).map_err(files("could not make the directory", directory))?;
        let directory = fs::canonicalize(directory)
            .map_err(files("could not find the directory", directory))?;
        fs::set_permissions(&directory, fs::Permissions::from_mode(0o700))
            .map_err(files("could not protect the directory", &directory))?;
        let temporary = directory.join("tmp");
        fs::create_dir_all(&temporary)
            .map_err(files("could not make the directory", &temporary))?;
        Ok(Self {
            data: directory.join("data"),
            accounts: directory.join("accounts.sql"),
            process_id: directory.join("mariadbd.pid"),
            log: directory.join("mariadbd.log"),
            temporary,
            directory,
        })
    }
}

pub(super) fn files<'p>(
    what: &'static str,
    path: &'p Path,
) -> impl FnOnce(std::io::Error) -> LaunchError + 'p {
    move |source| LaunchError::Files { what, path: path.to_owned(), source }
}

/// The path of a program, given by name or path. Debian keeps servers in /usr/sbin, which is not
/// on everybody's PATH.
pub(super) fn find_program(program: &Path) -> Result<PathBuf, LaunchError> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let folders = std::env::split_paths(&path).chain(["/usr/sbin".into(), "/usr/bin".into()]);
    let named = program.components().count() == 1;
    let found = if named {
        folders.map(|folder| folder.join(program)).find(|path| path.is_file())
    } else {
        program.is_file().then(|| program.to_owned())
    };
    found.ok_or_else(|| LaunchError::NotInstalled {
        program: program.display().to_string(),
        package: "mariadb-server",
    })
}

/// Makes the data directory if it is not there. It is made aside and moved into place when it is
/// complete, so that an interrupted start does not leave half of one.
pub(super) fn initialise(paths: &Paths) -> Result<(), LaunchError> {
    if paths.data.is_dir() {
        return Ok(());
    }
    let program = find_program(Path::new("mariadb-install-db"))?;
    let aside = paths.directory.join("data.new");
    if aside.exists() {
        fs::remove_dir_all(&aside).map_err(files("could not remove", &aside))?;
    }
    let log = append(&paths.log)?;
    let errors = log.try_clone().map_err(files("could not write", &paths.log))?;
    let mut command = Command::new(program);
    command
        .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"])
        .arg(format!("--datadir={}", aside.display()))
        .env("TMPDIR", &paths.temporary)
        .stdin(Stdio::null())
        .stdout(log)
        .stderr(errors);
    if nix::unistd::geteuid().is_root() {
        command.arg("--user=root");
    }
    let failed = |reason: String| LaunchError::Failed {
        program: "mariadb-install-db",
        reason,
        log: paths.log.clone(),
    };
    let status = command.status().map_err(|e| failed(e.to_string()))?;
    if !status.success() {
        return Err(failed(status.to_string()));
    }
    fs::rename(&aside, &paths.data).map_err(files("could not put in place", &paths.data))
}

/// Writes what the server does first at each start: databases, and the one account that can sign
/// in over loopback, with this start's password.
pub(super) fn write_accounts(paths: &Paths, password: &str) -> Result<(), LaunchError> {
    let statements = format!(
        "CREATE DATABASE IF NOT EXISTS verax CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n\
         CREATE OR REPLACE USER 'verax'@'127.0.0.1' IDENTIFIED BY '{password}';\n\
         GRANT ALL PRIVILEGES ON *.* TO 'verax'@'127.0.0.1' WITH GRANT OPTION;\n\
         ALTER USER 'root'@'localhost' IDENTIFIED BY '{password}';\n"
    );
    let _ = fs::remove_file(&paths.accounts);
    let mut file = fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(&paths.accounts)
        .map_err(files("could not write", &paths.accounts))?;
    file.write_all(statements.as_bytes()).map_err(files("could not write", &paths.accounts))
}

pub(super) fn append(path: &Path) -> Result<fs::File, LaunchError> {
    let options = fs::OpenOptions::new().append(true).create(true).mode(0o600).clone();
    options.open(path).map_err(files("could not write", path))
}
