//! A pair of Verax over one MariaDB: one is killed, stopped or ended in order, and the other takes
//! over; clients that know both addresses, or one of them, follow.

use std::process::Command;
use std::time::{Duration, Instant};

use nix::sys::signal::Signal;
use serde_json::Value;
use verax_api::{CreateNamespace, PolicyChange};
use verax_client::{
    Cache, CacheOptions, Client, ClientOptions, LockOptions, LockOutcome, PutOptions,
};
use verax_e2e::{Browser, Verax, is_running, run, send, until, until_some};
use verax_records::launcher::PrivateServer;

/// Two Verax and their MariaDB.
struct Pair {
    first: Verax,
    second: Verax,
    token: String,
    server: PrivateServer,
    _directory: tempfile::TempDir,
}

impl Pair {
    /// Starts both; the first is active and knows of the second.
    async fn start() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let server = PrivateServer::start(directory.path()).await.unwrap();
        let url = server.url("verax");
        let first = Verax::serve_over(&url, &[]);
        let token = first.token();
        let client = first.client();
        client.create_tenant("quayside").await.unwrap();
        let policy = PolicyChange { max_age_seconds: Some(600.0), ..Default::default() };
        let berths = CreateNamespace { name: "berths".into(), policy };
        client.create_namespace("quayside", &berths).await.unwrap();
        let second = Verax::serve_over(&url, &[]);
        until("the first one knows of the second", async || {
            client.nodes().await.unwrap().iter().any(|node| node.state == "standby")
        })
        .await;
        Self { first, second, token, server, _directory: directory }
    }

    /// A client that knows some of the addresses.
    fn client(&self, of: &[&Verax]) -> Client {
        let joined = |address: &dyn Fn(&Verax) -> String| {
            of.iter().map(|verax| address(verax)).collect::<Vec<_>>().join(",")
        };
        Client::new(ClientOptions {
            url: joined(&|verax| verax.url().to_owned()),
            wire: joined(&|verax| verax.wire().to_owned()),
            token: Some(self.token.clone().into()),
            ..Default::default()
        })
        .unwrap()
    }

    fn cache(&self, of: &[&Verax]) -> Cache {
        self.client(of).cache("quayside", "berths", CacheOptions::default()).unwrap()
    }

    async fn role(&self, verax: &Verax) -> String {
        self.client(&[verax]).ready().await.map_or_else(|e| e.to_string(), |ready| ready.role)
    }

    /// Runs a command that knows an address.
    fn run(&self, url: &str, arguments: &[&str]) -> verax_e2e::Answer {
        let environment = [("VERAX_URL", url), ("VERAX_TOKEN", self.token.as_str())];
        run(&environment, self.first.scratch("").as_path(), arguments, b"")
    }

    async fn end(self) {
        drop((self.first, self.second));
        self.server.stop().await.unwrap();
    }
}

