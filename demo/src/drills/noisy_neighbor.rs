//! The noisy-neighbor drill: one tenant floods while another reads.
//!
//! Two tenants exist only while it runs. Where memory allows it, the quiet one's working set is
//! larger than its even share, so that the flood can take some of it unless it has a reserve.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use rand::RngExt;
use tokio::task::JoinSet;
use verax_api::{CreateNamespace, CreateToken, PolicyChange, TenantQuotaChange};
use verax_client::{Cache, CacheOptions, FailureKind, PutOptions};

use super::course::{Course, Side, quantile};
use super::{Drills, text};

const QUIET: &str = "drill-quiet";
const NOISY: &str = "drill-noisy";
const NAMESPACE: &str = "boards";

/// When the flood begins, when it ends, and when the drill ends.
const BEGIN: Duration = Duration::from_secs(3);
const STOP: Duration = Duration::from_secs(6);
const END: Duration = Duration::from_secs(9);

const SAMPLE_EVERY: Duration = Duration::from_millis(500);

/// The size of a value, in bytes.
const VALUE: usize = 64 << 10;

/// The share of the memory limit that the quiet tenant's entries take, in percent.
const SHARE: u64 = 70;

/// With more memory than this the drill does not fill it.
const MOST: u64 = 512 << 20;

/// The quiet tenant's readers, and the time between two reads of each.
const READERS: usize = 4;
const PAUSE: Duration = Duration::from_millis(15);

/// How long the quiet tenant needs to produce a value that is gone.
const REFILL: Duration = Duration::from_millis(10);

/// What the noisy tenant may do in a second, with its quota.
const NOISY_RATE: u64 = 100;

/// The phase that is not reported: the readers have just connected.
const WARM_UP: usize = 3;
const WARM_UP_TIME: Duration = Duration::from_secs(1);

#[derive(Debug, Default)]
struct Reads {
    hits: AtomicU64,
    misses: AtomicU64,
    refused: AtomicU64,
    times: std::sync::Mutex<Vec<Duration>>,
}

impl Reads {
    fn times(&self) -> std::sync::MutexGuard<'_, Vec<Duration>> {
        self.times.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// What the tasks of a side share.
#[derive(Debug, Default)]
struct Counts {
    /// Before, during and after the flood, and those of the warm-up.
    reads: [Reads; 4],
    phase: AtomicU64,
    stored: AtomicU64,
    done: AtomicU64,
    refused: AtomicU64,
    floods: AtomicBool,
    over: AtomicBool,
}

impl Counts {
    fn now(&self) -> &Reads {
        &self.reads[(self.phase.load(Ordering::Relaxed) as usize).min(WARM_UP)]
    }
}

fn key(number: u64) -> String {
    format!("board/{number}")
}

async fn read_quietly(cache: Cache, entries: u64, counts: Arc<Counts>) {
    let value = vec![b'q'; VALUE];
    while !counts.over.load(Ordering::Relaxed) {
        let key = key(rand::rng().random_range(0..entries));
        let began = Instant::now();
        let read = cache.get(&key).await;
        let reads = counts.now();
        reads.times().push(began.elapsed());
        match read {
            Ok(Some(_)) => drop(reads.hits.fetch_add(1, Ordering::Relaxed)),
            Ok(None) => {
                reads.misses.fetch_add(1, Ordering::Relaxed);
                tokio::time::sleep(REFILL).await;
                let _ = cache.put(&key, &value, PutOptions::default()).await;
            }
            Err(_) => drop(reads.refused.fetch_add(1, Ordering::Relaxed)),
        }
        tokio::time::sleep(PAUSE).await;
    }
}

async fn flood(cache: Cache, entries: u64, counts: Arc<Counts>) {
    let value = vec![b'n'; VALUE];
    while !counts.over.load(Ordering::Relaxed) {
        if !counts.floods.load(Ordering::Relaxed) {
            tokio::time::sleep(Duration::from_millis(20)).await;
            continue;
        }
        // Always another key: values that nobody wants twice.
        let key = key(counts.stored.fetch_add(1, Ordering::Relaxed) % entries);
        match cache.put(&key, &value, PutOptions::default()).await {
            Ok(_) => drop(counts.done.fetch_add(1, Ordering::Relaxed)),
            Err(error) if error.failure() == Some(FailureKind::QuotaExceeded) => {
                counts.refused.fetch_add(1, Ordering::Relaxed);
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(5)).await,
        }
    }
}

/// A part in percent; 100 of nothing.
fn percent(part: u64, whole: u64) -> f64 {
    if whole == 0 { 100.0 } else { part as f64 * 100.0 / whole as f64 }
}

impl Drills {
    pub(super) async fn noisy_neighbor(
        &self,
        flooders: u32,
        course: &Course<'_>,
    ) -> Result<String, String> {
        let limit = self.memory_limit().await?;
        let entries = (limit.min(MOST) * SHARE / 100) / (VALUE as u64 + 128);
        for (name, with_quotas) in [("no quotas", false), ("reserve and rate quota", true)] {
            let side = course.begin(name);
            let outcome = self.neighbors(flooders, entries, with_quotas, &side).await;
            self.remove_neighbors().await?;
            outcome?;
        }
        let of = |side, name| course.figure(side, name);
        Ok(format!(
            "While its neighbor floods, the quiet tenant's p99 is {:.1} ms without quotas and {:.1} ms with them (before: {:.1} and {:.1} ms), and {:.0} against {:.0} % of its reads are hits.",
            of(0, "p99 during the flood"),
            of(1, "p99 during the flood"),
            of(0, "p99 before"),
            of(1, "p99 before"),
            of(0, "hit ratio during the flood"),
            of(1, "hit ratio during the flood"),
        ))
    }

