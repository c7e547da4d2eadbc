//! The settings file: TOML, with every value's line remembered.

use std::ops::Range;
use std::path::{Path, PathBuf};

use serde::Deserialize;
use toml::Spanned;
use verax_cli::Failure;

use super::source::Given;

type Value = Option<Spanned<String>>;

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Contents {
    data_directory: Value,
    http: Http,
    wire: Wire,
    tls: Tls,
    records: Records,
    memory: Memory,
    log: Log,
    load: Load,
    origins: Origins,
    connections: Connections,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Http {
    address: Value,
    host_names: Value,
    public_url: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Connections {
    max: Value,
    max_per_address: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Wire {
    address: Value,
    public_address: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Tls {
    certificate: Value,
    key: Value,
    plaintext: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Records {
    url: Value,
    mariadbd: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Memory {
    limit: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Log {
    format: Value,
    filter: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Load {
    profiles: Value,
    hosts: Value,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Origins {
    credentials_directory: Value,
}

/// A settings file that was read.
#[derive(Debug, Default)]
pub(super) struct SettingsFile {
    path: PathBuf,
    text: String,
    contents: Contents,
}

impl SettingsFile {
    /// Reads a file.
    pub(super) fn read(path: &Path) -> Result<Self, Failure> {
        let shown = path.display();
        let text = std::fs::read_to_string(path).map_err(|e| {
            Failure::usage(format!("the settings file {shown} cannot be read: {e}"))
        })?;
        let contents = toml::from_str(&text).map_err(|error| {
            let line = error.span().map_or(1, |span| line_of(&text, &span));
            let reason = error.message();
            Failure::usage(format!("the settings file {shown}, line {line}: {reason}"))
        })?;
        Ok(Self { path: path.to_owned(), text, contents })
    }

    fn given(&self, name: &str, value: &Value) -> Option<Given> {
        let value = value.as_ref()?;
        let line = line_of(&self.text, &value.span());
        let place = format!("the settings file {}, line {line}, {name}", self.path.display());
        Some(Given { text: value.get_ref().clone(), place })
    }

    pub(super) fn http_public_url(&self) -> Option<Given> {
        self.given("http.public_url", &self.contents.http.public_url)
    }

    pub(super) fn wire_public_address(&self) -> Option<Given> {
        self.given("wire.public_address", &self.contents.wire.public_address)
    }

    pub(super) fn data_directory(&self) -> Option<Given> {
        self.given("data_directory", &self.contents.data_directory)
    }

    pub(super) fn http_address(&self) -> Option<Given> {
        self.given("http.address", &self.contents.http.address)
    }

    pub(super) fn host_names(&self) -> Option<Given> {
        self.given("http.host_names", &self.contents.http.host_names)
    }

    pub(super) fn max_connections(&self) -> Option<Given> {
        self.given("connections.max", &self.contents.connections.max)
    }

    pub(super) fn max_connections_per_address(&self) -> Option<Given> {
        self.given("connections.max_per_address", &self.contents.connections.max_per_address)
    }

    pub(super) fn wire_address(&self) -> Option<Given> {
        self.given("wire.address", &self.contents.wire.address)
    }

    pub(super) fn tls_certificate(&self) -> Option<Given> {
        self.given("tls.certificate", &self.contents.tls.certificate)
    }

    pub(super) fn tls_key(&self) -> Option<Given> {
        self.given("tls.key", &self.contents.tls.key)
    }

    pub(super) fn plaintext(&self) -> Option<Given> {
        self.given("tls.plaintext", &self.contents.tls.plaintext)
    }

    pub(super) fn records_url(&self) -> Option<Given> {
        self.given("records.url", &self.contents.records.url)
    }

    pub(super) fn mariadbd(&self) -> Option<Given> {
        self.given("records.mariadbd", &self.contents.records.mariadbd)
    }

    pub(super) fn memory_limit(&self) -> Option<Given> {
        self.given("memory.limit", &self.contents.memory.limit)
    }

    pub(super) fn log_format(&self) -> Option<Given> {
        self.given("log.format", &self.contents.log.format)
    }

    pub(super) fn log_filter(&self) -> Option<Given> {
        self.given("log.filter", &self.contents.log.filter)
    }

    pub(super) fn credentials_directory(&self) -> Option<Given> {
        self.given("origins.credentials_directory", &self.contents.origins.credentials_directory)
    }

    pub(super) fn load_hosts(&self) -> Option<Given> {
        self.given("load.hosts", &self.contents.load.hosts)
    }

    pub(super) fn load_profiles(&self) -> Option<Given> {
        self.given("load.profiles", &self.contents.load.profiles)
    }
}

fn line_of(text: &str, span: &Range<usize>) -> usize {
    1 + text.bytes().take(span.start).filter(|b| *b == b'\n').count()
}
