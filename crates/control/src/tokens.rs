//! Tokens.

use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Duration;

use verax_api::{CreateToken, CreatedToken, RotateToken, RotatedToken, Token, duration_of, moment};
use verax_core::access::Scope;
use verax_core::guard::lock::AccessId;
use verax_records::{NewToken, RecordsError, Rotated, TokenRecord};

use crate::access::{Caller, hash_of, new_secret};
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::limits::{self, MAX_TOKENS};
use crate::subject::Subject;

/// The maximum number of scopes of a token.
pub const SCOPE_COUNTS: RangeInclusive<usize> = 1..=32;

/// The maximum length of a token's note, in characters.
pub const NOTE_LENGTHS: RangeInclusive<usize> = 0..=200;

/// The longest time that a token lasts.
const MAX_VALIDITY: Duration = Duration::from_secs(10 * 365 * 86_400);

/// How long a rotated token stays valid by default.
const DEFAULT_OVERLAP: Duration = Duration::from_secs(86_400);

/// The length of a secret that is known beforehand.
const SECRET_LENGTHS: RangeInclusive<usize> = 8..=200;

impl Control {
    /// At most `most` tokens after a given one, oldest first, including revoked ones.
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
        let records = self.records.tokens_after(after, most).await?;
        Ok(records.iter().map(|record| self.token_to_api(record)).collect())
    }

    /// Creates a token. Only the response contains its secret.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the requested scopes, or the records.
    pub async fn create_token(
        self: &Arc<Self>,
        caller: &Caller,
        request: &CreateToken,
    ) -> Result<CreatedToken, ControlError> {
        self.add_token(caller, request, new_secret()).await
    }

    /// Creates a token whose secret is known beforehand, for a service that tests start.
    ///
    /// # Errors
    /// [`ControlError`]: the secret, and as for [`create_token`](Self::create_token).
    pub async fn import_token(
        self: &Arc<Self>,
        caller: &Caller,
        request: &CreateToken,
        secret: &str,
    ) -> Result<CreatedToken, ControlError> {
        let visible = secret.bytes().all(|byte| byte.is_ascii_graphic());
        if !visible || !SECRET_LENGTHS.contains(&secret.len()) {
            return Err(InvalidInput::Secret(SECRET_LENGTHS).into());
        }
        self.add_token(caller, request, secret.to_owned()).await
    }

    /// Replaces a token by another with the same scopes and note. The previous one stays valid for
    /// the overlap, so that its holders can change over.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the token, the overlap, or the records.
    pub async fn rotate_token(
        self: &Arc<Self>,
        caller: &Caller,
        id: u64,
        request: &RotateToken,
    ) -> Result<RotatedToken, ControlError> {
        caller.needs(Scope::Admin)?;
        let overlap = match request.overlap_seconds {
            Some(seconds) => validity("overlap_seconds", seconds)?,
            None => DEFAULT_OVERLAP,
        };
        let caller = caller.clone();
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            limits::check("unrevoked tokens", control.tokens.count(), MAX_TOKENS)?;
            let (actor, now, secret) = (caller.actor(), control.engine.now(), new_secret());
            let hash = hash_of(&secret);
            let rotated = control.records.rotate_token(id, hash, now + overlap, &actor, now).await;
            let rotated = rotated.map_err(|error| match error {
                RecordsError::Missing(_) => ControlError::Unknown(Subject::Token(id)),
                other => other.into(),
            })?;
            let Rotated { previous, record } = control.follow_change(rotated);
            control.tokens.add(&record);
            control.tokens.set_expiry(id, previous.expires_at);
            let [token, previous] = [&record, &previous].map(|record| control.token_to_api(record));
            Ok(RotatedToken { secret, token, previous })
        })
        .await
    }

    async fn add_token(
        self: &Arc<Self>,
        caller: &Caller,
        request: &CreateToken,
        secret: String,
    ) -> Result<CreatedToken, ControlError> {
        caller.needs(Scope::Admin)?;
        let CreateToken { scopes, note, expires_in_seconds } = request;
        let expires_in =
            expires_in_seconds.map(|s| validity("expires_in_seconds", s)).transpose()?;
        if !SCOPE_COUNTS.contains(&scopes.len()) {
            return Err(InvalidInput::ScopeCount(SCOPE_COUNTS).into());
        }
        if !NOTE_LENGTHS.contains(&note.chars().count()) {
            return Err(InvalidInput::Note { max: *NOTE_LENGTHS.end() }.into());
        }
        let parsed: Result<Vec<Scope>, _> = scopes.iter().map(|scope| scope.parse()).collect();
        let parsed = parsed.map_err(ControlError::invalid)?;
        let (caller, note) = (caller.clone(), note.to_owned());
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            parsed.iter().try_for_each(|scope| control.check_place(scope))?;
            limits::check("unrevoked tokens", control.tokens.count(), MAX_TOKENS)?;
            let scopes: Vec<String> = parsed.iter().map(Scope::to_string).collect();
            let scopes = scopes.join(" ");
            let (actor, now) = (caller.actor(), control.engine.now());
            let hash = hash_of(&secret);
            let expires_at = expires_in.map(|time| now + time);
            let new = NewToken { expires_at, ..NewToken::new(hash, &scopes, &note) };
            let created = control.records.create_token(&new, &actor, now);
            let record = control.follow_change(created.await?);
            control.tokens.add(&record);
            Ok(CreatedToken { secret, token: control.token_to_api(&record) })
        })
        .await
    }

    /// A token for something that does not exist is most likely a mistake.
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
        Err(InvalidInput::ScopeWithoutEffect { scope: scope.clone(), missing }.into())
    }

    /// Revokes a token, and ends the sessions begun with it.
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

    /// Ends a token in memory, with everything begun under it.
    pub(crate) fn end_token(&self, id: u64) {
        self.tokens.revoke(id);
        self.access_changed();
        self.engine.withdraw(AccessId(id));
    }
}

impl Control {
    fn token_to_api(&self, record: &TokenRecord) -> Token {
        let last_used_at = self.tokens.last_used_at(&record.hash).or(record.last_used_at);
        Token {
            id: record.id,
            scopes: record.scopes.split_whitespace().map(str::to_owned).collect(),
            note: record.note.clone(),
            created_at: moment(record.created_at),
            revoked_at: record.revoked_at.map(moment),
            expires_at: record.expires_at.map(moment),
            last_used_at: last_used_at.map(moment),
        }
    }
}

/// How long a token lasts, from a field in seconds.
fn validity(field: &'static str, seconds: f64) -> Result<Duration, ControlError> {
    let time = duration_of(field, seconds).map_err(ControlError::invalid)?;
    match time <= MAX_VALIDITY {
        true => Ok(time),
        false => Err(InvalidInput::Validity { field, max: MAX_VALIDITY }.into()),
    }
}
