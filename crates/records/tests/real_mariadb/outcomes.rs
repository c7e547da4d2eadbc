//! Changes whose outcome is lost, and replies that come too late, against a real MariaDB.

use std::collections::HashSet;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rstest::rstest;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use verax_core::{Name, Timestamp};
use verax_records::launcher::{Listen, PrivateServer, PrivateServerOptions};
use verax_records::{
    ActivityFilter, Actor, Identities, NewToken, Records, RecordsError, TenantRecord, TokenRecord,
};

const NOW: Timestamp = Timestamp::from_millis(1);

fn name(text: &str) -> Name {
    Name::new(text).unwrap()
}

fn actor() -> Actor {
    Actor::new("the test")
}

/// What becomes of the next COMMIT that goes through a [`Cutter`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
enum Cut {
    Nothing,
    /// MariaDB gets it, and its answer is lost.
    Answer,
    /// It is lost on its way.
    Request,
    /// Nothing that was sent over the connections of now arrives any more, either way.
    Everything,
}

/// A way to MariaDB that cuts a connection at its COMMIT.
struct Cutter {
    address: SocketAddr,
    cut: Arc<AtomicU8>,
}

impl Cutter {
    async fn before(port: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let cut = Arc::new(AtomicU8::new(Cut::Nothing as u8));
        let shared = Arc::clone(&cut);
        tokio::spawn(async move {
            while let Ok((here, _)) = listener.accept().await {
                let there = TcpStream::connect(("127.0.0.1", port)).await.unwrap();
                tokio::spawn(pass(here, there, Arc::clone(&shared)));
            }
        });
        Self { address, cut }
    }
}

async fn pass(mut here: TcpStream, mut there: TcpStream, cut: Arc<AtomicU8>) {
    let (mut up, mut down) = (vec![0; 64 << 10], vec![0; 64 << 10]);
    loop {
        tokio::select! {
            read = here.read(&mut up) => {
                let Ok(read @ 1..) = read else { return };
                if cut.load(Ordering::SeqCst) == Cut::Everything as u8 {
                    // Silent, and not closed: like a network that loses every packet.
                    return std::future::pending().await;
                }
                let bytes = &up[..read];
                if bytes.windows(6).any(|part| part == b"COMMIT") {
                    let now = cut.swap(Cut::Nothing as u8, Ordering::SeqCst);
                    if now == Cut::Request as u8 {
                        return;
                    }
                    if now == Cut::Answer as u8 {
                        there.write_all(bytes).await.unwrap();
                        // It is done when the answer begins to come.
                        let _ = there.read(&mut down).await;
                        return;
                    }
                }
                if there.write_all(bytes).await.is_err() {
                    return;
                }
            }
            read = there.read(&mut down) => {
                let Ok(read @ 1..) = read else { return };
                if here.write_all(&down[..read]).await.is_err() {
                    return;
                }
            }
        }
    }
}

