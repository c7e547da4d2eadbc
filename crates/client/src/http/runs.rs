//! Runs of all kinds, load runs, drills, and the live samples.

use eventsource_stream::Eventsource;
use futures_util::{Stream, StreamExt};
use serde::de::DeserializeOwned;
use url::Url;
use verax_api::{
    DrillRequest, DrillRun, DrillSpec, Items, LiveSample, LoadProfileSpec, LoadRequest, LoadRun,
    Run,
};

use crate::error::ClientError;
use crate::http::connection::Client;

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

    /// The configured load profiles.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn load_profiles(&self) -> Result<Vec<LoadProfileSpec>, ClientError> {
        let url = self.url_of(["v1", "load-profiles"]);
        Ok(self.get::<Items<LoadProfileSpec>>(url).await?.items)
    }

    /// Starts a load run.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn start_load_run(&self, request: &LoadRequest) -> Result<LoadRun, ClientError> {
        self.post(self.url_of(["v1", "load-runs"]), request).await
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
