//! Creating, changing and showing the origins of tenants.

use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use verax_api::{
    CreateOrigin, Endpoint, Guard, GuardChange, Origin as ApiOrigin, OriginChange, Pool,
    PoolChange, Sql, SqlChange, moment,
};
use verax_core::access::{Right, Scope};
use verax_core::guard::breaker::BreakerState;
use verax_core::origin::{Balance, OriginGuard, OriginSource, SqlResult};
use verax_core::{EntityTag, KeyPattern, Name, NamespacePolicy, OriginSettings};
use verax_engine::Binding;
use verax_origin::Origin;
use verax_records::OriginRecord;

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::expected::Expected;
use crate::invalid::InvalidInput;
use crate::limits::{self, MAX_ORIGINS};
use crate::registry::Registered;
use crate::subject::Subject;

impl Control {
    /// The origins of a tenant, by name.
    ///
    /// # Errors
    /// [`ControlError`]: the scope or the tenant.
    pub fn origins(&self, caller: &Caller, tenant: &Name) -> Result<Vec<ApiOrigin>, ControlError> {
        caller.needs(Scope::tenant(Right::Manage, tenant))?;
        let tenants = self.registry.read();
        let found = tenants
            .get(tenant)
            .ok_or_else(|| ControlError::Unknown(Subject::Tenant(tenant.to_string())))?;
        let show = |(record, origin): &(OriginRecord, Arc<Origin>)| {
            origin_as_seen_by(caller, record, origin)
        };
        Ok(found.origins.values().map(show).collect())
    }

