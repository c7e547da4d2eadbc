//! Tokens in memory.

use serde_json::json;
use verax_core::Timestamp;

use super::{Memory, State};
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::model::{Actor, NewToken, Rotated, TokenRecord, scopes_without, token_change};

impl State {
    fn add_token(
        &mut self,
        new: &NewToken<'_>,
        now: Timestamp,
    ) -> Result<TokenRecord, RecordsError> {
        if self.tokens.iter().any(|token| token.hash == new.hash) {
            return Err(RecordsError::Exists("the token".into()));
        }
        self.used.token += 1;
        let record = new.record(self.used.token, now);
        self.tokens.push(record.clone());
        Ok(record)
    }

    /// Removes the scopes of a deleted `TENANT` or `TENANT/NAMESPACE` from all tokens. A token
    /// without remaining scopes is revoked.
    pub(super) fn withdraw_scopes(&mut self, place: &str, now: Timestamp) {
        for token in self.tokens.iter_mut().filter(|token| token.revoked_at.is_none()) {
            if let Some(kept) = scopes_without(&token.scopes, place) {
                token.revoked_at = kept.is_empty().then_some(now);
                token.scopes = kept;
            }
        }
    }
}

impl Memory {
    pub(crate) fn tokens(&self) -> Vec<TokenRecord> {
        self.state().tokens.clone()
    }

    pub(crate) fn tokens_after(&self, after: u64, most: u16) -> Vec<TokenRecord> {
        let state = self.state();
        let page = state.tokens.iter().filter(|token| token.id > after);
        page.take(most.into()).cloned().collect()
    }

    pub(crate) fn create_token(
        &self,
        new: &NewToken<'_>,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<TokenRecord>, RecordsError> {
        self.change(actor, now, |state| {
            let record = state.add_token(new, now)?;
            let change = token_change("token.create", record.id, new.detail());
            Ok((record, change))
        })
    }

    pub(crate) fn rotate_token(
        &self,
        id: u64,
        hash: [u8; 32],
        ends_at: Timestamp,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<Rotated>, RecordsError> {
        self.change(actor, now, |state| {
            let open = |token: &TokenRecord| token.id == id && token.revoked_at.is_none();
            let missing = || RecordsError::Missing(format!("token {id}"));
            let at = state.tokens.iter().position(open).ok_or_else(missing)?;
            let record = state.add_token(&state.tokens[at].clone().follower(hash, now), now)?;
            state.tokens[at].ends_by(ends_at);
            let previous = state.tokens[at].clone();
            let change = token_change("token.rotate", id, json!({ "by": record.id }));
            Ok((Rotated { previous, record }, change))
        })
    }

    pub(crate) fn note_uses(&self, uses: &[(u64, Timestamp)]) {
        let mut state = self.state();
        for (id, at) in uses {
            if let Some(token) = state.tokens.iter_mut().find(|token| token.id == *id) {
                token.last_used_at = Some(*at);
            }
        }
    }

    pub(crate) fn revoke_token(
        &self,
        id: u64,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        self.change(actor, now, |state| {
            let open = |token: &&mut TokenRecord| token.id == id && token.revoked_at.is_none();
            let found = state.tokens.iter_mut().find(open);
            let missing = || RecordsError::Missing(format!("token {id}"));
            found.ok_or_else(missing)?.revoked_at = Some(now);
            Ok(((), token_change("token.revoke", id, json!({}))))
        })
    }
}
