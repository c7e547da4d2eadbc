//! Many callers on one cold key: how often the origin is read, and how long after its response the
//! last caller has the value.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use axum::Router;
use axum::routing::get;
use comfy_table::Table;
use tokio::net::TcpListener;
use tokio::sync::Barrier;
use verax_api::{CreateOrigin, OriginChoice, PolicyChange};
use verax_client::{Cache, CacheOptions, Client, ClientOptions};
use verax_control::Expected;
use verax_control::access::Caller;
use verax_core::Name;
use verax_core::access::Scope;
use verax_server::WireLimits;

use crate::fixture::Fixture;
use crate::tables::{right_aligned, table};

const ORIGIN_TIME: Duration = Duration::from_millis(500);
const CONNECTIONS: usize = 24;
const ROUNDS: usize = 5;

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// A round: how long all callers took, and how often the origin was read.
async fn rush(
    cache: &Cache,
    callers: usize,
    round: usize,
    calls: &AtomicU64,
) -> Result<(Duration, u64), Failure> {
    let key = format!("board/cold-{callers}-{round}");
    let before = calls.load(Ordering::SeqCst);
    let start = Arc::new(Barrier::new(callers + 1));
    let tasks: Vec<_> = (0..callers)
        .map(|_| {
            let (cache, key, start) = (cache.clone(), key.clone(), Arc::clone(&start));
            tokio::spawn(async move {
                start.wait().await;
                match cache.get(&key).await {
                    Ok(Some(_)) => Ok(()),
                    Ok(None) => Err("there is no value".to_owned()),
                    Err(error) => Err(error.to_string()),
                }
            })
        })
        .collect();
    start.wait().await;
    let began = Instant::now();
    for task in tasks {
        task.await?.map_err(|why| format!("a caller was not answered: {why}"))?;
    }
    Ok((began.elapsed(), calls.load(Ordering::SeqCst) - before))
}

/// Serves a namespace whose origin takes [`ORIGIN_TIME`] and counts its calls.
async fn serve(fixture: &Fixture, calls: Arc<AtomicU64>) -> Result<SocketAddr, Failure> {
    let service = &fixture.service;
    let answer = get(async move || {
        calls.fetch_add(1, Ordering::SeqCst);
        tokio::time::sleep(ORIGIN_TIME).await;
        "07:10 Saltmere"
    });
    let origin = TcpListener::bind("127.0.0.1:0").await?;
    let at = format!("http://{}/{{key}}", origin.local_addr()?);
    let router = Router::new().route("/{*key}", answer);
    tokio::spawn(async move { axum::serve(origin, router).await });
    let caller = Caller::service("benchmark", vec![Scope::Admin]);
    let (tenant, name) = (Name::new("ferrydesk")?, Name::new("boards")?);
    let origin = CreateOrigin { name: "desk".into(), url: at, ..Default::default() };
    service.control().create_origin(&caller, &tenant, &origin).await?;
    let policy = PolicyChange {
        origin: Some(Some(OriginChoice { name: "desk".into(), key_pattern: None })),
        ..PolicyChange::default()
    };
    service.control().change_namespace(&caller, &tenant, &name, &policy, Expected::Any).await?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let wire = listener.local_addr()?;
    let limits = WireLimits::default();
    tokio::spawn(verax_server::serve_wire(listener, Arc::clone(service), None, limits));
    Ok(wire)
}

pub(crate) fn run() -> Result<Table, Failure> {
    let fixture = Fixture::start(64 << 20)?;
    let calls = Arc::new(AtomicU64::new(0));
    let client_runtime = crate::fixture::runtime("callers")?;
    let wire = fixture.runtime.block_on(serve(&fixture, Arc::clone(&calls)))?;
    let options = ClientOptions {
        wire: wire.to_string(),
        token: Some(fixture.token.clone().into()),
        ..ClientOptions::default()
    };
    let patient = CacheOptions {
        connections: CONNECTIONS,
        timeout: Duration::from_secs(60),
        ..CacheOptions::default()
    };
    let cache = Client::new(options)?.cache("ferrydesk", "boards", patient)?;
    let mut rows = Vec::new();
    for callers in [1, 100, 1_000, 10_000] {
        let mut beyond = Vec::new();
        let mut asked = 0;
        for round in 0..=ROUNDS {
            let (took, calls) = client_runtime.block_on(rush(&cache, callers, round, &calls))?;
            // The first round connects.
            if round > 0 {
                beyond.push(took.saturating_sub(ORIGIN_TIME).as_secs_f64() * 1_000.0);
                asked = asked.max(calls);
            }
        }
        beyond.sort_by(f64::total_cmp);
        rows.push([
            callers.to_string(),
            asked.to_string(),
            format!("{:.1} ms", beyond[ROUNDS / 2]),
            format!("{:.1}–{:.1} ms", beyond[0], beyond[ROUNDS - 1]),
        ]);
    }
    let mut table = table([
        "callers on one cold key at once",
        "origin calls",
        "last answer after the origin's time of 500 ms",
        "spread",
    ]);
    for row in rows {
        table.add_row(row);
    }
    Ok(right_aligned(table, 0..4))
}
