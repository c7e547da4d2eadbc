//! Gentle traffic: a few application instances that read like their users.

use std::time::Duration;

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Exp};
use tokio::sync::watch;
use tokio::task::JoinSet;
use verax_client::{Client, Namespace};
use verax_core::load::Popularity;

use crate::berth_desks;
use crate::data::{gauges, harbors};
use crate::error::DemoError;

/// An application instance: what it reads, and how often.
struct Instance {
    namespace: Namespace,
    keys: Vec<String>,
    reads_per_second: f64,
}

/// The instances of the demo.
fn instances(verax: &Client) -> Result<Vec<Instance>, DemoError> {
    let harbors: Vec<String> = harbors().into_iter().map(|h| h.slug).collect();
    let boards: Vec<String> = harbors.iter().map(|h| format!("board/{h}")).collect();
    let busiest = &harbors[..8];
    let fares = busiest.iter().flat_map(|from| {
        busiest.iter().filter(move |to| *to != from).map(move |to| format!("fare/{from}/{to}"))
    });
    let levels = gauges().into_iter().map(|g| format!("level/{}", g.slug)).collect();
    // Most harbors have no notice, so these are negative entries.
    let notices = busiest.iter().map(|h| format!("notice/{h}")).collect();
    let tides = gauges().into_iter().map(|g| format!("tide/{}", g.slug)).collect();
    let berths = busiest.iter().map(|h| format!("berths/{h}")).collect();
    let instance = |tenant: &str, name: &str, keys: Vec<String>, reads_per_second: f64| {
        Ok::<_, DemoError>(Instance {
            namespace: verax.namespace(tenant, name)?,
            keys,
            reads_per_second,
        })
    };
    Ok(vec![
        // Two instances of the board service share cached values.
        instance("ferrydesk", "boards", boards.clone(), 6.0)?,
        instance("ferrydesk", "boards", boards, 6.0)?,
        instance("ferrydesk", "fares", fares.collect(), 3.0)?,
        instance("ferrydesk", "notices", notices, 1.0)?,
        instance("tideline", "tables", tides, 3.0)?,
        instance("tideline", "levels", levels, 2.0)?,
        instance("quayside", "berths", berths, 2.0)?,
    ])
}

/// Runs the instances until `stop` turns true.
///
/// # Errors
/// [`DemoError`] when they cannot start.
pub async fn run(verax: Client, mut stop: watch::Receiver<bool>) -> Result<(), DemoError> {
    let mut tasks = JoinSet::new();
    for (number, instance) in instances(&verax)?.into_iter().enumerate() {
        tasks.spawn(read_for_ever(instance, ChaCha8Rng::seed_from_u64(number as u64)));
    }
    tokio::select! {
        _ = stop.wait_for(|stop| *stop) => {}
        // They end only if they cannot start.
        started = berth_desks::run(&verax) => started?,
    }
    tasks.shutdown().await;
    Ok(())
}

async fn read_for_ever(instance: Instance, mut random: impl Rng) {
    let (Ok(popularity), Ok(pauses)) =
        (Popularity::Zipf(1.0).chooser(instance.keys.len()), Exp::new(instance.reads_per_second))
    else {
        return;
    };
    let mut popularity = popularity.sequence(0, 1);
    loop {
        let pause: f64 = pauses.sample(&mut random);
        // Users arrive at random; a long gap would only look like a fault.
        tokio::time::sleep(Duration::from_secs_f64(pause.min(2.0))).await;
        let key = &instance.keys[popularity.choose(Duration::ZERO, &mut random)];
        if let Err(error) = instance.namespace.get(key).await {
            tracing::debug!(%error, key, "an application instance's read failed");
        }
        // Some users reload the same page immediately.
        if random.random_bool(0.2) {
            let _ = instance.namespace.get(key).await;
        }
    }
}
