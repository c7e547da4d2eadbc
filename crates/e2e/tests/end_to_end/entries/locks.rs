//! Named locks, as operators and services use them.

use std::sync::Arc;
use std::time::Duration;

use nix::sys::signal::Signal;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use verax_client::{
    Cache, CacheOptions, ClientError, LockOptions, LockOutcome, Namespace, PutOptions,
};
use verax_e2e::{Verax, send, until};
use verax_wire::{Frame, Hello, Request, VERSION};

fn started() -> Verax {
    prepared(Verax::ephemeral(&[]))
}

fn prepared(verax: Verax) -> Verax {
    verax.run(&["tenant", "create", "quayside"]).done();
    verax.run(&["namespace", "create", "quayside/berths"]).done();
    verax
}

fn berths(verax: &Verax) -> Namespace {
    verax.client().namespace("quayside", "berths").unwrap()
}

fn options(owner: &str, lease: u64, wait: u64) -> LockOptions {
    let [lease, wait] = [lease, wait].map(Duration::from_secs);
    LockOptions { owner: Some(owner.into()), lease, wait, ..LockOptions::default() }
}

async fn text(cache: &Cache) -> String {
    String::from_utf8(cache.get("k").await.unwrap().unwrap().value.to_vec()).unwrap()
}

fn held<G>(claimed: LockOutcome<G>) -> G {
    match claimed {
        LockOutcome::Acquired(lease) => lease,
        LockOutcome::HeldByOther(holder) => panic!("{holder:?} holds it"),
    }
}

