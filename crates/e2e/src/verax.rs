//! A running Verax, and its command line.

use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStderr, Command, Stdio};
use std::sync::{Arc, Mutex};

use nix::sys::signal::Signal;
use serde_json::Value;
use tempfile::TempDir;
use verax_client::{Client, ClientOptions, TokenSource};

use crate::process::{end, send};
use crate::secrets::assert_no_secret;

/// The result of a command.
#[derive(Debug)]
pub struct Answer {
    /// Its exit code.
    pub code: i32,
    /// Its standard output.
    pub out: String,
    /// Its standard error.
    pub err: String,
}

impl Answer {
    /// Its output; panics if it failed.
    pub fn done(self) -> String {
        assert_eq!(self.code, 0, "it failed: {}{}", self.out, self.err);
        self.out
    }

    /// Its output as JSON; panics if it failed.
    pub fn json(self) -> Value {
        let text = self.done();
        serde_json::from_str(&text).unwrap_or_else(|e| panic!("{e}: {text}"))
    }
}

/// Where an ephemeral service says that it can be used.
const READY_FILE: &str = "ready.json";

/// A running `verax serve` or `verax demo`.
#[derive(Debug)]
pub struct Verax {
    arguments: Vec<String>,
    /// Records elsewhere; not an argument, which would be shown with its password.
    records_url: Option<String>,
    directory: Arc<TempDir>,
    child: Child,
    url: String,
    wire: String,
    sign_in: String,
    log: Arc<Mutex<String>>,
    /// A log without a reader.
    _unread: Option<ChildStderr>,
}

/// The program, as built beside this test; `VERAX_PROGRAM` names another.
pub fn program() -> PathBuf {
    if let Some(path) = std::env::var_os("VERAX_PROGRAM") {
        return path.into();
    }
    let here = std::env::current_exe().unwrap();
    let target = here.ancestors().find(|p| p.join("verax").is_file());
    let target = target.expect("build it first: cargo build --package verax");
    target.join("verax")
}

/// A directory that the user of the private MariaDB can pass through.
fn passable_directory() -> TempDir {
    use std::os::unix::fs::PermissionsExt;
    let mut builder = tempfile::Builder::new();
    builder.permissions(fs::Permissions::from_mode(0o711)).tempdir().unwrap()
}

impl Verax {
    /// Starts `verax serve` on a free port.
    pub fn serve(more: &[&str]) -> Self {
        Self::start("serve", more)
    }

    /// Starts `verax serve --ephemeral`, for tests that need neither MariaDB nor a restart.
    pub fn ephemeral(more: &[&str]) -> Self {
        let directory = Arc::new(passable_directory());
        let ready = directory.path().join(READY_FILE).display().to_string();
        let mut arguments = vec!["serve", "--ephemeral", "--ready-file", &ready];
        arguments.extend(more);
        Self::spawn(arguments.into_iter().map(str::to_owned).collect(), directory)
    }

    /// Starts `verax demo` on free ports.
    pub fn demo(more: &[&str]) -> Self {
        let mut arguments = vec!["--origin", "127.0.0.1:0"];
        arguments.extend(more);
        Self::start("demo", &arguments)
    }

    /// Starts `verax serve` over records elsewhere, which others may use too.
    pub fn serve_over(records_url: &str, more: &[&str]) -> Self {
        let (arguments, directory) = Self::arguments("serve", more);
        Self::spawn_with(arguments, directory, true, Some(records_url.to_owned()))
    }

    /// Starts `verax serve` over records elsewhere, with a data directory on a disk of its own that
    /// has as many bytes. Only its own processes see what is in there.
    pub fn serve_on_small_disk(records_url: &str, bytes: usize) -> Self {
        let (arguments, directory) = Self::arguments("serve", &[]);
        let data = directory.path().join("data");
        fs::create_dir(&data).unwrap();
        let mount = format!("mount -t tmpfs -o size={bytes} none \"$0\" && exec \"$@\"");
        let mut command = Command::new("unshare");
        command.args(["--mount", "--", "sh", "-c", &mount]).arg(&data).arg(program());
        Self::spawn_by(command, arguments, directory, true, Some(records_url.to_owned()))
    }

    /// Starts `verax serve` with a log that nobody reads.
    pub fn serve_unread(more: &[&str]) -> Self {
        let (arguments, directory) = Self::arguments("serve", more);
        Self::spawn_with(arguments, directory, false, None)
    }

    fn start(command: &str, more: &[&str]) -> Self {
        let (arguments, directory) = Self::arguments(command, more);
        Self::spawn(arguments, directory)
    }

