//! The service's settings: from a file, then the environment, then flags, each over the one before.

mod file;
mod source;

use std::net::SocketAddr;
use std::path::PathBuf;

use verax_cli::{DemoOptions, Failure, ServeOptions, ServiceFlags, size};
use verax_client::{Client, ClientOptions};
use verax_server::ConnectionLimits;

use crate::logging::LogFormat;

use file::SettingsFile;
use source::Given;

/// The longest address that other nodes and clients are told, in bytes.
const MAX_PUBLIC: usize = 255;

/// The smallest memory limit that is of any use.
const SMALLEST_LIMIT: u64 = 1 << 20;

/// The service's settings, checked.
#[derive(Debug, Clone)]
pub(crate) struct Settings {
    pub(crate) data_directory: PathBuf,
    /// Whether nothing is kept: no data directory, and records in memory.
    pub(crate) is_ephemeral: bool,
    /// What an ephemeral service begins with.
    pub(crate) bootstrap: Option<PathBuf>,
    /// A file that exists while the service can be used.
    pub(crate) ready_file: Option<PathBuf>,
    pub(crate) http: SocketAddr,
    pub(crate) wire: SocketAddr,
    /// The files with certificate and key.
    pub(crate) tls: Option<(PathBuf, PathBuf)>,
    pub(crate) records_url: Option<String>,
    pub(crate) mariadbd: PathBuf,
    pub(crate) memory_limit: u64,
    pub(crate) log_format: LogFormat,
    pub(crate) log_filter: String,
    pub(crate) load_profiles: Option<PathBuf>,
    /// The hosts other than this machine that load runs may read.
    pub(crate) load_hosts: Vec<String>,
    /// Where clients reach HTTP, if that is not its address.
    pub(crate) public_http: Option<String>,
    /// Where clients reach the wire, if that is not its address.
    pub(crate) public_wire: Option<String>,
    /// Names by which requests may ask.
    pub(crate) host_names: Vec<String>,
    pub(crate) connections: ConnectionLimits,
    pub(crate) new_admin_token: bool,
    /// Where the secrets of origins lie; under the data directory without it.
    pub(crate) credentials_directory: Option<PathBuf>,
}

/// The ports for HTTP and the wire.
const DEFAULT_PORTS: (u16, u16) = (8_750, 8_751);

type Environment<'e> = &'e dyn Fn(&str) -> Option<String>;

pub(crate) fn address(text: &str) -> Result<SocketAddr, String> {
    text.parse().map_err(|_| "write it as ADDRESS:PORT, such as 127.0.0.1:8750".to_owned())
}

fn plaintext_where(text: &str) -> Result<bool, String> {
    match text {
        "loopback" => Ok(false),
        "anywhere" => Ok(true),
        _ => Err("use loopback or anywhere".into()),
    }
}

fn memory_limit(text: &str) -> Result<u64, String> {
    match size(text)? {
        bytes if bytes < SMALLEST_LIMIT => Err("it is below the minimum of 1MiB".into()),
        bytes => Ok(bytes),
    }
}

fn host_names(text: &str) -> Result<Vec<String>, String> {
    let names: Vec<String> = text.split(',').map(|name| name.trim().to_owned()).collect();
    match names.iter().find(|name| name.is_empty() || name.contains([':', '/', ' '])) {
        Some(wrong) => Err(format!(
            "{wrong:?} is not a host name: write names without scheme and port, separated by commas"
        )),
        None => Ok(names),
    }
}

fn public_http(text: &str) -> Result<String, String> {
    let wrong = || "write it as http://HOST:PORT or https://HOST:PORT".to_owned();
    if text.len() > MAX_PUBLIC || text.contains(',') {
        return Err(wrong());
    }
    let url = Client::new(ClientOptions { url: text.into(), ..Default::default() });
    url.map(|client| client.url().as_str().trim_end_matches('/').to_owned()).map_err(|_| wrong())
}

fn public_wire(text: &str) -> Result<String, String> {
    let (host, port) = text.rsplit_once(':').unwrap_or_default();
    let host = host.strip_prefix("tls://").unwrap_or(host);
    match !host.is_empty()
        && !host.contains([',', '/', ' '])
        && text.len() <= MAX_PUBLIC
        && port.parse::<u16>().is_ok()
    {
        true => Ok(text.to_owned()),
        false => Err("write it as HOST:PORT or tls://HOST:PORT".into()),
    }
}

fn connections(text: &str) -> Result<usize, String> {
    match text.parse() {
        Ok(count @ 10..=1_000_000) => Ok(count),
        _ => Err("use a number from 10 to 1000000".into()),
    }
}

