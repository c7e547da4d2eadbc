//! Hostile load from many connections: memory must stay within its margin, and a quiet tenant must
//! barely notice.
//!
//! In the first half the hostile tenant has no quota. In the second half it has one, far below what
//! it sends, which an administrator gives it while the load goes on.
//!
//! The service has this process to itself. Attackers and the quiet tenant have one each, which the
//! system schedules as if they were on other machines: the attackers run when nobody else wants a
//! processor, and the quiet tenant runs at once. Otherwise most of its latency would be the
//! system's scheduling between processes, whose slices are longer than its reads. So this measures
//! how the service divides itself.

use std::ffi::OsStr;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use comfy_table::Table;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use verax_api::{PolicyChange, TenantQuotaChange};
use verax_client::{CacheOptions, Client, ClientOptions, PutOptions};
use verax_control::Expected;
use verax_control::access::Caller;
use verax_core::Name;
use verax_core::access::Scope;
use verax_core::meter::LatencyMeter;
use verax_server::WireLimits;
use verax_wire::{
    BatchOperations, Frame, GetFlags, Hello, PermitFlags, Put, PutCondition, Request, Tags, VERSION,
};

use crate::Options;
use crate::fixture::Fixture;
use crate::memory::resident;
use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const LIMIT: u64 = 64 << 20;
/// Half of them without a quota, half with [`QUOTA`].
const SAMPLES: u32 = 6;

/// Requests a second: less than a tenth of what the attackers send.
const QUOTA: u64 = 5_000;

/// How long the quiet tenant is measured alone, as a part of the whole.
const ALONE_PART: u32 = 6;

/// Scheduling policies, as chrt(1) takes them.
const RUNS_AT_ONCE: [&str; 2] = ["--fifo", "10"];
const RUNS_WHEN_IDLE: [&str; 2] = ["--idle", "0"];

/// How long a hostile connection lasts before it reconnects.
const CONNECTION_TIME: Duration = Duration::from_secs(5);

/// What a hostile connection does.
#[derive(Debug, Clone, Copy)]
enum Attack {
    /// Announces large values and sends little of them.
    Announce,
    /// Requests much and reads nothing.
    TakeNothing,
    /// Stores entries with tags and media types of their own.
    Clutter,
    /// Acquires permits and voids them.
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
    Request::Put(Put {
        key,
        value,
        media_type,
        lifetime: None,
        tags: Tags::of(tags),
        condition: PutCondition::Always,
        tell_revision: false,
    })
}

/// The first thousand bytes of a put of 16 MiB, built only once because the attackers' memory is
/// measured with the service's.
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

impl Attack {
    /// Appends the frames of request `n`.
    fn encode(self, n: u64, bytes: &mut Vec<u8>) {
        let (key, frame) = (format!("k/{n}"), Frame { namespace: 1, id: n as u32 | 1 });
        match self {
            Attack::Announce => bytes.extend_from_slice(announced()),
            Attack::TakeNothing => {
                let gets = [Request::Get { key: "large", flags: GetFlags::default() }];
                Request::Batch(BatchOperations::of(&gets)).encode(frame, bytes);
            }
            Attack::Clutter => {
                let (tag, kind) = (format!("tag-{n}"), format!("text/{}", n % 2));
                let kind = format!("{kind}{}", "x".repeat(240));
                put(&key, b"v", &kind, &[&tag, "all"]).encode(frame, bytes);
            }
            Attack::Claim => {
                let (key, flags) = (&key[..], PermitFlags::default());
                let permit =
                    Request::AcquirePermit { key, flags, owner: "", lease: 300_000, wait: 0 };
                permit.encode(frame, bytes);
                if n.is_multiple_of(2) {
                    Request::Delete { key }.encode(frame, bytes);
                }
            }
            Attack::Lock => {
                let wait = 1_000 + n % 3_000;
                let (name, owner, lease) = ("one", "", 1_000);
                Request::AcquireLock { name, owner, lease, wait, ends_with_connection: true }
                    .encode(frame, bytes);
            }
            Attack::Invalidate => Request::InvalidateTag { tag: "all" }.encode(frame, bytes),
        }
    }
}

/// One connection of an attack, until it is closed or its time is up. Its replies are read, unless
/// not reading them is the attack.
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
    let (requests, pause) = match attack {
        Attack::Announce => (1, CONNECTION_TIME),
        Attack::Invalidate => (1, Duration::from_millis(50)),
        _ => (100, Duration::from_millis(20)),
    };
    let writing = async {
        loop {
            bytes.clear();
            for _ in 0..requests {
                attack.encode(sent.fetch_add(1, Ordering::Relaxed), &mut bytes);
            }
            writer.write_all(&bytes).await?;
            tokio::time::sleep(pause).await;
        }
    };
    // However it ends, another one follows.
    let both = async {
        tokio::select! { ended = reading => ended, ended = writing => ended }
    };
    tokio::time::timeout(CONNECTION_TIME, both).await.unwrap_or(Ok(()))
}

