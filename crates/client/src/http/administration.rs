//! Tenants, origins, namespaces, tokens, activity and sign-in links.

use reqwest::Method;
use verax_api::{
    ActivityItem, CheckRequest, CheckStep, CreateNamespace, CreateOrigin, CreateTenant,
    CreateToken, CreatedToken, ItemPage, Items, LiveSession, MemoryDivision,
    Namespace as NamespaceInfo, Node, Origin, OriginChange, PolicyChange, Ready, RotateToken,
    RotatedToken, SignInLink, Tenant, TenantQuotaChange, Token, UsageHistory,
};

use crate::error::ClientError;
use crate::http::connection::Client;
use crate::http::entries::Namespace;

/// Which activity is wanted: what fits every part that is given. Texts match anywhere.
#[derive(Debug, Clone, Default)]
pub struct ActivityQuery {
    /// Of this tenant; needed without the scope `admin`.
    pub tenant: Option<String>,
    /// A part of the actor.
    pub actor: Option<String>,
    /// A part of the action.
    pub action: Option<String>,
    /// A part of the subject.
    pub subject: Option<String>,
    /// Not earlier.
    pub since: Option<jiff::Timestamp>,
    /// Earlier than this.
    pub until: Option<jiff::Timestamp>,
    /// Where the previous page ended.
    pub cursor: Option<String>,
    /// The most rows of a page, 1 to 500.
    pub limit: u32,
}

/// Whose usage over time is wanted, and of when.
#[derive(Debug, Clone, Default)]
pub struct UsageQuery {
    /// Of this tenant; of the whole service if absent.
    pub tenant: Option<String>,
    /// Of this namespace of the tenant.
    pub namespace: Option<String>,
    /// The beginning; an hour before the end if absent.
    pub since: Option<jiff::Timestamp>,
    /// The end; now if absent.
    pub until: Option<jiff::Timestamp>,
    /// The length of a step in seconds; the finest that is kept for the range if absent.
    pub step: Option<u64>,
}

