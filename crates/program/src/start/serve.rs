//! `verax serve`, and what `verax demo` shares with it.

use std::io::Write;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use tokio::net::TcpListener;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::watch;
use tokio::task::JoinHandle;
use verax_api::LoadProfileSpec;
use verax_cli::{Failure, ServeOptions, environment, read_profile};
use verax_control::{ControlError, ControlOptions, Node, Role};
use verax_engine::EngineOptions;
use verax_records::Records;
use verax_records::launcher::{Listen, PrivateServer, PrivateServerOptions};
use verax_server::{ConnectionLimits, HostNames, HttpOptions, Tls, WireLimits};
use verax_service::{Service, ServiceOptions};

use super::bootstrap::Bootstrap;
use super::data_directory::DataDirectory;
use super::descriptors;
use super::load_runner::LocalLoad;
use super::ready_file::ReadyFile;
use crate::logging;
use crate::settings::Settings;

/// The signals that stop the service: SIGINT (Ctrl-C) and SIGTERM. They are caught from the
/// beginning, so one that comes during the start ends it in order too.
pub(super) struct Signals {
    interrupt: Signal,
    terminate: Signal,
    hangup: Signal,
}

impl Signals {
    pub(super) fn catch() -> Result<Self, Failure> {
        let (interrupt, terminate) =
            (signal(SignalKind::interrupt())?, signal(SignalKind::terminate())?);
        let hangup = signal(SignalKind::hangup())?;
        Ok(Self { interrupt, terminate, hangup })
    }

    /// Waits for a signal to stop.
    pub(super) async fn stop(&mut self) {
        tokio::select! {
            _ = self.interrupt.recv() => {}
            _ = self.terminate.recv() => {}
        }
    }
}

/// What a signal asks for.
enum Asked {
    Stop,
    Reload,
}

impl Signals {
    async fn received(&mut self) -> Asked {
        tokio::select! {
            _ = self.interrupt.recv() => Asked::Stop,
            _ = self.terminate.recv() => Asked::Stop,
            _ = self.hangup.recv() => Asked::Reload,
        }
    }
}

/// How long a stop waits until usage is kept.
const USAGE_TIMEOUT: Duration = Duration::from_secs(3);

/// How long a stop waits until what the runs came to is written down.
const RUNS_TIMEOUT: Duration = Duration::from_secs(3);

/// A service that runs.
pub(super) struct Running {
    pub(super) service: Arc<Service>,
    pub(super) address: SocketAddr,
    wire: SocketAddr,
    scheme: &'static str,
    /// The administrator token, when it is known.
    pub(super) token: Option<String>,
    private: Option<PrivateServer>,
    /// Servers of the demo, which end with it.
    pub(super) more_servers: Vec<PrivateServer>,
    /// `None` for a service that keeps nothing.
    pub(super) directory: Option<DataDirectory>,
    pub(super) credentials: Option<PathBuf>,
    _ready_file: Option<ReadyFile>,
    tls: Option<Arc<Tls>>,
    interfaces: Interfaces,
}

/// The interfaces that are served, and what stops them.
struct Interfaces {
    stop: watch::Sender<bool>,
    http: JoinHandle<std::io::Result<()>>,
    wire: JoinHandle<()>,
}

/// An address as it is announced; empty when it means nothing to others.
fn announced(scheme: &str, between: &str, address: SocketAddr) -> String {
    match address.ip().is_unspecified() {
        true => String::new(),
        false => format!("{scheme}{between}{address}"),
    }
}

/// The address for the wire protocol, as clients write it.
fn wire_url(scheme: &str, wire: SocketAddr) -> String {
    match scheme {
        "https" => format!("tls://{wire}"),
        _ => wire.to_string(),
    }
}

async fn listen(address: SocketAddr, setting: &str) -> Result<TcpListener, Failure> {
    TcpListener::bind(address).await.map_err(|e| {
        Failure::failed(format!(
            "cannot listen on {address}: {e}; stop what listens there, or choose another address with {setting}"
        ))
    })
}

