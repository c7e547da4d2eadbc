//! A private MariaDB on loopback, for a Verax that was not given one.
//!
//! [`PrivateServer`] initialises a data directory, starts Debian's `mariadbd` on a free port, keeps
//! it running, and stops it. It leaves no process behind: a clean stop waits for it, the death of
//! Verax by any signal sends it SIGTERM (parent-death signal, prctl(2)), and a start first ends
//! whatever an earlier one left.

mod initialise;
mod keeper;
mod leftover;

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use diesel_async::{AsyncConnection, AsyncMysqlConnection};

use keeper::Keeper;

/// How long a start may take, recovery after a crash included.
const LONGEST_START: Duration = Duration::from_secs(90);

/// How a private MariaDB cannot be had.
#[derive(Debug, thiserror::Error)]
pub enum LaunchError {
    /// A program is missing.
    #[error(
        "{program} is not installed or cannot be found: install Debian's package {package}, or set records.url to a MariaDB that runs already"
    )]
    NotInstalled {
        /// The program.
        program: String,
        /// The package that brings it.
        package: &'static str,
    },
    /// The file system refuses.
    #[error("{what} {}: {source}", path.display())]
    Files {
        /// What was tried.
        what: &'static str,
        /// On which file or directory.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// A program failed.
    #[error("{program} failed: {reason}; its own words are in {}", log.display())]
    Failed {
        /// The program.
        program: &'static str,
        /// How it failed.
        reason: String,
        /// Where it wrote.
        log: PathBuf,
    },
}

/// Where the private MariaDB lives, and which programs run it.
#[derive(Debug, Clone)]
pub struct PrivateServerOptions {
    /// Its directory; made when it is not there.
    pub directory: PathBuf,
    /// The server's program, by name or path.
    pub mariadbd: PathBuf,
}

/// A running private MariaDB.
#[derive(Debug)]
pub struct PrivateServer {
    keeper: Keeper,
    port: u16,
    password: String,
    log: PathBuf,
}

impl PrivateServer {
    /// Starts a private MariaDB in `directory` with Debian's programs; see
    /// [`start_with`](Self::start_with).
    ///
    /// # Errors
    /// [`LaunchError`].
    pub async fn start(directory: &Path) -> Result<Self, LaunchError> {
        let (directory, mariadbd) = (directory.to_owned(), "mariadbd".into());
        Self::start_with(PrivateServerOptions { directory, mariadbd }).await
    }

    /// Starts a private MariaDB, initialising its directory the first time, and waits until it
    /// answers.
    ///
    /// # Errors
    /// [`LaunchError`] says what is missing or where the server's log is.
    pub async fn start_with(options: PrivateServerOptions) -> Result<Self, LaunchError> {
        let PrivateServerOptions { directory, mariadbd } = options;
        let program = initialise::find_program(&mariadbd)?;
        let password = random_password();
        let paths = {
            let (of, password) = (directory.clone(), password.clone());
            let prepare = move || {
                let paths = initialise::Paths::of(&of)?;
                leftover::end(&paths)?;
                initialise::initialise(&paths)?;
                initialise::write_accounts(&paths, &password)?;
                Ok::<_, LaunchError>(paths)
            };
            tokio::task::spawn_blocking(prepare).await.unwrap_or_else(|e| {
                Err(LaunchError::Failed {
                    program: "the preparation of MariaDB",
                    reason: e.to_string(),
                    log: directory.clone(),
                })
            })?
        };
        let port = free_port().map_err(|source| LaunchError::Files {
            what: "could not find a free loopback port for MariaDB in",
            path: directory,
            source,
        })?;
        let keeper = Keeper::start(program, &paths, port)?;
        let server = Self { keeper, port, password, log: paths.log };
        server.wait_until_ready().await?;
        Ok(server)
    }

    async fn wait_until_ready(&self) -> Result<(), LaunchError> {
        let url = self.url("verax");
        let started = Instant::now();
        loop {
            let attempt = AsyncMysqlConnection::establish(&url);
            let reason = match tokio::time::timeout(Duration::from_secs(5), attempt).await {
                Ok(Ok(_)) => {
                    self.keeper.answered();
                    return Ok(());
                }
                Ok(Err(error)) => error.to_string(),
                Err(_) => "it does not answer".to_owned(),
            };
            let ended = self.keeper.ended_early();
            if ended.is_some() || started.elapsed() > LONGEST_START {
                let reason = ended.unwrap_or(reason);
                return Err(LaunchError::Failed {
                    program: "mariadbd",
                    reason,
                    log: self.log.clone(),
                });
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// The URL of one of its databases, with the password of this start.
    pub fn url(&self, database: &str) -> String {
        format!("mysql://verax:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// Its port on 127.0.0.1.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Its process id while it runs.
    pub fn process_id(&self) -> Option<u32> {
        self.keeper.process_id()
    }

    /// Stops it and waits for its end.
    ///
    /// # Errors
    /// [`LaunchError::Failed`] when it had to be killed.
    pub async fn stop(self) -> Result<(), LaunchError> {
        let log = self.log.clone();
        let stopped = tokio::task::spawn_blocking(move || self.keeper.stop()).await;
        match stopped {
            Ok(true) => Ok(()),
            _ => Err(LaunchError::Failed {
                program: "mariadbd",
                reason: "it did not stop within 30 seconds and was killed".into(),
                log,
            }),
        }
    }
}

fn free_port() -> std::io::Result<u16> {
    Ok(std::net::TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

/// A new password at each start, so that none is worth stealing for long.
fn random_password() -> String {
    let bytes: [u8; 24] = rand::random();
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}
