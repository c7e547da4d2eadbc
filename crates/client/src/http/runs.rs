//! Runs of all kinds, load runs, drills, and the live samples.

use bytes::Bytes;
use eventsource_stream::Eventsource;
use futures_util::{Stream, StreamExt};
use reqwest::header::{CONNECTION, UPGRADE};
use reqwest::{Method, StatusCode};
use serde::de::DeserializeOwned;
use tokio::io::{AsyncRead, AsyncWrite};
use url::Url;
use verax_api::{
    ChangeLoad, DrillRequest, DrillRun, DrillSpec, ExportedRun, Items, JoinedWorker,
    LOAD_WORKER_PROTOCOL, LiveSample, LoadProfileSpec, LoadRequest, LoadRun, MarkLoad,
    OfferedProfile, RecordTraffic, Run, RunComparison, SetBaseline, StandIn, StandInChange,
    TrafficRecording,
};

use crate::error::ClientError;
use crate::http::connection::Client;
use crate::http::warm::DefinitionCondition;

impl Client {
    /// The events of a stream with the given names, in order.
    async fn events<T: DeserializeOwned + Send>(
        &self,
        url: Url,
        names: &'static [&'static str],
    ) -> Result<impl Stream<Item = Result<T, ClientError>> + Send + use<T>, ClientError> {
        let response = self.send(self.stream_request(url)).await?;
        let client = self.clone();
        Ok(response.bytes_stream().eventsource().filter_map(move |event| {
            let read = match event {
                Ok(event) if names.contains(&event.event.as_str()) => {
                    Some(serde_json::from_str(&event.data).map_err(|e| ClientError::NotVerax {
                        url: client.url().to_string(),
                        reason: format!("its stream cannot be read: {e}"),
                    }))
                }
                Ok(_) => None,
                Err(error) => Some(Err(ClientError::Unreachable {
                    url: client.url().to_string(),
                    reason: format!("the stream broke off: {error}"),
                })),
            };
            std::future::ready(read)
        }))
    }

    /// Streams live samples, one per second.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn live(
        &self,
    ) -> Result<impl Stream<Item = Result<LiveSample, ClientError>> + Send + use<>, ClientError>
    {
        self.events(self.url_of(["v1", "live"]), &["sample"]).await
    }

    /// Streams a run; the last item is its end.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn watch_run<R: Run>(
        &self,
        id: u64,
    ) -> Result<impl Stream<Item = Result<R, ClientError>> + Send + use<R>, ClientError> {
        let url = self.url_of(["v1", R::COLLECTION, &id.to_string(), "live"]);
        self.events(url, &["progress", "end"]).await
    }

    /// The latest runs of a kind, newest first.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn runs<R: Run>(&self) -> Result<Vec<R>, ClientError> {
        Ok(self.get::<Items<R>>(self.url_of(["v1", R::COLLECTION])).await?.items)
    }

    /// Ends a run early: a warm run after its active refills. Drills cannot be stopped.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn stop_run<R: Run>(&self, id: u64) -> Result<(), ClientError> {
        self.delete(self.url_of(["v1", R::COLLECTION, &id.to_string()])).await
    }

    fn profile_url(&self, tenant: &str, profile: &str, more: &[&str]) -> Url {
        let path = ["v1", "tenants", tenant, "load-profiles", profile];
        self.url_of(path.into_iter().chain(more.iter().copied()))
    }

    /// The load profiles that the service offers.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn load_profiles(&self) -> Result<Vec<OfferedProfile>, ClientError> {
        let url = self.url_of(["v1", "load-profiles"]);
        Ok(self.get::<Items<OfferedProfile>>(url).await?.items)
    }

    /// Creates or replaces a load profile.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn put_load_profile(
        &self,
        tenant: &str,
        profile: &LoadProfileSpec,
        condition: &DefinitionCondition,
    ) -> Result<OfferedProfile, ClientError> {
        let url = self.profile_url(tenant, &profile.name, &[]);
        self.put_definition(url, profile, condition).await
    }

    /// Deletes a stored load profile.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete_load_profile(
        &self,
        tenant: &str,
        profile: &str,
    ) -> Result<(), ClientError> {
        self.delete(self.profile_url(tenant, profile, &[])).await
    }

    /// Sets the run that later runs of a load profile are compared with.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn set_load_baseline(
        &self,
        tenant: &str,
        profile: &str,
        baseline: SetBaseline,
    ) -> Result<OfferedProfile, ClientError> {
        let url = self.profile_url(tenant, profile, &["baseline"]);
        self.put_definition(url, &baseline, &DefinitionCondition::Always).await
    }

    /// Compares a load run with an earlier one.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn compare_load_runs(
        &self,
        before: u64,
        after: u64,
    ) -> Result<RunComparison, ClientError> {
        let mut url = self.url_of(["v1", "load-runs", &after.to_string(), "comparison"]);
        url.query_pairs_mut().append_pair("with", &before.to_string());
        self.get(url).await
    }

    /// A load run as a file, in the form `json`, `csv`, `histogram-log` or `html`.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn export_load_run(&self, id: u64, form: &str) -> Result<Bytes, ClientError> {
        let mut url = self.url_of(["v1", "load-runs", &id.to_string(), "export"]);
        url.query_pairs_mut().append_pair("form", form);
        let response = self.send(self.request(Method::GET, url)).await?;
        response.bytes().await.map_err(|error| ClientError::Unreachable {
            url: self.url().to_string(),
            reason: format!("the export broke off: {error}"),
        })
    }

    /// Keeps a load run that another Verax exported, for another namespace if one is given.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn import_load_run(
        &self,
        exported: &ExportedRun,
        namespace: Option<&str>,
    ) -> Result<LoadRun, ClientError> {
        let mut url = self.url_of(["v1", "imported-load-runs"]);
        if let Some(namespace) = namespace {
            url.query_pairs_mut().append_pair("namespace", namespace);
        }
        self.post(url, exported).await
    }

    /// Starts a load run.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn start_load_run(&self, request: &LoadRequest) -> Result<LoadRun, ClientError> {
        self.post(self.url_of(["v1", "load-runs"]), request).await
    }

    /// A load run with all its seconds.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn load_run(&self, id: u64) -> Result<LoadRun, ClientError> {
        self.get(self.url_of(["v1", "load-runs", &id.to_string()])).await
    }

    /// Changes the load of an active run, or pauses it.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn change_load_run(
        &self,
        id: u64,
        change: &ChangeLoad,
    ) -> Result<LoadRun, ClientError> {
        let url = self.url_of(["v1", "load-runs", &id.to_string()]);
        let response = self.send(self.request(Method::PATCH, url).json(change)).await?;
        self.json(response).await
    }

    /// Marks a moment on the time line of an active load run.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn mark_load_run(&self, id: u64, mark: &MarkLoad) -> Result<LoadRun, ClientError> {
        self.post(self.url_of(["v1", "load-runs", &id.to_string(), "marks"]), mark).await
    }

    /// Joins as a load worker, for one run. The stream is what the run says, and is told, one line
    /// a message; until it says something, the worker has to send an empty line at least every 20
    /// seconds.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn join_load_worker(
        &self,
        name: &str,
    ) -> Result<impl AsyncRead + AsyncWrite + Send + Unpin + use<>, ClientError> {
        let mut url = self.url_of(["v1", "load-workers"]);
        url.query_pairs_mut().append_pair("name", name);
        let request = self
            .request(Method::POST, url)
            .header(CONNECTION, "upgrade")
            .header(UPGRADE, LOAD_WORKER_PROTOCOL);
        let response = self.send_any(request).await?;
        if response.status() != StatusCode::SWITCHING_PROTOCOLS {
            return Err(self.refusal(response).await);
        }
        response.upgrade().await.map_err(|error| ClientError::Unreachable {
            url: self.url().to_string(),
            reason: format!("the connection broke off: {error}"),
        })
    }

    /// The load workers that have joined.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn joined_load_workers(&self) -> Result<Vec<JoinedWorker>, ClientError> {
        Ok(self.get::<Items<JoinedWorker>>(self.url_of(["v1", "load-workers"])).await?.items)
    }

    /// Records the traffic of a namespace.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn record_traffic(
        &self,
        request: &RecordTraffic,
    ) -> Result<TrafficRecording, ClientError> {
        self.post(self.url_of(["v1", "traffic-recordings"]), request).await
    }

    /// A recording of traffic.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn recording(&self, id: u64) -> Result<TrafficRecording, ClientError> {
        self.get(self.url_of(["v1", "traffic-recordings", &id.to_string()])).await
    }

    /// The faults of the demo's stand-in origin.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn stand_in(&self) -> Result<StandIn, ClientError> {
        self.get(self.url_of(["v1", "stand-in"])).await
    }

    /// Changes faults of the demo's stand-in origin.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn change_stand_in(&self, change: &StandInChange) -> Result<StandIn, ClientError> {
        let url = self.url_of(["v1", "stand-in"]);
        let response = self.send(self.request(Method::PATCH, url).json(change)).await?;
        self.json(response).await
    }

    /// The available drills; none without the demo.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn drills(&self) -> Result<Vec<DrillSpec>, ClientError> {
        Ok(self.get::<Items<DrillSpec>>(self.url_of(["v1", "drills"])).await?.items)
    }

    /// Starts a drill.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn start_drill(&self, request: &DrillRequest) -> Result<DrillRun, ClientError> {
        self.post(self.url_of(["v1", "drill-runs"]), request).await
    }
}
