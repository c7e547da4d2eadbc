//! Initializes a data directory, and the accounts in it.

use std::fs;
use std::io::{Seek, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::error::LaunchError;
use super::user::ServerUser;

/// Where the package keeps the statements that create the server's own tables.
const SHARE: [&str; 2] = ["/usr/share/mysql", "/usr/share/mariadb"];

/// The files read from there, in order. Those of the package that are left out make an empty
/// database for statistics that are off, which takes two thirds of the time, and procedures for
/// geometry, which Verax does not use.
const SYSTEM_TABLES: [&str; 2] = ["mysql_system_tables.sql", "mysql_system_tables_data.sql"];

/// The paths of the private MariaDB.
#[derive(Debug, Clone)]
pub(super) struct Paths {
    pub(super) directory: PathBuf,
    pub(super) data: PathBuf,
    pub(super) accounts: PathBuf,
    pub(super) process_id: PathBuf,
    pub(super) log: PathBuf,
    /// Held while any server, running or being initialized, uses the directory.
    pub(super) lock: PathBuf,
    /// A server clears its temporary directory when it starts, so two servers must not share one.
    pub(super) temporary: PathBuf,
    /// The one directory in which statements may read and write files: it is empty, and the
    /// server's user cannot write to it.
    pub(super) no_files: PathBuf,
    pub(super) user: Option<ServerUser>,
    /// Where the server sees the directory: in place, or mounted elsewhere only for it.
    reach: Reach,
}

/// How the server's user reaches the directory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reach {
    /// It can traverse every parent.
    Direct,
    /// It cannot, as in root's home: the directory is mounted at [`MOUNT_POINT`], in a mount
    /// namespace that only the server sees (mount_namespaces(7)).
    Mounted,
}

/// An empty directory, where each server sees its own files.
const MOUNT_POINT: &str = "/run/verax-records";

/// Mounts `$1` at `$2` and executes the rest.
const MOUNT: &str = r#"mount --bind -- "$1" "$2" && shift 2 && exec "$@""#;

impl Reach {
    fn of(directory: &Path, user: Option<ServerUser>) -> Result<Self, LaunchError> {
        let Some(barrier) = user.and_then(|user| user.barrier(directory)) else {
            return Ok(Self::Direct);
        };
        let possible = fs::create_dir_all(MOUNT_POINT).is_ok()
            && Command::new("unshare")
                .args(["--mount", "--", "sh", "-c", MOUNT, "sh"])
                .arg(directory)
                .args([MOUNT_POINT, "true"])
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .status()
                .is_ok_and(|status| status.success());
        match possible {
            true => Ok(Self::Mounted),
            false => Err(LaunchError::OutOfReach { directory: directory.to_owned(), barrier }),
        }
    }
}

impl Paths {
    /// The paths in `directory`, which is created for the server's user only, if missing.
    pub(super) fn of(directory: &Path) -> Result<Self, LaunchError> {
        let user = ServerUser::needed()?;
        fs::create_dir_all(directory).map_err(files("could not make the directory", directory))?;
        let directory = fs::canonicalize(directory)
            .map_err(files("could not find the directory", directory))?;
        let (temporary, no_files) = (directory.join("tmp"), directory.join("no-files"));
        for (path, mode) in [(&directory, 0o700), (&temporary, 0o700), (&no_files, 0o555)] {
            fs::create_dir_all(path).map_err(files("could not make the directory", path))?;
            fs::set_permissions(path, fs::Permissions::from_mode(mode))
                .map_err(files("could not protect the directory", path))?;
        }
        if let Some(user) = user {
            for path in [&directory, &temporary] {
                user.own(path)
                    .map_err(files("could not change the owner to the user mysql of", path))?;
            }
        }
        let reach = Reach::of(&directory, user)?;
        Ok(Self {
            data: directory.join("data"),
            accounts: directory.join("accounts.sql"),
            process_id: directory.join("mariadbd.pid"),
            log: directory.join("mariadbd.log"),
            lock: directory.join("server.lock"),
            temporary,
            no_files,
            directory,
            user,
            reach,
        })
    }