    /// The limit on the memory of entries, in bytes.
    async fn memory_limit(&self) -> Result<u64, String> {
        let first = async {
            let mut samples = std::pin::pin!(self.verax.live().await.map_err(text)?);
            match samples.next().await {
                Some(sample) => Ok(sample.map_err(text)?.memory_limit_bytes),
                None => Ok::<_, String>(None),
            }
        };
        let limit = tokio::time::timeout(Duration::from_secs(10), first).await.map_err(text)??;
        limit.ok_or_else(|| "the service does not tell its memory limit".to_owned())
    }

    /// Deletes the two tenants. They may be left over from a killed demo.
    async fn remove_neighbors(&self) -> Result<(), String> {
        for tenant in [QUIET, NOISY] {
            let namespace = self.verax.namespace(tenant, NAMESPACE).map_err(text)?;
            self.gone(namespace.delete_namespace().await)?;
            self.gone(self.verax.delete_tenant(tenant).await)?;
        }
        Ok(())
    }

    /// Creates a tenant with a token of its own, which quotas apply to; returns its handle.
    async fn neighbor(&self, tenant: &str) -> Result<Cache, String> {
        self.verax.create_tenant(tenant).await.map_err(text)?;
        let policy = PolicyChange { max_age_seconds: Some(600.0), ..Default::default() };
        let namespace = CreateNamespace { name: NAMESPACE.into(), policy };
        self.verax.create_namespace(tenant, &namespace).await.map_err(text)?;
        let scopes = [format!("read:{tenant}"), format!("write:{tenant}")];
        let request = CreateToken {
            // It ends with its tenant, or by itself if the demo is killed.
            expires_in_seconds: Some(3_600.0),
            ..CreateToken::new(&scopes, "noisy-neighbor drill")
        };
        let token = self.verax.create_token(&request).await.map_err(text)?;
        let options = CacheOptions { timeout: Duration::from_secs(10), ..CacheOptions::default() };
        let client = self.verax.with_token(token.secret.as_str()).map_err(text)?;
        client.cache(tenant, NAMESPACE, options).map_err(text)
    }