#[test]
fn a_command_runs_under_a_lock_and_its_exit_code_is_passed_on() {
    let verax = started();
    let hold = |more: &[&str]| {
        let mut arguments = vec!["lock", "hold", "quayside/berths", "berth-7"];
        arguments.extend(more);
        verax.run(&arguments)
    };
    let first = hold(&["--", "sh", "-c", "echo $VERAX_LOCK $VERAX_FENCING_TOKEN; exit 7"]);
    assert_eq!((first.code, first.err.as_str()), (7, ""));
    let token = |out: &str| out.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap();
    assert!(first.out.starts_with("berth-7 "), "{}", first.out);
    let second = hold(&["--", "sh", "-c", "echo $VERAX_LOCK $VERAX_FENCING_TOKEN"]).done();
    assert!(token(&second) > token(&first.out));
    assert_eq!(hold(&["--", "sh", "-c", "kill -TERM $$"]).code, 128 + 15);
    let missing = hold(&["--", "/no/such/program"]);
    assert!(missing.code == 1 && missing.err.contains("cannot be run"), "{missing:?}");
    let free = verax.run(&["lock", "show", "quayside/berths", "berth-7"]).done();
    assert_eq!(free, "berth-7 is free\n");
    // Held by somebody else, it is refused, shown, forced open, and written down.
    let place = ["lock", "show", "quayside/berths", "berth-7"];
    let ended = std::thread::scope(|scope| {
        let holder = scope.spawn(|| hold(&["--owner", "harbor master", "--", "sleep", "600"]));
        loop {
            if verax.run(&place).done().contains("harbor master") {
                break;
            }
        }
        let refused = hold(&["--", "true"]);
        assert!(refused.code == 4 && refused.err.contains("harbor master"), "{refused:?}");
        let waited = hold(&["--wait", "1s", "--", "true"]);
        assert_eq!(waited.code, 4);
        let list = verax.run(&["lock", "list", "quayside/berths"]).done();
        assert!(list.contains("harbor master") && list.contains("timed out"), "{list}");
        let force = ["lock", "release", "quayside/berths", "berth-7", "--force"];
        assert!(verax.run(&force).done().contains("forced open"));
        holder.join().unwrap()
    });
    assert!(ended.code == 1 && ended.err.contains("was lost"), "{ended:?}");
    let activity = verax.run(&["activity", "list"]).done();
    assert!(activity.contains("lock.force-release"), "{activity}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lock_is_granted_to_one_caller_at_a_time_in_request_order() {
    let verax = started();
    let berths = berths(&verax);
    let first = held(berths.acquire_lock("berth-7", &options("first", 60, 0)).await.unwrap());
    let order = Arc::new(std::sync::Mutex::new(Vec::new()));
    let mut waiting = Vec::new();
    for n in 0..5 {
        let (berths, order) = (berths.clone(), Arc::clone(&order));
        waiting.push(tokio::spawn(async move {
            let mine = options(&n.to_string(), 60, 60);
            let lease = held(berths.acquire_lock("berth-7", &mine).await.unwrap());
            order.lock().unwrap().push((n, lease.fencing_token));
            berths.release_lock("berth-7", lease.fencing_token).await.unwrap();
        }));
        let line = async || self::berths(&verax).lock("berth-7").await.unwrap().queue.len();
        until("it is in the queue", async || line().await == n + 1).await;
    }
    // A caller that goes away leaves the queue, and blocks nobody.
    waiting.remove(2).abort();
    until("it has left", async || berths.lock("berth-7").await.unwrap().queue.len() == 4).await;
    berths.release_lock("berth-7", first.fencing_token).await.unwrap();
    for waiter in waiting {
        waiter.await.unwrap();
    }
    let order = order.lock().unwrap().clone();
    assert_eq!(order.iter().map(|(n, _)| *n).collect::<Vec<_>>(), [0, 1, 3, 4]);
    assert!(order.is_sorted_by_key(|(_, token)| *token) && order[0].1 > first.fencing_token);
    let late = berths.release_lock("berth-7", first.fencing_token).await.unwrap_err();
    assert_eq!(late.problem(), Some("not-held"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_guard_renews_its_lease_and_reports_its_loss() {
    let verax = started();
    let berths = berths(&verax);
    let short = LockOptions { lease: Duration::from_millis(900), ..options("guard", 1, 0) };
    let guard = held(berths.hold_lock("berth-7", &short).await.unwrap());
    let other = berths.acquire_lock("berth-7", &options("other", 5, 2)).await.unwrap();
    assert!(matches!(other, LockOutcome::HeldByOther(holder) if holder.owner == "guard"));
    assert!(!guard.is_lost(), "it was renewed for two seconds");
    berths.force_release_lock("berth-7").await.unwrap().unwrap();
    guard.lost().await;
    assert_eq!(guard.release().await.unwrap_err().problem(), Some("not-held"));
    // A dropped guard releases the lock.
    drop(held(berths.hold_lock("berth-7", &options("guard", 600, 0)).await.unwrap()));
    until("it is free", async || berths.lock("berth-7").await.unwrap().holder.is_none()).await;
    // Nobody can tell a guard that cannot reach Verax: it knows by itself.
    let guard = held(berths.hold_lock("berth-7", &short).await.unwrap());
    verax.send(Signal::SIGSTOP);
    guard.lost().await;
    verax.send(Signal::SIGCONT);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_holder_is_followed_by_the_next_in_the_queue() {
    let verax = started();
    let berths = berths(&verax);
    // The command outlives whoever is killed, but not by long.
    let command = "while kill -0 $PPID 2>/dev/null; do sleep 0.05; done";
    let mut holder = std::process::Command::new(verax_e2e::program())
        .args(["lock", "hold", "quayside/berths", "berth-7", "--lease", "2s", "--owner", "killed"])
        .args(["--", "sh", "-c", command])
        .env("VERAX_URL", verax.url())
        .env("VERAX_TOKEN", verax.token())
        .spawn()
        .unwrap();
    let mut token = 0;
    until("it holds the lock", async || {
        let lock = berths.lock("berth-7").await.unwrap();
        token = lock.holder.map_or(0, |holder| holder.fencing_token);
        token > 0
    })
    .await;
    let next = tokio::spawn({
        let berths = berths.clone();
        async move { berths.acquire_lock("berth-7", &options("next", 60, 60)).await }
    });
    until("the next is queued", async || berths.lock("berth-7").await.unwrap().queue.len() == 1)
        .await;
    holder.kill().unwrap();
    holder.wait().unwrap();
    let follows = held(next.await.unwrap().unwrap());
    assert!(follows.fencing_token > token);
}

#[tokio::test(flavor = "multi_thread")]
async fn fencing_tokens_grow_across_kills_and_locks_work_without_mariadb() {
    let mut verax = prepared(Verax::serve(&[]));
    let mut last = 0;
    for _ in 0..3 {
        let berths = berths(&verax);
        for n in 0..3 {
            let name = format!("berth-{n}");
            let lease = held(berths.acquire_lock(&name, &options("x", 600, 0)).await.unwrap());
            assert!(lease.fencing_token > last && lease.fencing_token < 1 << 53);
            last = lease.fencing_token;
        }
        verax = verax.kill_and_restart();
    }
    // The epoch is there, so MariaDB is not needed for locks.
    send(verax.mariadb().unwrap(), Signal::SIGSTOP);
    let berths = berths(&verax);
    let lease = held(berths.acquire_lock("berth-7", &options("x", 600, 0)).await.unwrap());
    assert!(lease.fencing_token > last);
    berths.renew_lock("berth-7", lease.fencing_token, Duration::from_secs(5)).await.unwrap();
    berths.release_lock("berth-7", lease.fencing_token).await.unwrap();
    send(verax.mariadb().unwrap(), Signal::SIGCONT);
}

#[tokio::test(flavor = "multi_thread")]
async fn locks_need_a_scope_for_their_namespace_and_are_isolated() {
    let verax = started();
    verax.run(&["namespace", "create", "quayside/cranes"]).done();
    let token = verax.run(&["token", "create", "--scope", "read:quayside/berths"]).done();
    let reader = verax.client_with(token.trim()).namespace("quayside", "berths").unwrap();
    let refused = reader.acquire_lock("berth-7", &options("x", 5, 0)).await.unwrap_err();
    assert_eq!(refused.problem(), Some("missing-scope"));
    let berths = berths(&verax);
    held(berths.acquire_lock("7", &options("x", 600, 0)).await.unwrap());
    let cranes = verax.client().namespace("quayside", "cranes").unwrap();
    held(cranes.acquire_lock("7", &options("y", 600, 0)).await.unwrap());
    assert_eq!(reader.lock("7").await.unwrap().holder.unwrap().owner, "x");
    assert!(reader.force_release_lock("7").await.is_err());
    for (lease, says) in [(0.05, "out of range"), (90_000.0, "out of range")] {
        let lease = Duration::from_secs_f64(lease);
        let asked = LockOptions { lease, ..options("x", 1, 0) };
        let refused = berths.acquire_lock("8", &asked).await.unwrap_err();
        let ClientError::Refused(problem) = refused else { panic!("{refused}") };
        assert!(problem.detail.contains(says), "{}", problem.detail);
    }
    verax.run(&["namespace", "delete", "quayside/cranes", "--yes"]).done();
    verax.run(&["namespace", "create", "quayside/cranes"]).done();
    held(cranes.acquire_lock("7", &options("y", 600, 0)).await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lease_over_the_wire_may_end_with_its_connection() {
    let verax = started();
    let cache = |verax: &Verax| {
        let options = CacheOptions { connections: 1, ..CacheOptions::default() };
        verax.client().cache("quayside", "berths", options).unwrap()
    };
    let second = cache(&verax);
    // By hand, as the holder's whole process is to go at once.
    let mut first = TcpStream::connect(verax.wire()).await.unwrap();
    let mut bytes = Vec::new();
    let (token, owner) = (verax.token(), "first");
    let hello = Hello { lowest: VERSION, highest: VERSION, token: &token, client: "test" };
    Request::Hello(hello).encode(Frame { namespace: 0, id: 1 }, &mut bytes);
    let open = Request::Open { tenant: "quayside", namespace: "berths" };
    open.encode(Frame { namespace: 0, id: 2 }, &mut bytes);
    let (name, lease, wait, ends_with_connection) = ("berth-7", 600_000, 0, true);
    let lock = Request::AcquireLock { name, owner, lease, wait, ends_with_connection };
    lock.encode(Frame { namespace: 1, id: 3 }, &mut bytes);
    first.write_all(&bytes).await.unwrap();
    let mut taken = None;
    until("it is held", async || {
        taken = second.peek_lock("berth-7").await.unwrap();
        taken.is_some()
    })
    .await;
    let holder = taken.unwrap();
    assert_eq!(holder.owner, "first");
    let refused = second.hold_lock("berth-7", &options("second", 600, 0)).await.unwrap();
    assert!(matches!(refused, LockOutcome::HeldByOther(holder) if holder.owner == "first"));
    // Others wait, by whatever way, and one of them goes away with its connection.
    let (waiting, http) = (cache(&verax), berths(&verax));
    waiting.put("k", "one", PutOptions::default()).await.unwrap();
    let gone = tokio::spawn({
        let waiting = waiting.clone();
        async move { waiting.hold_lock("berth-7", &options("gone", 600, 60)).await.map(drop) }
    });
    until("it waits", async || http.lock("berth-7").await.unwrap().queue.len() == 1).await;
    let next = tokio::spawn({
        let http = http.clone();
        async move { held(http.acquire_lock("berth-7", &options("next", 600, 60)).await.unwrap()) }
    });
    until("both wait", async || http.lock("berth-7").await.unwrap().queue.len() == 2).await;
    // A call that was given up stays in the queue until its turn, which is passed on immediately.
    gone.abort();
    drop(first);
    let next = next.await.unwrap();
    assert_eq!(text(&waiting).await, "one", "its connection works on");
    assert!(next.fencing_token > holder.fencing_token);
    let events = http.locks().await.unwrap().recent;
    assert!(events.iter().any(|e| e.kind == "disconnected" && e.owner == "first"), "{events:?}");
}