fn format(text: &str) -> Result<LogFormat, String> {
    match text {
        "plain" => Ok(LogFormat::Plain),
        "json" => Ok(LogFormat::Json),
        _ => Err("use plain or json".into()),
    }
}

fn filter(text: &str) -> Result<String, String> {
    let checked = tracing_subscriber::EnvFilter::try_new(text);
    checked.map(|_| text.to_owned()).map_err(|e| format!("{e}; write something like info"))
}

impl Settings {
    /// The settings of `verax serve`.
    pub(crate) fn for_serve(
        options: &ServeOptions,
        environment: Environment<'_>,
    ) -> Result<Self, Failure> {
        let path = options.config.clone().or_else(|| environment("VERAX_CONFIG").map(Into::into));
        let file = path.as_deref().map(SettingsFile::read).transpose()?.unwrap_or_default();
        // The ports of a service that tests start do not matter, and must not collide.
        let ports = if options.ephemeral { (0, 0) } else { DEFAULT_PORTS };
        let settings = Self::resolve(
            &options.flags,
            (options.records_url.as_deref(), options.load_profiles.as_deref()),
            &file,
            environment,
            ("verax-data", ports),
        )?;
        Ok(Self {
            is_ephemeral: options.ephemeral,
            bootstrap: options.bootstrap.clone(),
            ready_file: options.ready_file.clone(),
            ..settings
        })
    }

    /// The settings of `verax demo`, which reads no file.
    pub(crate) fn for_demo(
        options: &DemoOptions,
        environment: Environment<'_>,
    ) -> Result<Self, Failure> {
        let file = SettingsFile::default();
        let mut settings = Self::resolve(
            &options.flags,
            (None, None),
            &file,
            environment,
            ("verax-demo", DEFAULT_PORTS),
        )?;
        // The demo's data needs the private MariaDB.
        (settings.records_url, settings.load_profiles) = (None, None);
        Ok(settings)
    }

    fn resolve(
        flags: &ServiceFlags,
        (records_url, load_profiles): (Option<&str>, Option<&str>),
        file: &SettingsFile,
        environment: Environment<'_>,
        (data_directory, ports): (&str, (u16, u16)),
    ) -> Result<Self, Failure> {
        let layers = Layers { flags, file, environment };
        let text = |text: &str| Ok(text.to_owned());
        let path = |text: &str| Ok(PathBuf::from(text));
        let (http, wire, tls) = layers.listening(ports)?;
        let (public_http, public_wire) = layers.public()?;
        let records_url =
            layers.given("--records-url", records_url, "VERAX_RECORDS_URL", file.records_url());
        let load_profiles = layers.given(
            "--load-profiles",
            load_profiles,
            "VERAX_LOAD_PROFILES",
            file.load_profiles(),
        );
        let load_hosts = flags.load_hosts.as_deref();
        let load_hosts =
            layers.given("--load-hosts", load_hosts, "VERAX_LOAD_HOSTS", file.load_hosts());
        let data_dir = flags.data_dir.as_deref();
        let data_dir =
            layers.given("--data-dir", data_dir, "VERAX_DATA_DIR", file.data_directory());
        let mariadbd = flags.mariadbd.as_deref();
        let mariadbd = layers.given("--mariadbd", mariadbd, "VERAX_MARIADBD", file.mariadbd());
        let memory = flags.memory_limit.as_deref();
        let memory =
            layers.given("--memory-limit", memory, "VERAX_MEMORY_LIMIT", file.memory_limit());
        let log = flags.log.as_deref();
        let log = layers.given("--log", log, "VERAX_LOG", file.log_filter());
        let log_format = flags.log_format.as_deref();
        let log_format =
            layers.given("--log-format", log_format, "VERAX_LOG_FORMAT", file.log_format());
        let credentials = layers.given(
            "--credentials-dir",
            flags.credentials_dir.as_deref(),
            "VERAX_CREDENTIALS_DIR",
            file.credentials_directory(),
        );
        let names = flags.host_names.as_deref();
        let names = layers.given("--host-names", names, "VERAX_HOST_NAMES", file.host_names());
        Ok(Self {
            data_directory: source::parse(data_dir, path)?.unwrap_or_else(|| data_directory.into()),
            http,
            wire,
            tls,
            records_url: source::parse(records_url, text)?,
            mariadbd: source::parse(mariadbd, path)?.unwrap_or_else(|| "mariadbd".into()),
            memory_limit: source::parse(memory, memory_limit)?.unwrap_or(256 << 20),
            log_format: source::parse(log_format, format)?.unwrap_or(LogFormat::Plain),
            log_filter: source::parse(log, filter)?.unwrap_or_else(|| "info".into()),
            load_profiles: source::parse(load_profiles, path)?,
            load_hosts: source::parse(load_hosts, host_names)?.unwrap_or_default(),
            credentials_directory: source::parse(credentials, path)?,
            public_http,
            public_wire,
            host_names: source::parse(names, host_names)?.unwrap_or_default(),
            connections: layers.connections()?,
            new_admin_token: flags.new_admin_token,
            is_ephemeral: false,
            bootstrap: None,
            ready_file: None,
        })
    }
}