    /// Creates an origin of a tenant. Only administrators may, since the service reads an origin's
    /// URL from within its network.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the tenant, the settings, an origin of that name, or the
    /// records.
    pub async fn create_origin(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        request: &CreateOrigin,
    ) -> Result<ApiOrigin, ControlError> {
        caller.needs(Scope::Admin)?;
        let name = Name::new(&*request.name).map_err(ControlError::invalid)?;
        let new = match &request.sql {
            Some(sql) => OriginSettings::sql(&*request.url, sql.query.clone().unwrap_or_default()),
            None => OriginSettings::http(&*request.url),
        };
        let (caller, tenant, change) = (caller.clone(), tenant.clone(), parts_of(request));
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            let owned = control.registry.read().get(&tenant).map_or(0, |t| t.origins.len());
            limits::check("origins of the tenant", owned, MAX_ORIGINS)?;
            let (settings, origin) = control.changed_origin(new, &change).await?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let created = control.records.create_origin(&tenant, &name, &settings, &actor, now);
            let record = control.follow_change(created.await?);
            let answer = origin_to_api(&record, &origin);
            if let Some(tenant) = control.registry.write().get_mut(&tenant) {
                tenant.origins.insert(name, (record, origin));
            }
            Ok(answer)
        })
        .await
    }

    /// An origin.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the origin.
    pub fn origin(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<ApiOrigin, ControlError> {
        let all = self.origins(caller, tenant)?;
        let named = all.into_iter().find(|origin| origin.name == name.as_str());
        named.ok_or_else(|| ControlError::Unknown(Subject::Origin(format!("{tenant}/{name}"))))
    }

    /// Changes parts of an origin's settings, if their version is one that `expected` names; its
    /// namespaces use them immediately.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the origin, the settings, or the records.
    pub async fn change_origin(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        change: &OriginChange,
        expected: Expected,
    ) -> Result<ApiOrigin, ControlError> {
        caller.needs(Scope::Admin)?;
        let (caller, change) = (caller.clone(), change.clone());
        let (tenant, name) = (tenant.clone(), name.clone());
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            control.change_origin_now(&caller, (tenant, name), &change, &expected).await
        })
        .await
    }

    async fn change_origin_now(
        &self,
        caller: &Caller,
        (tenant, name): (Name, Name),
        change: &OriginChange,
        expected: &Expected,
    ) -> Result<ApiOrigin, ControlError> {
        let found = self.registry.read().get(&tenant).and_then(|t| t.origins.get(&name).cloned());
        let (mut record, before) = found
            .ok_or_else(|| ControlError::Unknown(Subject::Origin(format!("{tenant}/{name}"))))?;
        // What can never be is refused as such, whatever the condition says.
        let (settings, origin) = self.changed_origin(record.settings.clone(), change).await?;
        // Changes are serialized, so no other change comes in between.
        if !expected.includes(origin_tag(&origin_to_api(&record, &before))) {
            return Err(ControlError::NotExpected("origin"));
        }
        let bound = |n: &Arc<Registered>| {
            let binding = n.binding();
            let choice = binding.policy.origin.clone().filter(|choice| choice.origin == name);
            choice.map(|choice| (Arc::clone(n), binding.policy.clone(), choice.key_pattern))
        };
        let namespaces: Vec<_> = self.registry.namespaces();
        let bound: Vec<_> =
            namespaces.iter().filter(|n| *n.tenant() == tenant).filter_map(bound).collect();
        for (_, policy, pattern) in &bound {
            check_binding(&format!("{tenant}/{name}"), &origin, policy, pattern)?;
        }
        let (actor, now) = (caller.actor(), self.engine.now());
        self.follow_change(self.records.change_origin(&record, &settings, &actor, now).await?);
        record.settings = settings;
        let answer = origin_to_api(&record, &origin);
        for (namespace, policy, _) in bound {
            let binding = Binding { policy, origin: Some(Arc::clone(&origin)) };
            self.engine.bind(namespace.namespace(), binding);
        }
        if let Some(tenant) = self.registry.write().get_mut(&tenant) {
            tenant.origins.insert(name, (record, origin));
        }
        Ok(answer)
    }

    /// Deletes an origin that no namespace is bound to.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the origin, a namespace bound to it, or the records.
    pub async fn delete_origin(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<(), ControlError> {
        caller.needs(Scope::Admin)?;
        let (caller, tenant, name) = (caller.clone(), tenant.clone(), name.clone());
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            if control.registry.origin(&tenant, &name).is_none() {
                return Err(ControlError::Unknown(Subject::Origin(format!("{tenant}/{name}"))));
            }
            let (actor, now) = (caller.actor(), control.engine.now());
            control
                .follow_change(control.records.delete_origin(&tenant, &name, &actor, now).await?);
            if let Some(tenant) = control.registry.write().get_mut(&tenant) {
                tenant.origins.remove(&name);
            }
            Ok(())
        })
        .await
    }

    /// Changed settings, and the origin they describe.
    async fn changed_origin(
        &self,
        mut settings: OriginSettings,
        change: &OriginChange,
    ) -> Result<(OriginSettings, Arc<Origin>), ControlError> {
        if let Some(given) = &change.url {
            match &mut settings.source {
                OriginSource::Http { url, .. } | OriginSource::Sql { url, .. } => {
                    url.clone_from(given);
                }
            }
        }
        if let Some(ms) = change.connect_timeout_ms {
            settings.connect_timeout = Duration::from_millis(ms);
        }
        if let Some(ms) = change.total_timeout_ms {
            settings.total_timeout = Duration::from_millis(ms);
        }
        if let Some(bytes) = change.max_response_bytes {
            settings.max_response_bytes = bytes;
        }
        if let Some(name) = &change.credential {
            settings.credential = match name.as_str() {
                "" => None,
                name => Some(Name::new(name).map_err(ControlError::invalid)?),
            };
        }
        if let Some(pool) = &change.pool {
            change_pool(&mut settings.source, pool)?;
        }
        if let Some(sql) = &change.sql {
            change_query(&mut settings.source, sql)?;
        }
        if let Some(guard) = &change.guard {
            change_guard(&mut settings.guard, guard);
        }
        if let Some(listings) = &change.listings {
            settings.listings.clone_from(listings);
        }
        if let Some(open_to) = &change.open_to {
            let names: Result<_, _> = open_to.iter().map(|name| Name::new(&**name)).collect();
            settings.open_to = names.map_err(ControlError::invalid)?;
        }
        settings.check().map_err(ControlError::invalid)?;
        // A missing secret is a mistake, better found now than by a user.
        if let Some(name) = &settings.credential {
            self.credentials.read(name).await.map_err(ControlError::invalid)?;
        }
        let origin = Origin::new(&settings, &self.credentials).map_err(ControlError::invalid)?;
        if let Some(database) = origin.database()
            && same_server(database, self.records.server()).await
        {
            return Err(InvalidInput::OwnRecords.into());
        }
        Ok((settings, Arc::new(origin)))
    }
}

