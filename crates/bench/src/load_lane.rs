//! The wire lane of a load generator against the driver of these benchmarks.

use std::time::Duration;

use tokio::sync::watch;
use verax_core::Key;
use verax_core::Name;
use verax_core::load::{
    Arrivals, LaneOrder, LaneProfile, LaneReads, LaneTarget, LoadProfile, Mix, Popularity,
    RefillBy, Stages, StopWhen, Traffic, Transport,
};
use verax_load::{RunPlan, ServiceAddress, StartGenerator, StartedGenerator, Starting, generate};

use crate::Options;
use crate::frames::{Drive, drive};
use crate::rounds::Row;
use crate::wire_get::Served;

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// The entries of the namespace.
const ENTRIES: usize = 100_000;

/// The clients of the lane, and the requests that the driver has in flight.
const CLIENTS: usize = 64;

/// The connections that the client library has by default.
const CONNECTIONS: usize = 2;

/// A generator in this process, on a thread of its own as in a process of its own.
struct Thread;

impl StartGenerator for Thread {
    fn start(&self) -> Starting {
        Box::pin(async {
            let (conductor, generator) = tokio::io::duplex(1 << 20);
            let (orders, reports) = tokio::io::split(generator);
            let task = tokio::spawn(async move {
                // What went wrong is in the report of the run.
                let _ = generate(orders, reports, None).await;
            });
            let (reports, orders) = tokio::io::split(conductor);
            Ok(StartedGenerator {
                machine: None,
                reports: Box::new(reports),
                orders: Box::new(orders),
                alive: Box::new(AbortOnDrop(task)),
            })
        })
    }
}

struct AbortOnDrop(tokio::task::JoinHandle<()>);

impl Drop for AbortOnDrop {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Two equal lanes one after another: a run needs two, and the driver runs alone as well.
fn plan(served: &Served, time: Duration) -> Result<RunPlan, Failure> {
    let reads =
        LaneReads::Cache { through: Transport::Wire, refill: RefillBy::ReadThrough, origin: None };
    let lane = |name: &str| -> Result<LaneProfile, Failure> {
        Ok(LaneProfile { name: Name::new(name)?, reads: reads.clone() })
    };
    let target = LaneTarget::Cache {
        tenant: "ferrydesk".into(),
        namespace: "boards".into(),
        through: Transport::Wire,
        refill: RefillBy::ReadThrough,
        origin: None,
    };
    let keys: Result<Vec<Key>, _> =
        (0..ENTRIES).map(|number| Key::new(crate::wire_get::key(number))).collect();
    let half = (time / 2).max(Duration::from_secs(1));
    Ok(RunPlan {
        recorded: None,
        profile: LoadProfile {
            name: Name::new("bench")?,
            lanes: vec![lane("one")?, lane("two")?],
            order: LaneOrder::OneAfterAnother,
            popularity: Popularity::Uniform,
            mix: Mix::default(),
            arrivals: Arrivals::closed(),
            stages: Stages::simple(CLIENTS as f64, Duration::ZERO, half),
            stop_when: StopWhen::default(),
            goals: Vec::new(),
            traffic: Traffic::default(),
            seed: 1,
        },
        lanes: vec![target.clone(), target],
        keys: keys?,
        service: ServiceAddress {
            wire: served.address.to_string(),
            url: "http://127.0.0.1:1".into(),
            token: served.token().to_owned(),
            ..ServiceAddress::default()
        },
        workers: 1,
    })
}

pub(crate) fn run(options: &Options) -> Result<Vec<Row>, Failure> {
    // Both sides read all entries: a few of them would stay in the processor's cache.
    let served = Served::start_prepared(ENTRIES, 128, ENTRIES)?;
    let time = Duration::from_secs_f64(options.seconds);
    let plan = plan(&served, time)?;
    let runtime = crate::fixture::runtime("conductor")?;
    let generated = || {
        let ended = runtime.block_on(async {
            let (_steer, steering) = watch::channel(verax_core::load::Steering::default());
            let (_keep, stop) = watch::channel(false);
            verax_load::conduct(plan.clone(), &Thread, steering, stop, |_| {}).await
        });
        let rates = ended.map(|report| {
            report.lanes.iter().map(|lane| lane.figures.per_second).sum::<f64>()
                / report.lanes.len() as f64
        });
        rates.unwrap_or(f64::NAN)
    };
    let what = format!("wire lane of a load run, 128 B, {CLIENTS} clients");
    // As many clients, each with a request in flight; then as few connections as the client library
    // has, with groups of requests that are sent and received as one, without reading the replies.
    let rows = [(CLIENTS, 0.80), (CONNECTIONS, 0.50)].map(|(connections, goal)| {
        let how = Drive { connections, in_flight: CLIENTS / connections, time };
        let driven =
            || drive(served.address, &served.exchange, how).map_or(f64::NAN, |d| d.per_second);
        let in_flight = how.in_flight;
        let against = format!("the bare driver, {connections} connections, {in_flight} in flight");
        Row::take((&what, &against, goal), options.rounds, generated, driven)
    });
    Ok(rows.into())
}
