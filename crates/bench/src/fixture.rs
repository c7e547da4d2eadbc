//! A service with one namespace, as the benchmarks need it.

use std::sync::Arc;

use bytes::Bytes;
use tokio::runtime::Runtime;
use verax_api::PolicyChange;
use verax_control::access::Caller;
use verax_core::access::Scope;
use verax_core::lifetime::CacheControl;
use verax_core::policy::MAX_VALUE_BYTES;
use verax_core::{Key, Name, Precondition};
use verax_engine::cache::{PutRequest, Written};
use verax_engine::{EngineOptions, Reader, Writer};
use verax_records::Records;
use verax_records::launcher::PrivateServer;
use verax_service::{Service, ServiceOptions};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// A service with `ferrydesk/boards`, its MariaDB, and the runtime that both run on.
pub(crate) struct Fixture {
    pub(crate) service: Arc<Service>,
    pub(crate) reader: Reader,
    pub(crate) writer: Writer,
    pub(crate) token: String,
    mariadb: Option<PrivateServer>,
    pub(crate) runtime: Runtime,
    _directory: tempfile::TempDir,
}

/// A runtime of two threads with a name, by which a profile tells them apart.
pub(crate) fn runtime(name: &str) -> std::io::Result<Runtime> {
    let mut builder = tokio::runtime::Builder::new_multi_thread();
    builder.worker_threads(2).thread_name(name).enable_all().build()
}

impl Fixture {
    pub(crate) fn start(memory_limit: u64) -> Result<Self, Failure> {
        let runtime = runtime("verax")?;
        let directory = tempfile::tempdir()?;
        let (service, (reader, writer), token, mariadb) = runtime.block_on(async {
            let mariadb = PrivateServer::start(directory.path()).await?;
            let records = Records::open(mariadb.url("verax")).await?;
            let options = ServiceOptions {
                engine: EngineOptions { memory_limit, ..EngineOptions::default() },
                ..ServiceOptions::default()
            };
            let service = Service::start(records, options).await?;
            let token = service.control().administrator_token(None).await?;
            let caller = Caller::service("benchmark", vec![Scope::Admin]);
            let (tenant, name) = (Name::new("ferrydesk")?, Name::new("boards")?);
            service.control().create_tenant(&caller, tenant.as_str()).await?;
            let policy = PolicyChange {
                max_age_seconds: Some(36_000.0),
                max_value_bytes: Some(MAX_VALUE_BYTES),
                ..PolicyChange::default()
            };
            service.control().create_namespace(&caller, &tenant, name.as_str(), &policy).await?;
            let reader = service.control().open_reader(&caller, &tenant, &name)?;
            let writer = service.control().open_writer(&caller, &tenant, &name)?;
            Ok::<_, Failure>((service, (reader, writer), token, mariadb))
        })?;
        Ok(Self {
            service,
            reader,
            writer,
            token,
            mariadb: Some(mariadb),
            runtime,
            _directory: directory,
        })
    }

    /// Stores a value of `bytes` bytes.
    pub(crate) fn put(&self, key: &str, bytes: usize) -> Result<(), Failure> {
        let request = PutRequest {
            value: Bytes::from(vec![b'7'; bytes]),
            media_type: "application/json".into(),
            cache_control: CacheControl::default(),
            tags: Vec::new(),
            condition: Precondition::Always,
        };
        match self.writer.put(&Key::new(key)?, request, None) {
            Written::Now(stored) => stored.map(drop).map_err(Into::into),
            Written::Later(_) => Err("the namespace writes through".into()),
        }
    }
}

impl Drop for Fixture {
    fn drop(&mut self) {
        self.service.stop();
        if let Some(mariadb) = self.mariadb.take() {
            // A benchmark that failed to stop it is over anyway; the server ends with the process.
            let _ = self.runtime.block_on(mariadb.stop());
        }
    }
}