/// Starts the service with `settings`. `step` receives the name of each long step.
pub(super) async fn start(
    settings: &Settings,
    profiles: Vec<LoadProfileSpec>,
    step: impl Fn(&str),
) -> Result<Running, Failure> {
    let connections = descriptors::raise(settings.connections);
    let bootstrap = settings.bootstrap.as_deref().map(Bootstrap::read).transpose()?;
    let private = settings.records_url.is_none();
    let hold = || DataDirectory::hold(&settings.data_directory, private);
    let directory = (!settings.is_ephemeral).then(hold).transpose()?;
    // Before MariaDB, which takes longer to find out about.
    let listener = listen(settings.http, "--http, VERAX_HTTP or http.address").await?;
    let wire_listener = listen(settings.wire, "--wire, VERAX_WIRE or wire.address").await?;
    let (address, wire) = (listener.local_addr()?, wire_listener.local_addr()?);
    // Only now: the file may be that of a Verax that runs with these settings.
    settings.ready_file.as_deref().map_or(Ok(()), ReadyFile::prepare)?;
    let tls = settings.tls.as_ref().map(|(certificate, key)| Tls::read(certificate, key));
    let tls = tls.transpose().map_err(|e| Failure::usage(e.to_string()))?;
    let (private, records) = match &directory {
        Some(directory) => records_of(settings, directory, step).await?,
        None => (None, Records::in_memory()),
    };
    let scheme = if tls.is_some() { "https" } else { "http" };
    let node = directory.as_ref().map(|own| node_of(settings, own, (scheme, address), wire));
    let credentials = settings.credentials_directory.clone();
    let credentials = credentials.or_else(|| directory.as_ref().map(DataDirectory::credentials));
    let node = node.transpose()?;
    let options = options_of(settings, directory.as_ref(), profiles, node, credentials.clone());
    let service = Service::start(records, options).await.map_err(|error| match error {
        // Its other words are about a service that is already running.
        ControlError::RecordsUnavailable(what) => Failure::failed(what),
        error => Failure::failed(error.to_string()),
    })?;
    service.control().set_load_runner(Arc::new(LocalLoad {
        url: format!("{scheme}://{address}"),
        wire: wire_url(scheme, wire),
        certificate: settings.tls.as_ref().map(|(certificate, _)| certificate.clone()),
        credentials_directory: credentials.clone(),
    }));
    credentials.as_deref().into_iter().for_each(DataDirectory::check_credentials);
    let token = match &directory {
        Some(directory) => {
            administrator_token(&service, directory, settings.new_admin_token).await?
        }
        None => Some(begin_ephemeral(&service, bootstrap.unwrap_or_default()).await?),
    };
    let listeners = (listener, wire_listener);
    let interfaces = begin_serving(&service, settings, connections, listeners, tls.as_ref());
    let mut running = Running {
        service,
        address,
        wire,
        scheme,
        token,
        private,
        more_servers: Vec::new(),
        directory,
        credentials,
        tls,
        interfaces,
        _ready_file: None,
    };
    if let Some(path) = &settings.ready_file {
        let token = running.token.as_deref().filter(|_| settings.is_ephemeral);
        let addresses = (&*running.url(), &*running.wire_url());
        running._ready_file = Some(ReadyFile::write(path, addresses, token)?);
    }
    Ok(running)
}

/// Serves HTTP and the wire in tasks of their own.
fn begin_serving(
    service: &Arc<Service>,
    settings: &Settings,
    connections: ConnectionLimits,
    (listener, wire_listener): (TcpListener, TcpListener),
    tls: Option<&Arc<Tls>>,
) -> Interfaces {
    let (stop, mut stopped) = watch::channel(false);
    if let Some(tls) = tls.cloned() {
        tokio::spawn(async move { tls.follow_changes().await });
    }
    let limits = WireLimits { connections, ..Default::default() };
    let wire = verax_server::serve_wire(wire_listener, Arc::clone(service), tls.cloned(), limits);
    let host_names = HostNames::new(settings.host_names.iter().cloned());
    let options = HttpOptions { limits: connections, host_names, ..Default::default() };
    let until = async move {
        let _ = stopped.wait_for(|stop| *stop).await;
    };
    let http = verax_server::serve(listener, Arc::clone(service), tls.cloned(), options, until);
    Interfaces { stop, http: tokio::spawn(http), wire: tokio::spawn(wire) }
}

/// Creates what an ephemeral service begins with; returns its administrator token.
async fn begin_ephemeral(service: &Arc<Service>, bootstrap: Bootstrap) -> Result<String, Failure> {
    let control = service.control();
    let failed = |error: ControlError| Failure::failed(error.to_string());
    let token = control.new_administrator_token().await.map_err(failed)?;
    let administrator = control.token_caller(&token).map_err(failed)?;
    bootstrap.create(control, &administrator).await?;
    Ok(token)
}

/// Where the records are: the MariaDB of the settings, or a private one that is started here.
async fn records_of(
    settings: &Settings,
    directory: &DataDirectory,
    step: impl Fn(&str),
) -> Result<(Option<PrivateServer>, Records), Failure> {
    if let Some(url) = &settings.records_url {
        return Ok((None, Records::later(url.clone())));
    }
    step("starting MariaDB");
    let options = PrivateServerOptions {
        directory: directory.records(),
        mariadbd: settings.mariadbd.clone(),
        listen: Listen::Socket,
    };
    let server = PrivateServer::start_with(options).await;
    let server = server.map_err(|e| Failure::failed(e.to_string()))?;
    let records = Records::later(server.url("verax"));
    Ok((Some(server), records))
}

