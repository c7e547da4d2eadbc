//! Tokens.

use std::ops::RangeInclusive;
use std::sync::Arc;

use verax_api::{CreatedToken, Token, moment};
use verax_core::access::Scope;
use verax_core::guard::lock::AccessId;
use verax_records::{RecordsError, TokenRecord};

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
        Ok(self.records.tokens_after(after, most).await?.iter().map(token_to_api).collect())
    }

    /// Creates a token. Only the response contains its secret.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the requested scopes, or the records.
    pub async fn create_token(
        self: &Arc<Self>,
        caller: &Caller,
        scopes: &[String],
        note: &str,
    ) -> Result<CreatedToken, ControlError> {
        caller.needs(Scope::Admin)?;
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
    fn end_token(&self, id: u64) {
        self.tokens.revoke(id);
        self.access_changed();
        self.engine.withdraw(AccessId(id));
    }
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
