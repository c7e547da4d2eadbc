//! A server over a real service, with what ends it.

use std::time::Duration;

use reqwest::{Client, Method, StatusCode};
use serde_json::Value;
use tokio::sync::oneshot;
use tokio::task::JoinHandle;
use verax_records::Records;
use verax_records::launcher::PrivateServer;
use verax_server::HttpOptions;
use verax_service::{Service, ServiceOptions};

/// A server that listens, and what ends it.
pub(crate) struct Fixture {
    pub(crate) http: Client,
    pub(crate) url: String,
    pub(crate) token: String,
    stop: Option<oneshot::Sender<()>>,
    serving: JoinHandle<std::io::Result<()>>,
    mariadb: PrivateServer,
    _directory: tempfile::TempDir,
}

impl Fixture {
    pub(crate) async fn start() -> Self {
        Self::start_with(HttpOptions::default()).await
    }

    pub(crate) async fn start_with(options: HttpOptions) -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let directory = tempfile::tempdir().unwrap();
        let mariadb = PrivateServer::start(directory.path()).await.unwrap();
        let records = Records::open(mariadb.url("verax")).await.unwrap();
        let service = Service::start(records, ServiceOptions::default()).await.unwrap();
        let token = service.control().administrator_token(None).await.unwrap();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let (stop, stopped) = oneshot::channel::<()>();
        let serving = tokio::spawn(verax_server::serve(listener, service, None, options, async {
            let _ = stopped.await;
        }));
        let http = Client::new();
        let stop = Some(stop);
        Self { http, url, token, stop, serving, mariadb, _directory: directory }
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.http.request(method, format!("{}{path}", self.url))
    }

    pub(crate) async fn create(&self, path: &str, body: Value) -> Value {
        let request = self.request(Method::POST, path).bearer_auth(&self.token).json(&body);
        let response = request.send().await.unwrap();
        assert_eq!(response.status(), StatusCode::CREATED, "{path}");
        assert!(response.headers().contains_key("location"), "{path}");
        response.json().await.unwrap()
    }

    pub(crate) async fn end(mut self) {
        let _ = self.stop.take().unwrap().send(());
        let ended = tokio::time::timeout(Duration::from_secs(30), &mut self.serving).await;
        ended.unwrap().unwrap().unwrap();
        self.mariadb.stop().await.unwrap();
    }
}
