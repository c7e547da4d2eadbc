//! A warm run of many keys, against concurrency ÷ latency of the origin.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use axum::Router;
use axum::routing::get;
use comfy_table::Table;
use tokio::net::TcpListener;
use verax_api::{
    CreateOrigin, GuardChange, KeySource, OriginChoice, PatternKeys, PolicyChange, WarmRange,
    WarmRequest, WarmValues,
};
use verax_control::Expected;
use verax_control::access::Caller;
use verax_core::Name;
use verax_core::access::Scope;

use crate::fixture::{Fixture, runtime};
use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const KEYS: i64 = 100_000;
const LATENCY: Duration = Duration::from_millis(50);

/// Starts an origin that answers after [`LATENCY`].
async fn slow_origin() -> Result<SocketAddr, Failure> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let answer = get(async || {
        tokio::time::sleep(LATENCY).await;
        "7".repeat(128)
    });
    let router = Router::new().route("/{key}", answer);
    tokio::spawn(async move { axum::serve(listener, router).await });
    Ok(address)
}

pub(crate) fn run() -> Result<Table, Failure> {
    let fixture = Fixture::start(256 << 20)?;
    let origin = runtime("origin")?;
    let address = origin.block_on(slow_origin())?;
    let caller = Caller::service("benchmark", vec![Scope::Admin]);
    let (tenant, name) = (Name::new("ferrydesk")?, Name::new("boards")?);
    let control = fixture.service.control();
    fixture.runtime.block_on(async {
        let guard = GuardChange { max_concurrency: Some(512), ..GuardChange::default() };
        let desk = CreateOrigin {
            name: "desk".into(),
            url: format!("http://{address}/{{key}}"),
            guard: Some(guard),
            ..CreateOrigin::default()
        };
        control.create_origin(&caller, &tenant, &desk).await?;
        let choice = OriginChoice { name: "desk".into(), key_pattern: None };
        let policy = PolicyChange { origin: Some(Some(choice)), ..PolicyChange::default() };
        control.change_namespace(&caller, &tenant, &name, &policy, Expected::Any).await?;
        Ok::<_, Failure>(())
    })?;
    let titles = [
        "warm run of",
        "concurrency",
        "took",
        "keys a second",
        "concurrency ÷ latency",
        "ratio",
        "goal",
    ];
    let mut shown = table(titles);
    for concurrency in [32_u32, 128] {
        let range = WarmRange { from: 1, to: KEYS, step: None };
        let values = [("key".to_owned(), WarmValues::Range(range))].into();
        let request = WarmRequest {
            keys: vec![KeySource::Pattern(PatternKeys { pattern: None, values, rows: None })],
            concurrency: Some(concurrency),
            ..WarmRequest::default()
        };
        let (ended, took) = fixture.runtime.block_on(async {
            let run = control.start_warm_run(&caller, &tenant, &name, &request).await?;
            let began = Instant::now();
            let mut changes = run.watch();
            let ended = changes.wait_for(|run| run.state != "running").await?.clone();
            Ok::<_, Failure>((ended, began.elapsed()))
        })?;
        if ended.stored != KEYS as u64 {
            return Err(format!("{} of {KEYS} keys were stored", ended.stored).into());
        }
        let rate = KEYS as f64 / took.as_secs_f64();
        let limit = f64::from(concurrency) / LATENCY.as_secs_f64();
        shown.add_row([
            format!("{KEYS} keys, origin {} ms", LATENCY.as_millis()),
            concurrency.to_string(),
            format!("{:.1} s", took.as_secs_f64()),
            format!("{rate:.0}"),
            format!("{limit:.0}"),
            format!("{:.2}", rate / limit),
            "0.95".to_owned(),
        ]);
    }
    Ok(right_aligned(shown, 1..7))
}