    fn arguments(command: &str, more: &[&str]) -> (Vec<String>, Arc<TempDir>) {
        let directory = Arc::new(passable_directory());
        let data = directory.path().join("data").display().to_string();
        let mut arguments =
            vec![command, "--http", "127.0.0.1:0", "--wire", "127.0.0.1:0", "--data-dir", &data];
        arguments.extend(more);
        (arguments.into_iter().map(str::to_owned).collect(), directory)
    }

    fn spawn(arguments: Vec<String>, directory: Arc<TempDir>) -> Self {
        Self::spawn_with(arguments, directory, true, None)
    }

    fn spawn_with(
        arguments: Vec<String>,
        directory: Arc<TempDir>,
        read_log: bool,
        records_url: Option<String>,
    ) -> Self {
        let command = Command::new(program());
        Self::spawn_by(command, arguments, directory, read_log, records_url)
    }

    fn spawn_by(
        mut command: Command,
        arguments: Vec<String>,
        directory: Arc<TempDir>,
        read_log: bool,
        records_url: Option<String>,
    ) -> Self {
        let mut child = command
            .args(&arguments)
            .env_remove("VERAX_URL")
            .env_remove("VERAX_TOKEN")
            .envs(records_url.iter().map(|url| ("VERAX_RECORDS_URL", url)))
            .current_dir(directory.path())
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let log = Arc::new(Mutex::new(String::new()));
        let (errors, written) = (child.stderr.take().unwrap(), Arc::clone(&log));
        let (errors, unread) = if read_log { (Some(errors), None) } else { (None, Some(errors)) };
        std::thread::spawn(move || {
            let Some(errors) = errors else { return };
            for line in BufReader::new(errors).lines().map_while(Result::ok) {
                let mut log = written.lock().unwrap();
                log.push_str(&line);
                log.push('\n');
            }
        });
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let says_role =
            |line: &String| line.starts_with("verax ready") || line.starts_with("verax standby");
        let ready = lines.by_ref().map_while(Result::ok).find(says_role);
        let Some(ready) = ready else {
            let _ = child.wait();
            panic!("verax {arguments:?} did not become ready: {}", log.lock().unwrap());
        };
        // No more output is expected, but a full pipe must not block it.
        std::thread::spawn(move || lines.map_while(Result::ok).count());
        let words: Vec<&str> = ready.split(' ').collect();
        let url = words.iter().find(|w| w.starts_with("http")).unwrap().to_string();
        let wire = words.iter().skip_while(|w| **w != "wire").nth(1).unwrap().to_string();
        let sign_in = words.last().unwrap().to_string();
        Self { arguments, records_url, directory, child, url, wire, sign_in, log, _unread: unread }
    }

    /// Kills it with SIGKILL, and starts it again over the same data.
    pub fn kill_and_restart(mut self) -> Self {
        self.kill();
        self.start_again()
    }

    /// Starts it again over the same data, after it has ended.
    pub fn start_again(mut self) -> Self {
        self.child.wait().unwrap();
        let (arguments, directory) = (self.arguments.clone(), Arc::clone(&self.directory));
        let records_url = self.records_url.clone();
        drop(self);
        Self::spawn_with(arguments, directory, true, records_url)
    }

    /// Kills it with SIGKILL, for good.
    pub fn kill(&mut self) {
        send(self.child.id(), Signal::SIGKILL);
        self.child.wait().unwrap();
    }

    /// Stops it as Ctrl-C does, and starts it again over the same data.
    pub fn restart(mut self) -> Self {
        send(self.child.id(), Signal::SIGINT);
        let status = self.child.wait().unwrap();
        assert!(status.success(), "{status}: {}", self.log());
        let (arguments, directory) = (self.arguments.clone(), Arc::clone(&self.directory));
        let records_url = self.records_url.clone();
        drop(self);
        Self::spawn_with(arguments, directory, true, records_url)
    }

    /// Stops it as Ctrl-C does, and starts it once with one more argument over the same data.
    pub fn restart_with(mut self, argument: &str) -> Self {
        self.arguments.push(argument.to_owned());
        let mut next = self.restart();
        next.arguments.pop();
        next
    }

    /// Stops it as Ctrl-C does, and starts it again with its wire at an address that is known.
    pub fn restart_on(mut self, wire: &str) -> Self {
        let at = self.arguments.iter().position(|a| a == "--wire").unwrap();
        self.arguments[at + 1] = wire.to_owned();
        self.restart()
    }

    /// Sends a signal to its process; after SIGSTOP, waits until every thread is stopped.
    pub fn send(&self, signal: Signal) {
        send(self.child.id(), signal);
        let started = std::time::Instant::now();
        while signal == Signal::SIGSTOP && !self.stands_still() {
            assert!(started.elapsed().as_secs() < 60, "it does not stop");
            std::thread::sleep(std::time::Duration::from_millis(1));
        }
    }

