//! Hostile load from many connections: memory must stay within its margin, and a quiet tenant must
//! hardly notice.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use comfy_table::Table;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use verax_api::PolicyChange;
use verax_client::{Cache, CacheOptions, Client, ClientOptions, PutOptions};
use verax_control::access::Caller;
use verax_core::Name;
use verax_core::access::Scope;
use verax_core::meter::LatencyMeter;
use verax_server::WireLimits;
use verax_wire::{
    AskFlags, BatchOperations, Frame, GetFlags, Hello, Put, PutCondition, Request, Tags, VERSION,
};

use crate::Options;
use crate::fixture::Fixture;
use crate::memory::resident;
use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const LIMIT: u64 = 64 << 20;
const SAMPLES: u32 = 6;

/// How long the quiet tenant is measured alone, as a part of the whole.
const ALONE_PART: u32 = 6;

/// How long a hostile connection lasts until it is made anew.
const CONNECTION_TIME: Duration = Duration::from_secs(5);

/// What a hostile connection does.
#[derive(Debug, Clone, Copy)]
enum Attack {
    /// Announces large values and sends little of them.
    Announce,
    /// Asks for much and takes nothing.
    TakeNothing,
    /// Stores entries with tags and media types of their own.
    Clutter,
    /// Claims permits and makes them void.
    Claim,
    /// Waits for locks.
    Lock,
    /// Invalidates tags.
    Invalidate,
}

const ATTACKS: [(Attack, usize); 6] = [
    (Attack::Announce, 32),
    (Attack::TakeNothing, 16),
    (Attack::Clutter, 4),
    (Attack::Claim, 4),
    (Attack::Lock, 4),
    (Attack::Invalidate, 1),
];

fn put<'a>(key: &'a str, value: &'a [u8], media_type: &'a str, tags: &'a [&'a str]) -> Request<'a> {
    let (tags, condition) = (Tags::of(tags), PutCondition::Always);
    Request::Put(Put { key, value, media_type, lifetime: None, tags, condition })
}

/// The first thousand bytes of a put of 16 MiB; made once, since what the attackers hold is measured
/// with the service.
fn announced() -> &'static [u8] {
    static ANNOUNCED: OnceLock<Vec<u8>> = OnceLock::new();
    ANNOUNCED.get_or_init(|| {
        let (mut bytes, frame) = (Vec::new(), Frame { namespace: 1, id: 2 });
        put("announced", &vec![7; 16 << 20], "text/plain", &[]).encode(frame, &mut bytes);
        bytes.truncate(1_000);
        bytes.shrink_to_fit();
        bytes
    })
}

/// One connection of an attack, until it is cut off or its time is over. Its replies are read, unless
/// not reading them is what it does.
async fn attack(
    wire: SocketAddr,
    token: &str,
    attack: Attack,
    sent: &AtomicU64,
) -> std::io::Result<()> {
    let mut stream = TcpStream::connect(wire).await?;
    let mut bytes = Vec::new();
    let hello = Hello { lowest: VERSION, highest: VERSION, token, client: "hostile" };
    Request::Hello(hello).encode(Frame::default(), &mut bytes);
    let open = Request::Open { tenant: "flood", namespace: "junk" };
    open.encode(Frame { namespace: 0, id: 1 }, &mut bytes);
    stream.write_all(&bytes).await?;
    let (mut reader, mut writer) = stream.into_split();
    let reading = async {
        let mut thrown_away = vec![0; 64 << 10];
        while !matches!(attack, Attack::TakeNothing) && reader.read(&mut thrown_away).await? > 0 {}
        std::future::pending::<std::io::Result<()>>().await
    };
    let writing = async {
        loop {
            bytes.clear();
            for _ in 0..100 {
                let n = sent.fetch_add(1, Ordering::Relaxed);
                let (key, frame) = (format!("k/{n}"), Frame { namespace: 1, id: n as u32 | 1 });
                match attack {
                    Attack::Announce => {
                        bytes.extend_from_slice(announced());
                        break;
                    }
                    Attack::TakeNothing => {
                        let gets = [Request::Get { key: "large", flags: GetFlags::default() }];
                        Request::Batch(BatchOperations::of(&gets)).encode(frame, &mut bytes);
                    }
                    Attack::Clutter => {
                        let (tag, kind) = (format!("tag-{n}"), format!("text/{}", n % 2));
                        let kind = format!("{kind}{}", "x".repeat(240));
                        put(&key, b"v", &kind, &[&tag, "all"]).encode(frame, &mut bytes);
                    }
                    Attack::Claim => {
                        let flags = AskFlags::default();
                        let ask =
                            Request::Ask { key: &key, flags, owner: "", hold: 300_000, wait: 0 };
                        ask.encode(frame, &mut bytes);
                        if n.is_multiple_of(2) {
                            Request::Delete { key: &key }.encode(frame, &mut bytes);
                        }
                    }
                    Attack::Lock => {
                        let wait = 1_000 + n % 3_000;
                        let lock = Request::Lock {
                            name: "one",
                            owner: "",
                            hold: 1_000,
                            wait,
                            ends_with_connection: true,
                        };
                        lock.encode(frame, &mut bytes);
                    }
                    Attack::Invalidate => {
                        Request::InvalidateTag { tag: "all" }.encode(frame, &mut bytes);
                        break;
                    }
                }
            }
            writer.write_all(&bytes).await?;
            let pause = match attack {
                Attack::Announce => CONNECTION_TIME,
                Attack::Invalidate => Duration::from_millis(50),
                _ => Duration::from_millis(20),
            };
            tokio::time::sleep(pause).await;
        }
    };
    // Whatever ends it, another one comes.
    let both = async {
        tokio::select! { ended = reading => ended, ended = writing => ended }
    };
    tokio::time::timeout(CONNECTION_TIME, both).await.unwrap_or(Ok(()))
}

