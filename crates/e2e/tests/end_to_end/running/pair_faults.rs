//! Faults under changing load, for a pair: the active Verax is killed, ended or stopped, or MariaDB
//! stands still. Nothing that was acknowledged is lost, never do both give locks, and one of them
//! serves again soon.
//!
//! `make faults` runs it at full length; as one of the tests it is short.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use nix::sys::signal::Signal;
use tokio::task::JoinSet;
use verax_api::CreateNamespace;
use verax_client::{Client, ClientError, ClientOptions, LockOptions, LockOutcome};
use verax_e2e::{Verax, send, until};
use verax_records::launcher::PrivateServer;

#[derive(Debug, Clone, Copy)]
enum Fault {
    KillActive,
    EndActive,
    StopActive,
    StopMariaDb,
}

impl Fault {
    /// Brings it about at the active node.
    async fn cause(self, active: &mut Verax, server: &PrivateServer) {
        match self {
            Fault::KillActive => active.kill(),
            Fault::EndActive => send(active.process(), Signal::SIGTERM),
            Fault::StopActive => active.send(Signal::SIGSTOP),
            Fault::StopMariaDb => {
                send(server.process_id().unwrap(), Signal::SIGSTOP);
                tokio::time::sleep(STOP).await;
                send(server.process_id().unwrap(), Signal::SIGCONT);
            }
        }
    }
}

/// The created namespaces that a node no longer lists.
async fn lost(client: &Client, seen: &Seen) -> Vec<String> {
    let created = seen.created.lock().unwrap().clone();
    let mut served = HashSet::new();
    until("the namespaces are listed", async || {
        let listed = client.namespaces("quayside").await;
        served = listed.map(|all| all.into_iter().map(|n| n.name).collect()).unwrap_or_default();
        !served.is_empty()
    })
    .await;
    created.difference(&served).cloned().collect()
}

const FAULTS: [Fault; 4] =
    [Fault::KillActive, Fault::StopActive, Fault::StopMariaDb, Fault::EndActive];

/// How long a process or MariaDB stands still: longer than the lease is valid.
const STOP: Duration = Duration::from_millis(4_500);

/// Callers that take locks, and callers that create namespaces.
const CALLERS: usize = 3;

/// A granted lock: when it was requested, when the response came, and its fencing token.
#[derive(Debug, Clone, Copy)]
struct Given {
    asked: Instant,
    answered: Instant,
    token: u64,
}

#[derive(Debug, Default)]
struct Seen {
    locks: Mutex<Vec<Given>>,
    created: Mutex<HashSet<String>>,
    done: AtomicBool,
}

/// Where both are, as clients know them.
fn client(pair: &[Verax; 2], token: &str) -> Client {
    let url = format!("{},{}", pair[0].url(), pair[1].url());
    // A process that stands still is found out by its silence alone.
    let timeout = Duration::from_secs(2);
    Client::new(ClientOptions { url, token: Some(token.into()), timeout, ..Default::default() })
        .unwrap()
}

/// The client of now: a restart changes the addresses.
type Current = Arc<Mutex<Client>>;

fn current(of: &Current) -> Client {
    of.lock().unwrap().clone()
}

