//! The outage drill: the origin goes down and comes back while clients read.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use serde_json::json;
use tokio::task::JoinSet;
use verax_client::{Cache, CacheOptions, Source};

use super::course::{Course, Side};
use super::{Drills, ORIGIN, Place, TENANT, text};
use crate::data::harbors;

/// When the origin goes down, when it comes back, and when the drill ends.
const DOWN: Duration = Duration::from_secs(2);
const UP: Duration = Duration::from_secs(5);
const END: Duration = Duration::from_secs(8);

const SAMPLE_EVERY: Duration = Duration::from_millis(250);

/// The time between two reads of a client.
const PAUSE: Duration = Duration::from_millis(40);

/// How many boards they read.
const BOARDS: usize = 6;

const BARE: Place =
    Place { name: "drill-bare", through: true, max_age_seconds: 1.0, stale_if_error_seconds: 0.0 };

const KEPT: Place = Place { name: "drill-kept", stale_if_error_seconds: 600.0, ..BARE };

#[derive(Debug, Default)]
struct Counts {
    reads: AtomicU64,
    errors: AtomicU64,
    stale: AtomicU64,
    over: AtomicBool,
}

async fn read_for_ever(cache: Cache, number: usize, counts: Arc<Counts>) {
    let keys: Vec<String> =
        harbors().into_iter().take(BOARDS).map(|h| format!("board/{}", h.slug)).collect();
    let mut at = number;
    while !counts.over.load(Ordering::Relaxed) {
        let read = cache.get(&keys[at % keys.len()]).await;
        counts.reads.fetch_add(1, Ordering::Relaxed);
        match read {
            Ok(Some(hit)) if hit.source == Source::StaleOnError => {
                counts.stale.fetch_add(1, Ordering::Relaxed);
            }
            Ok(Some(_)) => {}
            Ok(None) | Err(_) => {
                counts.errors.fetch_add(1, Ordering::Relaxed);
            }
        }
        at += 1;
        tokio::time::sleep(PAUSE).await;
    }
}

/// How open a circuit is, for a chart.
fn openness(breaker: &str) -> f64 {
    match breaker {
        "closed" => 0.0,
        "open" => 1.0,
        _ => 0.5,
    }
}

impl Drills {
    pub(super) async fn outage(&self, clients: u32, course: &Course<'_>) -> Result<String, String> {
        for (name, place) in [("no stale-if-error", &BARE), ("stale-if-error", &KEPT)] {
            self.open(place).await?;
            let ended = self.read_through_outage(clients, place, &course.begin(name)).await;
            self.faults(json!({ "outage": false }))?;
            self.close(place).await?;
            ended?;
        }
        let of = |side, name| course.figure(side, name) as u64;
        Ok(format!(
            "During three seconds without the origin, users saw {} errors without stale-if-error and {} with it, which served {} reads from copies, marked as such.",
            of(0, "errors seen by users"),
            of(1, "errors seen by users"),
            of(1, "reads served stale"),
        ))
    }

    async fn read_through_outage(
        &self,
        clients: u32,
        place: &Place,
        side: &Side<'_, '_>,
    ) -> Result<(), String> {
        let options = CacheOptions { timeout: Duration::from_secs(10), ..CacheOptions::default() };
        let cache = self.cache(place, options)?;
        let counts = Arc::new(Counts::default());
        let mut tasks = JoinSet::new();
        for number in 0..clients as usize {
            tasks.spawn(read_for_ever(cache.clone(), number, Arc::clone(&counts)));
        }
        let faults = &self.stand_in.faults;
        let origin = || faults.counts().calls;
        let began = origin();
        let (mut before, mut phase) = ([0; 4], 0);
        let (mut at_down, mut at_up, mut second_after) = (began, began, began);
        let mut breaker = "closed".to_owned();
        let mut samples = tokio::time::interval(SAMPLE_EVERY);
        while side.elapsed() < END {
            samples.tick().await;
            if phase == 0 && side.elapsed() >= DOWN {
                (phase, at_down) = (1, origin());
                self.faults(json!({ "outage": true }))?;
                side.event("origin", "goes down");
            } else if phase == 1 && side.elapsed() >= UP {
                (phase, at_up) = (2, origin());
                self.faults(json!({ "outage": false }))?;
                side.event("origin", "comes back");
            } else if phase == 2 && side.elapsed() >= UP + Duration::from_secs(1) {
                (phase, second_after) = (3, origin());
            }
            let known = self.verax.origins(TENANT).await.map_err(text)?;
            if let Some(origin) = known.into_iter().find(|origin| origin.name == ORIGIN)
                && origin.breaker != breaker
            {
                side.event("breaker", format!("is {}", origin.breaker));
                breaker = origin.breaker;
            }
            let now = [
                counts.reads.load(Ordering::Relaxed),
                counts.errors.load(Ordering::Relaxed),
                counts.stale.load(Ordering::Relaxed),
                origin() - began,
            ];
            let each_second = 1.0 / SAMPLE_EVERY.as_secs_f64();
            let rate = |at: usize| (now[at] - before[at]) as f64 * each_second;
            side.tick(&[
                ("errors each second", rate(1)),
                ("stale answers each second", rate(2)),
                ("origin calls each second", rate(3)),
                ("breaker (1 open, ½ half open)", openness(&breaker)),
            ]);
            before = now;
        }
        counts.over.store(true, Ordering::Relaxed);
        while let Some(ended) = tasks.join_next().await {
            ended.map_err(text)?;
        }
        let number = |counter: &AtomicU64| counter.load(Ordering::Relaxed) as f64;
        side.figures(&[
            ("reads", number(&counts.reads), ""),
            ("errors seen by users", number(&counts.errors), ""),
            ("reads served stale", number(&counts.stale), ""),
            ("origin calls while it was down", (at_up - at_down) as f64, ""),
            ("origin calls in the second after", (second_after - at_up) as f64, ""),
        ]);
        Ok(())
    }
}