    /// Whether every thread is stopped, by the state behind its name (proc(5)).
    fn stands_still(&self) -> bool {
        let threads = fs::read_dir(format!("/proc/{}/task", self.child.id())).unwrap();
        threads.flatten().all(|thread| {
            let stat = fs::read_to_string(thread.path().join("stat")).unwrap_or_default();
            stat.rsplit(')').next().is_some_and(|rest| rest.trim_start().starts_with('T'))
        })
    }

    /// Its address for the wire protocol.
    pub fn wire(&self) -> &str {
        &self.wire
    }

    /// Its address.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The one-time sign-in link of its start.
    pub fn sign_in_link(&self) -> &str {
        assert!(self.sign_in.contains("/sign-in#"), "{}", self.sign_in);
        &self.sign_in
    }

    /// Its process.
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    /// What it wrote to standard error.
    pub fn log(&self) -> String {
        self.log.lock().unwrap().clone()
    }

    /// Its data directory.
    pub fn data(&self) -> PathBuf {
        self.directory.path().join("data")
    }

    /// Neither its log nor that of its MariaDB may hold a secret of this start.
    fn assert_no_secret_is_logged(&self) {
        let read = |path: &str| fs::read_to_string(self.data().join(path)).unwrap_or_default();
        // IDENTIFIED BY 'PASSWORD'
        let accounts = read("records/accounts.sql");
        let password = accounts.split("IDENTIFIED BY '").nth(1).and_then(|p| p.split('\'').next());
        let known = [read("admin.token").trim().to_owned(), password.unwrap_or("").to_owned()];
        // A test may have damaged the token.
        let known = known.map(|secret| if secret.len() < 40 { String::new() } else { secret });
        assert_no_secret("the log", &self.log(), &known);
        for log in ["records/mariadbd.log", "ferry/mariadbd.log"] {
            assert_no_secret(log, &read(log), &known);
        }
    }

    /// A path for a file of the test's own.
    pub fn scratch(&self, name: &str) -> PathBuf {
        self.directory.path().join(name)
    }

    /// The process of its private MariaDB.
    pub fn mariadb(&self) -> Option<u32> {
        let text = fs::read_to_string(self.data().join("records/mariadbd.pid")).ok()?;
        text.trim().parse().ok()
    }

    /// Its administrator token.
    pub fn token(&self) -> String {
        if let Ok(ready) = fs::read(self.scratch(READY_FILE)) {
            let ready: Value = serde_json::from_slice(&ready).unwrap();
            return ready["token"].as_str().unwrap().to_owned();
        }
        fs::read_to_string(self.data().join("admin.token")).unwrap().trim().to_owned()
    }

    /// A client with its administrator token.
    pub fn client(&self) -> Client {
        self.client_with(&self.token())
    }

    /// A client with a token.
    pub fn client_with(&self, token: &str) -> Client {
        self.client_with_source(token.into())
    }

    /// A client that gets its token from a source.
    pub fn client_with_source(&self, source: TokenSource) -> Client {
        let (url, wire, token) = (self.url.clone(), self.wire.clone(), Some(source));
        Client::new(ClientOptions { url, wire, token, ..Default::default() }).unwrap()
    }

    /// Runs a command as its administrator.
    pub fn run(&self, arguments: &[&str]) -> Answer {
        self.run_with(&self.token(), arguments, b"")
    }

    /// Runs a command with a token and an input.
    pub fn run_with(&self, token: &str, arguments: &[&str], input: &[u8]) -> Answer {
        run(
            &[("VERAX_URL", &self.url), ("VERAX_TOKEN", token)],
            self.directory.path(),
            arguments,
            input,
        )
    }
}

/// Runs a command without a service.
pub fn run(
    environment: &[(&str, &str)],
    directory: &Path,
    arguments: &[&str],
    input: &[u8],
) -> Answer {
    let mut child = Command::new(program())
        .args(arguments)
        .env_remove("VERAX_URL")
        .env_remove("VERAX_TOKEN")
        .envs(environment.iter().copied())
        .current_dir(directory)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // A command that does not read its input may have ended already.
    let _ = child.stdin.take().unwrap().write_all(input);
    let output = child.wait_with_output().unwrap();
    let text = |bytes| String::from_utf8_lossy(bytes).into_owned();
    let known: Vec<String> = environment
        .iter()
        .filter(|(name, _)| *name == "VERAX_TOKEN")
        .map(|(_, token)| (*token).to_owned())
        .collect();
    let err = text(&output.stderr);
    assert_no_secret("an error text", &err, &known);
    Answer { code: output.status.code().unwrap_or(-1), out: text(&output.stdout), err }
}

impl Drop for Verax {
    fn drop(&mut self) {
        end(&mut self.child);
        if !std::thread::panicking() {
            self.assert_no_secret_is_logged();
        } else {
            eprintln!("--- the log of verax {:?} ---\n{}", self.arguments, self.log());
        }
    }
}
