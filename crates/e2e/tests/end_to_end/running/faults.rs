//! Faults under changing load: MariaDB stands still, MariaDB is killed, Verax is killed. Whatever
//! was acknowledged is there afterwards, in MariaDB and in memory; nothing is half there; nothing
//! answers for anything else; and the records are back soon.
//!
//! `make faults` runs it at full length; as one of the tests it is short.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use nix::sys::signal::Signal;
use tokio::task::JoinSet;
use verax_api::{CreateNamespace, CreateToken};
use verax_client::{Client, ClientError, ClientOptions};
use verax_e2e::{Verax, is_running, send, until};

/// How often each fault happens.
struct Rounds {
    stops: usize,
    kills: usize,
    mariadb_kills: usize,
    stop_ms: &'static [u64],
}

const SHORT: Rounds =
    Rounds { stops: 3, kills: 3, mariadb_kills: 2, stop_ms: &[200, 1_200, 3_000] };

const FULL: Rounds = Rounds {
    stops: 100,
    kills: 100,
    mariadb_kills: 50,
    stop_ms: &[50, 200, 500, 1_000, 1_900, 2_100, 3_000, 5_500, 10_500, 13_000],
};

/// Callers that change records.
const CALLERS: usize = 4;

/// What is known of something: whether it was there after the last answer, or may be either way
/// because an answer was lost.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Known {
    There,
    Gone,
    Unsure,
}

impl Known {
    fn after(result: &Result<(), ClientError>, there: bool) -> Self {
        match result {
            Ok(()) if there => Self::There,
            Ok(()) => Self::Gone,
            Err(_) => Self::Unsure,
        }
    }
}

/// What the callers know.
#[derive(Debug, Default)]
struct Model {
    namespaces: HashMap<String, Known>,
    /// By note: the identity and the secret.
    tokens: BTreeMap<String, (u64, String, Known)>,
    /// Notes of tokens whose answer was lost.
    unsure_tokens: HashSet<String>,
    acknowledged: u64,
    failed: u64,
}

/// Where the callers go: a restart changes it.
#[derive(Debug, Default)]
struct Place(Mutex<(String, String)>);

impl Place {
    fn client(&self) -> Client {
        let (url, token) = self.0.lock().unwrap().clone();
        let timeout = Duration::from_secs(20);
        Client::new(ClientOptions { url, token: Some(token.into()), timeout, ..Default::default() })
            .unwrap()
    }
}