    async fn neighbors(
        &self,
        flooders: u32,
        entries: u64,
        with_quotas: bool,
        side: &Side<'_, '_>,
    ) -> Result<(), String> {
        self.remove_neighbors().await?;
        let (quiet, noisy) = (self.neighbor(QUIET).await?, self.neighbor(NOISY).await?);
        if with_quotas {
            let reserve = entries * (VALUE as u64 + 256);
            let change = TenantQuotaChange { reserve_bytes: Some(reserve), ..Default::default() };
            self.verax.change_tenant(QUIET, &change).await.map_err(text)?;
            let change = TenantQuotaChange {
                requests_per_second: Some(Some(NOISY_RATE)),
                ..Default::default()
            };
            self.verax.change_tenant(NOISY, &change).await.map_err(text)?;
        }
        let value = vec![b'q'; VALUE];
        for number in 0..entries {
            quiet.put(&key(number), &value, PutOptions::default()).await.map_err(text)?;
        }
        let (counts, mut tasks) = (Arc::new(Counts::default()), JoinSet::new());
        counts.phase.store(WARM_UP as u64, Ordering::Relaxed);
        for _ in 0..READERS {
            tasks.spawn(read_quietly(quiet.clone(), entries, Arc::clone(&counts)));
        }
        for _ in 0..flooders {
            tasks.spawn(flood(noisy.clone(), entries, Arc::clone(&counts)));
        }
        tokio::time::sleep(WARM_UP_TIME).await;
        counts.phase.store(0, Ordering::Relaxed);
        watch(&counts, side).await;
        counts.over.store(true, Ordering::Relaxed);
        while let Some(ended) = tasks.join_next().await {
            ended.map_err(text)?;
        }
        side.figures(&figures(&counts));
        Ok(())
    }
}

/// Drives the phases, and draws the figures meanwhile.
async fn watch(counts: &Counts, side: &Side<'_, '_>) {
    let mut samples = tokio::time::interval(SAMPLE_EVERY);
    let began = Instant::now();
    let (mut seen, mut before) = ((0, 0), (0, 0));
    let mut taken = [0; WARM_UP];
    while began.elapsed() < END {
        samples.tick().await;
        let phase = counts.phase.load(Ordering::Relaxed);
        if phase == 0 && began.elapsed() >= BEGIN {
            counts.phase.store(1, Ordering::Relaxed);
            counts.floods.store(true, Ordering::Relaxed);
            side.event("noisy tenant", "begins to flood");
        } else if phase == 1 && began.elapsed() >= STOP {
            counts.phase.store(2, Ordering::Relaxed);
            counts.floods.store(false, Ordering::Relaxed);
            side.event("noisy tenant", "stops");
        }
        let sum = |of: fn(&Reads) -> &AtomicU64| -> u64 {
            counts.reads[..WARM_UP].iter().map(|reads| of(reads).load(Ordering::Relaxed)).sum()
        };
        let now = (sum(|r| &r.hits), sum(|r| &r.misses));
        let flood = (counts.done.load(Ordering::Relaxed), counts.refused.load(Ordering::Relaxed));
        let mut recent: Vec<Duration> = Vec::new();
        for (reads, taken) in counts.reads.iter().zip(&mut taken) {
            let times = reads.times();
            recent.extend_from_slice(&times[*taken..]);
            *taken = times.len();
        }
        let each_second = 1.0 / SAMPLE_EVERY.as_secs_f64();
        let (hits, misses) = (now.0 - seen.0, now.1 - seen.1);
        side.tick(&[
            ("quiet: hit ratio, %", percent(hits, hits + misses)),
            ("quiet: p99, ms", quantile(&mut recent, 0.99)),
            ("noisy: puts each second", (flood.0 - before.0) as f64 * each_second),
            ("noisy: refused each second", (flood.1 - before.1) as f64 * each_second),
        ]);
        (seen, before) = (now, flood);
    }
}

/// The results of a side.
fn figures(counts: &Counts) -> Vec<(&'static str, f64, &'static str)> {
    const NAMES: [[&str; 4]; 3] = [
        ["hit ratio before", "p50 before", "p99 before", "failed before"],
        [
            "hit ratio during the flood",
            "p50 during the flood",
            "p99 during the flood",
            "failed during the flood",
        ],
        ["hit ratio after", "p50 after", "p99 after", "failed after"],
    ];
    let mut figures = Vec::new();
    for (reads, [ratio, p50, p99, failed]) in counts.reads.iter().zip(NAMES) {
        let (hits, misses) =
            (reads.hits.load(Ordering::Relaxed), reads.misses.load(Ordering::Relaxed));
        let mut times = reads.times();
        figures.extend([
            (ratio, percent(hits, hits + misses), "%"),
            (p50, quantile(&mut times, 0.5), "ms"),
            (p99, quantile(&mut times, 0.99), "ms"),
            (failed, reads.refused.load(Ordering::Relaxed) as f64, ""),
        ]);
    }
    figures.push(("noisy tenant: puts done", counts.done.load(Ordering::Relaxed) as f64, ""));
    figures.push(("noisy tenant: refused", counts.refused.load(Ordering::Relaxed) as f64, ""));
    figures
}
