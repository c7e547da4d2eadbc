//! Namespaces and their policies.

use std::sync::Arc;

use verax_api::{
    Interval, Namespace as ApiNamespace, OriginChoice, Policy, PolicyChange, Usage, duration_of,
    moment,
};
use verax_core::access::{Right, Scope};
use verax_core::content_schema::ContentSchema;
use verax_core::interval::{IntervalRule, IntervalScope};
use verax_core::policy::MAX_BYPASS;
use verax_core::{EntityTag, KeyPattern, Name, NamespacePolicy, OriginBinding, Timestamp};
use verax_engine::Binding;
use verax_origin::Origin;

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::expected::Expected;
use crate::invalid::InvalidInput;
use crate::limits::{self, MAX_NAMESPACES};
use crate::origins::check_binding;
use crate::quotas::limit;
use crate::registry::{Registered, Tenant};
use crate::subject::Subject;

impl Control {
    /// The namespaces of a tenant that the caller may observe, by name.
    ///
    /// # Errors
    /// [`ControlError`]: a scope when the caller may see none of them.
    pub fn namespaces(
        &self,
        caller: &Caller,
        tenant: &Name,
    ) -> Result<Vec<ApiNamespace>, ControlError> {
        let seen = |scope: &Scope| match scope {
            Scope::Admin => true,
            Scope::Within { tenant: of, .. } => of == tenant,
        };
        if !caller.scopes().iter().any(seen) {
            return Err(ControlError::MissingScope(Scope::tenant(Right::Observe, tenant)));
        }
        let namespaces: Vec<_> = {
            let tenants = self.registry.read();
            let found = tenants.get(tenant);
            let found =
                found.ok_or_else(|| ControlError::Unknown(Subject::Tenant(tenant.to_string())))?;
            found.namespaces.values().cloned().collect()
        };
        let visible = namespaces.iter().filter(|n| caller.sees(n));
        Ok(visible.map(|n| self.namespace_to_api(n)).collect())
    }

