//! Creating and changing tenants, namespaces and tokens: first in the records, then in
//! memory, so that what is acknowledged is never lost and is in use at once.

use std::ops::RangeInclusive;
use std::sync::Arc;

use verax_api::{
    CreatedToken, Namespace as ApiNamespace, OriginChoice, Policy, PolicyChange, Session,
    SignInLink, Tenant as ApiTenant, Token, Usage, duration_of, moment,
};
use verax_core::access::{Right, Scope};
use verax_core::guard::lock::AccessId;
use verax_core::{EntityTag, KeyPattern, Name, NamespaceId, NamespacePolicy, OriginBinding};
use verax_engine::{Binding, Namespace};
use verax_origin::Origin;
use verax_records::{RecordsError, TokenRecord};

use crate::access::{CODE_LIFETIME, Caller, ConsoleSession, hash_of, new_secret};
use crate::control::Control;
use crate::error::{ControlError, Subject};
use crate::expected::Expected;
use crate::limits::{self, MAX_NAMESPACES, MAX_TENANTS, MAX_TOKENS};
use crate::origins::check_binding;
use crate::registry::{Registered, Tenant};

/// How many scopes a token may have.
pub const SCOPE_COUNTS: RangeInclusive<usize> = 1..=32;

/// How long a token's note may be, in characters.
pub const NOTE_LENGTHS: RangeInclusive<usize> = 0..=200;

const SESSION_ENDED: &str = "the session has ended: sign in again";

impl Control {
    /// The tenants that the caller may see, by name.
    pub fn tenants(&self, caller: &Caller) -> Vec<ApiTenant> {
        let sees = |name: &Name| {
            let within = |s: &Scope| matches!(s, Scope::Within { tenant, .. } if tenant == name);
            caller.is_admin() || caller.scopes().iter().any(within)
        };
        let tenants = self.registry.read();
        let mut tenants_to_api: Vec<_> = tenants
            .iter()
            .filter(|(name, _)| sees(name))
            .map(|(name, t)| ApiTenant { name: name.to_string(), created_at: moment(t.created_at) })
            .collect();
        tenants_to_api.sort_by(|a, b| a.name.cmp(&b.name));
        tenants_to_api
    }

