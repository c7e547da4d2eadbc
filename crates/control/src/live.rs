//! Takes a live sample every second, and filters it by caller.

use std::sync::Arc;
use std::time::Duration;

use verax_api::LiveSample;
use verax_core::store::Usage;
use verax_observe::{CounterReading, Gauges, LiveReceiver, Window};
use verax_records::NodeState;

use crate::access::Caller;
use crate::control::Control;
use crate::registry::Registered;

/// How often.
const SAMPLE_EVERY: Duration = Duration::from_secs(1);

/// Takes a sample every second until the service stops.
pub(crate) async fn sample_every_second(control: Arc<Control>) {
    let mut ticks = tokio::time::interval(SAMPLE_EVERY);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    ticks.tick().await;
    loop {
        ticks.tick().await;
        let topology = control.topology();
        let situation = Gauges {
            at: control.engine.now(),
            uptime: control.engine.uptime(),
            memory: control.engine.memory(),
            records_available: control.records_available(),
            role: control.role().name(),
            standbys: topology.count(NodeState::Standby),
            away: topology.count(NodeState::Away),
        };
        for registered in control.registry.namespaces() {
            registered.statistics().observe_reads(registered.namespace(), situation.at);
        }
        let observed = control.registry.namespaces().into_iter().map(|registered| {
            (Arc::clone(registered.namespace()), Arc::clone(registered.statistics()))
        });
        control.live.sample(situation, observed);
    }
}

impl Control {
    /// The samples of the last two minutes and a feed of new ones, as far as a caller may see them.
    pub fn watch(&self, caller: &Arc<Caller>) -> (Vec<LiveSample>, LiveView) {
        let (history, windows) = self.live.watch();
        let view = LiveView { windows, caller: Arc::clone(caller) };
        (history.iter().map(|window| view.of(window)).collect(), view)
    }

    /// All namespaces with their counts, for the metrics page.
    pub fn readings(&self) -> Vec<(Arc<Registered>, CounterReading, Usage)> {
        let all = self.registry.namespaces().into_iter();
        all.map(|registered| {
            let (reading, usage) = (registered.statistics().reading(), registered.usage());
            (registered, reading, usage)
        })
        .collect()
    }
}

/// A feed of new samples, as far as a caller may see them.
#[derive(Debug)]
pub struct LiveView {
    windows: LiveReceiver,
    caller: Arc<Caller>,
}

impl LiveView {
    fn of(&self, window: &Window) -> LiveSample {
        window.view(self.caller.is_admin(), |namespace| self.caller.sees(namespace))
    }

    /// The next sample; `None` when the service stops. A slow watcher misses samples.
    pub async fn next(&mut self) -> Option<LiveSample> {
        let window = self.windows.next().await?;
        Some(self.of(&window))
    }
}