    /// One of the paths as the server sees it.
    pub(super) fn seen(&self, path: &Path) -> PathBuf {
        match (self.reach, path.strip_prefix(&self.directory)) {
            (Reach::Mounted, Ok(rest)) => Path::new(MOUNT_POINT).join(rest),
            _ => path.to_owned(),
        }
    }
}

pub(super) fn files<'p>(
    what: &'static str,
    path: &'p Path,
) -> impl FnOnce(std::io::Error) -> LaunchError + 'p {
    move |source| LaunchError::Files { what, path: path.to_owned(), source }
}

/// The path of a program, given by name or path. Debian keeps servers in /usr/sbin, which is not
/// always in PATH.
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

/// A command that runs a MariaDB program as the server's user, receives `signal` when the thread
/// that started it ends, and can never regain privileges. It inherits `lock` as its standard
/// output: the lock is held while the process lives, so the next start can wait for its end.
pub(super) fn command(
    paths: &Paths,
    program: &Path,
    signal: &str,
    lock: &fs::File,
) -> Result<Command, LaunchError> {
    let setpriv = find_program(Path::new("setpriv")).map_err(|_| LaunchError::NotInstalled {
        program: "setpriv".into(),
        package: "util-linux",
    })?;
    let lock = lock.try_clone().map_err(files("could not use", &paths.lock))?;
    let mut command = match paths.reach {
        Reach::Direct => Command::new(setpriv),
        Reach::Mounted => {
            let mut command = Command::new("unshare");
            command.args(["--mount", "--", "sh", "-c", MOUNT, "sh"]);
            command.arg(&paths.directory).arg(MOUNT_POINT).arg(setpriv);
            command
        }
    };
    if let Some(user) = paths.user {
        command.args([format!("--reuid={}", user.uid), format!("--regid={}", user.gid)]);
        command.arg("--clear-groups");
    }
    command
        .args(["--no-new-privs", "--pdeathsig", signal, "--"])
        .arg(program)
        .arg("--no-defaults")
        .arg(format!("--tmpdir={}", paths.seen(&paths.temporary).display()))
        .arg(format!("--secure-file-priv={}", paths.seen(&paths.no_files).display()))
        .current_dir(&paths.directory)
        .stdin(Stdio::null())
        .stdout(lock)
        .stderr(append(&paths.log)?)
        // Ctrl-C in the terminal is for Verax, which stops the server itself.
        .process_group(0);
    Ok(command)
}

/// Initializes the data directory if it is missing. It is created aside, synced, and moved into
/// place when complete, so a directory in place is complete. `lock` is held, so no process of an
/// interrupted start still writes.
pub(super) fn initialize(
    paths: &Paths,
    mariadbd: &Path,
    lock: &fs::File,
) -> Result<(), LaunchError> {
    if paths.data.is_dir() {
        // A directory from a version whose server ran as root.
        return give_away(paths, &paths.data);
    }
    let aside = paths.directory.join("data.new");
    if aside.exists() {
        fs::remove_dir_all(&aside).map_err(files("could not remove", &aside))?;
    }
    fs::create_dir(&aside).map_err(files("could not make the directory", &aside))?;
    fs::set_permissions(&aside, fs::Permissions::from_mode(0o700))
        .map_err(files("could not protect the directory", &aside))?;
    give_away(paths, &aside)?;
    // The server's own program creates its tables: one process, which ends with this one. The
    // wrapper script would leave that process behind.
    let status = command(paths, mariadbd, "KILL", lock)?
        .arg("--bootstrap")
        .arg(format!("--datadir={}", paths.seen(&aside).display()))
        .args(["--log-warnings=0", "--enforce-storage-engine=", "--max-allowed-packet=8M"])
        .stdin(system_tables(paths)?)
        .status();
    let failed = |reason: String| LaunchError::Failed {
        program: "mariadbd --bootstrap",
        reason,
        log: paths.log.clone(),
    };
    let status = status.map_err(|e| failed(e.to_string()))?;
    if !status.success() || !aside.join("mysql").is_dir() {
        return Err(failed(status.to_string()));
    }
    sync(&aside).map_err(files("could not write to the disk", &aside))?;
    fs::rename(&aside, &paths.data).map_err(files("could not put in place", &paths.data))?;
    sync(&paths.directory).map_err(files("could not write to the disk", &paths.directory))
}

