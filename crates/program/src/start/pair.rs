//! `verax demo --pair`: two Verax over one MariaDB, each a process of its own, so that one of them
//! can be killed and the other takes over.

use std::io::{BufRead, BufReader, Write};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use tokio::sync::{mpsc, watch};
use verax_cli::Failure;
use verax_records::launcher::{Listen, PrivateServer, PrivateServerOptions};

use super::data_directory::DataDirectory;
use crate::settings::Settings;

/// How long a Verax that ended is left alone before it is started again: long enough to see what
/// the other does.
const RESTART_AFTER: Duration = Duration::from_secs(10);

/// How long a Verax may take to start.
const START_TIMEOUT: Duration = Duration::from_secs(60);

/// How long a stop may take before the process is killed.
const STOP_TIMEOUT: Duration = Duration::from_secs(8);

/// How often it is looked whether a process has ended.
const LOOK_EVERY: Duration = Duration::from_millis(20);

/// How far the ports of the second one are from those of the first.
const NEXT_PORTS: u16 = 10;

/// Two Verax, their records, and what both share.
pub(super) struct Pair {
    directory: DataDirectory,
    credentials: PathBuf,
    records: PrivateServer,
    nodes: [NodeProcess; 2],
    stop: watch::Sender<bool>,
}

/// A Verax that is kept running by a thread.
struct NodeProcess {
    name: &'static str,
    directory: PathBuf,
    http: String,
    wire: String,
    child: Arc<Mutex<Option<Child>>>,
}

impl NodeProcess {
    fn id(&self) -> Option<u32> {
        let child = self.child.lock().unwrap_or_else(PoisonError::into_inner);
        child.as_ref().map(Child::id)
    }
}

/// The same address with other ports.
fn next_to(address: SocketAddr) -> SocketAddr {
    let port = address.port();
    SocketAddr::new(address.ip(), if port == 0 { 0 } else { port.saturating_add(NEXT_PORTS) })
}

impl Pair {
    /// Starts MariaDB and both: the first becomes active.
    pub(super) async fn start(settings: &Settings, step: impl Fn(&str)) -> Result<Self, Failure> {
        if settings.tls.is_some() {
            return Err(Failure::usage(
                "a pair in the demo has no TLS: leave --tls-certificate out",
            ));
        }
        let failed = |e: &dyn std::fmt::Display| Failure::failed(e.to_string());
        let directory = DataDirectory::hold(&settings.data_directory, true)?;
        step("starting MariaDB");
        let records = PrivateServer::start_with(PrivateServerOptions {
            directory: directory.records(),
            mariadbd: settings.mariadbd.clone(),
            listen: Listen::Socket,
        });
        let records = records.await.map_err(|e| failed(&e))?;
        let credentials = settings.credentials_directory.clone();
        let credentials = credentials.unwrap_or_else(|| directory.credentials());
        let profiles = directory.path().join("profiles");
        verax_demo::profiles::write(&profiles).map_err(|e| failed(&e))?;
        let (stop, stopping) = watch::channel(false);
        let begin = async |name: &'static str, http: SocketAddr, wire: SocketAddr| {
            step(&format!("starting node {name}"));
            let of_node = directory.path().join(name);
            let mut arguments: Vec<PathBuf> = vec!["serve".into()];
            for (flag, value) in [
                ("--data-dir", of_node.clone()),
                ("--http", http.to_string().into()),
                ("--wire", wire.to_string().into()),
                ("--credentials-dir", credentials.clone()),
                ("--load-profiles", profiles.clone()),
                ("--log", settings.log_filter.clone().into()),
                ("--log-format", settings.log_format.name().into()),
                ("--memory-limit", settings.memory_limit.to_string().into()),
            ] {
                arguments.extend([flag.into(), value]);
            }
            start_node(name, of_node, arguments, records.url("verax"), stopping.clone()).await
        };
        let first = begin("node-a", settings.http, settings.wire).await?;
        let second = begin("node-b", next_to(settings.http), next_to(settings.wire)).await?;
        Ok(Self { directory, credentials, records, nodes: [first, second], stop })
    }

    fn joined(&self, of: impl Fn(&NodeProcess) -> &str) -> String {
        self.nodes.iter().map(of).collect::<Vec<_>>().join(",")
    }

    /// The addresses of both for HTTP.
    pub(super) fn urls(&self) -> String {
        self.joined(|node| &node.http)
    }

    /// The addresses of both for the wire.
    pub(super) fn wire_addresses(&self) -> String {
        self.joined(|node| &node.wire)
    }

    /// The administrator token, which the first one created.
    pub(super) fn token(&self) -> Result<String, Failure> {
        let path = self.nodes[0].directory.join("admin.token");
        let text = std::fs::read_to_string(&path);
        let text = text.map_err(|e| Failure::failed(format!("{}: {e}", path.display())))?;
        Ok(text.trim().to_owned())
    }

    pub(super) fn directory(&self) -> &DataDirectory {
        &self.directory
    }

    pub(super) fn credentials(&self) -> &Path {
        &self.credentials
    }

    /// Becomes true when the pair stops.
    pub(super) fn stopping(&self) -> watch::Receiver<bool> {
        self.stop.subscribe()
    }

    /// Says how to reach both, and what to try.
    pub(super) fn explain(&self) {
        let mut text = String::from("verax pair\n");
        for node in &self.nodes {
            let process = node.id().map_or("-".into(), |id| id.to_string());
            text += &format!(
                "  {} · process {process} · {} · wire {}\n",
                node.name, node.http, node.wire
            );
        }
        let token = self.nodes[0].directory.join("admin.token");
        text += &format!(
            "  for clients:  export VERAX_URL={} VERAX_WIRE_URL={} VERAX_TOKEN=$(cat {})\n",
            self.urls(),
            self.wire_addresses(),
            token.display()
        );
        if let Some(id) = self.nodes[0].id() {
            text += &format!(
                "  a takeover:   kill -9 {id}; verax node list\n  ({} restarts after {} seconds; drills need the demo without --pair)\n",
                self.nodes[0].name,
                RESTART_AFTER.as_secs()
            );
        }
        // Nobody may be reading, which is no reason to stop.
        let _ = write!(std::io::stdout(), "{text}");
    }

    /// Stops both, the network's servers and MariaDB.
    pub(super) async fn stop(self, more_servers: Vec<PrivateServer>) -> Result<(), Failure> {
        self.stop.send_replace(true);
        let nodes = self.nodes;
        let stopped = tokio::task::spawn_blocking(move || nodes.iter().for_each(end));
        let _ = stopped.await;
        let servers = more_servers.into_iter().chain([self.records]);
        for stopped in futures_util::future::join_all(servers.map(PrivateServer::stop)).await {
            if let Err(error) = stopped {
                tracing::warn!(%error, "MariaDB did not stop in time");
            }
        }
        Ok(())
    }
}