#[rstest]
#[case(Cut::Answer, true)]
#[case(Cut::Request, false)]
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_commit_reply_is_resolved_by_reading(#[case] cut: Cut, #[case] made: bool) {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let cutter = Cutter::before(server.port().unwrap()).await;
    let port = format!(":{}/", server.port().unwrap());
    let url = server.url("verax").replace(&port, &format!(":{}/", cutter.address.port()));
    let records = Records::open(url).await.unwrap();
    let first = records.create_tenant(&name("ferrydesk"), &actor(), NOW).await.unwrap();

    cutter.cut.store(cut as u8, Ordering::SeqCst);
    let second = records.create_tenant(&name("tideline"), &actor(), NOW).await;
    let there = records.tenants().await.unwrap();
    match made {
        true => {
            let second = second.unwrap();
            assert_eq!(second.revision, first.revision + 1);
            assert!(there.contains(&second.value), "{there:?}");
        }
        false => {
            assert!(matches!(second, Err(RecordsError::Unavailable(_))), "{second:?}");
            assert_eq!(there, [first.value]);
            // Nothing is left that would hold the next change up.
            let again = records.create_tenant(&name("tideline"), &actor(), NOW).await.unwrap();
            assert_eq!(again.revision, first.revision + 1);
        }
    }
    server.stop().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn unresponsive_connections_are_dropped() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let cutter = Cutter::before(server.port().unwrap()).await;
    let port = format!(":{}/", server.port().unwrap());
    let url = server.url("verax").replace(&port, &format!(":{}/", cutter.address.port()));
    let records = Records::open(url).await.unwrap();
    // All connections that are kept lose everything from now on, and so do new ones.
    let pings = (0..4).map(|_| records.ping());
    assert!(futures_util::future::join_all(pings).await.iter().all(Result::is_ok));
    cutter.cut.store(Cut::Everything as u8, Ordering::SeqCst);
    let began = Instant::now();
    let lost = records.create_tenant(&name("lost"), &actor(), NOW).await;
    assert!(matches!(lost, Err(RecordsError::Unavailable(_))), "{lost:?}");
    assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
    // Packets arrive again, on new connections: none of the old ones is waited for.
    cutter.cut.store(Cut::Nothing as u8, Ordering::SeqCst);
    records.create_tenant(&name("found"), &actor(), NOW).await.unwrap();
    let there: Vec<_> = records.tenants().await.unwrap().into_iter().map(|t| t.name).collect();
    assert_eq!(there, [name("found")]);
    server.stop().await.unwrap();
}

/// The tenants and tokens whose creation was acknowledged to a worker.
type Acknowledged = (Vec<TenantRecord>, Vec<TokenRecord>);

/// Creates tenants and tokens for a while.
async fn create_for(time: Duration, records: Records, round: usize, worker: usize) -> Acknowledged {
    let (mut tenants, mut tokens) = (Vec::new(), Vec::new());
    let began = Instant::now();
    for n in 0.. {
        if began.elapsed() > time {
            break;
        }
        let tenant = name(&format!("t-{round}-{worker}-{n}"));
        if let Ok(made) = records.create_tenant(&tenant, &actor(), NOW).await {
            tenants.push(made.value);
        }
        let mut hash = [0; 32];
        hash[..3].copy_from_slice(&[round as u8, worker as u8, n as u8]);
        hash[3..11].copy_from_slice(&u64::to_le_bytes(n as u64));
        let token = NewToken::new(hash, "admin", "");
        if let Ok(made) = records.create_token(&token, &actor(), NOW).await {
            tokens.push(made.value);
        }
    }
    (tenants, tokens)
}