/// Certificate chain and private key.
type TlsFiles = Option<(PathBuf, PathBuf)>;

/// The layers that settings come from: the file, the environment over it, flags over both.
struct Layers<'a> {
    flags: &'a ServiceFlags,
    file: &'a SettingsFile,
    environment: Environment<'a>,
}

impl Layers<'_> {
    fn given(
        &self,
        flag: &'static str,
        value: Option<&str>,
        variable: &'static str,
        in_file: Option<Given>,
    ) -> Option<Given> {
        source::strongest((flag, value), (variable, (self.environment)(variable)), in_file)
    }

    /// Where the service listens, and with which certificate. Without TLS it listens beyond
    /// loopback only if that is asked for.
    fn listening(
        &self,
        (http_port, wire_port): (u16, u16),
    ) -> Result<(SocketAddr, SocketAddr, TlsFiles), Failure> {
        let (flags, file) = (self.flags, self.file);
        let path = |text: &str| Ok(PathBuf::from(text));
        let local = |port| SocketAddr::from(([127, 0, 0, 1], port));
        let http = self.given("--http", flags.http.as_deref(), "VERAX_HTTP", file.http_address());
        let wire = self.given("--wire", flags.wire.as_deref(), "VERAX_WIRE", file.wire_address());
        let http = source::parse(http, address)?.unwrap_or_else(|| local(http_port));
        let wire = source::parse(wire, address)?.unwrap_or_else(|| local(wire_port));
        let certificate = self.given(
            "--tls-certificate",
            flags.tls_certificate.as_deref(),
            "VERAX_TLS_CERTIFICATE",
            file.tls_certificate(),
        );
        let key = flags.tls_key.as_deref();
        let key = self.given("--tls-key", key, "VERAX_TLS_KEY", file.tls_key());
        let tls = match (source::parse(certificate, path)?, source::parse(key, path)?) {
            (Some(certificate), Some(key)) => Some((certificate, key)),
            (None, None) => None,
            _ => {
                return Err(Failure::usage(
                    "TLS needs both a certificate and its key: give --tls-certificate and --tls-key, or tls.certificate and tls.key",
                ));
            }
        };
        let plaintext = flags.plaintext.as_deref();
        let plaintext = self.given("--plaintext", plaintext, "VERAX_PLAINTEXT", file.plaintext());
        let anywhere = source::parse(plaintext, plaintext_where)?.unwrap_or(false);
        let exposed = [("HTTP", http), ("the wire", wire)]
            .into_iter()
            .find(|(_, address)| !address.ip().is_loopback());
        match exposed {
            Some((what, address)) if tls.is_none() && !anywhere => Err(Failure::usage(format!(
                "{what} on {address} would be plain text, which exposes tokens and values on the network: give --tls-certificate and --tls-key, or --plaintext anywhere if the network is trusted"
            ))),
            _ => Ok((http, wire, tls)),
        }
    }

    /// Where clients reach HTTP and the wire, if not at their own addresses.
    fn public(&self) -> Result<(Option<String>, Option<String>), Failure> {
        let (flags, file) = (self.flags, self.file);
        let http = flags.public_http.as_deref();
        let http = self.given("--public-http", http, "VERAX_PUBLIC_HTTP", file.http_public_url());
        let wire = flags.public_wire.as_deref();
        let wire =
            self.given("--public-wire", wire, "VERAX_PUBLIC_WIRE", file.wire_public_address());
        Ok((source::parse(http, public_http)?, source::parse(wire, public_wire)?))
    }

    fn connections(&self) -> Result<ConnectionLimits, Failure> {
        let (flags, file) = (self.flags, self.file);
        let most = flags.max_connections.as_deref();
        let most =
            self.given("--max-connections", most, "VERAX_MAX_CONNECTIONS", file.max_connections());
        let per_address = self.given(
            "--max-connections-per-address",
            flags.max_connections_per_address.as_deref(),
            "VERAX_MAX_CONNECTIONS_PER_ADDRESS",
            file.max_connections_per_address(),
        );
        let default = ConnectionLimits::default().connections;
        let connections_in_all = source::parse(most, connections)?.unwrap_or(default);
        let per_address = source::parse(per_address, connections)?;
        Ok(ConnectionLimits {
            connections: connections_in_all,
            per_address: per_address.unwrap_or(connections_in_all / 2),
        })
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use rstest::rstest;
    use verax_cli::CommandLine;

    use super::*;

    fn resolve(flags: &[&str], variables: &[(&str, &str)], file: &str) -> Result<Settings, String> {
        let mut config = tempfile::NamedTempFile::new().unwrap();
        config.write_all(file.as_bytes()).unwrap();
        let path = config.path().to_str().unwrap().to_owned();
        let line = ["verax", "serve", "--config", &path].into_iter().chain(flags.iter().copied());
        let CommandLine::Serve(options) = CommandLine::parse_from(line) else { panic!() };
        let environment = |name: &str| {
            variables.iter().find(|(n, _)| *n == name).map(|(_, value)| (*value).to_owned())
        };
        let resolved = Settings::for_serve(&options, &environment);
        resolved.map_err(|failure| format!("{failure:?}").replace(&path, "FILE"))
    }

    #[test]
    fn public_addresses_fit_the_wire_field() {
        let host = |length: usize| "h".repeat(length);
        assert!(public_wire(&format!("{}:1", host(MAX_PUBLIC - 2))).is_ok());
        assert!(public_wire(&format!("{}:1", host(MAX_PUBLIC - 1))).is_err());
        assert!(public_http(&format!("http://{}", host(MAX_PUBLIC - 7))).is_ok());
        assert!(public_http(&format!("http://{}", host(MAX_PUBLIC - 6))).is_err());
        assert!(public_http("http://a,http://b").is_err());
    }

    #[test]
    fn flags_win_over_the_environment_which_wins_over_the_file() {
        let file = "[http]\naddress = \"127.0.0.1:1\"\n";
        let port = |flags: &[&str], variables: &[(&str, &str)]| {
            resolve(flags, variables, file).unwrap().http.port()
        };
        assert_eq!(resolve(&[], &[], "").unwrap().http.port(), 8_750);
        assert_eq!(resolve(&["--ephemeral"], &[], "").unwrap().http.port(), 0);
        assert_eq!(port(&[], &[]), 1);
        assert_eq!(port(&[], &[("VERAX_HTTP", "127.0.0.1:2")]), 2);
        assert_eq!(port(&["--http", "127.0.0.1:3"], &[("VERAX_HTTP", "127.0.0.1:2")]), 3);
    }

    #[rstest]
    #[case(&[], &[], "[http]\n\nadress = \"x\"\n", &["FILE", "line 3", "adress"])]
    #[case(&[], &[], "[http]\naddress = \"here\"\n", &["FILE", "line 2", "http.address", "127.0.0.1:8750"])]
    #[case(&[], &[], "[memory\n", &["FILE", "line 1"])]
    #[case(&[], &[], "[memory]\nlimit = \"3 bytes\"\n", &["line 2", "memory.limit", "1MiB"])]
    #[case(&[], &[("VERAX_MEMORY_LIMIT", "lots")], "", &["VERAX_MEMORY_LIMIT", "lots"])]
    #[case(&["--http", "nowhere"], &[], "", &["--http", "nowhere"])]
    #[case(&["--host-names", "a,http://b"], &[], "", &["--host-names", "http://b"])]
    #[case(&["--public-http", "verax.example"], &[], "", &["--public-http", "http://HOST:PORT"])]
    #[case(&[], &[("VERAX_PUBLIC_WIRE", "verax.example")], "", &["VERAX_PUBLIC_WIRE", "HOST:PORT"])]
    #[case(&["--public-wire", "a:1,b:2"], &[], "", &["--public-wire", "HOST:PORT"])]
    #[case(&["--max-connections", "9"], &[], "", &["--max-connections", "10 to"])]
    #[case(&[], &[("VERAX_MAX_CONNECTIONS_PER_ADDRESS", "many")], "", &["PER_ADDRESS", "many"])]
    #[case(&["--log-format", "xml"], &[], "", &["--log-format", "plain or json"])]
    fn a_bad_value_names_its_place(
        #[case] flags: &[&str],
        #[case] variables: &[(&str, &str)],
        #[case] file: &str,
        #[case] says: &[&str],
    ) {
        let error = resolve(flags, variables, file).unwrap_err();
        for part in says {
            assert!(error.contains(part), "{part:?} is not in {error}");
        }
    }
}
