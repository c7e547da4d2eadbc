//! Ties load runs to the load crate, which the service does not know.

use std::path::PathBuf;
use std::sync::Arc;

use verax_client::{Client, ClientOptions};
use verax_control::runs::{LoadPlan, LoadRunner, ProgressSink, RunningLoad, StopSignal};
use verax_load::{CachedLane, DirectLane, Plan};

/// Runs loads against the Verax at an address.
#[derive(Debug)]
pub(super) struct LocalLoad {
    pub(super) url: String,
    /// The certificate that it has, when it is served over TLS. It may have names of its own alone,
    /// and may come from an authority that this machine does not know.
    pub(super) certificate: Option<PathBuf>,
}

impl LoadRunner for LocalLoad {
    fn run(&self, plan: LoadPlan, progress: ProgressSink, stop: StopSignal) -> RunningLoad {
        let options = ClientOptions {
            url: self.url.clone(),
            pinned: self.certificate.clone(),
            token: Some(plan.token.clone().into()),
            ..Default::default()
        };
        Box::pin(async move {
            let client = Client::new(options).map_err(|e| e.to_string())?;
            let namespace = client
                .namespace(plan.tenant.as_str(), plan.namespace.as_str())
                .map_err(|e| e.to_string())?;
            let plan = Plan {
                profile: plan.profile,
                keys: plan.keys,
                cached: CachedLane { namespace },
                direct: DirectLane { origin: plan.origin, key_pattern: plan.key_pattern },
            };
            let progress = Arc::clone(&progress);
            verax_load::run(plan, move |p| progress(p), stop).await
        })
    }
}