    /// A namespace.
    ///
    /// # Errors
    /// [`ControlError`]: the scope or the namespace.
    pub fn namespace(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<ApiNamespace, ControlError> {
        caller.needs(Scope::within(Right::Observe, tenant, name))?;
        let namespace = self.registry.namespace(tenant, name)?;
        Ok(self.namespace_to_api(&namespace))
    }

    /// Creates a namespace of a tenant.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the tenant, the policy, a namespace of that name, or the
    /// records.
    pub async fn create_namespace(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &str,
        change: &PolicyChange,
    ) -> Result<ApiNamespace, ControlError> {
        caller.needs(Scope::tenant(Right::Manage, tenant))?;
        let name = Name::new(name).map_err(ControlError::invalid)?;
        let (caller, tenant, change) = (caller.clone(), tenant.clone(), change.clone());
        self.administer(async move |control| {
            caller.needs(Scope::tenant(Right::Manage, &tenant))?;
            let owned = |t: &Tenant| (t.namespaces.len(), t.quota);
            let (owned, quota) =
                control.registry.read().get(&tenant).map(owned).unwrap_or_default();
            let most = quota.namespaces.map_or(MAX_NAMESPACES, |most| most as usize);
            limits::check("namespaces of the tenant", owned, most.min(MAX_NAMESPACES))?;
            let mut usual = NamespacePolicy::default();
            usual.max_value_bytes =
                usual.max_value_bytes.min(quota.max_value_bytes.unwrap_or(u64::MAX));
            let (policy, origin) = control.changed(&caller, (&tenant, &name), usual, &change)?;
            check_right(&caller, &change)?;
            control.check_namespace_quota(&tenant, None, &policy)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let created = control.records.create_namespace(&tenant, &name, &policy, &actor, now);
            let record = control.follow_change(created.await?);
            let namespace = control.register(record, origin);
            if let Some(tenant) = control.registry.write().get_mut(&tenant) {
                tenant.namespaces.insert(name, Arc::clone(&namespace));
            }
            // Callers that opened a deleted namespace of this name may continue with the new one.
            control.access_changed();
            Ok(control.namespace_to_api(&namespace))
        })
        .await
    }

    /// Changes parts of a namespace's policy, if its version is one that `expected` names. Stored
    /// entries keep their lifetimes.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, the policy, or the records.
    pub async fn change_namespace(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        change: &PolicyChange,
        expected: Expected,
    ) -> Result<ApiNamespace, ControlError> {
        caller.needs(Scope::within(Right::Manage, tenant, name))?;
        let (caller, tenant, name) = (caller.clone(), tenant.clone(), name.clone());
        let change = change.clone();
        self.administer(async move |control| {
            caller.needs(Scope::within(Right::Manage, &tenant, &name))?;
            let namespace = control.registry.namespace(&tenant, &name)?;
            let present = namespace.binding().policy.clone();
            let tag = policy_tag(&policy_to_api(&present));
            // What can never be is refused as such, whatever the condition says.
            let (policy, origin) =
                control.changed(&caller, (&tenant, &name), present.clone(), &change)?;
            // Changes are serialized, so no other change comes in between.
            if !expected.includes(tag) {
                return Err(ControlError::NotExpected("policy"));
            }
            check_right(&caller, &change)?;
            if change.reserve_bytes.is_some() || change.max_value_bytes.is_some() {
                control.check_namespace_quota(&tenant, Some(namespace.id()), &policy)?;
            }
            let (actor, now) = (caller.actor(), control.engine.now());
            let changed =
                control.records.change_policy(namespace.record(), (&present, &policy), &actor, now);
            control.follow_change(changed.await?);
            control.mark_policy(&namespace, &present, &policy);
            control.engine.bind(namespace.namespace(), Binding { policy, origin });
            Ok(control.namespace_to_api(&namespace))
        })
        .await
    }

    /// Marks a change of the policy on the time line of the load run that reads the namespace.
    fn mark_policy(
        &self,
        namespace: &Registered,
        present: &NamespacePolicy,
        policy: &NamespacePolicy,
    ) {
        let now = self.engine.now();
        let is_bypassed = |policy: &NamespacePolicy| policy.bypass_until.is_some_and(|at| at > now);
        let text = match (is_bypassed(present), is_bypassed(policy)) {
            (false, true) => "bypass on",
            (true, false) => "bypass off",
            _ => "policy changed",
        };
        self.mark_change(namespace, text);
    }

    /// All namespaces that the caller sees, by tenant and name.
    pub fn visible_namespaces(&self, caller: &Caller) -> Vec<ApiNamespace> {
        let all = self.registry.namespaces();
        let visible = all.iter().filter(|namespace| caller.sees(namespace));
        visible.map(|namespace| self.namespace_to_api(namespace)).collect()
    }

    /// Removes a namespace and everything in it.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, or the records.
    pub async fn delete_namespace(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<(), ControlError> {
        caller.needs(Scope::tenant(Right::Manage, tenant))?;
        let (caller, tenant, name) = (caller.clone(), tenant.clone(), name.clone());
        self.administer(async move |control| {
            caller.needs(Scope::tenant(Right::Manage, &tenant))?;
            let namespace = control.registry.namespace(&tenant, &name)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let deleted = control.records.delete_namespace(namespace.record(), &actor, now);
            control.follow_change(deleted.await?);
            control.forget_namespace(&namespace);
            control.withdraw_scopes(&tenant, Some(&name));
            Ok(())
        })
        .await
    }

    /// Removes the scopes of a deleted tenant or namespace from the tokens in memory, as the
    /// records did.
    pub(crate) fn withdraw_scopes(&self, tenant: &Name, namespace: Option<&Name>) {
        self.tokens.withdraw(tenant, namespace);
        self.access_changed();
    }

    /// A changed policy, and the origin it names.
    fn changed(
        &self,
        caller: &Caller,
        (tenant, name): (&Name, &Name),
        mut policy: NamespacePolicy,
        change: &PolicyChange,
    ) -> Result<(NamespacePolicy, Option<Arc<Origin>>), ControlError> {
        apply(change, &mut policy, self.engine.now())?;
        policy.check().map_err(ControlError::invalid)?;
        let origin = self.origin_of(caller, (tenant, name), &policy, change.origin.is_some())?;
        Ok((policy, origin))
    }

    /// The origin that a policy names. One named by the change must be open to the caller.
    fn origin_of(
        &self,
        caller: &Caller,
        (tenant, name): (&Name, &Name),
        policy: &NamespacePolicy,
        is_new: bool,
    ) -> Result<Option<Arc<Origin>>, ControlError> {
        let Some(binding) = &policy.origin else { return Ok(None) };
        let path = format!("{tenant}/{}", binding.origin);
        let found = self.registry.read().get(tenant).and_then(|tenant| {
            let (record, origin) = tenant.origins.get(&binding.origin)?;
            Some((record.settings.open_to.clone(), Arc::clone(origin)))
        });
        let (_, origin) = found
            .filter(|(open_to, _)| {
                !is_new
                    || caller.holds(&Scope::tenant(Right::Manage, tenant))
                    || open_to.contains(name)
            })
            .ok_or_else(|| InvalidInput::no_origin(tenant, &binding.origin))?;
        check_binding(&path, &origin, policy, &binding.key_pattern)?;
        Ok(Some(origin))
    }

    pub(crate) fn namespace_to_api(&self, namespace: &Registered) -> ApiNamespace {
        let binding = namespace.binding();
        let policy = &binding.policy;
        let usage = namespace.usage();
        ApiNamespace {
            tenant: namespace.tenant().to_string(),
            name: namespace.name().to_string(),
            policy: policy_to_api(policy),
            usage: Usage { entries: usage.entries, bytes: usage.bytes },
            created_at: moment(namespace.record().created_at),
        }
    }
}

/// Quotas divide what all tenants share, so only administrators set them.
fn check_right(caller: &Caller, change: &PolicyChange) -> Result<(), ControlError> {
    let is_quota = change.reserve_bytes.is_some()
        || change.cap_bytes.is_some()
        || change.max_entries.is_some()
        || change.requests_per_second.is_some()
        || change.bytes_per_second.is_some();
    if is_quota { caller.needs(Scope::Admin) } else { Ok(()) }
}

/// Changes the parts of a policy that a request names.
fn apply(
    change: &PolicyChange,
    policy: &mut NamespacePolicy,
    now: Timestamp,
) -> Result<(), ControlError> {
    apply_lifetimes(change, policy)?;
    if let Some(rule) = &change.content {
        policy.content = rule.parse().map_err(ControlError::invalid)?;
    }
    if let Some(schema) = &change.content_schema {
        let schema = schema.as_deref().map(ContentSchema::parse).transpose();
        policy.schema = schema.map_err(ControlError::invalid)?;
    }
    if let Some(seconds) = change.bypass_seconds {
        let length = duration_of("bypass_seconds", seconds).map_err(ControlError::invalid)?;
        if length > MAX_BYPASS {
            return Err(InvalidInput::Bypass { length, max: MAX_BYPASS }.into());
        }
        policy.bypass_until = (!length.is_zero()).then(|| now + length);
    } else if policy.bypass_until.is_some_and(|until| until <= now) {
        // One that is over leaves no trace.
        policy.bypass_until = None;
    }
    if let Some(bytes) = change.max_value_bytes {
        policy.max_value_bytes = bytes;
    }
    if let Some(bytes) = change.compress_above_bytes {
        policy.compress_above = bytes;
    }
    if let Some(percent) = change.jitter_percent {
        policy.jitter_percent = percent;
    }
    if let Some(percent) = change.early_refresh_percent {
        policy.early_refresh_percent = percent;
    }
    if let Some(through) = change.write_through {
        policy.write_through = through;
    }
    if let Some(bytes) = change.reserve_bytes {
        policy.quota.reserve = bytes;
    }
    if let Some(bytes) = change.cap_bytes {
        policy.quota.cap = bytes.unwrap_or(u64::MAX);
    }
    if let Some(most) = change.max_entries {
        policy.quota.entries = most.unwrap_or(u64::MAX);
    }
    if let Some(rate) = change.requests_per_second {
        policy.traffic.requests_per_second = rate;
    }
    if let Some(rate) = change.bytes_per_second {
        policy.traffic.bytes_per_second = rate;
    }
    if let Some(intervals) = &change.intervals {
        let rules = intervals.iter().map(interval_of);
        policy.intervals = rules.collect::<Result<Vec<_>, _>>()?;
    }
    match &change.origin {
        None => {}
        Some(None) => policy.origin = None,
        Some(Some(choice)) => policy.origin = Some(binding_of(choice)?),
    }
    Ok(())
}

fn apply_lifetimes(
    change: &PolicyChange,
    policy: &mut NamespacePolicy,
) -> Result<(), ControlError> {
    let lifetime = &mut policy.lifetime;
    for (field, seconds, part) in [
        ("max_age_seconds", change.max_age_seconds, &mut lifetime.max_age),
        (
            "stale_while_revalidate_seconds",
            change.stale_while_revalidate_seconds,
            &mut lifetime.stale_while_revalidate,
        ),
        ("stale_if_error_seconds", change.stale_if_error_seconds, &mut lifetime.stale_if_error),
        ("negative_max_age_seconds", change.negative_max_age_seconds, &mut policy.negative_max_age),
        ("shortest_max_age_seconds", change.shortest_max_age_seconds, &mut policy.shortest_max_age),
        ("longest_max_age_seconds", change.longest_max_age_seconds, &mut policy.longest_max_age),
    ] {
        if let Some(seconds) = seconds {
            *part = duration_of(field, seconds).map_err(ControlError::invalid)?;
        }
    }
    Ok(())
}

fn binding_of(choice: &OriginChoice) -> Result<OriginBinding, ControlError> {
    let origin = Name::new(&*choice.name).map_err(ControlError::invalid)?;
    let key_pattern = match &choice.key_pattern {
        Some(text) => KeyPattern::parse(text).map_err(ControlError::invalid)?,
        None => KeyPattern::whole_key(),
    };
    Ok(OriginBinding { origin, key_pattern })
}

fn interval_of(interval: &Interval) -> Result<IntervalRule, ControlError> {
    let scope = match (&interval.tag, &interval.prefix) {
        (None, None) => IntervalScope::All,
        (Some(tag), None) => IntervalScope::Tag(tag.clone()),
        (None, Some(prefix)) => IntervalScope::Prefix(prefix.clone()),
        (Some(_), Some(_)) => return Err(InvalidInput::IntervalScope.into()),
    };
    let every = duration_of("every_seconds", interval.every_seconds);
    let every = every.map_err(ControlError::invalid)?;
    Ok(IntervalRule { scope, every, refresh: interval.refresh })
}

fn interval_to_api(rule: &IntervalRule) -> Interval {
    let (tag, prefix) = match &rule.scope {
        IntervalScope::All => (None, None),
        IntervalScope::Tag(tag) => (Some(tag.clone()), None),
        IntervalScope::Prefix(prefix) => (None, Some(prefix.clone())),
    };
    let (every_seconds, refresh) = (rule.every.as_secs_f64(), rule.refresh);
    Interval { tag, prefix, every_seconds, refresh }
}

/// The entity tag of a namespace's policy (RFC 9110, section 8.8.3); equal policies have equal
/// tags.
pub fn policy_tag(policy: &Policy) -> EntityTag {
    let text = serde_json::to_vec(policy).unwrap_or_default();
    EntityTag::of("application/json", &text)
}

fn policy_to_api(policy: &NamespacePolicy) -> Policy {
    Policy {
        max_age_seconds: policy.lifetime.max_age.as_secs_f64(),
        stale_while_revalidate_seconds: policy.lifetime.stale_while_revalidate.as_secs_f64(),
        stale_if_error_seconds: policy.lifetime.stale_if_error.as_secs_f64(),
        shortest_max_age_seconds: policy.shortest_max_age.as_secs_f64(),
        longest_max_age_seconds: policy.longest_max_age.as_secs_f64(),
        content: policy.content.to_string(),
        content_schema: policy.schema.as_ref().map(|schema| schema.text().to_owned()),
        bypass_until: policy.bypass_until.map(moment),
        compress_above_bytes: policy.compress_above,
        jitter_percent: policy.jitter_percent,
        max_value_bytes: policy.max_value_bytes,
        reserve_bytes: policy.quota.reserve,
        cap_bytes: limit(policy.quota.cap),
        max_entries: limit(policy.quota.entries),
        requests_per_second: policy.traffic.requests_per_second,
        bytes_per_second: policy.traffic.bytes_per_second,
        negative_max_age_seconds: policy.negative_max_age.as_secs_f64(),
        early_refresh_percent: policy.early_refresh_percent,
        write_through: policy.write_through,
        intervals: policy.intervals.iter().map(interval_to_api).collect(),
        origin: policy.origin.as_ref().map(|binding| OriginChoice {
            name: binding.origin.to_string(),
            key_pattern: Some(binding.key_pattern.to_string()),
        }),
    }
}
