//! A service that is reached by raw frames of the wire, and waiting for what must come true.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use verax_api::FailureKind;
use verax_client::{Client, ClientOptions};
use verax_records::Records;
use verax_records::launcher::PrivateServer;
use verax_server::WireLimits;
use verax_service::{Service, ServiceOptions};
use verax_wire::{
    Frame, GetFlags, Hello, Put, PutCondition, Reply, Request, Tags, VERSION, next_frame,
};

pub(crate) struct Fixture {
    pub(crate) service: Arc<Service>,
    pub(crate) http: SocketAddr,
    pub(crate) wire: SocketAddr,
    pub(crate) token: String,
    mariadb: PrivateServer,
    _directory: tempfile::TempDir,
}

impl Fixture {
    pub(crate) async fn start(limits: WireLimits, options: ServiceOptions) -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let directory = tempfile::tempdir().unwrap();
        let mariadb = PrivateServer::start(directory.path()).await.unwrap();
        let records = Records::open(mariadb.url("verax")).await.unwrap();
        let service = Service::start(records, options).await.unwrap();
        let token = service.control().administrator_token(None).await.unwrap();
        let [http, wire] = [(); 2].map(async |()| TcpListener::bind("127.0.0.1:0").await.unwrap());
        let (http_listener, wire_listener) = (http.await, wire.await);
        let addresses = [&http_listener, &wire_listener].map(|l| l.local_addr().unwrap());
        let [http, wire] = addresses;
        let stop = std::future::pending();
        tokio::spawn(verax_server::serve(
            http_listener,
            Arc::clone(&service),
            None,
            Default::default(),
            stop,
        ));
        tokio::spawn(verax_server::serve_wire(wire_listener, Arc::clone(&service), None, limits));
        let fixture = Self { service, http, wire, token, mariadb, _directory: directory };
        fixture.client().create_tenant("ferrydesk").await.unwrap();
        fixture
    }

    pub(crate) fn client(&self) -> Client {
        let (url, token) = (format!("http://{}", self.http), Some(self.token.as_str().into()));
        Client::new(ClientOptions { url, token, ..Default::default() }).unwrap()
    }

    pub(crate) async fn namespace(&self, policy: serde_json::Value) {
        let request = serde_json::from_value(policy).unwrap();
        self.client().create_namespace("ferrydesk", &request).await.unwrap();
    }

    /// A connection that has said hello and, unless it was refused, opened `boards` as number 1.
    pub(crate) async fn connect(&self) -> Wire {
        let stream = TcpStream::connect(self.wire).await.unwrap();
        let mut wire = Wire { stream, received: Vec::new() };
        let hello = Hello { lowest: VERSION, highest: VERSION, token: &self.token, client: "test" };
        wire.send(0, 0, Request::Hello(hello)).await;
        wire.send(0, 1, Request::Open { tenant: "ferrydesk", namespace: "boards" }).await;
        wire
    }

    pub(crate) async fn opened(&self) -> Wire {
        let mut wire = self.connect().await;
        for expected in ["Welcome", "Opened"] {
            let (_, said) = wire.next().await.unwrap();
            assert!(said.starts_with(expected), "{said}");
        }
        wire
    }

    pub(crate) async fn end(self) {
        self.service.stop();
        self.mariadb.stop().await.unwrap();
    }
}

pub(crate) struct Wire {
    pub(crate) stream: TcpStream,
    pub(crate) received: Vec<u8>,
}

impl Wire {
    pub(crate) async fn send(&mut self, namespace: u16, id: u32, request: Request<'_>) {
        let mut bytes = Vec::new();
        request.encode(Frame { namespace, id }, &mut bytes);
        // The other end may have hung up already, which reading tells.
        let _ = self.stream.write_all(&bytes).await;
    }

    /// The next reply, in words; `None` when the connection was closed.
    pub(crate) async fn next(&mut self) -> Option<(u32, String)> {
        loop {
            if let Some((raw, taken)) = next_frame(&self.received, 1 << 24).unwrap() {
                let reply = Reply::decode(raw.head, raw.body).unwrap();
                let said = (raw.head.id, format!("{reply:?}").chars().take(300).collect());
                self.received.drain(..taken);
                return Some(said);
            }
            let mut more = [0; 4_096];
            let read = tokio::time::timeout(Duration::from_secs(60), self.stream.read(&mut more));
            match read.await.expect("something comes") {
                Ok(0) | Err(_) => return None,
                Ok(read) => self.received.extend_from_slice(&more[..read]),
            }
        }
    }

    pub(crate) async fn refused_as(&mut self, code: FailureKind) {
        let (_, said) = self.next().await.unwrap();
        assert!(said.contains(&format!("code: {}", code.code())), "{said}");
    }
}

pub(crate) fn get_of(key: &str) -> Request<'_> {
    Request::Get { key, flags: GetFlags::default() }
}

pub(crate) fn put_frame(size: usize) -> Vec<u8> {
    let (value, mut bytes) = (vec![7; size], Vec::new());
    let put = Put {
        key: "large",
        value: &value,
        media_type: "application/octet-stream",
        lifetime: None,
        tags: Tags::of(&[]),
        condition: PutCondition::Always,
        tell_revision: false,
    };
    Request::Put(put).encode(Frame { namespace: 1, id: 9 }, &mut bytes);
    bytes
}

pub(crate) async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    for _ in 0..6_000 {
        if holds() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("after a minute, still not: {what}");
}
