//! `verax demo`: the service with the ferry network around it.

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use tokio::sync::watch;
use verax_cli::{DemoOptions, Failure, environment};
use verax_client::{Client, ClientOptions};
use verax_demo::drills::Drills;
use verax_demo::stand_in::Standin;
use verax_demo::{data, plans, profiles, reader, setup, stand_in, traffic};

use verax_records::launcher::{Listen, PrivateServer, PrivateServerOptions};

use super::data_directory::{DataDirectory, keep_secret};
use super::drill_runner::{DemoDrills, DemoStandIn};
use super::pair::Pair;
use super::serve::{Running, Signals, start};
use crate::logging;
use crate::settings::{Settings, address};

/// Tells of long steps: a moving line on a terminal, plain lines elsewhere.
struct Steps {
    bar: ProgressBar,
    terminal: bool,
}

impl Steps {
    fn new() -> Result<Self, Failure> {
        let terminal = std::io::stderr().is_terminal();
        let bar = if terminal { ProgressBar::new_spinner() } else { ProgressBar::hidden() };
        let style = ProgressStyle::with_template("{spinner} {msg} ({elapsed})");
        bar.set_style(style.map_err(|e| Failure::failed(e.to_string()))?);
        bar.enable_steady_tick(Duration::from_millis(100));
        Ok(Self { bar, terminal })
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

/// Runs the demo until a stop signal.
pub(crate) async fn demo(options: DemoOptions) -> Result<(), Failure> {
    let mut signals = Signals::catch()?;
    let settings = Settings::for_demo(&options, &environment)?;
    let _log = logging::start(settings.log_format, &settings.log_filter);
    let steps = Steps::new()?;
    if options.pair {
        let prepared = tokio::select! {
            prepared = prepare_pair(&options, &settings, &steps) => prepared?,
            () = signals.stop() => return Ok(()),
        };
        let (pair, network) = prepared;
        signals.stop().await;
        return pair.stop(network.servers).await;
    }
    let running = tokio::select! {
        prepared = prepare(&options, &settings, &steps) => prepared?,
        () = signals.stop() => return Ok(()),
    };
    running.say_role();
    running.until_stopped(&mut signals, || Settings::for_demo(&options, &environment)).await
}

/// The Verax that the ferry network is built around.
struct Center<'c> {
    client: ClientOptions,
    directory: &'c DataDirectory,
    credentials: &'c Path,
}

/// The ferry network.
struct Network {
    servers: Vec<PrivateServer>,
    verax: Client,
    ferry_url: String,
    stand_in: Arc<Standin>,
}

/// Starts the service and the ferry network around it.
async fn prepare(
    options: &DemoOptions,
    settings: &Settings,
    steps: &Steps,
) -> Result<Running, Failure> {
    let failed = |e: &dyn std::fmt::Display| Failure::failed(e.to_string());
    let shipped = profiles::shipped().map_err(|e| failed(&e))?;
    let mut running = start(settings, shipped, |what| steps.begin(what)).await?;
    let Some(token) = running.token.clone() else {
        return Err(Failure::failed("the demo needs its administrator token: see the log above"));
    };
    let client = ClientOptions {
        url: running.url(),
        ca: settings.tls.as_ref().map(|(certificate, _)| certificate.clone()),
        wire: running.wire_url(),
        token: Some(token.into()),
        ..Default::default()
    };
    let (Some(directory), Some(credentials)) = (&running.directory, &running.credentials) else {
        return Err(Failure::failed("the demo needs a data directory"));
    };
    let center = Center { client, directory, credentials };
    let network = surround(&center, options, settings, steps).await?;
    let drills = Drills::prepare(network.verax.clone(), &network.ferry_url).await;
    let drills = DemoDrills(Arc::new(drills.map_err(|e| failed(&e))?));
    let control = running.service.control();
    control.set_drill_runner(Arc::new(drills));
    control.set_stand_in(Arc::new(DemoStandIn(Arc::clone(&network.stand_in))));
    if !options.no_traffic {
        begin_traffic(network.verax.clone(), running.service.stopping());
    }
    running.more_servers.extend(network.servers);
    steps.end();
    Ok(running)
}

/// Starts two Verax and the ferry network around them.
async fn prepare_pair(
    options: &DemoOptions,
    settings: &Settings,
    steps: &Steps,
) -> Result<(Pair, Network), Failure> {
    let pair = Pair::start(settings, |what| steps.begin(what)).await?;
    let client = ClientOptions {
        url: pair.urls(),
        wire: pair.wire_addresses(),
        token: Some(pair.token()?.into()),
        ..Default::default()
    };
    let center = Center { client, directory: pair.directory(), credentials: pair.credentials() };
    let network = surround(&center, options, settings, steps).await?;
    if !options.no_traffic {
        begin_traffic(network.verax.clone(), pair.stopping());
    }
    steps.end();
    pair.explain();
    Ok((pair, network))
}

fn begin_traffic(verax: Client, stopping: watch::Receiver<bool>) {
    let instances = traffic::run(verax, stopping);
    tokio::spawn(async move {
        if let Err(error) = instances.await {
            tracing::warn!(%error, "the demo's traffic did not start");
        }
    });
}

/// Starts the ferry network around a Verax: its data, its slow origin, its tenants.
async fn surround(
    center: &Center<'_>,
    options: &DemoOptions,
    settings: &Settings,
    steps: &Steps,
) -> Result<Network, Failure> {
    let failed = |e: &dyn std::fmt::Display| Failure::failed(e.to_string());
    let origin = address(&options.origin)
        .map_err(|e| Failure::usage(format!("--origin {:?}: {e}", options.origin)))?;
    steps.begin("starting the ferry network's MariaDB");
    // A server of its own: no origin may lead to the records.
    let ferry = PrivateServer::start_with(PrivateServerOptions {
        directory: center.directory.ferry(),
        mariadbd: settings.mariadbd.clone(),
        listen: Listen::Loopback,
    });
    let ferry = ferry.await.map_err(|e| failed(&e))?;
    let (base_url, ferry_url, port) = (ferry.url("verax"), ferry.url("ferry"), ferry.port());
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
    keep_secret(&center.credentials.join(reader::READER), &password)?;
    let verax = Client::new(center.client.clone())?;
    let places = setup::Places {
        stand_in: stand_in.address,
        second: second.address,
        database: port.unwrap_or_default(),
    };
    setup::create(&verax, &places).await.map_err(|e| failed(&e))?;
    plans::create(&verax).await.map_err(|e| failed(&e))?;
    Ok(Network { servers: vec![ferry], verax, ferry_url, stand_in: stand_in.faults })
}