impl Client {
    /// How memory is best divided among the namespaces that the token may observe.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn memory_division(&self) -> Result<MemoryDivision, ClientError> {
        self.get(self.url_of(["v1", "memory-division"])).await
    }

    /// Usage over time.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn usage(&self, query: &UsageQuery) -> Result<UsageHistory, ClientError> {
        let mut url = self.url_of(["v1", "usage"]);
        for (name, value) in [
            ("tenant", query.tenant.clone()),
            ("namespace", query.namespace.clone()),
            ("since", query.since.map(|t| t.to_string())),
            ("until", query.until.map(|t| t.to_string())),
            ("step", query.step.map(|step| step.to_string())),
        ] {
            if let Some(value) = value {
                url.query_pairs_mut().append_pair(name, &value);
            }
        }
        self.get(url).await
    }

    /// Whether Verax can serve, and what is degraded.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn ready(&self) -> Result<Ready, ClientError> {
        let response = self.send_any(self.request(Method::GET, self.url_of(["readyz"]))).await?;
        self.json(response).await
    }

    /// The nodes that use the same records: the active one and the standbys.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn nodes(&self) -> Result<Vec<Node>, ClientError> {
        Ok(self.get::<Items<Node>>(self.url_of(["v1", "nodes"])).await?.items)
    }

    /// The tenants in which the token has any scope.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn tenants(&self) -> Result<Vec<Tenant>, ClientError> {
        Ok(self.get::<Items<Tenant>>(self.url_of(["v1", "tenants"])).await?.items)
    }

    /// Creates a tenant.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn create_tenant(&self, name: &str) -> Result<Tenant, ClientError> {
        let request = CreateTenant { name: name.to_owned() };
        self.post(self.url_of(["v1", "tenants"]), &request).await
    }

    /// A tenant with its quota and use.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn tenant(&self, name: &str) -> Result<Tenant, ClientError> {
        self.get(self.url_of(["v1", "tenants", name])).await
    }

    /// Changes parts of a tenant's quota.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `invalid` for reserves that do not fit together.
    pub async fn change_tenant(
        &self,
        name: &str,
        change: &TenantQuotaChange,
    ) -> Result<Tenant, ClientError> {
        let url = self.url_of(["v1", "tenants", name]);
        let response = self.send(self.request(Method::PATCH, url).json(change)).await?;
        self.json(response).await
    }

    /// Deletes a tenant that no longer owns anything.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete_tenant(&self, name: &str) -> Result<(), ClientError> {
        self.delete(self.url_of(["v1", "tenants", name])).await
    }

    /// A tenant's origins.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn origins(&self, tenant: &str) -> Result<Vec<Origin>, ClientError> {
        let url = self.url_of(["v1", "tenants", tenant, "origins"]);
        Ok(self.get::<Items<Origin>>(url).await?.items)
    }

    /// Creates an origin of a tenant.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn create_origin(
        &self,
        tenant: &str,
        request: &CreateOrigin,
    ) -> Result<Origin, ClientError> {
        self.post(self.url_of(["v1", "tenants", tenant, "origins"]), request).await
    }

    /// Changes parts of an origin's settings.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn change_origin(
        &self,
        tenant: &str,
        name: &str,
        change: &OriginChange,
    ) -> Result<Origin, ClientError> {
        let url = self.url_of(["v1", "tenants", tenant, "origins", name]);
        let response = self.send(self.request(Method::PATCH, url).json(change)).await?;
        self.json(response).await
    }

    /// Deletes an origin that no namespace is bound to.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete_origin(&self, tenant: &str, name: &str) -> Result<(), ClientError> {
        self.delete(self.url_of(["v1", "tenants", tenant, "origins", name])).await
    }

    /// The namespaces of all tenants that the token may see, by tenant and name.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn all_namespaces(&self) -> Result<Vec<NamespaceInfo>, ClientError> {
        Ok(self.get::<Items<NamespaceInfo>>(self.url_of(["v1", "namespaces"])).await?.items)
    }

    /// A tenant's namespaces.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn namespaces(&self, tenant: &str) -> Result<Vec<NamespaceInfo>, ClientError> {
        let url = self.url_of(["v1", "tenants", tenant, "namespaces"]);
        Ok(self.get::<Items<NamespaceInfo>>(url).await?.items)
    }

    /// Creates a namespace of a tenant.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn create_namespace(
        &self,
        tenant: &str,
        request: &CreateNamespace,
    ) -> Result<NamespaceInfo, ClientError> {
        self.post(self.url_of(["v1", "tenants", tenant, "namespaces"]), request).await
    }

    /// All tokens, without their secrets.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn tokens(&self) -> Result<Vec<Token>, ClientError> {
        let (mut tokens, mut url) = (Vec::new(), self.url_of(["v1", "tokens"]));
        loop {
            let mut page = self.get::<ItemPage<Token>>(url.clone()).await?;
            tokens.append(&mut page.items);
            let Some(cursor) = page.cursor else { return Ok(tokens) };
            url.query_pairs_mut().clear().append_pair("cursor", &cursor);
        }
    }

    /// Creates a token.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn create_token(&self, request: &CreateToken) -> Result<CreatedToken, ClientError> {
        self.post(self.url_of(["v1", "tokens"]), request).await
    }

    /// Replaces a token by another with the same scopes and note; the previous one stays valid for
    /// the overlap.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn rotate_token(
        &self,
        id: u64,
        request: &RotateToken,
    ) -> Result<RotatedToken, ClientError> {
        self.post(self.url_of(["v1", "tokens", &id.to_string(), "rotate"]), request).await
    }

    /// Revokes a token.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn revoke_token(&self, id: u64) -> Result<(), ClientError> {
        self.delete(self.url_of(["v1", "tokens", &id.to_string()])).await
    }

    /// A page of who changed what, newest first.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn activity(
        &self,
        query: &ActivityQuery,
    ) -> Result<ItemPage<ActivityItem>, ClientError> {
        let mut url = self.url_of(["v1", "activity"]);
        let limit = query.limit.to_string();
        let (since, until) =
            (query.since.map(|t| t.to_string()), query.until.map(|t| t.to_string()));
        for (name, value) in [
            ("limit", Some(limit.as_str())),
            ("tenant", query.tenant.as_deref()),
            ("actor", query.actor.as_deref()),
            ("action", query.action.as_deref()),
            ("subject", query.subject.as_deref()),
            ("since", since.as_deref()),
            ("until", until.as_deref()),
            ("cursor", query.cursor.as_deref()),
        ] {
            if let Some(value) = value {
                url.query_pairs_mut().append_pair(name, value);
            }
        }
        self.get(url).await
    }

    /// The live console sessions: all of them for an administrator, else those of one's own token.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn sessions(&self) -> Result<Vec<LiveSession>, ClientError> {
        Ok(self.get::<Items<LiveSession>>(self.url_of(["v1", "sessions"])).await?.items)
    }

    /// Ends a console session, with everything that was begun in it.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `not-found` if there is none that this token may end.
    pub async fn end_session(&self, id: u64) -> Result<(), ClientError> {
        self.delete(self.url_of(["v1", "sessions", &id.to_string()])).await
    }

    /// Creates a one-time sign-in link for the console, as a path on Verax's address.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn sign_in_link(&self) -> Result<SignInLink, ClientError> {
        self.post(self.url_of(["v1", "sign-in-links"]), &serde_json::json!({})).await
    }
}

impl Namespace {
    /// The namespace's policy and contents.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn info(&self) -> Result<NamespaceInfo, ClientError> {
        self.client().get(self.base().clone()).await
    }

    /// Changes parts of the namespace's policy.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn change(&self, change: &PolicyChange) -> Result<NamespaceInfo, ClientError> {
        let request = self.client().request(Method::PATCH, self.base().clone()).json(change);
        let response = self.client().send(request).await?;
        self.client().json(response).await
    }

    /// Checks some of its stored values, and removes damaged ones if that is wanted.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn check(&self, request: &CheckRequest) -> Result<CheckStep, ClientError> {
        let mut url = self.base().clone();
        if let Ok(mut path) = url.path_segments_mut() {
            path.push("checks");
        }
        self.client().post(url, request).await
    }

    /// Deletes the namespace and everything in it.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete_namespace(&self) -> Result<(), ClientError> {
        self.client().delete(self.base().clone()).await
    }
}