/// A request for an origin, as a change of the default settings.
fn parts_of(request: &CreateOrigin) -> OriginChange {
    OriginChange {
        url: None,
        connect_timeout_ms: request.connect_timeout_ms,
        total_timeout_ms: request.total_timeout_ms,
        max_response_bytes: request.max_response_bytes,
        credential: request.credential.clone(),
        pool: request.pool.clone(),
        sql: request.sql.clone(),
        guard: request.guard.clone(),
        listings: request.listings.clone(),
        open_to: request.open_to.clone(),
    }
}

/// Whether two database addresses, by host and port, name the same server.
async fn same_server(one: (&str, u16), other: Option<(String, u16)>) -> bool {
    let Some((host, port)) = other else { return false };
    if one.1 != port {
        return false;
    }
    let addresses = async |host: &str| -> HashSet<IpAddr> {
        let looked_up = tokio::net::lookup_host((host.trim_matches(['[', ']']), port)).await;
        looked_up.map(|found| found.map(|at| at.ip().to_canonical()).collect()).unwrap_or_default()
    };
    let loops = |set: &HashSet<IpAddr>| set.iter().any(IpAddr::is_loopback);
    let (here, there) = (addresses(one.0).await, addresses(&host).await);
    one.0.eq_ignore_ascii_case(&host)
        || !here.is_disjoint(&there)
        || (loops(&here) && loops(&there))
}

fn change_pool(source: &mut OriginSource, change: &PoolChange) -> Result<(), ControlError> {
    let OriginSource::Http { endpoints, balance, slow_after, .. } = source else {
        return Err(InvalidInput::PoolOfQuery.into());
    };
    if let Some(given) = &change.endpoints {
        endpoints.clone_from(given);
    }
    if let Some(given) = &change.balance {
        *balance = match given.as_str() {
            "round-robin" => Balance::RoundRobin,
            "least-outstanding" => Balance::LeastOutstanding,
            other => {
                return Err(InvalidInput::Balance(other.to_owned()).into());
            }
        };
    }
    if let Some(ms) = change.slow_after_ms {
        *slow_after = Some(Duration::from_millis(ms)).filter(|time| !time.is_zero());
    }
    Ok(())
}

fn change_query(source: &mut OriginSource, change: &SqlChange) -> Result<(), ControlError> {
    let OriginSource::Sql { query, result, max_rows, .. } = source else {
        return Err(InvalidInput::QueryOfService.into());
    };
    if let Some(given) = &change.query {
        query.clone_from(given);
    }
    if let Some(given) = &change.result {
        *result = match given.as_str() {
            "rows" => SqlResult::Rows,
            "row" => SqlResult::Row,
            other => {
                return Err(InvalidInput::ResultForm(other.to_owned()).into());
            }
        };
    }
    if let Some(rows) = change.max_rows {
        *max_rows = rows;
    }
    Ok(())
}

fn change_guard(guard: &mut OriginGuard, change: &GuardChange) {
    guard.max_concurrency = change.max_concurrency.unwrap_or(guard.max_concurrency);
    guard.max_queue = change.max_queue.unwrap_or(guard.max_queue);
    guard.retry_budget_percent = change.retry_budget_percent.unwrap_or(guard.retry_budget_percent);
    guard.failure_threshold = change.failure_threshold.unwrap_or(guard.failure_threshold);
    guard.open_for = change.open_for_ms.map_or(guard.open_for, Duration::from_millis);
}

