//! The warm-up and deployment drills: what a cold cache costs, and how a deployment avoids it.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use tokio::task::JoinSet;
use verax_api::{FreshChoice, KeySource, PatternKeys, WarmRequest, WarmRun, WarmValues};
use verax_client::{Cache, CacheOptions};

use super::course::{Course, Side, quantile};
use super::{Drills, Place, TENANT, text};
use crate::data::harbors;

/// When the deployment of the second drill is, and when the drill ends.
const DEPLOY: Duration = Duration::from_secs(2);
const END: Duration = Duration::from_secs(7);

const SAMPLE_EVERY: Duration = Duration::from_millis(250);

/// The time between two reads of a client.
const PAUSE: Duration = Duration::from_millis(10);

/// Concurrent refills of a warm run.
const CONCURRENCY: u32 = 8;

const BOARDS: Place = Place {
    name: "drill-boards",
    through: true,
    max_age_seconds: 600.0,
    stale_if_error_seconds: 0.0,
};

/// What happens to the cache when a new version is deployed.
#[derive(Debug, Clone, Copy)]
enum Deployment {
    Clear,
    ClearThenWarm,
    Refresh,
}

/// The reads of all clients.
#[derive(Debug, Default)]
struct Reads {
    /// Since the last sample, for the chart.
    lately: Mutex<Vec<Duration>>,
    /// Since the deployment, for the figures.
    after: Mutex<Vec<Duration>>,
    errors: AtomicU64,
    deployed: AtomicBool,
    over: AtomicBool,
}

fn locked(times: &Mutex<Vec<Duration>>) -> MutexGuard<'_, Vec<Duration>> {
    times.lock().unwrap_or_else(PoisonError::into_inner)
}

fn keys() -> Vec<String> {
    harbors().into_iter().map(|harbor| format!("board/{}", harbor.slug)).collect()
}

async fn read_for_ever(cache: Cache, number: usize, reads: Arc<Reads>) {
    let keys = keys();
    let mut at = number * 7;
    while !reads.over.load(Ordering::Relaxed) {
        let began = Instant::now();
        let read = cache.get(&keys[at % keys.len()]).await;
        let took = began.elapsed();
        locked(&reads.lately).push(took);
        if reads.deployed.load(Ordering::Relaxed) {
            locked(&reads.after).push(took);
        }
        if !matches!(read, Ok(Some(_))) {
            reads.errors.fetch_add(1, Ordering::Relaxed);
        }
        at += 1;
        tokio::time::sleep(PAUSE).await;
    }
}

impl Drills {
    /// Reads every board, cold and after a warm run.
    pub(super) async fn warm_up(
        &self,
        callers: u32,
        course: &Course<'_>,
    ) -> Result<String, String> {
        self.open(&BOARDS).await?;
        let both = async {
            for (name, warms) in [("cold", false), ("warmed", true)] {
                self.read_every_board(callers, warms, &course.begin(name)).await?;
            }
            Ok::<_, String>(())
        };
        let ended = both.await;
        self.close(&BOARDS).await?;
        ended?;
        let of = |side, name| course.figure(side, name);
        Ok(format!(
            "The first reads of all boards took {:.0} ms at the median cold and {:.2} ms after a warm run (p99 {:.0} and {:.2} ms).",
            of(0, "p50"),
            of(1, "p50"),
            of(0, "p99"),
            of(1, "p99"),
        ))
    }

    async fn read_every_board(
        &self,
        callers: u32,
        warms: bool,
        side: &Side<'_, '_>,
    ) -> Result<(), String> {
        let namespace = self.verax.namespace(TENANT, BOARDS.name).map_err(text)?;
        namespace.clear().await.map_err(text)?;
        let calls = || self.stand_in.faults.counts().calls;
        let began = calls();
        if warms {
            side.event("warm run", "begins");
            let ended = self.warm(FreshChoice::Refresh).await?;
            side.event("warm run", format!("stored {} boards", ended.stored));
        }
        let warmed = calls() - began;
        let options = CacheOptions { timeout: Duration::from_secs(20), ..CacheOptions::default() };
        let cache = self.cache(&BOARDS, options)?;
        let keys = Arc::new(keys());
        let mut tasks = JoinSet::new();
        for caller in 0..callers as usize {
            let (cache, keys) = (cache.clone(), Arc::clone(&keys));
            let step = (callers as usize).max(1);
            tasks.spawn(async move {
                let mut times = Vec::new();
                for key in keys.iter().skip(caller).step_by(step) {
                    let began = Instant::now();
                    cache.get(key).await.map_err(text)?.ok_or("a board is missing")?;
                    times.push(began.elapsed());
                }
                Ok::<_, String>(times)
            });
        }
        let mut times: Vec<Duration> = Vec::new();
        while let Some(ended) = tasks.join_next().await {
            times.extend(ended.map_err(text)??);
            side.tick(&[
                ("boards read", times.len() as f64),
                ("origin calls by readers", (calls() - began - warmed) as f64),
            ]);
        }
        side.figures(&[
            ("reads", times.len() as f64, ""),
            ("p50", quantile(&mut times, 0.5), "ms"),
            ("p99", quantile(&mut times, 0.99), "ms"),
            ("longest", quantile(&mut times, 1.0), "ms"),
            ("origin calls by readers", (calls() - began - warmed) as f64, ""),
            ("origin calls by the warm run", warmed as f64, ""),
        ]);
        Ok(())
    }