/// This node, as it announces itself to others.
fn node_of(
    settings: &Settings,
    directory: &DataDirectory,
    (scheme, http): (&str, SocketAddr),
    wire: SocketAddr,
) -> Result<Node, Failure> {
    Ok(Node {
        id: directory.node_id()?,
        http: settings.public_http.clone().unwrap_or_else(|| announced(scheme, "://", http)),
        wire: settings.public_wire.clone().unwrap_or_else(|| match settings.tls {
            Some(_) => announced("tls", "://", wire),
            None => announced("", "", wire),
        }),
        version: env!("CARGO_PKG_VERSION").into(),
    })
}

fn options_of(
    settings: &Settings,
    directory: Option<&DataDirectory>,
    profiles: Vec<LoadProfileSpec>,
    node: Option<Node>,
    credentials: Option<PathBuf>,
) -> ServiceOptions {
    ServiceOptions {
        engine: EngineOptions { memory_limit: settings.memory_limit, ..Default::default() },
        control: ControlOptions {
            profiles,
            records_snapshot: directory.map(DataDirectory::records_snapshot),
            epoch_file: directory.map(DataDirectory::epoch_file),
            node,
            credentials_dir: credentials,
            load_hosts: settings.load_hosts.clone(),
        },
    }
}

impl Running {
    /// Its address for HTTP.
    pub(super) fn url(&self) -> String {
        format!("{}://{}", self.scheme, self.address)
    }

    /// Its address for the wire protocol, as clients write it.
    pub(super) fn wire_url(&self) -> String {
        wire_url(self.scheme, self.wire)
    }

    /// Says what the service does: that it can serve, with a sign-in link, or that it stands by.
    /// One line.
    pub(super) fn say_role(&self) {
        let http = self.url();
        let wire = self.wire;
        if self.service.control().role() == Role::Standby {
            let topology = self.service.control().topology();
            let active = topology.active().map(|node| node.http.as_str()).filter(|a| !a.is_empty());
            let active = active.unwrap_or("another Verax");
            let _ = writeln!(
                std::io::stdout(),
                "verax standby · {http} · wire {wire} · takes over when {active} ends"
            );
            return;
        }
        let link = self.token.as_ref().and_then(|token| {
            let caller = self.service.control().token_caller(token).ok()?;
            let link = self.service.control().sign_in_link(&caller).ok()?;
            let kept = match &self.directory {
                Some(directory) => {
                    format!("administrator token in {}", directory.token_path().display())
                }
                None => "ephemeral: nothing is kept".to_owned(),
            };
            Some(format!(" · {kept} · sign in: {http}{}", link.path))
        });
        let link = link.unwrap_or_default();
        // Nobody may be reading, which is no reason to stop.
        let _ = writeln!(std::io::stdout(), "verax ready · {http} · wire {wire}{link}");
    }

    /// Takes over what can be changed while it runs: the memory limit, the log's filter, and the
    /// certificate. What cannot be read changes nothing.
    fn reload(&self, settings: Result<Settings, Failure>) {
        let settings = match settings {
            Ok(settings) => settings,
            Err(error) => {
                tracing::error!(
                    error = error.text(),
                    "the settings cannot be read: those in use stay"
                );
                return;
            }
        };
        self.service.engine().set_memory_limit(settings.memory_limit);
        let filter = logging::set_filter(&settings.log_filter);
        let certificate = self.tls.as_ref().map(|tls| tls.reload());
        if let Some(Err(error)) = &certificate {
            tracing::error!(%error, "the TLS certificate in use stays");
        }
        tracing::info!(
            memory_limit_bytes = settings.memory_limit,
            log_filter = if filter { settings.log_filter.as_str() } else { "unchanged" },
            certificate = match certificate {
                None => "none",
                Some(Ok(())) => "read anew",
                Some(Err(_)) => "unchanged",
            },
            "the settings were read anew; other changes take a restart"
        );
    }