/// Reads one key after the other, two hundred a second, until a moment.
async fn quiet(cache: Cache, until: Instant, meter: Arc<LatencyMeter>) -> Result<(), String> {
    let mut ticks = tokio::time::interval(Duration::from_millis(5));
    let mut key = 0;
    while Instant::now() < until {
        ticks.tick().await;
        let (name, began) = (format!("gauge/{}", key % 1_000), Instant::now());
        let found = cache.get(&name).await.map_err(|e| e.to_string())?;
        meter.record(began.elapsed());
        found.ok_or_else(|| format!("{name} is gone, although its namespace has a reserve"))?;
        key += 1;
    }
    Ok(())
}

/// Memory, and the quiet tenant's latency, beside hostile load.
pub(crate) fn run(options: &Options) -> Result<Table, Failure> {
    let whole = Duration::from_secs_f64(options.soak_seconds);
    let fixture = Fixture::start(LIMIT)?;
    let service = Arc::clone(&fixture.service);
    let mut rows =
        table(["after", "requests sent", "in flight", "resident beyond the start", "quiet p99"]);
    let mib = |bytes: u64| format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20));
    fixture.runtime.block_on(async {
        let admin = Caller::service("benchmark", vec![Scope::Admin]);
        let control = service.control();
        control.create_tenant(&admin, "flood").await?;
        control.create_tenant(&admin, "tideline").await?;
        let reserve = PolicyChange {
            reserve_bytes: Some(4 << 20),
            // For longer than the load lasts.
            max_age_seconds: Some(86_400.0),
            ..PolicyChange::default()
        };
        let junk = PolicyChange::default();
        control.create_namespace(&admin, &Name::new("flood")?, "junk", &junk).await?;
        control.create_namespace(&admin, &Name::new("tideline")?, "levels", &reserve).await?;
        let scopes = ["read:flood", "write:flood"].map(str::to_owned);
        let hostile: Arc<str> = control.create_token(&admin, &scopes, "").await?.secret.into();
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let wire = listener.local_addr()?;
        let limits = WireLimits::default();
        tokio::spawn(verax_server::serve_wire(listener, Arc::clone(&service), None, limits));
        let own = ClientOptions {
            wire: wire.to_string(),
            token: Some(fixture.token.clone()),
            ..Default::default()
        };
        let client = Client::new(own)?;
        let patient = CacheOptions { timeout: Duration::from_secs(10), ..CacheOptions::default() };
        let levels = client.cache("tideline", "levels", patient.clone())?;
        for n in 0..1_000 {
            levels.put(&format!("gauge/{n}"), vec![7; 128], PutOptions::default()).await?;
        }
        let large = client.cache("flood", "junk", patient)?;
        large.put("large", vec![7; 30 << 10], PutOptions::default()).await?;

        let measured = async |time: Duration| -> Result<Duration, Failure> {
            let meter = Arc::new(LatencyMeter::default());
            quiet(levels.clone(), Instant::now() + time, Arc::clone(&meter)).await?;
            Ok(meter.counts().quantile(0.99).unwrap_or_default())
        };
        let alone = measured(whole / ALONE_PART).await?;
        announced();
        let (at_start, started) = (resident()?, Instant::now());
        let shown = |time: Duration| format!("{:.2} ms", time.as_secs_f64() * 1_000.0);
        rows.add_row(["alone".into(), "0".into(), mib(0), mib(0), shown(alone)]);

        let (sent, stop) = (Arc::new(AtomicU64::new(0)), started + whole);
        let mut attacks = JoinSet::new();
        for (kind, connections) in ATTACKS {
            for _ in 0..connections {
                let (token, sent) = (Arc::clone(&hostile), Arc::clone(&sent));
                attacks.spawn(async move {
                    while Instant::now() < stop {
                        if attack(wire, &token, kind, &sent).await.is_err() {
                            tokio::time::sleep(Duration::from_millis(100)).await;
                        }
                    }
                });
            }
        }
        for _ in 0..SAMPLES {
            let p99 = measured(whole / SAMPLES).await?;
            rows.add_row([
                format!("{:.0} s", started.elapsed().as_secs_f64()),
                sent.load(Ordering::Relaxed).to_string(),
                mib(service.engine().in_flight().taken()),
                mib(resident()?.saturating_sub(at_start)),
                format!("{} ({:.2} ×)", shown(p99), p99.as_secs_f64() / alone.as_secs_f64()),
            ]);
        }
        attacks.shutdown().await;
        Ok::<_, Failure>(())
    })?;
    Ok(right_aligned(rows, 0..5))
}