    /// Warms every board, and waits for the end.
    async fn warm(&self, fresh: FreshChoice) -> Result<WarmRun, String> {
        let namespace = self.verax.namespace(TENANT, BOARDS.name).map_err(text)?;
        let slugs = harbors().into_iter().map(|harbor| harbor.slug).collect();
        let values = [("harbor".to_owned(), WarmValues::List(slugs))].into();
        let request = WarmRequest {
            keys: vec![KeySource::Pattern(PatternKeys { pattern: None, values, rows: None })],
            concurrency: Some(CONCURRENCY),
            fresh,
            ..WarmRequest::default()
        };
        let mut run = namespace.start_warm_run(&request).await.map_err(text)?;
        let mut changes = Box::pin(self.verax.watch_run::<WarmRun>(run.id).await.map_err(text)?);
        while let Some(change) = changes.next().await {
            run = change.map_err(text)?;
        }
        match run.failed {
            0 => Ok(run),
            failed => Err(format!("{failed} boards were not warmed: {:?}", run.failures)),
        }
    }

    /// A deployment under traffic, three ways.
    pub(super) async fn deployment(
        &self,
        clients: u32,
        course: &Course<'_>,
    ) -> Result<String, String> {
        for (name, deployment) in [
            ("clear", Deployment::Clear),
            ("clear, then warm", Deployment::ClearThenWarm),
            ("gapless refresh", Deployment::Refresh),
        ] {
            self.open(&BOARDS).await?;
            let ended = self.deploy(clients, deployment, &course.begin(name)).await;
            self.close(&BOARDS).await?;
            ended?;
        }
        let of = |side| course.figure(side, "p99 after the deployment");
        Ok(format!(
            "After a deployment, p99 is {:.0} ms with a clear, {:.0} ms with a clear and a warm run, and {:.1} ms with a refresh that keeps the old copies readable.",
            of(0),
            of(1),
            of(2),
        ))
    }

    async fn deploy(
        &self,
        clients: u32,
        deployment: Deployment,
        side: &Side<'_, '_>,
    ) -> Result<(), String> {
        self.warm(FreshChoice::Refresh).await?;
        let options = CacheOptions { timeout: Duration::from_secs(20), ..CacheOptions::default() };
        let cache = self.cache(&BOARDS, options)?;
        let (reads, mut tasks) = (Arc::new(Reads::default()), JoinSet::new());
        for number in 0..clients as usize {
            tasks.spawn(read_for_ever(cache.clone(), number, Arc::clone(&reads)));
        }
        let calls = || self.stand_in.faults.counts().calls;
        let (began, mut before) = (calls(), calls());
        let sampling = async {
            let mut samples = tokio::time::interval(SAMPLE_EVERY);
            while side.elapsed() < END {
                samples.tick().await;
                let mut lately = std::mem::take(&mut *locked(&reads.lately));
                let now = calls();
                side.tick(&[
                    ("p99 of the readers, ms", quantile(&mut lately, 0.99)),
                    (
                        "origin calls each second",
                        (now - before) as f64 / SAMPLE_EVERY.as_secs_f64(),
                    ),
                    ("errors", reads.errors.load(Ordering::Relaxed) as f64),
                ]);
                before = now;
            }
        };
        let deploying = async {
            tokio::time::sleep(DEPLOY.saturating_sub(side.elapsed())).await;
            reads.deployed.store(true, Ordering::Relaxed);
            side.event("deployment", "begins");
            let namespace = self.verax.namespace(TENANT, BOARDS.name).map_err(text)?;
            if !matches!(deployment, Deployment::Refresh) {
                namespace.clear().await.map_err(text)?;
                side.event("deployment", "has cleared the namespace");
            }
            if !matches!(deployment, Deployment::Clear) {
                // After a clear, readers may have been there first.
                let fresh = match deployment {
                    Deployment::Refresh => FreshChoice::Refresh,
                    Deployment::Clear | Deployment::ClearThenWarm => FreshChoice::Skip,
                };
                let run = self.warm(fresh).await?;
                side.event("warm run", format!("stored {} boards", run.stored));
            }
            Ok::<_, String>(())
        };
        let (deployed, ()) = futures_util::join!(deploying, sampling);
        reads.over.store(true, Ordering::Relaxed);
        while let Some(ended) = tasks.join_next().await {
            ended.map_err(text)?;
        }
        deployed?;
        let mut after = std::mem::take(&mut *locked(&reads.after));
        side.figures(&[
            ("reads after the deployment", after.len() as f64, ""),
            ("errors", reads.errors.load(Ordering::Relaxed) as f64, ""),
            ("p50 after the deployment", quantile(&mut after, 0.5), "ms"),
            ("p99 after the deployment", quantile(&mut after, 0.99), "ms"),
            ("longest", quantile(&mut after, 1.0), "ms"),
            ("origin calls", (calls() - began) as f64, ""),
        ]);
        Ok(())
    }
}