    /// Waits for a signal to stop, or the end of serving, then stops everything in order. At a
    /// SIGHUP, `settings` are read anew.
    pub(super) async fn until_stopped(
        mut self,
        signals: &mut Signals,
        settings: impl Fn() -> Result<Settings, Failure>,
    ) -> Result<(), Failure> {
        let mut role = self.service.control().watch_role();
        role.mark_unchanged();
        let mut said = self.service.control().role();
        loop {
            tokio::select! {
                asked = signals.received() => match asked {
                    Asked::Stop => break,
                    Asked::Reload => self.reload(settings()),
                },
                ended = &mut self.interfaces.http => {
                    tracing::error!(?ended, "serving ended by itself");
                    break;
                }
                _ = role.changed() => {
                    let now = *role.borrow_and_update();
                    if let (Role::Active, None, Some(directory)) = (now, &self.token, &self.directory) {
                        self.token = match administrator_token(&self.service, directory, false).await {
                            Ok(token) => token,
                            Err(error) => {
                                error.tell();
                                None
                            }
                        };
                    }
                    if std::mem::replace(&mut said, now) != now {
                        self.say_role();
                    }
                }
            }
        }
        tracing::info!("stopping");
        self.interfaces.stop.send_replace(true);
        let serving = async {
            if !self.interfaces.http.is_finished() {
                let _ = (&mut self.interfaces.http).await;
            }
            let _ = self.interfaces.wire.await;
        };
        let runs = tokio::time::timeout(RUNS_TIMEOUT, self.service.control().runs_ended());
        let (_, runs) = tokio::join!(serving, runs);
        if runs.is_err() {
            tracing::warn!("what some runs came to was not written down in time");
        }
        let kept = self.service.control().keep_usage_now(true);
        if tokio::time::timeout(USAGE_TIMEOUT, kept).await.is_err() {
            tracing::warn!("the usage since the last minute is not kept: MariaDB did not answer");
        }
        self.service.control().leave().await;
        let servers = self.private.into_iter().chain(self.more_servers);
        for stopped in futures_util::future::join_all(servers.map(PrivateServer::stop)).await {
            // It loses nothing by being killed, so that is no failure of the stop.
            if let Err(error) = stopped {
                tracing::warn!(%error, "MariaDB did not stop in time");
            }
        }
        tracing::info!("stopped");
        Ok(())
    }
}

/// The administrator token: that of an earlier start, or at the very first start a new one, kept in
/// the data directory. A kept one that is damaged or lost is reported with what to do, and the
/// service continues without it.
async fn administrator_token(
    service: &Arc<Service>,
    directory: &DataDirectory,
    new: bool,
) -> Result<Option<String>, Failure> {
    let known = directory.token()?;
    if service.control().role() == Role::Standby {
        if new {
            return Err(Failure::failed(
                "a Verax that stands by creates no administrator token: start the active one with --new-admin-token",
            ));
        }
        // Whatever is in the file, one that opens nothing here must not be shown as one that does.
        return Ok(known.filter(|token| service.control().token_caller(token).is_ok()));
    }
    let token = match new {
        true => service.control().new_administrator_token().await,
        false => service.control().administrator_token(known.as_deref()).await,
    };
    match token {
        Ok(token) => {
            if known.as_deref() != Some(&token) {
                directory.keep_token(&token)?;
            }
            Ok(Some(token))
        }
        Err(ControlError::Conflict(_))
            if known.is_none() && service.control().topology().nodes.len() > 1 =>
        {
            tracing::info!(
                path = %directory.token_path().display(),
                "no administrator token is kept here: that of the other Verax opens this one too"
            );
            Ok(None)
        }
        Err(ControlError::Conflict(what)) => {
            tracing::error!(
                path = %directory.token_path().display(),
                "the file of the administrator token cannot be used: {what}; put the token back, or start once with --new-admin-token to create another, and revoke the old one then"
            );
            Ok(None)
        }
        Err(error) => Err(Failure::failed(error.to_string())),
    }
}

/// The load profiles in a directory.
fn read_profiles(directory: &Path) -> Result<Vec<LoadProfileSpec>, Failure> {
    let shown = directory.display();
    let wrong = |e: std::io::Error| Failure::usage(format!("the load profiles in {shown}: {e}"));
    let mut profiles = Vec::new();
    for file in std::fs::read_dir(directory).map_err(wrong)? {
        let path = file.map_err(wrong)?.path();
        if path.extension().is_some_and(|extension| extension == "toml" || extension == "json") {
            profiles.push(read_profile(&path)?);
        }
    }
    profiles.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(profiles)
}

/// Runs the service until a stop signal.
pub(crate) async fn serve(options: ServeOptions) -> Result<(), Failure> {
    let settings = Settings::for_serve(&options, &environment)?;
    let profiles = settings.load_profiles.as_deref().map(read_profiles).transpose()?;
    let _log = logging::start(settings.log_format, &settings.log_filter);
    let step = |what: &str| tracing::info!("{what}");
    let mut signals = Signals::catch()?;
    let running = tokio::select! {
        running = start(&settings, profiles.unwrap_or_default(), step) => running?,
        () = signals.stop() => return Ok(()),
    };
    running.say_role();
    running.until_stopped(&mut signals, || Settings::for_serve(&options, &environment)).await
}
