//! Schedules.

use reqwest::Method;
use url::Url;
use verax_api::{
    Items, Schedule, ScheduleChange, SchedulePreview, ScheduleSlot, ScheduleSpec, ScheduleTiming,
};

use crate::error::ClientError;
use crate::http::connection::Client;
use crate::http::warm::DefinitionCondition;

impl Client {
    fn schedule_url(&self, tenant: &str, schedule: &str, more: &[&str]) -> Url {
        let path = ["v1", "tenants", tenant, "schedules", schedule];
        self.url_of(path.into_iter().chain(more.iter().copied()))
    }

    /// The schedules whose actions the token could carry out, of one tenant or of all.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn schedules(&self, tenant: Option<&str>) -> Result<Vec<Schedule>, ClientError> {
        let url = match tenant {
            Some(tenant) => self.url_of(["v1", "tenants", tenant, "schedules"]),
            None => self.url_of(["v1", "schedules"]),
        };
        Ok(self.get::<Items<Schedule>>(url).await?.items)
    }

    /// A schedule, with its next times.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn schedule(&self, tenant: &str, schedule: &str) -> Result<Schedule, ClientError> {
        self.get(self.schedule_url(tenant, schedule, &[])).await
    }

    /// Creates or replaces a schedule.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn put_schedule(
        &self,
        tenant: &str,
        schedule: &str,
        spec: &ScheduleSpec,
        condition: &DefinitionCondition,
    ) -> Result<Schedule, ClientError> {
        self.put_definition(self.schedule_url(tenant, schedule, &[]), spec, condition).await
    }

    /// Pauses a schedule, or lets it go on.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn pause_schedule(
        &self,
        tenant: &str,
        schedule: &str,
        paused: bool,
    ) -> Result<Schedule, ClientError> {
        let url = self.schedule_url(tenant, schedule, &[]);
        let request = self.request(Method::PATCH, url).json(&ScheduleChange { paused });
        let response = self.send(request).await?;
        self.json(response).await
    }

    /// Deletes a schedule.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete_schedule(&self, tenant: &str, schedule: &str) -> Result<(), ClientError> {
        self.delete(self.schedule_url(tenant, schedule, &[])).await
    }

    /// Does now what a schedule does, apart from its times.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn run_schedule(
        &self,
        tenant: &str,
        schedule: &str,
    ) -> Result<ScheduleSlot, ClientError> {
        let url = self.schedule_url(tenant, schedule, &["runs"]);
        self.post(url, &serde_json::json!({})).await
    }

    /// The times of a schedule that have passed, newest first.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn schedule_slots(
        &self,
        tenant: &str,
        schedule: &str,
        most: u32,
    ) -> Result<Vec<ScheduleSlot>, ClientError> {
        let mut url = self.schedule_url(tenant, schedule, &["slots"]);
        url.query_pairs_mut().append_pair("limit", &most.to_string());
        Ok(self.get::<Items<ScheduleSlot>>(url).await?.items)
    }

    /// The next times of a timing, before it is kept.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn preview_schedule(
        &self,
        timing: &ScheduleTiming,
    ) -> Result<SchedulePreview, ClientError> {
        self.post(self.url_of(["v1", "schedule-previews"]), timing).await
    }
}
