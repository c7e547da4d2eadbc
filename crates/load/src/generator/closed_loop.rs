//! The closed loop of a generator: as many clients are active as the load says.

use std::time::Duration;

use tokio::sync::watch;
use tokio::task::JoinSet;
use verax_core::load::{Arrivals, ErrorKind, MAX_CLIENTS};

use super::clients::Lane;
use super::lanes::{Failed, LaneReader};
use crate::message::Assignment;

/// The clients of a closed loop that are here. They are made when they are needed first.
#[derive(Debug)]
pub(super) struct ClosedLoop {
    think_time: Duration,
    clients_each: u32,
    /// Whether each instance has connections of its own.
    has_instances: bool,
    lanes: Vec<LaneClients>,
}

/// The clients of a lane.
#[derive(Debug)]
struct LaneClients {
    /// How many clients are active, over all generators.
    active: watch::Sender<u32>,
    /// How many instances are here.
    instances: u32,
}

impl ClosedLoop {
    /// That of some arrivals; `None` for an open loop.
    pub(super) fn of(arrivals: &Arrivals, lanes: usize) -> Option<Self> {
        let lane = || LaneClients { active: watch::Sender::new(0), instances: 0 };
        Some(Self {
            think_time: arrivals.think_time()?,
            clients_each: arrivals.clients_each(),
            has_instances: matches!(arrivals, Arrivals::Instances { .. }),
            lanes: std::iter::repeat_with(lane).take(lanes).collect(),
        })
    }

    /// Lets as many instances of a lane be active as `level` says; without instances, clients.
    pub(super) fn adjust(
        &mut self,
        number: usize,
        lane: &Lane,
        level: f64,
        assignment: &Assignment,
        tasks: &mut JoinSet<()>,
    ) {
        let each = self.clients_each;
        let most = f64::from(MAX_CLIENTS / each.max(1));
        let level = level.round().clamp(0.0, most) as u32;
        // All clients of an instance are in one generator.
        let here = |instance: u32| instance * assignment.of + assignment.share;
        while here(self.lanes[number].instances) < level {
            let instance = here(self.lanes[number].instances);
            self.lanes[number].instances += 1;
            let mut lane = lane.clone();
            if self.has_instances {
                match LaneReader::open(&assignment.lanes[number], &assignment.service) {
                    Ok(reader) => lane.reader = reader,
                    Err(message) => {
                        let message = format!("an instance could not be started: {message}");
                        let failed = Failed { kind: ErrorKind::Other, message };
                        lane.counts.record(Duration::ZERO, None, Err(failed));
                        continue;
                    }
                }
            }
            for client in instance * each..(instance + 1) * each {
                let active = self.lanes[number].active.subscribe();
                tasks.spawn(lane.clone().closed_loop(client, self.think_time, active));
            }
        }
        let active = level * each;
        self.lanes[number].active.send_if_modified(|present| {
            let is_changed = *present != active;
            *present = active;
            is_changed
        });
    }
}