async fn take_locks(caller: usize, clients: Current, seen: Arc<Seen>) {
    for n in 0.. {
        if seen.done.load(Ordering::SeqCst) {
            return;
        }
        let berths = current(&clients).namespace("quayside", "berths").unwrap();
        let (name, asked) = (format!("{caller}-{n}"), Instant::now());
        match berths.acquire_lock(&name, &LockOptions::default()).await {
            Ok(LockOutcome::Acquired(lease)) => {
                let answered = Instant::now();
                let given = Given { asked, answered, token: lease.fencing_token };
                seen.locks.lock().unwrap().push(given);
                let _ = berths.release_lock(&name, lease.fencing_token).await;
            }
            Ok(LockOutcome::HeldByOther(holder)) => panic!("{name} is held by {holder:?}"),
            Err(_) => tokio::time::sleep(Duration::from_millis(20)).await,
        }
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
}

async fn create_namespaces(caller: usize, clients: Current, seen: Arc<Seen>) {
    for n in 0.. {
        if seen.done.load(Ordering::SeqCst) {
            return;
        }
        let name = format!("n{caller}-{n}");
        let request = CreateNamespace { name: name.clone(), policy: Default::default() };
        match current(&clients).create_namespace("quayside", &request).await {
            Ok(_) => drop(seen.created.lock().unwrap().insert(name)),
            Err(_) => tokio::time::sleep(Duration::from_millis(20)).await,
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Whoever is asked after another was answered gets the larger token, whichever Verax gave it.
fn assert_tokens_grow(mut locks: Vec<Given>) {
    let mut by_answer = locks.clone();
    by_answer.sort_by_key(|given| given.answered);
    locks.sort_by_key(|given| given.asked);
    let (mut answered, mut largest) = (by_answer.into_iter().peekable(), 0);
    for given in locks {
        while let Some(before) = answered.next_if(|before| before.answered < given.asked) {
            largest = largest.max(before.token);
        }
        assert!(given.token > largest, "{} was given after {largest}", given.token);
    }
}

async fn role(verax: &Verax, token: &str) -> Result<String, ClientError> {
    verax.client_with(token).ready().await.map(|ready| ready.role)
}

/// Which of the two is active; waits until one is, and the other is a standby.
async fn active(pair: &[Verax; 2], token: &str) -> usize {
    let mut found = None;
    until("one is active and the other stands by", async || {
        let roles = [role(&pair[0], token).await, role(&pair[1], token).await];
        let is = |n: usize, what: &str| roles[n].as_ref().is_ok_and(|role| role == what);
        found = (0..2).find(|n| is(*n, "active") && is(1 - n, "standby"));
        found.is_some()
    })
    .await;
    found.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn two_nodes_never_both_serve_and_lose_nothing_acknowledged() {
    let full = std::env::var("VERAX_FAULTS").is_ok_and(|length| length == "full");
    let rounds = if full { 48 } else { 4 };
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let url = server.url("verax");
    let first = Verax::serve_over(&url, &[]);
    let token = first.token();
    first.run(&["tenant", "create", "quayside"]).done();
    first.run(&["namespace", "create", "quayside/berths"]).done();
    let mut pair = [first, Verax::serve_over(&url, &[])];
    let clients: Current = Arc::new(Mutex::new(client(&pair, &token)));
    let seen = Arc::new(Seen::default());
    let mut callers = JoinSet::new();
    for caller in 0..CALLERS {
        callers.spawn(take_locks(caller, Arc::clone(&clients), Arc::clone(&seen)));
        callers.spawn(create_namespaces(caller, Arc::clone(&clients), Arc::clone(&seen)));
    }
    let (mut back, mut again) = (Vec::new(), Vec::new());
    for round in 0..rounds {
        let at = active(&pair, &token).await;
        until_standby(&clients).await;
        // At another moment of the second between two confirmations each time.
        tokio::time::sleep(Duration::from_millis(1_000 + 137 * (round as u64 % 8))).await;
        let fault = FAULTS[round % FAULTS.len()];
        fault.cause(&mut pair[at], &server).await;
        let began = Instant::now();
        if !matches!(fault, Fault::StopMariaDb) {
            until("the other one is active", async || {
                role(&pair[1 - at], &token).await.is_ok_and(|role| role == "active")
            })
            .await;
            back.push((began.elapsed(), fault));
        }
        // What was asked for from here on.
        let active_since = Instant::now();
        until("locks are granted again", async || {
            seen.locks.lock().unwrap().last().is_some_and(|given| given.asked > active_since)
        })
        .await;
        again.push(began.elapsed());
        match fault {
            Fault::KillActive | Fault::EndActive => {
                let [one, two] = pair;
                let (ended, other) = if at == 0 { (one, two) } else { (two, one) };
                let again = tokio::task::spawn_blocking(|| ended.start_again()).await.unwrap();
                pair = if at == 0 { [again, other] } else { [other, again] };
                *clients.lock().unwrap() = client(&pair, &token);
            }
            Fault::StopActive => {
                tokio::time::sleep(STOP.saturating_sub(began.elapsed())).await;
                pair[at].send(Signal::SIGCONT);
            }
            Fault::StopMariaDb => {}
        }
        let at = active(&pair, &token).await;
        let lost = lost(&pair[at].client_with(&token), &seen).await;
        assert!(lost.is_empty(), "{fault:?}: {lost:?}");
        if full {
            println!("{} of {rounds}: {fault:?}", round + 1);
        }
    }
    seen.done.store(true, Ordering::SeqCst);
    while let Some(caller) = callers.join_next().await {
        caller.unwrap();
    }
    report(rounds, &seen, &back, again);
    drop(pair);
    server.stop().await.unwrap();
}

/// Waits until the active node knows of a standby.
async fn until_standby(clients: &Current) {
    until("the active one knows of the standby", async || {
        let nodes = current(clients).nodes().await;
        nodes.is_ok_and(|nodes| nodes.iter().any(|node| node.state == "standby"))
    })
    .await;
}

/// Prints what happened after all faults, and checks the fencing tokens.
fn report(rounds: usize, seen: &Seen, back: &[(Duration, Fault)], mut again: Vec<Duration>) {
    let locks = seen.locks.lock().unwrap().clone();
    let created = seen.created.lock().unwrap().len();
    let (given, mut times): (_, Vec<_>) =
        (locks.len(), back.iter().map(|(time, _)| *time).collect());
    times.sort();
    again.sort();
    println!(
        "{rounds} faults; {given} locks given, {created} namespaces created; the other one was active after {} ms in the middle and {} ms at most, locks were given again after {} ms at most",
        times[times.len() / 2].as_millis(),
        times[times.len() - 1].as_millis(),
        again[again.len() - 1].as_millis()
    );
    println!("{back:?}");
    assert_tokens_grow(locks);
    assert!(given > 50 && created > 10, "{given} locks, {created} namespaces");
}