/// The task of a process of callers: the service's address, how long to call it, and with which
/// token.
#[derive(Debug, Clone)]
struct Orders {
    wire: SocketAddr,
    time: Duration,
    token: String,
}

impl Orders {
    /// Begins a process that carries them out.
    fn begin(&self, role: &str, policy: [&str; 2]) -> Result<Child, Failure> {
        let scheduled = |program: &OsStr| {
            let mut command = Command::new("chrt");
            command.args(policy).arg(program);
            command
        };
        let program = std::env::current_exe()?;
        // Without permission for the policy, it runs without; the figures are worse then.
        let may = scheduled("true".as_ref()).stderr(Stdio::null()).status();
        let mut command = match may.is_ok_and(|status| status.success()) {
            true => scheduled(program.as_ref()),
            false => Command::new(program),
        };
        let orders = format!("{role}/{}/{}", self.wire, self.time.as_secs_f64());
        command.args(["--probe", &orders]).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut child = command.spawn()?;
        if let Some(mut input) = child.stdin.take() {
            input.write_all(self.token.as_bytes())?;
        }
        Ok(child)
    }

    /// Reads what [`begin`](Self::begin) gave this process.
    fn received(text: &str) -> Result<Self, Failure> {
        let (wire, seconds) = text.split_once('/').ok_or("no orders")?;
        let mut token = String::new();
        std::io::stdin().read_to_string(&mut token)?;
        let time = Duration::from_secs_f64(seconds.parse()?);
        Ok(Self { wire: wire.parse()?, time, token })
    }
}

/// The process of the attackers: prints every second how many requests it has sent.
pub(crate) fn attackers(orders: &str) -> Result<(), Failure> {
    let Orders { wire, time, token } = Orders::received(orders)?;
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    runtime.block_on(async {
        announced();
        let (sent, stop) = (Arc::new(AtomicU64::new(0)), Instant::now() + time);
        let token: Arc<str> = token.into();
        let mut attacks = JoinSet::new();
        for (kind, connections) in ATTACKS {
            for _ in 0..connections {
                let (token, sent) = (Arc::clone(&token), Arc::clone(&sent));
                attacks.spawn(async move {
                    while Instant::now() < stop {
                        if attack(wire, &token, kind, &sent).await.is_err() {
                            tokio::time::sleep(Duration::from_millis(100)).await;
                        }
                    }
                });
            }
        }
        while Instant::now() < stop {
            tokio::time::sleep(Duration::from_secs(1)).await;
            println!("{}", sent.load(Ordering::Relaxed));
        }
        attacks.shutdown().await;
        Ok(())
    })
}

fn client(wire: SocketAddr, token: &str) -> Result<Client, Failure> {
    let token = Some(token.into());
    Ok(Client::new(ClientOptions { wire: wire.to_string(), token, ..Default::default() })?)
}

fn patient() -> CacheOptions {
    CacheOptions { timeout: Duration::from_secs(10), ..CacheOptions::default() }
}

/// The process of the quiet tenant: reads one key after the other, two hundred a second, and prints
/// the median and p99 in nanoseconds.
pub(crate) fn quiet(orders: &str) -> Result<(), Failure> {
    let Orders { wire, time, token } = Orders::received(orders)?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let meter = LatencyMeter::default();
    runtime.block_on(async {
        let levels = client(wire, &token)?.cache("tideline", "levels", patient())?;
        let mut ticks = tokio::time::interval(Duration::from_millis(5));
        let stop = Instant::now() + time;
        for key in 0u64.. {
            ticks.tick().await;
            let (name, began) = (format!("gauge/{}", key % 1_000), Instant::now());
            if began > stop {
                break;
            }
            let found = levels.get(&name).await?;
            meter.record(began.elapsed());
            found.ok_or_else(|| format!("{name} is gone, although its namespace has a reserve"))?;
        }
        Ok::<_, Failure>(())
    })?;
    let counts = meter.counts();
    let at = |part| counts.quantile(part).unwrap_or_default().as_nanos();
    println!("{} {}", at(0.5), at(0.99));
    Ok(())
}