/// MariaDB stands still while tenants and tokens are created and deleted: whatever the replies of
/// that time are, none of them is taken for the answer to another question.
#[tokio::test(flavor = "multi_thread")]
async fn late_replies_answer_no_other_query() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start_with(PrivateServerOptions {
        directory: directory.path().to_owned(),
        mariadbd: "mariadbd".into(),
        listen: Listen::Socket,
    });
    let server = server.await.unwrap();
    let records = Records::open(server.url("verax")).await.unwrap();
    let process = Pid::from_raw(server.process_id().unwrap() as i32);
    let (mut tenants, mut tokens) = (HashSet::new(), Vec::new());
    // Short and long against the bounds of a sign of life (2 s), connecting (5 s) and an exchange
    // (10 s).
    for (round, stop_ms) in [100, 1_900, 2_500, 6_000, 11_000].into_iter().enumerate() {
        let mut tasks = tokio::task::JoinSet::new();
        for worker in 0..6usize {
            let time = Duration::from_millis(stop_ms + 500);
            tasks.spawn(create_for(time, records.clone(), round, worker));
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
        kill(process, Signal::SIGSTOP).unwrap();
        tokio::time::sleep(Duration::from_millis(stop_ms)).await;
        kill(process, Signal::SIGCONT).unwrap();
        let going = Instant::now();
        while records.ping().await.is_err() {
            assert!(going.elapsed() < Duration::from_secs(60), "the records do not come back");
        }
        while let Some(done) = tasks.join_next().await {
            let (made_tenants, made_tokens) = done.unwrap();
            tenants.extend(made_tenants.into_iter().map(|tenant| (tenant.id, tenant.name)));
            tokens.extend(made_tokens);
        }
    }
    let stored: HashSet<_> =
        records.tenants().await.unwrap().into_iter().map(|t| (t.id, t.name)).collect();
    assert!(
        tenants.len() > 50 && tenants.is_subset(&stored),
        "an acknowledged tenant is not there"
    );
    let stored = records.tokens().await.unwrap();
    for token in &tokens {
        assert!(stored.contains(token), "acknowledged, and not there like this: {token:?}");
    }
    let identities: HashSet<u64> = tokens.iter().map(|token| token.id).collect();
    assert_eq!(identities.len(), tokens.len(), "an identity was given twice");
    assert_eq!(
        records.revision().await.unwrap(),
        (stored.len() + records.tenants().await.unwrap().len()) as u64
    );
    server.stop().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn identities_and_epochs_continue_above_what_is_known() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let records = Records::open(server.url("verax")).await.unwrap();
    records.create_token(&NewToken::new([1; 32], "admin", ""), &actor(), NOW).await.unwrap();
    assert_eq!(records.next_lock_epoch(0, NOW).await.unwrap(), 1);
    // As after a dump that has forgotten what was known.
    let known = Identities { tenant: 7, origin: 0, token: 41, run: 3 };
    records.raise_identities(&known).await.unwrap();
    let token =
        records.create_token(&NewToken::new([2; 32], "admin", ""), &actor(), NOW).await.unwrap();
    let tenant = records.create_tenant(&name("tideline"), &actor(), NOW).await.unwrap();
    assert_eq!((token.value.id, tenant.value.id), (42, 8));
    assert_eq!(records.next_lock_epoch(9, NOW).await.unwrap(), 10);
    assert_eq!(records.next_lock_epoch(10, NOW).await.unwrap(), 11);
    assert_eq!(records.next_lock_epoch(3, NOW).await.unwrap(), 12);
    let snapshot = records.snapshot().await.unwrap();
    assert_eq!(Identities::of(&snapshot), Identities { tenant: 8, origin: 0, token: 42, run: 0 });
    server.stop().await.unwrap();
}

/// Scopes end with what they open: a tenant made again under an old name is opened by no old token,
/// and has none of its activity.
#[tokio::test(flavor = "multi_thread")]
async fn a_new_tenant_inherits_nothing_from_a_deleted_one_of_its_name() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let records = Records::open(server.url("verax")).await.unwrap();
    let tideline = name("tideline");
    records.create_tenant(&tideline, &actor(), NOW).await.unwrap();
    let token = async |n: u8, scopes: &str| {
        records
            .create_token(&NewToken::new([n; 32], scopes, ""), &actor(), NOW)
            .await
            .unwrap()
            .value
    };
    let whole = token(1, "read:tideline manage:tideline/tables").await;
    let mixed = token(2, "read:tideline read:tideline-north").await;
    let other = token(3, "admin").await;
    records.delete_tenant(&tideline, &actor(), NOW).await.unwrap();
    let tokens = records.tokens().await.unwrap();
    let now = |id| tokens.iter().find(|token| token.id == id).unwrap();
    assert_eq!((now(whole.id).scopes.as_str(), now(whole.id).revoked_at), ("", Some(NOW)));
    assert_eq!(
        (now(mixed.id).scopes.as_str(), now(mixed.id).revoked_at),
        ("read:tideline-north", None)
    );
    assert_eq!(now(other.id), &other);
    records.create_tenant(&tideline, &actor(), NOW).await.unwrap();
    let activity =
        records.activity(&ActivityFilter::latest(Some(tideline.clone()), 10)).await.unwrap();
    assert_eq!(activity.iter().map(|a| a.action.as_str()).collect::<Vec<_>>(), ["tenant.create"]);
    assert!(records.activity(&ActivityFilter::latest(None, 10)).await.unwrap().len() > 5);
    server.stop().await.unwrap();
}
