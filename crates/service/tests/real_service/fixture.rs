//! A service over a MariaDB of its own, and waiting for what must come true.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use verax_api::{CreateOrigin, OriginChoice, PolicyChange};
use verax_control::access::Caller;
use verax_control::{ControlError, ControlOptions, Node, NodeId};
use verax_core::access::Scope;
use verax_core::lifetime::CacheControl;
use verax_core::{Key, Name, Precondition};
use verax_engine::cache::{PutRequest, ReadOptions, ReadResult, Written};
use verax_engine::{Deleter, Locker, Reader, Refiller, Writer};
use verax_observe::CounterReading;
use verax_records::Records;
use verax_records::launcher::PrivateServer;
use verax_service::{Service, ServiceOptions};

/// A service with its MariaDB, which ends with it.
pub(crate) struct Fixture {
    pub(crate) service: Arc<Service>,
    pub(crate) admin: Caller,
    pub(crate) records: Records,
    server: PrivateServer,
    _directory: tempfile::TempDir,
}

pub(crate) fn name(text: &str) -> Name {
    Name::new(text).unwrap()
}

pub(crate) fn key(text: &str) -> Key {
    Key::new(text).unwrap()
}

/// A namespace that was opened with every right to its entries.
#[derive(Debug, Clone)]
pub(crate) struct Opened {
    pub(crate) reader: Reader,
    pub(crate) writer: Writer,
    pub(crate) deleter: Deleter,
    pub(crate) locker: Locker,
    pub(crate) refiller: Refiller,
}

/// Opens `tenant/namespace` of a service for a caller with every right to its entries.
pub(crate) fn open(service: &Service, caller: &Caller, path: &str) -> Result<Opened, ControlError> {
    let (tenant, namespace) = place(path);
    let control = service.control();
    Ok(Opened {
        reader: control.open_reader(caller, &tenant, &namespace)?,
        writer: control.open_writer(caller, &tenant, &namespace)?,
        deleter: control.open_deleter(caller, &tenant, &namespace)?,
        locker: control.open_locker(caller, &tenant, &namespace)?,
        refiller: control.open_refiller(caller, &tenant, &namespace)?,
    })
}

/// Options that concern the control plane alone.
pub(crate) fn in_control(control: ControlOptions) -> ServiceOptions {
    ServiceOptions { control, ..Default::default() }
}

fn place(path: &str) -> (Name, Name) {
    let (tenant, namespace) = path.split_once('/').unwrap();
    (name(tenant), name(namespace))
}

impl Fixture {
    pub(crate) async fn start(options: ServiceOptions) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let server = PrivateServer::start(directory.path()).await.unwrap();
        let records = Records::open(server.url("verax")).await.unwrap();
        let service = Service::start(records.clone(), options).await.unwrap();
        let admin = Caller::service("the test", vec![Scope::Admin]);
        Self { service, admin, records, server, _directory: directory }
    }

    /// A second service over the same records, as another process would be.
    pub(crate) async fn another(&self, node: Node) -> Arc<Service> {
        let records = Records::later(self.records.url().unwrap());
        let options = in_control(ControlOptions { node: Some(node), ..Default::default() });
        Service::start(records, options).await.unwrap()
    }

    pub(crate) async fn namespace(&self, tenant: &str, namespace: &str, origin: Option<&str>) {
        let _ = self.service.control().create_tenant(&self.admin, tenant).await;
        let mut policy = PolicyChange { max_age_seconds: Some(600.0), ..Default::default() };
        if let Some(url) = origin {
            let request = CreateOrigin {
                name: "desk".into(),
                url: format!("{url}/{{key}}"),
                listings: Some(vec!["/listing".into()]),
                ..Default::default()
            };
            self.service
                .control()
                .create_origin(&self.admin, &name(tenant), &request)
                .await
                .unwrap();
            policy.origin = Some(Some(OriginChoice { name: "desk".into(), key_pattern: None }));
        }
        let tenant = name(tenant);
        let created =
            self.service.control().create_namespace(&self.admin, &tenant, namespace, &policy);
        created.await.unwrap();
    }

    pub(crate) async fn token(&self, scopes: &[&str]) -> String {
        let scopes: Vec<String> = scopes.iter().map(|s| (*s).to_owned()).collect();
        self.service
            .control()
            .create_token(&self.admin, &verax_api::CreateToken::new(&scopes, "test"))
            .await
            .unwrap()
            .secret
    }

    pub(crate) async fn read(
        &self,
        caller: &Caller,
        path: &str,
        k: &str,
    ) -> Result<Option<ReadResult>, ControlError> {
        let (tenant, namespace) = place(path);
        let reader = self.service.control().open_reader(caller, &tenant, &namespace)?;
        Ok(reader.read(&key(k), ReadOptions::default()).await?)
    }

    /// Opens `tenant/namespace` with every right to its entries.
    pub(crate) fn opened(&self, path: &str) -> Opened {
        open(&self.service, &self.admin, path).unwrap()
    }

    /// What is counted of `tenant/namespace`.
    pub(crate) fn reading(&self, path: &str) -> CounterReading {
        let all = self.service.control().readings();
        all.into_iter().find(|(namespace, ..)| namespace.path() == path).unwrap().1
    }

    /// Opens `tenant/namespace` for writing.
    pub(crate) fn writer(&self, path: &str) -> Writer {
        let (tenant, namespace) = place(path);
        self.service.control().open_writer(&self.admin, &tenant, &namespace).unwrap()
    }

    pub(crate) fn put(&self, path: &str, k: &str, value: &str) {
        let request = PutRequest {
            value: Bytes::from(value.to_owned()),
            media_type: "text/plain".into(),
            cache_control: CacheControl::default(),
            tags: Vec::new(),
            condition: Precondition::Always,
        };
        match self.writer(path).put(&key(k), request, None) {
            Written::Now(stored) => stored.map(drop).unwrap(),
            Written::Later(_) => panic!("{path} writes through"),
        }
    }

    /// The process of its MariaDB.
    pub(crate) fn mariadb(&self) -> nix::unistd::Pid {
        nix::unistd::Pid::from_raw(self.server.process_id().unwrap() as i32)
    }

    /// The port of its MariaDB.
    pub(crate) fn port(&self) -> u16 {
        self.server.port().unwrap()
    }

    pub(crate) async fn end(self) {
        self.service.stop();
        // A slow machine may have it killed, which loses nothing.
        let _ = self.server.stop().await;
    }
}

/// A node with an address that tells it from others.
pub(crate) fn node(name: &str) -> Node {
    Node {
        id: NodeId::random(),
        http: format!("http://{name}"),
        wire: name.into(),
        version: "test".into(),
    }
}

/// A value to store, with the namespace's lifetime.
pub(crate) fn value(text: &'static str) -> PutRequest {
    PutRequest {
        value: Bytes::from_static(text.as_bytes()),
        media_type: "text/plain".into(),
        cache_control: CacheControl::default(),
        tags: Vec::new(),
        condition: Precondition::Always,
    }
}

pub(crate) async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let started = Instant::now();
    while !holds().await {
        assert!(started.elapsed() < Duration::from_secs(60), "gave up waiting until {what}");
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}