/// A variable without a value in the key is a mistake, better found now than by a user; so is
/// write-through to a read-only origin.
pub(crate) fn check_binding(
    path: &str,
    origin: &Origin,
    policy: &NamespacePolicy,
    pattern: &KeyPattern,
) -> Result<(), ControlError> {
    let given: Vec<&str> = pattern.variables().collect();
    if let Some(missing) = origin.variables().iter().find(|v| !given.contains(&v.as_str())) {
        let (origin, variable) = (path.to_owned(), missing.clone());
        return Err(InvalidInput::Variable { origin, variable, pattern: pattern.clone() }.into());
    }
    if policy.write_through && !origin.takes_writes() {
        return Err(InvalidInput::ReadOnlyOrigin(path.to_owned()).into());
    }
    Ok(())
}

fn word(breaker: BreakerState) -> String {
    match breaker {
        BreakerState::Closed => "closed",
        BreakerState::Open(_) => "open",
        BreakerState::HalfOpen => "half-open",
    }
    .into()
}

/// An origin as a caller may see it: only administrators see internal addresses and the names of
/// secrets.
pub(crate) fn origin_as_seen_by(
    caller: &Caller,
    record: &OriginRecord,
    origin: &Origin,
) -> ApiOrigin {
    let mut shown = origin_to_api(record, origin);
    if !caller.is_admin() {
        let scheme = shown.url.split("://").next().unwrap_or_default();
        shown.url = format!("{scheme}://…");
        shown.credential = None;
        shown.listings.clear();
        for (number, endpoint) in (1..).zip(&mut shown.endpoints) {
            endpoint.url = format!("server {number}");
        }
    }
    shown
}

/// The entity tag of an origin's settings (RFC 9110, section 8.8.3); the state of its servers is
/// not part of it.
pub fn origin_tag(origin: &ApiOrigin) -> EntityTag {
    let mut settings =
        ApiOrigin { breaker: String::new(), reads_in_flight: 0, reads_queued: 0, ..origin.clone() };
    for endpoint in &mut settings.endpoints {
        (endpoint.breaker, endpoint.reads_in_flight) = (String::new(), 0);
    }
    let text = serde_json::to_vec(&settings).unwrap_or_default();
    EntityTag::of("application/json", &text)
}

fn origin_to_api(record: &OriginRecord, origin: &Origin) -> ApiOrigin {
    let settings = &record.settings;
    let ms = |time: Duration| u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
    let state = origin.state();
    let (pool, sql) = match &settings.source {
        OriginSource::Http { balance, slow_after, .. } => {
            let balance = match balance {
                Balance::RoundRobin => "round-robin",
                Balance::LeastOutstanding => "least-outstanding",
            };
            (Some(Pool { balance: balance.into(), slow_after_ms: slow_after.map(ms) }), None)
        }
        OriginSource::Sql { query, result, max_rows, .. } => {
            let result = match result {
                SqlResult::Rows => "rows",
                SqlResult::Row => "row",
            };
            let (query, result, max_rows) = (query.clone(), result.into(), *max_rows);
            (None, Some(Sql { query, result, max_rows }))
        }
    };
    let endpoint = |e: verax_origin::EndpointView| Endpoint {
        url: e.url,
        breaker: word(e.state.breaker),
        reads_in_flight: e.state.under_way as u64,
    };
    ApiOrigin {
        tenant: record.tenant.to_string(),
        name: record.name.to_string(),
        url: settings.url().to_owned(),
        connect_timeout_ms: ms(settings.connect_timeout),
        total_timeout_ms: ms(settings.total_timeout),
        max_response_bytes: settings.max_response_bytes,
        credential: settings.credential.as_ref().map(Name::to_string),
        pool,
        sql,
        guard: Guard {
            max_concurrency: settings.guard.max_concurrency,
            max_queue: settings.guard.max_queue,
            retry_budget_percent: settings.guard.retry_budget_percent,
            failure_threshold: settings.guard.failure_threshold,
            open_for_ms: ms(settings.guard.open_for),
        },
        listings: settings.listings.clone(),
        open_to: settings.open_to.iter().map(Name::to_string).collect(),
        endpoints: state.endpoints.into_iter().map(endpoint).collect(),
        breaker: word(state.breaker),
        reads_in_flight: state.under_way as u64,
        reads_queued: state.waiting as u64,
        created_at: moment(record.created_at),
    }
}
