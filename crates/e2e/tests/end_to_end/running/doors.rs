//! The process and what it leaves on the machine: its MariaDB, its files, its log, its end.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use nix::sys::signal::Signal;
use serde_json::json;
use verax_client::{PutOptions, Source};
use verax_e2e::{HeldOrigin, Verax, is_running, program, run, send, until};
use verax_records::launcher::PrivateServer;

/// Tries to sign in to a MariaDB over its socket; returns whether that worked.
fn signs_in(socket: &Path, user: &str) -> bool {
    let socket = format!("--socket={}", socket.display());
    let client = Command::new("mariadb")
        .args(["--no-defaults", &socket, &format!("--user={user}"), "-e", "SELECT 1"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    client.expect("mariadb-client comes with mariadb-server").success()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_private_mariadb_admits_verax_only() {
    let verax = Verax::serve(&[]);
    let mariadb = verax.mariadb().unwrap();
    let socket = verax.data().join("records/data/mariadbd.sock");
    assert!(socket.exists());
    for user in ["root", "mysql", "mariadb.sys", "verax", ""] {
        assert!(!signs_in(&socket, user), "{user:?} needs no password");
    }
    // It listens on nothing but its socket, and can touch no files for anybody.
    let command = fs::read(format!("/proc/{mariadb}/cmdline")).unwrap();
    let command = String::from_utf8_lossy(&command).into_owned();
    assert!(command.contains("--skip-networking") && command.contains("--secure-file-priv="));
    let status = fs::read_to_string(format!("/proc/{mariadb}/status")).unwrap();
    let uid = status.lines().find_map(|line| line.strip_prefix("Uid:")).unwrap();
    assert!(uid.split_whitespace().all(|uid| uid != "0"), "it runs as root: {uid}");
    // What is on the disk is for its owner, and for the server's group to pass through.
    let data = fs::metadata(verax.data()).unwrap();
    assert_eq!(data.permissions().mode() & 0o767, 0o700);
    for secret in ["admin.token", "records/accounts.sql", "records.snapshot", "verax.lock"] {
        let mode = fs::metadata(verax.data().join(secret)).unwrap().permissions().mode();
        assert_eq!(mode & 0o077, 0, "{secret}");
    }
    let no_files = fs::metadata(verax.data().join("records/no-files")).unwrap();
    assert!(no_files.uid() == nix::unistd::geteuid().as_raw() && no_files.mode() & 0o222 == 0);
}

/// However early a first start is killed, the next one works, and nothing of the first goes on
/// writing.
#[test]
fn a_first_start_that_is_killed_does_not_spoil_the_next() {
    for kill_after_ms in [30, 120, 300, 600, 1_000, 1_500, 2_200] {
        let directory = tempfile::Builder::new()
            .permissions(fs::Permissions::from_mode(0o711))
            .tempdir()
            .unwrap();
        let data = directory.path().join("data").display().to_string();
        let arguments =
            ["serve", "--http", "127.0.0.1:0", "--wire", "127.0.0.1:0", "--data-dir", &data];
        let mut first = Command::new(program())
            .args(arguments)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(kill_after_ms));
        first.kill().unwrap();
        first.wait().unwrap();
        let mut next = Command::new(program())
            .args(arguments)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut line = String::new();
        let out = next.stdout.take().unwrap();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(out), &mut line).unwrap();
        let token = fs::read_to_string(directory.path().join("data/admin.token"));
        send(next.id(), Signal::SIGTERM);
        assert!(next.wait().unwrap().success());
        assert!(line.starts_with("verax ready"), "killed after {kill_after_ms} ms: {line:?}");
        // Killed between the record of the first token and its file, it says so; see the test
        // below.
        assert!(token.is_ok() || !line.contains("admin.token"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stop_is_quick_while_mariadb_hangs() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "tideline"]).done();
    let (process, mariadb) = (verax.process(), verax.mariadb().unwrap());
    send(mariadb, Signal::SIGSTOP);
    let client = verax.client();
    until("it is noticed", async || client.ready().await.unwrap().records == "unavailable").await;
    // Somebody waits for an answer that needs MariaDB, and a stream is open.
    let began = Instant::now();
    send(process, Signal::SIGTERM);
    until("it has ended", async || !is_running(process)).await;
    let took = began.elapsed();
    assert!(took < Duration::from_secs(10), "it took {took:?}");
    assert!(!is_running(mariadb));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_that_cannot_be_written_stops_nothing() {
    // Nobody reads the log: its pipe is full soon, and closed at last.
    let verax = Verax::serve_unread(&["--log", "debug"]);
    verax.run(&["tenant", "create", "tideline"]).done();
    verax.run(&["namespace", "create", "tideline/tables"]).done();
    let client = verax.client();
    let tables = client.namespace("tideline", "tables").unwrap();
    tables.put("tide/1", "2.41 m", PutOptions::default()).await.unwrap();
    for _ in 0..3_000 {
        assert_eq!(tables.get("tide/1").await.unwrap().unwrap().source, Source::Hit);
    }
    // What runs in the background goes on: MariaDB is started again, and that is noticed.
    let mariadb = verax.mariadb().unwrap();
    send(mariadb, Signal::SIGKILL);
    until("it was started again", async || {
        verax.mariadb().is_some_and(|process| process != mariadb && is_running(process))
            && client.create_tenant("after").await.is_ok()
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_administrator_token_is_reported_and_not_replaced() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "tideline"]).done();
    let token = verax.token();
    fs::write(verax.data().join("admin.token"), "verax-token-half").unwrap();
    let verax = verax.restart();
    until("it is told", async || verax.log().contains("--new-admin-token")).await;
    // The token itself is as good as ever, and there is no other.
    let tokens = verax.run_with(&token, &["token", "list", "--json"], b"").json();
    assert_eq!(tokens.as_array().unwrap().len(), 1, "{tokens}");
    assert_eq!(verax.run(&["tenant", "list"]).code, 4);
    let verax = verax.restart_with("--new-admin-token");
    assert_ne!(verax.token(), token);
    assert!(verax.run(&["tenant", "list"]).done().contains("tideline"));
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_stay_listed_after_a_crash() {
    let origin = HeldOrigin::start("x").await;
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let at = origin.at();
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &at, "--total-timeout", "5m"]).done();
    verax
        .run(&["namespace", "create", "ferrydesk/boards", "--origin", "desk", "--max-age", "10m"])
        .done();
    // Many that are under way, and more that have ended after them.
    let start = async |keys: &[&str]| {
        let body = json!({ "keys": [{ "list": keys }], "concurrency": 1 });
        let url = format!("{}/v1/tenants/ferrydesk/namespaces/boards/warm-runs", verax.url());
        let post = reqwest::Client::new().post(url).bearer_auth(verax.token()).json(&body);
        let run: serde_json::Value = post.send().await.unwrap().json().await.unwrap();
        run["id"].as_u64().unwrap()
    };
    verax.client();
    let mut held = Vec::new();
    for n in 0..55 {
        held.push(start(&[&format!("held-{n}")]).await);
    }
    let list = |verax: &Verax| {
        let runs = verax.run(&["warm", "list", "--json"]).json();
        let state = |run: &serde_json::Value| {
            (run["id"].as_u64().unwrap(), run["state"].as_str().unwrap().to_owned())
        };
        runs.as_array().unwrap().iter().map(state).collect::<Vec<_>>()
    };
    let all = list(&verax);
    assert!(held.iter().all(|id| all.contains(&(*id, "running".to_owned()))), "{all:?}");
    verax.run(&["warm", "stop", &held[0].to_string()]).done();

    let verax = verax.kill_and_restart();
    // They go on where they were; however many there are, all are listed.
    until("all but the stopped one are resumed", async || {
        let after = list(&verax);
        held[1..].iter().all(|id| after.contains(&(*id, "running".to_owned())))
    })
    .await;

    // A stop in order says the same, and keeps what was measured.
    let profile = verax.scratch("rush.json");
    let rush = json!({
        "name": "rush", "namespace": "ferrydesk/boards", "duration_seconds": 60.0,
        "warm_up_seconds": 0.0, "keys": [{ "list": ["a"] }],
    });
    fs::write(&profile, rush.to_string()).unwrap();
    origin.let_go(1_000_000);
    let url = format!("{}/v1/load-runs", verax.url());
    let post = reqwest::Client::new().post(url).bearer_auth(verax.token());
    let started: serde_json::Value =
        post.json(&json!({ "profile": rush })).send().await.unwrap().json().await.unwrap();
    let id = started["id"].as_u64().unwrap_or_else(|| panic!("{started}"));
    let load = |verax: &Verax| {
        let runs = verax.run(&["load", "list", "--json"]).json();
        let is_listed = runs.as_array().unwrap().iter().any(|run| run["id"].as_u64() == Some(id));
        assert!(is_listed, "{runs}");
        // With its seconds, in a later process too.
        verax.run(&["load", "show", &id.to_string(), "--json"]).json()
    };
    until("something is measured", async || load(&verax)["ticks"].as_array().unwrap().len() > 1)
        .await;
    let verax = verax.restart();
    let kept = load(&verax);
    assert_eq!(kept["state"], "interrupted");
    assert!(kept["reason"].as_str().unwrap().contains("stopped before"), "{kept}");
    assert!(kept["ticks"].as_array().unwrap().len() > 1 && !kept["report"].is_null());
}

#[test]
fn control_characters_do_not_reach_a_terminal() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    verax.run(&["put", "ferrydesk/boards", "board\u{1b}]0;x\u{7}", "x"]).done();
    verax.run(&["token", "create", "--scope", "read:ferrydesk", "--note", "\u{1b}[2Jgone"]).done();
    for command in [["list", "ferrydesk/boards"], ["token", "list"]] {
        let shown = verax.run(&command).done();
        assert!(!shown.contains('\u{1b}') && !shown.contains('\u{7}'), "{shown:?}");
        assert!(shown.contains("\\u{1b}"), "{shown:?}");
    }
    let missing = run(
        &[("VERAX_URL", verax.url()), ("VERAX_TOKEN", &verax.token())],
        &verax.data(),
        &["get", "ferrydesk/boards", "no\u{1b}c"],
        b"",
    );
    assert!(!missing.err.contains('\u{1b}'), "{:?}", missing.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_is_reported() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let disk = async |bytes: usize| {
        let verax = Verax::serve_on_small_disk(&server.url("verax"), bytes);
        let client = verax.client_with("nobody");
        let mut disk = String::new();
        until("the disk was looked at", async || {
            disk = client.ready().await.unwrap().disk;
            disk == "full" || bytes > 32 << 20
        })
        .await;
        (disk, verax.log().contains("the disk is full"))
    };
    // On both sides of the bound of 32 MiB.
    assert_eq!(disk(31 << 20).await, ("full".to_owned(), true));
    assert_eq!(disk(36 << 20).await, ("ok".to_owned(), false));
    server.stop().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn running_out_of_descriptors_is_logged_once_a_second_and_recovers() {
    let verax = Verax::serve(&[]);
    let process = verax.process();
    let open = fs::read_dir(format!("/proc/{process}/fd")).unwrap().count();
    let allow = |files: usize| {
        let limit = Command::new("prlimit")
            .args(["--pid", &process.to_string(), &format!("--nofile={files}:")])
            .status();
        assert!(limit.expect("prlimit comes with util-linux").success());
    };
    allow(open + 10);
    let address = verax.url().strip_prefix("http://").unwrap().to_owned();
    let began = Instant::now();
    let held: Vec<_> = (0..60).map(|_| std::net::TcpStream::connect(&address).unwrap()).collect();
    let lines = || verax.log().matches("connections cannot be accepted").count();
    until("it was told more than once", async || lines() >= 3).await;
    let (told, seconds) = (lines(), began.elapsed().as_secs_f64());
    assert!(told as f64 <= seconds + 1.0, "{told} lines in {seconds} s");
    drop(held);
    allow(20_000.min(open + 1_000));
    until("it answers again", async || verax.client().ready().await.is_ok()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hangup_signal_reloads_settings_and_loses_nothing() {
    let scratch = tempfile::tempdir().unwrap();
    let config = scratch.path().join("verax.toml");
    let write = |limit: &str, filter: &str| {
        let text = format!("[memory]\nlimit = \"{limit}\"\n\n[log]\nfilter = \"{filter}\"\n");
        fs::write(&config, text).unwrap();
    };
    write("64MiB", "info");
    let verax = Verax::serve(&["--config", &config.display().to_string()]);
    let (client, process) = (verax.client(), verax.process());
    client.create_tenant("ferrydesk").await.unwrap();
    let request = serde_json::from_value(json!({ "name": "boards" })).unwrap();
    client.create_namespace("ferrydesk", &request).await.unwrap();
    let boards = client.namespace("ferrydesk", "boards").unwrap();
    boards.put("k", "kept", PutOptions::default()).await.unwrap();
    let limit = async || {
        let metrics = reqwest::Client::new().get(format!("{}/metrics", verax.url()));
        let text = metrics.bearer_auth(verax.token()).send().await.unwrap().text().await.unwrap();
        let line = text.lines().find(|line| line.starts_with("verax_memory_limit_bytes "));
        line.unwrap().rsplit(' ').next().unwrap().parse::<u64>().unwrap()
    };
    assert_eq!(limit().await, 64 << 20);
    write("32MiB", "debug");
    verax.send(Signal::SIGHUP);
    until("the new limit holds", async || limit().await == 32 << 20).await;
    assert!(verax.log().contains("the settings were read anew"));
    // What cannot be read changes nothing, and says what is wrong.
    write("much", "debug");
    verax.send(Signal::SIGHUP);
    until("it is told", async || verax.log().contains("the settings cannot be read")).await;
    assert!(verax.log().contains("much"), "{}", verax.log());
    assert_eq!((limit().await, verax.process()), (32 << 20, process));
    assert_eq!(boards.get("k").await.unwrap().unwrap().value, "kept");
}