async fn change_records(
    caller: usize,
    place: Arc<Place>,
    model: Arc<Mutex<Model>>,
    last: Arc<AtomicU64>,
    pause: Arc<AtomicBool>,
    done: Arc<AtomicBool>,
    resting: Arc<AtomicU64>,
) {
    while !done.load(Ordering::SeqCst) {
        if pause.load(Ordering::SeqCst) {
            resting.fetch_add(1, Ordering::SeqCst);
            while pause.load(Ordering::SeqCst) && !done.load(Ordering::SeqCst) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
            resting.fetch_sub(1, Ordering::SeqCst);
            continue;
        }
        let (n, client) = (last.fetch_add(1, Ordering::SeqCst), place.client());
        let name = format!("n{caller}-{n}");
        let request = CreateNamespace { name: name.clone(), policy: Default::default() };
        let created = client.create_namespace("tideline", &request).await.map(drop);
        let mut known = Known::after(&created, true);
        let mut outcomes = vec![created.is_ok()];
        if created.is_ok() && n % 2 == 0 {
            let namespace = client.namespace("tideline", &name).unwrap();
            let deleted = namespace.delete_namespace().await;
            known = Known::after(&deleted, false);
            outcomes.push(deleted.is_ok());
        }
        model.lock().unwrap().namespaces.insert(name.clone(), known);
        let request = CreateToken::new(&["read:tideline".into()], &name);
        match client.create_token(&request).await {
            Ok(created) => {
                let (id, secret) = (created.token.id, created.secret);
                let mut known = Known::There;
                outcomes.push(true);
                if n % 3 == 0 {
                    let revoked = client.revoke_token(id).await;
                    known = Known::after(&revoked, false);
                    outcomes.push(revoked.is_ok());
                }
                model.lock().unwrap().tokens.insert(name, (id, secret, known));
            }
            Err(_) => {
                outcomes.push(false);
                model.lock().unwrap().unsure_tokens.insert(name);
            }
        }
        let acknowledged = outcomes.iter().filter(|outcome| **outcome).count() as u64;
        {
            let mut model = model.lock().unwrap();
            model.acknowledged += acknowledged;
            model.failed += outcomes.len() as u64 - acknowledged;
        }
        if acknowledged == 0 {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
}

/// Compares what is served with what the callers know.
async fn compare(verax: &Verax, model: &Mutex<Model>, after: &str) {
    let client = verax.client();
    let served: HashSet<String> =
        client.namespaces("tideline").await.unwrap().into_iter().map(|n| n.name).collect();
    let listed = client.tokens().await.unwrap();
    let identities: HashSet<u64> = listed.iter().map(|token| token.id).collect();
    assert_eq!(identities.len(), listed.len());
    let listed: HashMap<u64, &verax_api::Token> = listed.iter().map(|t| (t.id, t)).collect();
    let (namespaces, tokens) = {
        let model = model.lock().unwrap();
        (model.namespaces.clone(), model.tokens.clone())
    };
    for (name, known) in &namespaces {
        match known {
            Known::There => assert!(served.contains(name), "{after}: namespace {name} is lost"),
            Known::Gone => assert!(!served.contains(name), "{after}: namespace {name} is back"),
            Known::Unsure => {}
        }
        // What is served can be used, and nothing else: it is not half there.
        if *known == Known::Unsure {
            let used = client.namespace("tideline", name).unwrap().info().await.is_ok();
            assert_eq!(used, served.contains(name), "{after}: namespace {name} is half there");
        }
    }
    for (note, (id, secret, known)) in &tokens {
        let listed = listed.get(id).unwrap_or_else(|| panic!("{after}: token {note} is lost"));
        assert_eq!(&listed.note, note, "{after}: token {id} is another");
        // Only for a few, since each is a request: the latest, and all uncertain ones.
        let opens = async || verax.client_with(secret).namespaces("tideline").await.is_ok();
        match known {
            Known::There => assert!(listed.revoked_at.is_none(), "{after}: {note} was revoked"),
            Known::Gone => {
                assert!(listed.revoked_at.is_some(), "{after}: {note} is not revoked any more");
                assert!(!opens().await, "{after}: the revoked token {note} opens");
            }
            Known::Unsure => {
                assert_eq!(opens().await, listed.revoked_at.is_none(), "{after}: {note}")
            }
        }
    }
}

/// What befalls the service in a round.
#[derive(Debug, Clone, Copy)]
enum Fault {
    MariaDbHangs,
    VeraxIsKilled,
    MariaDbIsKilled,
}

impl Fault {
    fn of(round: usize, rounds: &Rounds) -> Self {
        match round {
            round if round < rounds.stops => Fault::MariaDbHangs,
            round if round < rounds.stops + rounds.kills => Fault::VeraxIsKilled,
            _ => Fault::MariaDbIsKilled,
        }
    }

    /// Brings it about; returns the service, which may be another process.
    async fn cause(self, verax: Verax, stop: Duration) -> Verax {
        match self {
            Fault::MariaDbHangs => {
                let mariadb = verax.mariadb().unwrap();
                send(mariadb, Signal::SIGSTOP);
                tokio::time::sleep(stop).await;
                send(mariadb, Signal::SIGCONT);
                verax
            }
            Fault::VeraxIsKilled => {
                tokio::task::spawn_blocking(|| verax.kill_and_restart()).await.unwrap()
            }
            Fault::MariaDbIsKilled => {
                let mariadb = verax.mariadb().unwrap();
                send(mariadb, Signal::SIGKILL);
                until("MariaDB runs again", async || {
                    verax.mariadb().is_some_and(|p| p != mariadb && is_running(p))
                })
                .await;
                verax
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_acknowledged_is_lost() {
    let full = std::env::var("VERAX_FAULTS").is_ok_and(|length| length == "full");
    let rounds = if full { FULL } else { SHORT };
    let mut verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "tideline"]).done();
    let place = Arc::new(Place::default());
    let model = Arc::new(Mutex::new(Model::default()));
    let [pause, done] = [(); 2].map(|()| Arc::new(AtomicBool::new(false)));
    let (last, resting) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicU64::new(0)));
    let goes_to = |verax: &Verax| {
        *place.0.lock().unwrap() = (verax.url().to_owned(), verax.token());
    };
    goes_to(&verax);
    let mut callers = JoinSet::new();
    for caller in 0..CALLERS {
        let (place, model, last) = (Arc::clone(&place), Arc::clone(&model), Arc::clone(&last));
        let (pause, done, resting) = (Arc::clone(&pause), Arc::clone(&done), Arc::clone(&resting));
        callers.spawn(change_records(caller, place, model, last, pause, done, resting));
    }
    let mut back: Vec<Duration> = Vec::new();
    let all = rounds.stops + rounds.kills + rounds.mariadb_kills;
    for round in 0..all {
        tokio::time::sleep(Duration::from_millis(100 + 37 * (round as u64 % 7))).await;
        let fault = Fault::of(round, &rounds);
        let stop_ms = rounds.stop_ms[round % rounds.stop_ms.len()];
        verax = fault.cause(verax, Duration::from_millis(stop_ms)).await;
        goes_to(&verax);
        let began = Instant::now();
        let client = verax.client();
        until("the records are back", async || {
            client.ready().await.is_ok_and(|ready| ready.records == "available")
        })
        .await;
        back.push(began.elapsed());
        // Often enough to find what a later fault would hide, and not after every one.
        if round % 10 == 9 || !full || round + 1 == all {
            pause.store(true, Ordering::SeqCst);
            until("the callers rest", async || resting.load(Ordering::SeqCst) == CALLERS as u64)
                .await;
            // A change whose caller was told that nobody knows may still be on its way.
            until("changes are made", async || client.create_tenant("probe").await.is_ok()).await;
            client.delete_tenant("probe").await.unwrap();
            compare(&verax, &model, &format!("round {round}, {fault:?}")).await;
            pause.store(false, Ordering::SeqCst);
            if full {
                let model = model.lock().unwrap();
                println!(
                    "{} of {all} faults, {} changes acknowledged, {} not",
                    round + 1,
                    model.acknowledged,
                    model.failed
                );
            }
        }
    }
    done.store(true, Ordering::SeqCst);
    while let Some(caller) = callers.join_next().await {
        caller.unwrap();
    }
    back.sort();
    let model = model.lock().unwrap();
    println!(
        "{all} faults; {} changes acknowledged, {} not; the records were back after {} ms in the middle and {} ms at most",
        model.acknowledged,
        model.failed,
        back[back.len() / 2].as_millis(),
        back[back.len() - 1].as_millis()
    );
    assert!(model.acknowledged > 20, "{} changes", model.acknowledged);
}