    /// Creates a tenant.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the name, a tenant of that name, or the records.
    pub async fn create_tenant(
        self: &Arc<Self>,
        caller: &Caller,
        name: &str,
    ) -> Result<ApiTenant, ControlError> {
        caller.needs(Scope::Admin)?;
        let name = Name::new(name).map_err(ControlError::invalid)?;
        let caller = caller.clone();
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            limits::check("tenants", control.registry.read().len(), MAX_TENANTS)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let record =
                control.follow_change(control.records.create_tenant(&name, &actor, now).await?);
            control.registry.add_tenant(&record);
            Ok(ApiTenant { name: name.to_string(), created_at: moment(record.created_at) })
        })
        .await
    }

    /// Removes a tenant that owns nothing any more.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the tenant, what it still owns, or the records.
    pub async fn delete_tenant(
        self: &Arc<Self>,
        caller: &Caller,
        name: &Name,
    ) -> Result<(), ControlError> {
        caller.needs(Scope::Admin)?;
        let (caller, name) = (caller.clone(), name.clone());
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            if !control.registry.read().contains_key(&name) {
                return Err(ControlError::Unknown(Subject::Tenant(name.to_string())));
            }
            let (actor, now) = (caller.actor(), control.engine.now());
            control.follow_change(control.records.delete_tenant(&name, &actor, now).await?);
            control.registry.write().remove(&name);
            control.withdraw_scopes(&name, None);
            Ok(())
        })
        .await
    }

    /// The namespaces of a tenant that the caller may read or manage, by name.
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
            return Err(ControlError::MissingScope(Scope::tenant(Right::Read, tenant)));
        }
        let namespaces: Vec<_> = {
            let tenants = self.registry.read();
            let found = tenants.get(tenant);
            let found =
                found.ok_or_else(|| ControlError::Unknown(Subject::Tenant(tenant.to_string())))?;
            found.namespaces.values().cloned().collect()
        };
        let visible = namespaces.iter().filter(|n| sees(caller, n));
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
        if !caller.holds(&Scope::within(Right::Manage, tenant, name)) {
            caller.needs(Scope::within(Right::Read, tenant, name))?;
        }
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
            let owned = |t: &Tenant| t.namespaces.len();
            let owned = control.registry.read().get(&tenant).map_or(0, owned);
            limits::check("namespaces of the tenant", owned, MAX_NAMESPACES)?;
            let (policy, origin) =
                control.changed(&caller, (&tenant, &name), NamespacePolicy::default(), &change)?;
            control.check_quota(&caller, &change, None, &policy)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let created = control.records.create_namespace(&tenant, &name, &policy, &actor, now);
            let record = control.follow_change(created.await?);
            let namespace = control.register(record, origin);
            if let Some(tenant) = control.registry.write().get_mut(&tenant) {
                tenant.namespaces.insert(name, Arc::clone(&namespace));
            }
            // Whoever opened one of this name that was deleted may go on with the new one.
            control.access_changed();
            Ok(control.namespace_to_api(&namespace))
        })
        .await
    }

    /// Changes parts of a namespace's policy, if it is one of those that `expected` names. Entries
    /// that are stored already keep their lifetimes.
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
            // Changes are made one after the other, so nothing comes in between.
            if !expected.includes(policy_tag(&policy_to_api(&namespace.binding().policy))) {
                return Err(ControlError::NotExpected("policy"));
            }
            let policy = namespace.binding().policy.clone();
            let (policy, origin) = control.changed(&caller, (&tenant, &name), policy, &change)?;
            control.check_quota(&caller, &change, Some(namespace.id()), &policy)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let changed = control.records.change_policy(namespace.record(), &policy, &actor, now);
            control.follow_change(changed.await?);
            control.engine.bind(namespace.namespace(), Binding { policy, origin });
            Ok(control.namespace_to_api(&namespace))
        })
        .await
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

    /// Withdraws the scopes within what was deleted from the tokens in memory, as the records did.
    fn withdraw_scopes(&self, tenant: &Name, namespace: Option<&Name>) {
        self.tokens.withdraw(tenant, namespace);
        self.access_changed();
    }

    /// Reserve and cap divide the memory of all tenants, so administrators alone set them, and
    /// nobody is guaranteed what is not there.
    fn check_quota(
        &self,
        caller: &Caller,
        change: &PolicyChange,
        changed: Option<NamespaceId>,
        policy: &NamespacePolicy,
    ) -> Result<(), ControlError> {
        if change.reserve_bytes.is_some() || change.cap_bytes.is_some() {
            caller.needs(Scope::Admin)?;
        }
        if change.reserve_bytes.is_none() {
            return Ok(());
        }
        let others = self.registry.namespaces().into_iter().filter(|n| Some(n.id()) != changed);
        let promised: u64 = others.map(|n| n.binding().policy.quota.reserve).sum();
        let limit = self.engine.memory().limit;
        let left = limit.saturating_sub(promised);
        if policy.quota.reserve > left {
            return Err(ControlError::Invalid(format!(
                "a reserve of {} bytes cannot be guaranteed: of the {limit} bytes of memory, {promised} are reserved by other namespaces, which leaves {left}",
                policy.quota.reserve
            )));
        }
        Ok(())
    }

    /// A policy with some parts changed, and the origin it names.
    fn changed(
        &self,
        caller: &Caller,
        (tenant, name): (&Name, &Name),
        mut policy: NamespacePolicy,
        change: &PolicyChange,
    ) -> Result<(NamespacePolicy, Option<Arc<Origin>>), ControlError> {
        let lifetime = &mut policy.lifetime;
        for (field, seconds, part) in [
            ("max_age_seconds", change.max_age_seconds, &mut lifetime.max_age),
            (
                "stale_while_revalidate_seconds",
                change.stale_while_revalidate_seconds,
                &mut lifetime.stale_while_revalidate,
            ),
            ("stale_if_error_seconds", change.stale_if_error_seconds, &mut lifetime.stale_if_error),
            (
                "negative_max_age_seconds",
                change.negative_max_age_seconds,
                &mut policy.negative_max_age,
            ),
        ] {
            if let Some(seconds) = seconds {
                *part = duration_of(field, seconds).map_err(ControlError::invalid)?;
            }
        }
        if let Some(bytes) = change.max_value_bytes {
            policy.max_value_bytes = bytes;
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
        match &change.origin {
            None => {}
            Some(None) => policy.origin = None,
            Some(Some(choice)) => {
                let origin = Name::new(&*choice.name).map_err(ControlError::invalid)?;
                let key_pattern = match &choice.key_pattern {
                    Some(text) => KeyPattern::parse(text).map_err(ControlError::invalid)?,
                    None => KeyPattern::whole_key(),
                };
                policy.origin = Some(OriginBinding { origin, key_pattern });
            }
        }
        policy.check().map_err(ControlError::invalid)?;
        let origin = match &policy.origin {
            None => None,
            Some(binding) => {
                let path = format!("{tenant}/{}", binding.origin);
                let found = self.registry.read().get(tenant).and_then(|tenant| {
                    let (record, origin) = tenant.origins.get(&binding.origin)?;
                    Some((record.settings.open_to.clone(), Arc::clone(origin)))
                });
                let (_, origin) = found
                    .filter(|(open_to, _)| {
                        change.origin.is_none()
                            || caller.holds(&Scope::tenant(Right::Manage, tenant))
                            || open_to.contains(name)
                    })
                    .ok_or_else(|| ControlError::Invalid(format!("there is no origin {path}")))?;
                check_binding(&path, &origin, &policy, &binding.key_pattern)?;
                Some(origin)
            }
        };
        Ok((policy, origin))
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

    /// The tokens that come after a token, revoked ones included, oldest first, and at most `most`
    /// of them.
    ///
    /// # Errors
    /// [`ControlError`]: the scope or the records.
    pub async fn tokens(
        &self,
        caller: &Caller,
        after: u64,
        most: u16,
    ) -> Result<Vec<Token>, ControlError> {
        caller.needs(Scope::Admin)?;
        Ok(self.records.tokens_after(after, most).await?.iter().map(token_to_api).collect())
    }

    /// Creates a token. Its secret is in the answer and nowhere else.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the scopes asked for, or the records.
    pub async fn create_token(
        self: &Arc<Self>,
        caller: &Caller,
        scopes: &[String],
        note: &str,
    ) -> Result<CreatedToken, ControlError> {
        caller.needs(Scope::Admin)?;
        if !SCOPE_COUNTS.contains(&scopes.len()) {
            let (least, most) = SCOPE_COUNTS.into_inner();
            return Err(ControlError::Invalid(format!("a token needs {least} to {most} scopes")));
        }
        if !NOTE_LENGTHS.contains(&note.chars().count()) {
            let most = NOTE_LENGTHS.end();
            return Err(ControlError::Invalid(format!(
                "the note is longer than {most} characters"
            )));
        }
        let parsed: Result<Vec<Scope>, _> = scopes.iter().map(|scope| scope.parse()).collect();
        let parsed = parsed.map_err(ControlError::invalid)?;
        let (caller, note) = (caller.clone(), note.to_owned());
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            parsed.iter().try_for_each(|scope| control.check_place(scope))?;
            limits::check("tokens that are not revoked", control.tokens.count(), MAX_TOKENS)?;
            let scopes: Vec<String> = parsed.iter().map(Scope::to_string).collect();
            let (secret, scopes) = (new_secret(), scopes.join(" "));
            let (actor, now) = (caller.actor(), control.engine.now());
            let hash = hash_of(&secret);
            let created = control.records.create_token(hash, &scopes, &note, &actor, now);
            let record = control.follow_change(created.await?);
            control.tokens.add(&record);
            Ok(CreatedToken { secret, token: token_to_api(&record) })
        })
        .await
    }

    /// A token for something that does not exist is more likely a slip than a plan.
    fn check_place(&self, scope: &Scope) -> Result<(), ControlError> {
        let Scope::Within { tenant, namespace, .. } = scope else { return Ok(()) };
        let tenants = self.registry.read();
        let missing = match (tenants.get(tenant), namespace) {
            (None, _) => Subject::Tenant(tenant.to_string()),
            (Some(t), Some(n)) if !t.namespaces.contains_key(n) => {
                Subject::Namespace(format!("{tenant}/{n}"))
            }
            _ => return Ok(()),
        };
        Err(ControlError::Invalid(format!(
            "the scope {scope} is for nothing: there is no {missing}"
        )))
    }

    /// Revokes a token; it opens nothing from now on, and neither do sessions begun with it.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the token, or the records.
    pub async fn revoke_token(
        self: &Arc<Self>,
        caller: &Caller,
        id: u64,
    ) -> Result<(), ControlError> {
        caller.needs(Scope::Admin)?;
        let caller = caller.clone();
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let revoked = control.records.revoke_token(id, &actor, now).await;
            let revoked = revoked.map_err(|error| match error {
                RecordsError::Missing(_) => ControlError::Unknown(Subject::Token(id)),
                other => other.into(),
            })?;
            control.follow_change(revoked);
            control.end_token(id);
            Ok(())
        })
        .await
    }

    /// Ends a token in memory, with everything that was begun by it.
    fn end_token(&self, id: u64) {
        self.tokens.revoke(id);
        self.access_changed();
        self.engine.withdraw(AccessId(id));
    }

    /// A one-time link that signs whoever opens it in as this caller.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`] when the caller's access has ended, [`ControlError::Busy`].
    pub fn sign_in_link(&self, caller: &Arc<Caller>) -> Result<SignInLink, ControlError> {
        caller.still_open()?;
        let code = self.sessions.new_code(Arc::clone(caller), self.engine.now());
        let code =
            code.ok_or(ControlError::Busy("there are too many sign-in links; come back later"))?;
        let seconds = CODE_LIFETIME.as_secs();
        // In the fragment, which browsers send to no server and write to no log.
        Ok(SignInLink { path: format!("/sign-in#{code}"), seconds })
    }

    /// Starts a console session by a code or a token; returns its secret.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`], [`ControlError::Busy`].
    pub fn start_session(
        &self,
        by: &verax_api::CreateSession,
    ) -> Result<(String, Session), ControlError> {
        let now = self.engine.now();
        let caller = match by {
            verax_api::CreateSession::Token(token) => self.tokens.caller(token)?,
            verax_api::CreateSession::Code(code) => {
                let caller = self.sessions.use_code(code, now).ok_or(ControlError::NotSignedIn(
                    "this sign-in link was used already or is too old: make a new one with `verax sign-in`, or paste a token",
                ))?;
                self.current(&caller)?
            }
        };
        let session = session_of(&caller);
        let secret = self.sessions.start(caller, now);
        Ok((
            secret.ok_or(ControlError::Busy("there are too many sessions; come back later"))?,
            session,
        ))
    }

    /// What the token that a caller came with opens now.
    fn current(&self, caller: &Arc<Caller>) -> Result<Arc<Caller>, ControlError> {
        match caller.token() {
            None => Ok(Arc::clone(caller)),
            Some(token) => {
                self.tokens.by_hash(&token.hash).ok_or(ControlError::NotSignedIn(SESSION_ENDED))
            }
        }
    }

    /// Whoever a session belongs to, and the session. A session ends with the token it was begun
    /// with.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`].
    pub fn session_caller(
        &self,
        secret: &str,
    ) -> Result<(Arc<Caller>, ConsoleSession), ControlError> {
        let session = self.sessions.get(secret, self.engine.now());
        let session = session.ok_or(ControlError::NotSignedIn(SESSION_ENDED))?;
        Ok((self.current(&session.caller)?, session))
    }

    /// Ends a session.
    pub fn end_session(&self, secret: &str) {
        self.sessions.end(secret);
    }

    /// Whoever holds a token.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`].
    pub fn token_caller(&self, secret: &str) -> Result<Arc<Caller>, ControlError> {
        self.tokens.caller(secret)
    }
}

