//! Two instances of the berth service: they work out how busy the berths of a harbor are, keep that
//! in a namespace without an origin, and refill it when a warm run asks them to.

use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};
use verax_client::{Cache, CacheOptions, Client, ClientError, Namespace, Refilled};
use verax_core::load::Popularity;

use crate::data::harbors;
use crate::error::DemoError;

/// How many instances there are.
const DESKS: u64 = 2;

/// How many harbors an instance works out at the same time.
const CONCURRENCY: usize = 2;

/// The mean time between two requests for an instance.
const PAUSE: Duration = Duration::from_secs(1);

/// How busy the berths of a harbor are.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Occupancy {
    /// The harbor.
    pub harbor: String,
    /// How many berths it has.
    pub berths: usize,
    /// How many ferries have called at them.
    pub calls: i64,
    /// The berth that most of them used.
    pub busiest: Option<i64>,
}

/// What the berth desk's origin answers.
#[derive(Deserialize)]
struct Berths {
    rows: Vec<BerthUse>,
}

#[derive(Deserialize)]
struct BerthUse {
    berth: i64,
    calls: i64,
}

fn harbor_of(key: &str) -> &str {
    key.strip_prefix("occupancy/").unwrap_or(key)
}

async fn work_out(berths: &Namespace, key: &str) -> Result<Option<Occupancy>, ClientError> {
    let harbor = harbor_of(key);
    let Some(found) = berths.get(&format!("berths/{harbor}")).await? else { return Ok(None) };
    let Berths { rows: uses } = serde_json::from_slice(&found.value).map_err(|reason| {
        ClientError::Unreadable { key: key.to_owned(), reason: reason.to_string() }
    })?;
    Ok(Some(Occupancy {
        harbor: harbor.to_owned(),
        berths: uses.len(),
        calls: uses.iter().map(|berth| berth.calls).sum(),
        busiest: uses.iter().max_by_key(|berth| berth.calls).map(|berth| berth.berth),
    }))
}

/// Runs the instances until this is dropped.
///
/// # Errors
/// [`DemoError`] when they cannot start.
pub async fn run(verax: &Client) -> Result<(), DemoError> {
    let desk = |number: u64| {
        // Without near copies, so that every read shows.
        let bound = Duration::from_secs(2);
        let options = CacheOptions { bound, connections: 1, ..CacheOptions::default() };
        let occupancy = verax.cache("quayside", "occupancy", options)?;
        Ok::<_, DemoError>(run_desk(number, occupancy, verax.namespace("quayside", "berths")?))
    };
    let desks = (0..DESKS).map(desk).collect::<Result<Vec<_>, _>>()?;
    futures_util::future::join_all(desks).await;
    Ok(())
}

async fn run_desk(number: u64, occupancy: Cache, berths: Namespace) {
    let refill = |key: String| {
        let berths = berths.clone();
        async move { work_out(&berths, &key).await.map(Refilled::from) }
    };
    let serving = async {
        let error = occupancy.serve_refills(CONCURRENCY, refill).await;
        tracing::warn!(%error, "a berth desk refills no more");
    };
    tokio::join!(serving, read(number, occupancy.clone(), berths.clone()));
}

/// Reads like users: what is missing, the instance works out itself.
async fn read(number: u64, occupancy: Cache, berths: Namespace) {
    let harbors = harbors();
    let mut random = ChaCha8Rng::seed_from_u64(100 + number);
    let Ok(popularity) = Popularity::Zipf(1.0).chooser(harbors.len()) else { return };
    let mut popularity = popularity.sequence(0, 1);
    loop {
        tokio::time::sleep(PAUSE.mul_f64(random.random_range(0.2..1.8))).await;
        let key =
            format!("occupancy/{}", harbors[popularity.choose(Duration::ZERO, &mut random)].slug);
        let (from, harbor) = (berths.clone(), key.clone());
        let refill = async move { work_out(&from, &harbor).await };
        let entry = occupancy.entry(&key);
        if let Err(error) = entry.find_or_refill_in_background(refill).await {
            tracing::debug!(%error, key, "a berth desk's read failed");
        }
    }
}