/// Acquires a lock; `None` while none are granted.
async fn fencing_token(client: &Client, name: &str) -> Option<u64> {
    let berths = client.namespace("quayside", "berths").unwrap();
    match berths.acquire_lock(name, &LockOptions::default()).await.ok()? {
        LockOutcome::Acquired(lease) => Some(lease.fencing_token),
        LockOutcome::HeldByOther(holder) => panic!("{name} is held by {holder:?}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn clients_fail_over_when_the_active_node_is_killed_or_stops() {
    let mut pair = Pair::start().await;
    let both = [&pair.first, &pair.second];
    let (client, cache) = (pair.client(&both), pair.cache(&both));
    // Only the address of the standby: it tells where the active one is.
    let (late_client, late_cache) = (pair.client(&[&pair.second]), pair.cache(&[&pair.second]));
    let entries = client.namespace("quayside", "berths").unwrap();
    cache.put("a", "before", PutOptions::default()).await.unwrap();
    assert_eq!(&late_cache.get("a").await.unwrap().unwrap().value[..], b"before");
    let tenants = late_client.tenants().await.unwrap();
    assert_eq!(tenants.len(), 1);
    let before = fencing_token(&client, "b").await.unwrap();

    pair.first.kill();
    let killed = Instant::now();
    until("the second one answers over HTTP", async || entries.get("a").await.is_ok()).await;
    let over_http = killed.elapsed();
    until("and over the wire", async || {
        cache.put("b", "after", PutOptions::default()).await.is_ok()
    })
    .await;
    println!("taken over after {over_http:?}, over the wire after {:?}", killed.elapsed());
    assert!(killed.elapsed() < Duration::from_secs(30));
    // It begins with an empty cache, and larger tokens; records are all there.
    assert!(cache.get("a").await.unwrap().is_none());
    assert!(fencing_token(&client, "b").await.unwrap() > before);
    assert_eq!(late_client.tenants().await.unwrap(), tenants);
    let listed = pair.run(pair.second.url(), &["node", "list", "--json"]).json();
    let states: Vec<&str> =
        listed.as_array().unwrap().iter().map(|node| node["state"].as_str().unwrap()).collect();
    assert!(states.contains(&"away") && states.contains(&"active"), "{listed}");

    // There is another standby; the active node shuts down.
    pair.first = Verax::serve_over(&pair.server.url("verax"), &[]);
    until("there is a standby", async || pair.role(&pair.first).await == "standby").await;
    let both = [&pair.first, &pair.second];
    let (client, cache) = (pair.client(&both), pair.cache(&both));
    cache.put("c", "x", PutOptions::default()).await.unwrap();
    let larger = fencing_token(&client, "d").await.unwrap();
    send(pair.second.process(), Signal::SIGTERM);
    until("the standby has taken over", async || {
        cache.put("c", "y", PutOptions::default()).await.is_ok()
            && pair.role(&pair.first).await == "active"
    })
    .await;
    assert!(fencing_token(&client, "d").await.unwrap() > larger);
    pair.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_standby_identifies_itself() {
    let pair = Pair::start().await;
    let (active, standby) = (&pair.first, &pair.second);
    let http = reqwest::Client::new();
    let get = async |path: &str, token: Option<&str>| {
        let mut request = http.get(format!("{}{path}", standby.url()));
        if let Some(token) = token {
            request = request.bearer_auth(token);
        }
        let response = request.send().await.unwrap();
        let status = response.status().as_u16();
        (status, response.json::<Value>().await.unwrap_or_default())
    };
    let (status, ready) = get("/readyz", None).await;
    assert_eq!((status, &ready["role"], &ready["ready"]), (503, &"standby".into(), &false.into()));
    // Entries, on the fast path and off it, and the rest.
    for path in ["/v1/tenants/quayside/namespaces/berths/entries/a", "/v1/tenants", "/v1/nothing"] {
        let (status, problem) = get(path, Some(&pair.token)).await;
        assert_eq!(status, 503, "{path}: {problem}");
        assert_eq!(problem["type"], "urn:verax:problem:standby");
        assert_eq!(problem["active"], active.url(), "{path}");
        // Who has not signed in does not learn where the active one is.
        let (status, problem) = get(path, None).await;
        assert_eq!((status, problem.get("active")), (503, None), "{path}");
    }
    assert_eq!(get("/v1/nodes", None).await.0, 401);
    let (status, nodes) = get("/v1/nodes", Some(&pair.token)).await;
    assert_eq!((status, nodes["items"].as_array().unwrap().len()), (200, 2));
    let shown = pair.run(standby.url(), &["node", "list"]).done();
    assert!(shown.contains("standby") && shown.contains("answered this"), "{shown}");
    // A command that knows the standby alone finds the active one.
    pair.run(standby.url(), &["put", "quayside/berths", "b", "x"]).done();
    assert_eq!(pair.run(active.url(), &["get", "quayside/berths", "b"]).done().trim(), "x");
    // So does the client in Python that knows both, the standby first, over either transport.
    let urls = format!("{},{}", standby.url(), active.url());
    let wires = format!("{},{}", standby.wire(), active.wire());
    for (variable, addresses) in [("VERAX_URL", urls), ("VERAX_WIRE_URL", wires)] {
        let read =
            "n = Verax.from_environment().cache('quayside', 'berths', CacheOptions(timeout=20))";
        let python = Command::new("python3")
            .args(["-B", "-c"])
            .arg(format!("from verax import *; {read}; print(n.get('b').value)"))
            .current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../../clients/python"))
            .env(variable, addresses)
            .env("VERAX_TOKEN", &pair.token)
            .output()
            .unwrap();
        let errors = String::from_utf8_lossy(&python.stderr);
        let said = String::from_utf8_lossy(&python.stdout);
        assert_eq!(said.trim(), "b'x'", "{variable}: {errors}");
    }
    // Neither can a second process with the same identity start.
    let copied = standby.scratch("copy");
    std::fs::create_dir(&copied).unwrap();
    std::fs::copy(standby.data().join("node.id"), copied.join("node.id")).unwrap();
    let url = pair.server.url("verax");
    let (wire, data) = ("127.0.0.1:0", copied.to_str().unwrap());
    let arguments = ["serve", "--http", wire, "--wire", wire, "--data-dir", data];
    let refused = run(&[("VERAX_RECORDS_URL", &url)], &copied, &arguments, b"");
    assert!(refused.code == 1 && refused.err.contains("remove node.id"), "{refused:?}");
    std::fs::write(copied.join("node.id"), "damaged").unwrap();
    let refused = run(&[("VERAX_RECORDS_URL", &url)], &copied, &arguments, b"");
    assert!(refused.code == 1 && refused.err.contains("node.id is damaged"), "{refused:?}");
    pair.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_paused_node_resumes_as_a_standby_without_old_entries() {
    let pair = Pair::start().await;
    let (old, new) = (&pair.first, &pair.second);
    // Each alone, so that neither is asked in the other's place.
    let of_old = pair.cache(&[old]);
    of_old.put("a", "old", PutOptions::default()).await.unwrap();
    old.send(Signal::SIGSTOP);
    until("the other one is active", async || pair.role(new).await == "active").await;
    let of_new = pair.cache(&[new]);
    of_new.put("a", "new", PutOptions::default()).await.unwrap();
    let held = fencing_token(&pair.client(&[new]), "berth").await.unwrap();
    old.send(Signal::SIGCONT);
    until("the old one stands by", async || pair.role(old).await == "standby").await;
    // Its connections ended, and new ones are led to the active one.
    let read =
        until_some("the value of the active one", async || of_old.get("a").await.ok().flatten())
            .await;
    assert_eq!(&read.value[..], b"new");
    let berths = pair.client(&[old]).namespace("quayside", "berths").unwrap();
    match berths.acquire_lock("berth", &LockOptions::default()).await.unwrap() {
        LockOutcome::HeldByOther(holder) => assert_eq!(holder.fencing_token, held),
        LockOutcome::Acquired(lease) => panic!("{lease:?}"),
    }
    pair.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_of_a_standby_says_so_and_follows_the_takeover() {
    let mut pair = Pair::start().await;
    let browser = Browser::start().await;
    let link = |url: &str| pair.run(url, &["sign-in"]).done();
    let (of_active, of_standby) = (link(pair.first.url()), link(pair.second.url()));
    browser.page.goto(of_active.trim()).await.unwrap();
    browser
        .text_when("[data-figure=standbys]", |text| text.contains("1 standby node is ready"))
        .await;
    browser.page.goto(of_standby.trim()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Another one").await;
    let table = browser.text_when("main table", |text| text.contains("standby")).await;
    assert!(table.contains("(this one)") && table.contains(pair.first.url()), "{table}");
    browser.assert_accessible("the nodes as a standby shows them").await;
    pair.first.kill();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    browser.text_when("[data-figure=standbys]", |text| text.contains("1 away")).await;
    pair.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_starts_a_pair_and_leaves_no_process_behind() {
    let mut verax = Verax::demo(&["--pair", "--no-traffic"]);
    let node = |name: &str| verax.data().join(name);
    let process = |name: &str| -> Option<u32> {
        std::fs::read_to_string(node(name).join("verax.lock")).ok()?.trim().parse().ok()
    };
    let token = until_some("the token is there", async || {
        std::fs::read_to_string(node("node-a").join("admin.token")).ok()
    })
    .await;
    let client = verax.client_with(token.trim());
    until("there are two, and the ferry network", async || {
        client.nodes().await.is_ok_and(|nodes| nodes.len() == 2)
            && client.tenants().await.is_ok_and(|tenants| tenants.len() == 3)
            // The last of what the demo sets up.
            && client.schedules(None).await.is_ok_and(|schedules| schedules.len() == 4)
    })
    .await;
    let board = async |client: &Client| {
        let boards = client.namespace("ferrydesk", "boards").unwrap();
        boards.get("board/aldermouth").await.is_ok()
    };
    until("a board is read through", async || board(&client).await).await;
    let nodes = client.nodes().await.unwrap();
    let standby = nodes.iter().find(|node| node.state == "standby").unwrap();
    let second = Client::new(ClientOptions {
        url: standby.http.clone(),
        token: Some(token.trim().to_owned().into()),
        ..Default::default()
    })
    .unwrap();
    let killed = process("node-a").unwrap();
    send(killed, Signal::SIGKILL);
    until("the other one reads a board through", async || board(&second).await).await;
    until("the first one is back", async || {
        process("node-a").is_some_and(|now| now != killed && is_running(now))
    })
    .await;
    until("it stands by", async || {
        second.nodes().await.is_ok_and(|n| n.iter().any(|node| node.state == "standby"))
    })
    .await;
    let processes = ["node-a", "node-b"].map(|name| process(name).unwrap());
    verax.kill();
    until("nothing runs any more", async || processes.iter().all(|p| !is_running(*p))).await;
}
