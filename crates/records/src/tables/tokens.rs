//! Access tokens: what they open, and a hash to know them by.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use serde::{Deserialize, Serialize};
use serde_json::json;
use verax_core::Timestamp;

use super::activity::{Actor, Change, write};
use super::new_id;
use crate::connection::{Records, bounded};
use crate::error::RecordsError;
use crate::schema::tokens;

/// A token, without the secret, which is kept nowhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenRecord {
    /// Its identity.
    pub id: u64,
    /// The SHA-256 of the token.
    pub hash: [u8; 32],
    /// What it opens, as the service writes it.
    pub scopes: String,
    /// What it is for, in its creator's words.
    pub note: String,
    /// When it was created.
    pub created_at: Timestamp,
    /// When it was revoked.
    pub revoked_at: Option<Timestamp>,
}

type Row = (u64, Vec<u8>, String, String, u64, Option<u64>);

impl Records {
    /// All tokens, revoked ones included, oldest first.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub async fn tokens(&self) -> Result<Vec<TokenRecord>, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            let rows: Vec<Row> = tokens::table.order(tokens::id).load(&mut connection).await?;
            rows.into_iter()
                .map(|(id, hash, scopes, note, created_at, revoked_at)| {
                    let hash = hash.try_into().map_err(|_| {
                        RecordsError::Unreadable(format!("token {id} has a hash of a wrong size"))
                    })?;
                    let created_at = Timestamp::from_millis(created_at);
                    let revoked_at = revoked_at.map(Timestamp::from_millis);
                    Ok(TokenRecord { id, hash, scopes, note, created_at, revoked_at })
                })
                .collect()
        })
        .await
    }

    /// Remembers a new token by its hash.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn create_token(
        &self,
        hash: [u8; 32],
        scopes: &str,
        note: &str,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<TokenRecord, RecordsError> {
        let (records, actor) = (self.clone(), actor.clone());
        let (scopes, note) = (scopes.to_owned(), note.to_owned());
        bounded(async move {
            let mut connection = records.connection().await?;
            let created = connection.transaction(async |connection| {
                let row = (
                    tokens::hash.eq(&hash[..]),
                    tokens::scopes.eq(&scopes),
                    tokens::note.eq(&note),
                    tokens::created_at.eq(now.as_millis()),
                );
                diesel::insert_into(tokens::table).values(row).execute(connection).await?;
                let id = new_id(connection).await?;
                let change = Change {
                    tenant: None,
                    action: "token.create",
                    subject: format!("token {id}"),
                    detail: json!({ "scopes": scopes, "note": note }),
                };
                write(connection, &actor, now, &change).await?;
                Ok(id)
            });
            let id = created.await.map_err(|e| RecordsError::of("the token", e, ""))?;
            let (created_at, revoked_at) = (now, None);
            Ok(TokenRecord { id, hash, scopes, note, created_at, revoked_at })
        })
        .await
    }

    /// Marks a token as revoked.
    ///
    /// # Errors
    /// [`RecordsError::Missing`] when there is none or it was revoked before,
    /// [`RecordsError::Unavailable`].
    pub async fn revoke_token(
        &self,
        id: u64,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<(), RecordsError> {
        let (records, actor) = (self.clone(), actor.clone());
        bounded(async move {
            let mut connection = records.connection().await?;
            let revoked = connection.transaction(async |connection| {
                let rows = tokens::table.find(id).filter(tokens::revoked_at.is_null());
                let at = tokens::revoked_at.eq(now.as_millis());
                if diesel::update(rows).set(at).execute(connection).await? == 0 {
                    return Err(diesel::result::Error::NotFound);
                }
                let change = Change {
                    tenant: None,
                    action: "token.revoke",
                    subject: format!("token {id}"),
                    detail: json!({}),
                };
                write(connection, &actor, now, &change).await
            });
            revoked.await.map_err(|e| RecordsError::of(format!("token {id}"), e, ""))
        })
        .await
    }
}
