//! `verax demo`: the service with the ferry network around it.

use std::io::{IsTerminal, Write};
use std::sync::Arc;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use verax_client::{Client, ClientOptions};
use verax_demo::drills::Drills;
use verax_demo::{data, profiles, reader, setup, stand_in, traffic};

use verax_records::launcher::{Listen, PrivateServer, PrivateServerOptions};

use super::drill_runner::DemoDrills;
use super::serve::{Running, StopSignals, start};
use crate::arguments::DemoOptions;
use crate::failure::Failure;
use crate::logging;
use crate::settings::{Settings, address, environment};

/// Tells of long steps: a moving line on a terminal, plain lines elsewhere.
struct Steps {
    bar: ProgressBar,
    terminal: bool,
}

impl Steps {
    fn new() -> Self {
        let terminal = std::io::stderr().is_terminal();
        let bar = if terminal { ProgressBar::new_spinner() } else { ProgressBar::hidden() };
        bar.enable_steady_tick(Duration::from_millis(100));
        Self { bar, terminal }
    }

    fn begin(&self, what: &str) {
        if self.terminal {
            self.bar.set_message(what.to_owned());
        } else {
            let _ = writeln!(std::io::stderr(), "{what}");
        }
    }

    fn progress(&self, what: &str, done: u64, of: u64) {
        self.bar.set_message(format!("{what}: {done} of {of}"));
    }

    fn end(&self) {
        self.bar.finish_and_clear();
    }
}

/// Runs the demo until it is told to stop.
pub(crate) async fn demo(options: DemoOptions) -> Result<(), Failure> {
    let mut signals = StopSignals::catch()?;
    let (running, _log) = tokio::select! {
        prepared = prepare(options) => prepared?,
        () = signals.received() => return Ok(()),
    };
    running.say_ready();
    running.until_stopped(&mut signals).await
}

/// Starts the service and the ferry network around it.
async fn prepare(options: DemoOptions) -> Result<(Running, impl Sized), Failure> {
    let settings = Settings::for_demo(&options, &environment)?;
    let origin = address(&options.origin)
        .map_err(|e| Failure::usage(format!("--origin {:?}: {e}", options.origin)))?;
    let log = logging::start(settings.log_format, &settings.log_filter);
    let failed = |e: &dyn std::fmt::Display| Failure::failed(e.to_string());
    let steps = Steps::new();
    steps.bar.set_style(
        ProgressStyle::with_template("{spinner} {msg} ({elapsed})").map_err(|e| failed(&e))?,
    );
    let shipped = profiles::shipped().map_err(|e| failed(&e))?;
    let mut running = start(&settings, shipped, |what| steps.begin(what)).await?;
    let Some(token) = running.token.clone() else {
        return Err(Failure::failed("the demo needs its administrator token: see the log above"));
    };
    steps.begin("starting the ferry network's own MariaDB");
    // A server of its own: no origin may lead to the records.
    let ferry = PrivateServer::start_with(PrivateServerOptions {
        directory: running.directory.ferry(),
        mariadbd: settings.mariadbd.clone(),
        listen: Listen::Loopback,
    });
    let ferry = ferry.await.map_err(|e| failed(&e))?;
    let (base_url, ferry_url, port) = (ferry.url("verax"), ferry.url("ferry"), ferry.port());
    running.more_servers.push(ferry);
    steps.begin("loading the ferry network's sailings and gauge readings");
    let today = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
    let progress = |done, of| steps.progress("loading days of the ferry network", done, of);
    let loaded = data::load(&base_url, today, progress).await;
    let loaded = loaded.map_err(|e| failed(&e))?;
    tracing::debug!(?loaded, "the ferry data is there");
    steps.begin("starting the stand-in origin, the tenants and their traffic");
    let stand_in = stand_in::start(&ferry_url, origin).await.map_err(|e| failed(&e))?;
    let anywhere = std::net::SocketAddr::from(([127, 0, 0, 1], 0));
    let second = stand_in::start(&ferry_url, anywhere).await.map_err(|e| failed(&e))?;
    let password = reader::create(&ferry_url).await.map_err(|e| failed(&e))?;
    running.keep_credential(reader::READER, &password)?;
    let verax = Client::new(ClientOptions {
        url: running.url(),
        ca: settings.tls.as_ref().map(|(certificate, _)| certificate.clone()),
        wire: running.wire_url(),
        token: Some(token),
        ..Default::default()
    })?;
    let drills = Drills::prepare(verax.clone(), &ferry_url).await;
    let drills = DemoDrills(Arc::new(drills.map_err(|e| failed(&e))?));
    running.service.set_drill_runner(Arc::new(drills));
    let places = setup::Places {
        stand_in: stand_in.address,
        second: second.address,
        database: port.unwrap_or_default(),
    };
    setup::create(&verax, &places).await.map_err(|e| failed(&e))?;
    if !options.no_traffic {
        let stopping = running.service.stopping();
        let instances = traffic::run(verax, stopping);
        tokio::spawn(async move {
            if let Err(error) = instances.await {
                tracing::warn!(%error, "the demo's traffic did not start");
            }
        });
    }
    steps.end();
    Ok((running, log))
}
