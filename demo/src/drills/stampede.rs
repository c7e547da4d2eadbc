//! The stampede drill: many callers on one cold hot key, with and without the guard.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use serde_json::json;
use tokio::sync::Barrier;
use tokio::task::JoinSet;
use verax_client::{Cache, CacheOptions, PutOptions};
use verax_core::OriginSettings;
use verax_origin::Origin;

use super::course::{Course, Side, quantile};
use super::{Drills, Place, text};

const KEY: &str = "board/aldermouth";
const HARBOR: &str = "aldermouth";

/// How many concurrent calls the origin serves; more are refused, as by a busy service.
const ORIGIN_LIMIT: u64 = 8;

/// The origin's latency beyond its query.
const EXTRA_LATENCY: u64 = 150;

const SAMPLE_EVERY: Duration = Duration::from_millis(20);

const ASIDE: Place = Place {
    name: "drill-aside",
    through: false,
    max_age_seconds: 60.0,
    stale_if_error_seconds: 0.0,
};

const THROUGH: Place = Place { name: "drill-through", through: true, ..ASIDE };

/// One caller; returns `false` if its user saw an error.
async fn read(cache: &Cache, origin: Option<&Origin>) -> bool {
    match (cache.get(KEY).await, origin) {
        (Ok(Some(_)), _) => true,
        // Get, miss, read the origin, put: what services do without a guard.
        (Ok(None), Some(origin)) => match origin.read(&[("harbor", HARBOR)], None).await {
            Ok(value) => {
                let _ = cache.put(KEY, &value.value, PutOptions::default()).await;
                true
            }
            Err(_) => false,
        },
        _ => false,
    }
}

impl Drills {
    pub(super) async fn stampede(
        &self,
        callers: u32,
        course: &Course<'_>,
    ) -> Result<String, String> {
        self.faults(json!({
            "concurrency_limit": ORIGIN_LIMIT, "extra_latency_ms": EXTRA_LATENCY
        }))?;
        for (name, place) in [("guard off", &ASIDE), ("guard on", &THROUGH)] {
            self.open(place).await?;
            let ended = self.rush(callers, place, &course.begin(name)).await;
            self.close(place).await?;
            ended?;
        }
        let [off, on] = [0, 1].map(|side| {
            ["origin calls", "errors"].map(|figure| course.figure(side, figure) as u64)
        });
        Ok(format!(
            "{callers} callers made {} origin call{} with the guard and {} without; {} of them saw an error with it, {} without.",
            on[0],
            if on[0] == 1 { "" } else { "s" },
            off[0],
            on[1],
            off[1]
        ))
    }

    async fn rush(&self, callers: u32, place: &Place, side: &Side<'_, '_>) -> Result<(), String> {
        let long = Duration::from_secs(30);
        let options = CacheOptions { connections: 4, timeout: long, ..CacheOptions::default() };
        let cache = self.cache(place, options)?;
        let url = format!("http://{}/boards/{{harbor}}", self.stand_in.address);
        let origin = Origin::new(&OriginSettings::http(url), &Default::default()).map_err(text)?;
        let origin = Arc::new((!place.through).then_some(origin));
        // Connections are opened before the rush, as in a running service.
        cache.list("", None, 1).await.map_err(text)?;
        let faults = &self.stand_in.faults;
        let before = faults.counts().calls;
        faults.forget_most_at_once();
        let (start, waiting) =
            (Arc::new(Barrier::new(callers as usize)), Arc::new(AtomicU64::new(0)));
        let mut tasks = JoinSet::new();
        for _ in 0..callers {
            let (cache, origin) = (cache.clone(), Arc::clone(&origin));
            let (start, waiting) = (Arc::clone(&start), Arc::clone(&waiting));
            tasks.spawn(async move {
                start.wait().await;
                waiting.fetch_add(1, Ordering::Relaxed);
                let began = Instant::now();
                let served = read(&cache, origin.as_ref().as_ref()).await;
                waiting.fetch_sub(1, Ordering::Relaxed);
                (served, began.elapsed())
            });
        }
        let (mut times, mut errors) = (Vec::new(), 0u64);
        let mut samples = tokio::time::interval(SAMPLE_EVERY);
        loop {
            tokio::select! {
                ended = tasks.join_next() => match ended {
                    Some(ended) => {
                        let (served, took) = ended.map_err(text)?;
                        times.push(took);
                        errors += u64::from(!served);
                        if times.len() == 1 {
                            side.event("first caller", if served { "has its answer" } else { "sees an error" });
                        }
                    }
                    None => break,
                },
                _ = samples.tick() => side.tick(&[
                    ("callers waiting", waiting.load(Ordering::Relaxed) as f64),
                    ("calls at the origin", faults.counts().at_once as f64),
                ]),
            }
        }
        side.tick(&[("callers waiting", 0.0), ("calls at the origin", 0.0)]);
        side.event("last caller", "is done");
        let counts = faults.counts();
        side.figures(&[
            ("callers", f64::from(callers), ""),
            ("origin calls", (counts.calls - before) as f64, ""),
            ("max concurrent origin calls", counts.max_concurrency as f64, ""),
            ("errors", errors as f64, ""),
            ("p50", quantile(&mut times, 0.5), "ms"),
            ("p99", quantile(&mut times, 0.99), "ms"),
        ]);
        Ok(())
    }
}
