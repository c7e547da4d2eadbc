//! `verax serve`, and what `verax demo` shares with it.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;
use tokio::task::JoinHandle;
use verax_api::LoadProfileSpec;
use verax_records::Records;
use verax_records::launcher::{PrivateServer, PrivateServerOptions};
use verax_server::{Tls, WireLimits};
use verax_service::{Service, ServiceOptions};

use super::data_directory::{DataDirectory, keep_secret};
use super::load_runner::LocalLoad;
use crate::arguments::ServeOptions;
use crate::failure::Failure;
use crate::logging;
use crate::settings::{Settings, environment};

/// A service that runs.
pub(super) struct Running {
    pub(super) service: Arc<Service>,
    pub(super) address: SocketAddr,
    wire: SocketAddr,
    scheme: &'static str,
    pub(super) token: String,
    pub(super) private: Option<PrivateServer>,
    directory: DataDirectory,
    credentials: PathBuf,
    stop: watch::Sender<bool>,
    serving: JoinHandle<std::io::Result<()>>,
    wire_serving: JoinHandle<()>,
}

async fn listen(address: SocketAddr, setting: &str) -> Result<TcpListener, Failure> {
    TcpListener::bind(address).await.map_err(|e| {
        Failure::failed(format!(
            "cannot listen on {address}: {e}; stop what listens there, or choose another address with {setting}"
        ))
    })
}

/// Starts the service with `settings`. `step` is told of what takes long.
pub(super) async fn start(
    settings: &Settings,
    profiles: Vec<LoadProfileSpec>,
    step: impl Fn(&str),
) -> Result<Running, Failure> {
    let directory = DataDirectory::hold(&settings.data_directory)?;
    // Before MariaDB, which takes longer to find out about.
    let listener = listen(settings.http, "--http, VERAX_HTTP or http.address").await?;
    let wire_listener = listen(settings.wire, "--wire, VERAX_WIRE or wire.address").await?;
    let (address, wire) = (listener.local_addr()?, wire_listener.local_addr()?);
    let tls = settings.tls.as_ref().map(|(certificate, key)| Tls::read(certificate, key));
    let tls = tls.transpose().map_err(|e| Failure::usage(e.to_string()))?;
    let (private, url) = match &settings.records_url {
        Some(url) => (None, url.clone()),
        None => {
            step("starting MariaDB");
            let options = PrivateServerOptions {
                directory: directory.records(),
                mariadbd: settings.mariadbd.clone(),
            };
            let server = PrivateServer::start_with(options);
            let server = server.await.map_err(|e| Failure::failed(e.to_string()))?;
            let url = server.url("verax");
            (Some(server), url)
        }
    };
    let failed = |e: &dyn std::fmt::Display| Failure::failed(e.to_string());
    let records = Records::later(url);
    let credentials = settings.credentials_directory.clone();
    let credentials = credentials.unwrap_or_else(|| directory.credentials());
    let options = ServiceOptions {
        memory_limit: settings.memory_limit,
        profiles,
        records_copy: Some(directory.records_copy()),
        credentials_dir: Some(credentials.clone()),
        ..Default::default()
    };
    let service = Service::start(records, options).await.map_err(|e| failed(&e))?;
    let scheme = if tls.is_some() { "https" } else { "http" };
    let ca = settings.tls.as_ref().map(|(certificate, _)| certificate.clone());
    service.set_load_runner(Arc::new(LocalLoad { url: format!("{scheme}://{address}"), ca }));
    let known = directory.token();
    let token = service.administrator_token(known.as_deref()).await.map_err(|e| failed(&e))?;
    if known.as_deref() != Some(&token) {
        directory.keep_token(&token)?;
    }
    let (stop, mut stopped) = watch::channel(false);
    if let Some(tls) = &tls {
        let tls = Arc::clone(tls);
        tokio::spawn(async move { tls.follow_changes().await });
    }
    let limits = WireLimits::default();
    let wire_serving = tokio::spawn(verax_server::serve_wire(
        wire_listener,
        Arc::clone(&service),
        tls.clone(),
        limits,
    ));
    let until = async move {
        let _ = stopped.wait_for(|stop| *stop).await;
    };
    let serving = tokio::spawn(verax_server::serve(listener, Arc::clone(&service), tls, until));
    Ok(Running {
        service,
        address,
        wire,
        scheme,
        token,
        private,
        directory,
        credentials,
        stop,
        serving,
        wire_serving,
    })
}