fn signal(child: &Mutex<Option<Child>>, signal: Signal) {
    let child = child.lock().unwrap_or_else(PoisonError::into_inner);
    // It is reaped under the same lock, so the number is still its own.
    if let Some(id) = child.as_ref().and_then(|child| i32::try_from(child.id()).ok()) {
        let _ = kill(Pid::from_raw(id), signal);
    }
}

/// Ends a process in order, or else by force.
fn end(node: &NodeProcess) {
    signal(&node.child, Signal::SIGTERM);
    let began = std::time::Instant::now();
    while node.id().is_some() {
        if began.elapsed() > STOP_TIMEOUT {
            signal(&node.child, Signal::SIGKILL);
        }
        std::thread::sleep(LOOK_EVERY);
    }
}

/// Starts a Verax and a thread that keeps it running; waits until it says what it does.
async fn start_node(
    name: &'static str,
    directory: PathBuf,
    arguments: Vec<PathBuf>,
    records_url: String,
    stopping: watch::Receiver<bool>,
) -> Result<NodeProcess, Failure> {
    let program = std::env::current_exe()?;
    // The end of the demo, however it comes, ends the process too. That is tied to the thread which
    // starts it.
    let command = move || {
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "TERM", "--"]).arg(&program).args(&arguments);
        // What is set for the demo is not meant for each of the two.
        for (name, _) in std::env::vars_os() {
            if name.to_string_lossy().starts_with("VERAX_") {
                command.env_remove(name);
            }
        }
        // Not an argument, which every user of the machine could read.
        command.env("VERAX_RECORDS_URL", &records_url);
        command.stdin(Stdio::null()).stdout(Stdio::piped());
        command
    };
    let child = Arc::new(Mutex::new(None));
    let (said, mut lines) = mpsc::channel(16);
    let shared = Arc::clone(&child);
    std::thread::Builder::new()
        .name(name.into())
        .spawn(move || keep(command, &shared, &said, &stopping))?;
    let first = tokio::time::timeout(START_TIMEOUT, lines.recv()).await.ok().flatten();
    let Some(line) = first else {
        return Err(Failure::failed(format!("{name} did not start: see the log above")));
    };
    // verax ready · HTTP · wire WIRE · …
    let mut parts = line.split(" · ").skip(1);
    let (http, wire) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
    let wire = wire.strip_prefix("wire ").unwrap_or(wire);
    Ok(NodeProcess { name, directory, http: http.into(), wire: wire.into(), child })
}

/// Keeps a process running until the pair stops; passes on what it says.
fn keep(
    command: impl Fn() -> Command,
    shared: &Mutex<Option<Child>>,
    said: &mpsc::Sender<String>,
    stopping: &watch::Receiver<bool>,
) {
    let mut started = false;
    let current = || shared.lock().unwrap_or_else(PoisonError::into_inner);
    while !*stopping.borrow() {
        let mut child = match command().spawn() {
            Ok(child) => child,
            Err(error) => {
                tracing::error!(%error, "a node of the pair does not start: is setpriv (util-linux) installed?");
                return;
            }
        };
        let output = child.stdout.take();
        *current() = Some(child);
        for line in output.into_iter().flat_map(|out| BufReader::new(out).lines()) {
            let Ok(line) = line else { break };
            let _ = writeln!(std::io::stdout(), "{line}");
            // Only the first line of the first start is waited for.
            let _ = said.try_send(line);
            started = true;
        }
        // Its output has ended, so it is about to.
        let ended = loop {
            match current().as_mut().map(Child::try_wait) {
                Some(Ok(None)) => {}
                ended => break ended,
            }
            std::thread::sleep(LOOK_EVERY);
        };
        *current() = None;
        if *stopping.borrow() || !started {
            return;
        }
        tracing::warn!(?ended, "a node of the pair has ended; it restarts shortly");
        let again_at = std::time::Instant::now() + RESTART_AFTER;
        while std::time::Instant::now() < again_at && !*stopping.borrow() {
            std::thread::sleep(LOOK_EVERY);
        }
    }
}