/// Syncs the file system of a path.
fn sync(path: &Path) -> std::io::Result<()> {
    Ok(nix::unistd::syncfs(fs::File::open(path)?)?)
}

/// Changes the owner of a directory and its contents to the server's user.
fn give_away(paths: &Paths, path: &Path) -> Result<(), LaunchError> {
    let Some(user) = paths.user else { return Ok(()) };
    user.own(path).map_err(files("could not change the owner to the user mysql of", path))?;
    if path.is_dir() {
        let entries = fs::read_dir(path).map_err(files("could not read", path))?;
        for entry in entries.filter_map(Result::ok) {
            // Links are skipped: they may lead anywhere.
            if entry.file_type().is_ok_and(|kind| kind.is_dir() || kind.is_file()) {
                give_away(paths, &entry.path())?;
            }
        }
    }
    Ok(())
}

/// A file with the statements that create the server's own tables.
fn system_tables(paths: &Paths) -> Result<fs::File, LaunchError> {
    let missing = || LaunchError::NotInstalled {
        program: SYSTEM_TABLES[0].into(),
        package: "mariadb-server-core",
    };
    let share = SHARE.iter().map(Path::new).find(|share| share.join(SYSTEM_TABLES[0]).is_file());
    let share = share.ok_or_else(missing)?;
    let mut text = String::from(
        "CREATE DATABASE IF NOT EXISTS mysql;\nUSE mysql;\nSET @auth_root_socket = NULL;\n",
    );
    for name in SYSTEM_TABLES {
        let path = share.join(name);
        let part = fs::read_to_string(&path);
        text.push_str(&part.map_err(files("could not read", &path))?);
        text.push('\n');
    }
    let path = paths.directory.join("bootstrap.sql");
    private_file(&path, &text, None)
}

/// Where the server listens, which determines its account.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Account {
    /// An account over the socket that owns only the database `verax`.
    Socket,
    /// An account over loopback that may do everything but access files.
    Loopback,
}

/// Writes the statements of each start: they create the one account, with this start's password,
/// and remove all others, including root's.
pub(super) fn write_accounts(
    paths: &Paths,
    account: Account,
    password: &str,
) -> Result<(), LaunchError> {
    let database =
        "CREATE DATABASE IF NOT EXISTS verax CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n";
    let (host, grants) = match account {
        Account::Socket => {
            ("localhost", "GRANT ALL PRIVILEGES ON verax.* TO 'verax'@'localhost';\n")
        }
        Account::Loopback => (
            "127.0.0.1",
            "GRANT ALL PRIVILEGES ON *.* TO 'verax'@'127.0.0.1' WITH GRANT OPTION;\n\
             REVOKE FILE ON *.* FROM 'verax'@'127.0.0.1';\n",
        ),
    };
    let statements = format!(
        "{database}\
         CREATE OR REPLACE USER 'verax'@'{host}' IDENTIFIED BY '{password}';\n\
         {grants}\
         DELETE FROM mysql.global_priv WHERE NOT (User = 'verax' AND Host = '{host}') AND User <> 'mariadb.sys';\n\
         FLUSH PRIVILEGES;\n"
    );
    private_file(&paths.accounts, &statements, paths.user).map(drop)
}

/// Creates a file that only its owner can read.
fn private_file(
    path: &Path,
    text: &str,
    owner: Option<ServerUser>,
) -> Result<fs::File, LaunchError> {
    let wrong = || files("could not write", path);
    let _ = fs::remove_file(path);
    let mut file = fs::OpenOptions::new()
        .read(true)
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(path)
        .map_err(wrong())?;
    file.write_all(text.as_bytes()).map_err(wrong())?;
    file.rewind().map_err(wrong())?;
    if let Some(user) = owner {
        user.own(path).map_err(wrong())?;
    }
    Ok(file)
}

pub(super) fn append(path: &Path) -> Result<fs::File, LaunchError> {
    let options = fs::OpenOptions::new().append(true).create(true).mode(0o600).clone();
    options.open(path).map_err(files("could not write", path))
}