/// The median and p99 of the quiet tenant's reads for a time.
fn measured(orders: &Orders) -> Result<(Duration, Duration), Failure> {
    let output = orders.begin("quiet", RUNS_AT_ONCE)?.wait_with_output()?;
    let said = String::from_utf8(output.stdout)?;
    let (median, p99) = said.trim().split_once(' ').ok_or("the quiet tenant failed")?;
    Ok((Duration::from_nanos(median.parse()?), Duration::from_nanos(p99.parse()?)))
}

/// Creates both tenants' namespaces and entries; returns the address of the service and the hostile
/// tenant's token.
async fn prepare(fixture: &Fixture) -> Result<(SocketAddr, String), Failure> {
    let service = &fixture.service;
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
    let hostile =
        control.create_token(&admin, &verax_api::CreateToken::new(&scopes, "")).await?.secret;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let wire = listener.local_addr()?;
    let limits = WireLimits::default();
    tokio::spawn(verax_server::serve_wire(listener, Arc::clone(service), None, limits));
    let client = client(wire, &fixture.token)?;
    let levels = client.cache("tideline", "levels", patient())?;
    for n in 0..1_000 {
        levels.put(&format!("gauge/{n}"), vec![7; 128], PutOptions::default()).await?;
    }
    let large = client.cache("flood", "junk", patient())?;
    large.put("large", vec![7; 30 << 10], PutOptions::default()).await?;
    Ok((wire, hostile))
}

/// Gives the hostile tenant its quota, as an administrator does during an incident.
async fn limit(fixture: &Fixture) -> Result<(), Failure> {
    let quota = TenantQuotaChange {
        requests_per_second: Some(Some(QUOTA)),
        ..TenantQuotaChange::default()
    };
    let admin = Caller::service("benchmark", vec![Scope::Admin]);
    let flood = Name::new("flood")?;
    fixture.service.control().change_tenant(&admin, &flood, &quota, Expected::Any).await?;
    Ok(())
}

/// Memory, and the quiet tenant's latency, beside hostile load.
pub(crate) fn run(options: &Options) -> Result<Table, Failure> {
    let whole = Duration::from_secs_f64(options.soak_seconds);
    let fixture = Fixture::start(LIMIT)?;
    let service = Arc::clone(&fixture.service);
    let mut rows = table([
        "after",
        "hostile tenant's quota",
        "requests sent",
        "in flight",
        "resident beyond the start",
        "quiet p50",
        "quiet p99",
    ]);
    let mib = |bytes: u64| format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20));
    let (wire, hostile) = fixture.runtime.block_on(prepare(&fixture))?;
    let own = |time| Orders { wire, time, token: fixture.token.clone() };
    let alone = measured(&own(whole / ALONE_PART))?;
    let shown = |time: Duration, alone: Duration| {
        let times = time.as_secs_f64() / alone.as_secs_f64();
        format!("{:.2} ms ({times:.2} ×)", time.as_secs_f64() * 1_000.0)
    };
    let mut row = |[after, quota, sent]: [String; 3], resident, (p50, p99)| {
        let in_flight = mib(service.engine().in_flight().taken());
        let (p50, p99) = (shown(p50, alone.0), shown(p99, alone.1));
        rows.add_row([after, quota, sent, in_flight, mib(resident), p50, p99]);
    };
    row(["alone", "–", "0"].map(str::to_owned), 0, alone);
    let (at_start, started) = (resident()?, Instant::now());
    let mut attackers =
        Orders { wire, time: whole, token: hostile }.begin("hostile", RUNS_WHEN_IDLE)?;
    let sent = Arc::new(AtomicU64::new(0));
    let counting = attackers.stdout.take().map(|said| {
        let sent = Arc::clone(&sent);
        std::thread::spawn(move || {
            for line in BufReader::new(said).lines().map_while(Result::ok) {
                sent.store(line.parse().unwrap_or(0), Ordering::Relaxed);
            }
        })
    });
    for sample in 0..SAMPLES {
        let limited = sample >= SAMPLES / 2;
        if sample == SAMPLES / 2 {
            fixture.runtime.block_on(limit(&fixture))?;
        }
        let latency = measured(&own(whole / SAMPLES))?;
        let after = format!("{:.0} s", started.elapsed().as_secs_f64());
        let sent = sent.load(Ordering::Relaxed).to_string();
        let quota = if limited { format!("{QUOTA} requests/s") } else { "none".to_owned() };
        row([after, quota, sent], resident()?.saturating_sub(at_start), latency);
    }
    attackers.wait()?;
    if let Some(counting) = counting {
        let _ = counting.join();
    }
    Ok(right_aligned(rows, 0..7))
}
