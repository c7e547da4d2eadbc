//! Mixed load for a long time under a small limit: memory must stay flat.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use comfy_table::Table;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tokio::net::TcpListener;
use verax_client::{
    CacheOptions, Client, ClientOptions, LifetimeOptions, PutMany, PutOptions, Rate,
};
use verax_server::WireLimits;

use crate::Options;
use crate::fixture::Fixture;
use crate::memory::resident;
use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const LIMIT: u64 = 64 << 20;
const CLIENTS: u64 = 8;
const SAMPLES: u32 = 10;

/// One client: reads, writes of all sizes, deletions, tags, counters, rate limits, batches, clears.
async fn work(
    cache: verax_client::Cache,
    seed: u64,
    until: Instant,
    done: Arc<AtomicU64>,
) -> Result<(), String> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let words = |e: verax_client::ClientError| e.to_string();
    while Instant::now() < until {
        let key = format!("board/{:07}", random.random_range(0..2_000_000u32));
        // Mostly small, sometimes large, and the middle of it drifts with time.
        let drift = 1 + (done.load(Ordering::Relaxed) / 200_000) % 8;
        let size = match random.random_range(0..1_000) {
            0 => 400_000,
            1..20 => 20_000,
            _ => random.random_range(1..400 * drift) as usize,
        };
        let options = PutOptions {
            max_age: Some(Duration::from_millis(random.random_range(50..60_000))),
            tags: match random.random_range(0..10) {
                0 => vec![format!("tag-{}", random.random_range(0..5_000))],
                _ => Vec::new(),
            },
            ..PutOptions::default()
        };
        match random.random_range(0..1_000) {
            0..400 => drop(cache.get(&key).await.map_err(words)?),
            400..880 => drop(cache.put(&key, vec![7; size], options).await.map_err(words)?),
            880..920 => drop(cache.delete(&key).await.map_err(words)?),
            920..940 => {
                let key = format!("count/{}", random.random_range(0..50_000));
                cache.add(&key, 1, LifetimeOptions::default()).await.map_err(words)?;
            }
            940..960 => {
                let key = format!("take/{}", random.random_range(0..50_000));
                let rate = Rate::new(10, Duration::from_secs(1), 10).map_err(|e| e.to_string())?;
                cache.acquire_rate(&key, 1, rate).await.map_err(words)?;
            }
            960..980 => {
                let tag = format!("tag-{}", random.random_range(0..5_000));
                cache.invalidate_tag(&tag).await.map_err(words)?;
            }
            980..999 => {
                let values: Vec<PutMany> = (0..50)
                    .map(|n| PutMany {
                        key: format!("{key}/{n}"),
                        value: vec![7; 100].into(),
                        options: options.clone(),
                    })
                    .collect();
                cache.put_many(&values).await.map_err(words)?;
            }
            _ => drop(cache.list("board/1", None, 100).await.map_err(words)?),
        }
        done.fetch_add(1, Ordering::Relaxed);
    }
    Ok(())
}

/// Resident memory over time, under a limit of 64 MiB.
pub(crate) fn run(options: &Options) -> Result<Table, Failure> {
    let whole = Duration::from_secs_f64(options.soak_seconds);
    let fixture = Fixture::start(LIMIT)?;
    let at_start = resident()?;
    let service = Arc::clone(&fixture.service);
    let done = Arc::new(AtomicU64::new(0));
    let mut rows =
        table(["after", "operations", "counted by the store", "resident beyond the start"]);
    let mib = |bytes: u64| format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20));
    fixture.runtime.block_on(async {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let wire = listener.local_addr()?.to_string();
        tokio::spawn(verax_server::serve_wire(
            listener,
            Arc::clone(&service),
            None,
            WireLimits::default(),
        ));
        let own =
            ClientOptions { wire, token: Some(fixture.token.clone().into()), ..Default::default() };
        let client = Client::new(own)?;
        let started = Instant::now();
        let mut clients = tokio::task::JoinSet::new();
        for seed in 0..CLIENTS {
            let cache = client.cache(
                "ferrydesk",
                "boards",
                CacheOptions { timeout: Duration::from_secs(10), ..CacheOptions::default() },
            )?;
            clients.spawn(work(cache, seed, started + whole, Arc::clone(&done)));
        }
        for sample in 1..=SAMPLES {
            tokio::time::sleep_until((started + whole * sample / SAMPLES).into()).await;
            rows.add_row([
                format!("{:.0} s", started.elapsed().as_secs_f64()),
                done.load(Ordering::Relaxed).to_string(),
                mib(service.engine().memory().used),
                mib(resident()?.saturating_sub(at_start)),
            ]);
        }
        while let Some(ended) = clients.join_next().await {
            ended??;
        }
        Ok::<_, Failure>(())
    })?;
    Ok(right_aligned(rows, 0..4))
}