/// The entity tag of a namespace's policy (RFC 9110, section 8.8.3): equal policies have equal
/// ones.
pub fn policy_tag(policy: &Policy) -> EntityTag {
    let text = serde_json::to_vec(policy).unwrap_or_default();
    EntityTag::of("application/json", &text)
}

fn policy_to_api(policy: &NamespacePolicy) -> Policy {
    Policy {
        max_age_seconds: policy.lifetime.max_age.as_secs_f64(),
        stale_while_revalidate_seconds: policy.lifetime.stale_while_revalidate.as_secs_f64(),
        stale_if_error_seconds: policy.lifetime.stale_if_error.as_secs_f64(),
        jitter_percent: policy.jitter_percent,
        max_value_bytes: policy.max_value_bytes,
        reserve_bytes: policy.quota.reserve,
        cap_bytes: Some(policy.quota.cap).filter(|cap| *cap != u64::MAX),
        negative_max_age_seconds: policy.negative_max_age.as_secs_f64(),
        early_refresh_percent: policy.early_refresh_percent,
        write_through: policy.write_through,
        origin: policy.origin.as_ref().map(|binding| OriginChoice {
            name: binding.origin.to_string(),
            key_pattern: Some(binding.key_pattern.to_string()),
        }),
    }
}

/// The session of a caller, as it is shown.
pub fn session_of(caller: &Caller) -> Session {
    let scopes = caller.scopes().iter().map(Scope::to_string).collect();
    Session { who: caller.who().to_owned(), scopes }
}

/// Whether a caller may see a namespace and its statistics.
pub(crate) fn sees(caller: &Caller, namespace: &Namespace) -> bool {
    let (tenant, name) = (namespace.tenant(), namespace.name());
    caller.needs_within(Right::Read, tenant, name).is_ok()
        || caller.needs_within(Right::Manage, tenant, name).is_ok()
}

fn token_to_api(record: &TokenRecord) -> Token {
    Token {
        id: record.id,
        scopes: record.scopes.split_whitespace().map(str::to_owned).collect(),
        note: record.note.clone(),
        created_at: moment(record.created_at),
        revoked_at: record.revoked_at.map(moment),
    }
}
