//! Warm plans, warm runs, and the keys that are read most.

use reqwest::Method;
use reqwest::header::{IF_MATCH, IF_NONE_MATCH};
use url::Url;
use verax_api::{
    HotKeys, Items, StartWarmRun, WarmEstimate, WarmFailure, WarmPlan, WarmPlanSpec, WarmRequest,
    WarmRun, WarmRunChange,
};

use crate::error::ClientError;
use crate::http::connection::Client;
use crate::http::entries::Namespace;

/// The version that a definition must have for it to be replaced.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum DefinitionCondition {
    /// Any, or none.
    #[default]
    Always,
    /// It must not exist.
    IfAbsent,
    /// The one with this entity tag.
    IfMatch(String),
}

impl Client {
    fn plan_url(&self, tenant: &str, plan: &str, more: &[&str]) -> Url {
        let path = ["v1", "tenants", tenant, "warm-plans", plan];
        self.url_of(path.into_iter().chain(more.iter().copied()))
    }

    /// The warm plans of the namespaces that the token may warm, of one tenant or of all.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn warm_plans(&self, tenant: Option<&str>) -> Result<Vec<WarmPlan>, ClientError> {
        let url = match tenant {
            Some(tenant) => self.url_of(["v1", "tenants", tenant, "warm-plans"]),
            None => self.url_of(["v1", "warm-plans"]),
        };
        Ok(self.get::<Items<WarmPlan>>(url).await?.items)
    }

    /// A warm plan.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn warm_plan(&self, tenant: &str, plan: &str) -> Result<WarmPlan, ClientError> {
        self.get(self.plan_url(tenant, plan, &[])).await
    }

    /// Creates or replaces a warm plan.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn put_warm_plan(
        &self,
        tenant: &str,
        plan: &str,
        spec: &WarmPlanSpec,
        condition: &DefinitionCondition,
    ) -> Result<WarmPlan, ClientError> {
        self.put_definition(self.plan_url(tenant, plan, &[]), spec, condition).await
    }

    pub(crate) async fn put_definition<T: serde::de::DeserializeOwned>(
        &self,
        url: Url,
        spec: &impl serde::Serialize,
        condition: &DefinitionCondition,
    ) -> Result<T, ClientError> {
        let request = self.request(Method::PUT, url).json(spec);
        let request = match condition {
            DefinitionCondition::Always => request,
            DefinitionCondition::IfAbsent => request.header(IF_NONE_MATCH, "*"),
            DefinitionCondition::IfMatch(tag) => request.header(IF_MATCH, tag),
        };
        let response = self.send(request).await?;
        self.json(response).await
    }

    /// Deletes a warm plan.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete_warm_plan(&self, tenant: &str, plan: &str) -> Result<(), ClientError> {
        self.delete(self.plan_url(tenant, plan, &[])).await
    }

    /// Starts a run of a warm plan.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn run_warm_plan(
        &self,
        tenant: &str,
        plan: &str,
        start: &StartWarmRun,
    ) -> Result<WarmRun, ClientError> {
        self.post(self.plan_url(tenant, plan, &["runs"]), start).await
    }

    /// What a run of a warm plan would do.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn estimate_warm_plan(
        &self,
        tenant: &str,
        plan: &str,
        start: &StartWarmRun,
    ) -> Result<WarmEstimate, ClientError> {
        self.post(self.plan_url(tenant, plan, &["estimates"]), start).await
    }

    /// A warm run, of this process or an earlier one.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn warm_run(&self, id: u64) -> Result<WarmRun, ClientError> {
        self.get(self.url_of(["v1", "warm-runs", &id.to_string()])).await
    }

    /// Pauses a warm run, or lets it go on.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn pause_warm_run(&self, id: u64, paused: bool) -> Result<WarmRun, ClientError> {
        let url = self.url_of(["v1", "warm-runs", &id.to_string()]);
        let request = self.request(Method::PATCH, url).json(&WarmRunChange { paused });
        let response = self.send(request).await?;
        self.json(response).await
    }

    /// The keys that a warm run could not refill, from a number on.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn warm_failures(
        &self,
        id: u64,
        from: u32,
        most: u32,
    ) -> Result<Vec<WarmFailure>, ClientError> {
        let mut url = self.url_of(["v1", "warm-runs", &id.to_string(), "failures"]);
        url.query_pairs_mut()
            .append_pair("from", &from.to_string())
            .append_pair("limit", &most.to_string());
        Ok(self.get::<Items<WarmFailure>>(url).await?.items)
    }
}

impl Namespace {
    /// Starts a warm run without a plan.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn start_warm_run(&self, request: &WarmRequest) -> Result<WarmRun, ClientError> {
        self.client().post(self.below(&["warm-runs"]), request).await
    }

    /// What a warm run without a plan would do.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn estimate_warm_run(
        &self,
        request: &WarmRequest,
    ) -> Result<WarmEstimate, ClientError> {
        self.client().post(self.below(&["warm-estimates"]), request).await
    }

    /// The keys that are read most, at most `most`.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn hot_keys(&self, most: u32) -> Result<HotKeys, ClientError> {
        let mut url = self.below(&["hot-keys"]);
        url.query_pairs_mut().append_pair("limit", &most.to_string());
        self.client().get(url).await
    }
}
