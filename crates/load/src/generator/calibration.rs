//! What a generator can do at most: measured against a bare responder before a run, so that a run
//! that reaches it is known to say more about the generator than about what it reads.

use std::time::Duration;

use tokio::sync::watch;
use tokio::task::JoinSet;
use verax_core::load::{LaneTarget, RefillBy, Transport};
use verax_core::{Key, OriginSettings};

use super::backlog::Backlog;
use super::clients::Lane;
use super::counts::{Counted, SharedCounts};
use super::lanes::LaneReader;
use super::responder::{Responder, Speaks};
use crate::message::{Assignment, ServiceAddress};

/// How long each kind of lane is measured, after as long a warm-up.
const MEASURED: Duration = Duration::from_millis(300);

/// The most clients that measure it.
const MAX_CLIENTS: u32 = 64;

/// The highest rate for each lane, in requests per second.
///
/// # Errors
/// Why there is no responder.
pub(super) async fn measure(assignment: &Assignment) -> Result<Vec<f64>, String> {
    let profile = &assignment.profile;
    let clients = profile.arrivals.most_clients(profile.stages.highest(), 1);
    let clients = clients.clamp(1, MAX_CLIENTS);
    let (mut http, mut wire) = (None, None);
    let mut rates = Vec::with_capacity(assignment.lanes.len());
    for lane in &assignment.lanes {
        let speaks = match lane {
            LaneTarget::Cache { through: Transport::Wire, .. } => Speaks::Wire,
            LaneTarget::Cache { .. } | LaneTarget::Origin(_) => Speaks::Http,
        };
        let known = match speaks {
            Speaks::Http => &mut http,
            Speaks::Wire => &mut wire,
        };
        let rate = match *known {
            Some(rate) => rate,
            None => *known.insert(highest(assignment, speaks, clients).await?),
        };
        rates.push(rate);
    }
    Ok(rates)
}

async fn highest(assignment: &Assignment, speaks: Speaks, clients: u32) -> Result<f64, String> {
    let responder =
        Responder::start(speaks).map_err(|e| format!("no responder to calibrate with: {e}"))?;
    let address = responder.address;
    let service = ServiceAddress {
        url: format!("http://{address}"),
        wire: address.to_string(),
        token: "calibration".into(),
        ..ServiceAddress::default()
    };
    let (tenant, namespace) = ("calibration".to_owned(), "calibration".to_owned());
    let target = match speaks {
        Speaks::Wire => LaneTarget::Cache {
            tenant,
            namespace,
            through: Transport::Wire,
            refill: RefillBy::ReadThrough,
            origin: None,
        },
        Speaks::Http => LaneTarget::Origin(verax_core::load::OriginTarget {
            settings: OriginSettings::http(format!("http://{address}/{{key}}")),
            key_pattern: "{key}".to_owned(),
        }),
    };
    let keys = Key::new("calibration").map_err(|e| e.to_string())?;
    let chooser = verax_core::load::Popularity::Uniform.chooser(1).map_err(|e| e.to_string())?;
    let lane = Lane {
        reader: LaneReader::open(&target, &service)?,
        counts: SharedCounts::default(),
        backlog: Backlog::default(),
        keys: [keys].into(),
        chooser,
        mix: verax_core::load::Mix::default(),
        seed: assignment.profile.seed,
        began: std::time::Instant::now(),
        clients,
    };
    let (active, receiver) = watch::channel(clients);
    let mut tasks = JoinSet::new();
    for client in 0..clients {
        tasks.spawn(lane.clone().closed_loop(client, Duration::ZERO, receiver.clone()));
    }
    let mut counted = Counted::default();
    tokio::time::sleep(MEASURED).await;
    lane.counts.swap(&mut counted);
    let began = std::time::Instant::now();
    counted = Counted::default();
    tokio::time::sleep(MEASURED).await;
    lane.counts.swap(&mut counted);
    let rate = counted.recorder.succeeded() as f64 / began.elapsed().as_secs_f64();
    tasks.shutdown().await;
    drop((active, responder));
    match counted.recorder.succeeded() {
        0 => Err("the generator could not be calibrated: its responder did not answer".into()),
        _ => Ok(rate),
    }
}