impl Running {
    /// Its address for HTTP.
    pub(super) fn url(&self) -> String {
        format!("{}://{}", self.scheme, self.address)
    }

    /// Its address for the wire protocol, as clients write it.
    pub(super) fn wire_url(&self) -> String {
        match self.scheme {
            "https" => format!("tls://{}", self.wire),
            _ => self.wire.to_string(),
        }
    }

    /// Keeps the secret of an origin where only its owner can read it.
    pub(super) fn keep_credential(&self, name: &str, secret: &str) -> Result<(), Failure> {
        keep_secret(&self.credentials.join(name), secret)
    }

    /// Says that the service can serve: one line, with a sign-in link.
    #[allow(clippy::print_stdout)]
    pub(super) fn say_ready(&self) {
        let http = self.url();
        let wire = self.wire;
        let link = self
            .service
            .token_caller(&self.token)
            .map(|caller| format!(" · sign in: {http}{}", self.service.sign_in_link(&caller).path))
            .unwrap_or_default();
        let token = self.directory.token_path();
        println!(
            "verax ready · {http} · wire {wire} · administrator token in {}{link}",
            token.display()
        );
    }

    /// Waits for Ctrl-C, SIGTERM, or the end of serving, then stops everything in order.
    pub(super) async fn until_stopped(mut self) -> Result<(), Failure> {
        let mut terminate = signal(SignalKind::terminate())?;
        tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = terminate.recv() => {}
            ended = &mut self.serving => {
                tracing::error!(?ended, "serving ended by itself");
            }
        }
        tracing::info!("stopping");
        self.stop.send_replace(true);
        if !self.serving.is_finished() {
            let _ = (&mut self.serving).await;
        }
        let _ = self.wire_serving.await;
        if let Some(private) = self.private {
            private.stop().await.map_err(|e| Failure::failed(e.to_string()))?;
        }
        tracing::info!("stopped");
        Ok(())
    }
}

/// The load profiles in a directory.
fn read_profiles(directory: &Path) -> Result<Vec<LoadProfileSpec>, Failure> {
    let shown = directory.display();
    let wrong = |e: std::io::Error| Failure::usage(format!("the load profiles in {shown}: {e}"));
    let mut profiles = Vec::new();
    for file in std::fs::read_dir(directory).map_err(wrong)? {
        let path = file.map_err(wrong)?.path();
        if path.extension().is_some_and(|extension| extension == "json") {
            profiles.push(read_profile(&path)?);
        }
    }
    profiles.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(profiles)
}

/// A load profile from a file.
pub(crate) fn read_profile(path: &Path) -> Result<LoadProfileSpec, Failure> {
    let text = std::fs::read_to_string(path);
    let text = text.map_err(|e| Failure::usage(format!("{}: {e}", path.display())))?;
    serde_json::from_str(&text)
        .map_err(|e| Failure::usage(format!("the load profile {}: {e}", path.display())))
}

/// Runs the service until it is told to stop.
pub(crate) async fn serve(options: ServeOptions) -> Result<(), Failure> {
    let settings = Settings::for_serve(&options, &environment)?;
    let profiles = settings.load_profiles.as_deref().map(read_profiles).transpose()?;
    logging::start(settings.log_format, &settings.log_filter);
    let step = |what: &str| tracing::info!("{what}");
    let running = start(&settings, profiles.unwrap_or_default(), step).await?;
    running.say_ready();
    running.until_stopped().await
}
