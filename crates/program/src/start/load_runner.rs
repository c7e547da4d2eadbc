//! Ties load runs to the load crate, which the control plane does not know, and generators to
//! processes of their own.

use std::path::PathBuf;
use std::process::Stdio;
use std::sync::{Mutex, PoisonError};

use tokio::process::{Child, Command};
use verax_control::runs::{JoinedGenerator, LoadControls, LoadPlan, LoadRunner, RunningLoad};
use verax_load::{RunPlan, ServiceAddress, StartGenerator, StartedGenerator, Starting};

/// Runs loads against the Verax at an address.
#[derive(Debug)]
pub(super) struct LocalLoad {
    /// Its address for HTTP.
    pub(super) url: String,
    /// Its address for the wire protocol.
    pub(super) wire: String,
    /// The certificate that it has, when it is served over TLS. It may have names of its own alone,
    /// and may come from an authority that this machine does not know.
    pub(super) certificate: Option<PathBuf>,
    /// The directory with the secrets of origins.
    pub(super) credentials_directory: Option<PathBuf>,
}

impl LoadRunner for LocalLoad {
    fn run(&self, plan: LoadPlan, controls: LoadControls) -> RunningLoad {
        let LoadPlan { profile, token, lanes, keys, recorded, workers } = plan;
        let service = ServiceAddress {
            url: self.url.clone(),
            wire: self.wire.clone(),
            certificate: self.certificate.clone(),
            ca: None,
            token,
            credentials_directory: self.credentials_directory.clone(),
        };
        let LoadControls { joined, progress, steering, stop } = controls;
        let workers = workers + u32::try_from(joined.len()).unwrap_or(0);
        let plan = RunPlan { profile, lanes, keys, recorded, service, workers };
        Box::pin(async move {
            let generators = Generators { joined: Mutex::new(joined) };
            verax_load::conduct(plan, &generators, steering, stop, |p| progress(p)).await
        })
    }
}

/// The workers that have joined, then processes of this program.
struct Generators {
    joined: Mutex<Vec<JoinedGenerator>>,
}

impl StartGenerator for Generators {
    fn start(&self) -> Starting {
        let joined = self.joined.lock().unwrap_or_else(PoisonError::into_inner).pop();
        if let Some(JoinedGenerator { name, stream }) = joined {
            let (reports, orders) = tokio::io::split(stream);
            return Box::pin(std::future::ready(Ok(StartedGenerator {
                reports: Box::new(reports),
                orders: Box::new(orders),
                alive: Box::new(()),
                machine: Some(name),
            })));
        }
        Box::pin(async {
            let mut child = Command::new(std::env::current_exe()?)
                .args(["load", "worker", "--piped"])
                .stdin(Stdio::piped())
                .stdout(Stdio::piped())
                .kill_on_drop(true)
                // An interrupt at the terminal is for the service, which ends its generators.
                .process_group(0)
                .spawn()?;
            let (Some(orders), Some(reports)) = (child.stdin.take(), child.stdout.take()) else {
                return Err(std::io::Error::other("the process has no standard streams"));
            };
            Ok(StartedGenerator {
                reports: Box::new(reports),
                orders: Box::new(orders),
                alive: Box::new(KilledOnDrop { child: Some(child) }),
                machine: None,
            })
        })
    }
}

/// A process that is killed, and waited for, when this is dropped.
struct KilledOnDrop {
    child: Option<Child>,
}

impl Drop for KilledOnDrop {
    fn drop(&mut self) {
        let (Some(mut child), Ok(runtime)) =
            (self.child.take(), tokio::runtime::Handle::try_current())
        else {
            return;
        };
        runtime.spawn(async move {
            // It may have ended.
            let _ = child.kill().await;
        });
    }
}
