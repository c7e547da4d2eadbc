//! Access tokens: their scopes and hashes.

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde::{Deserialize, Serialize};
use serde_json::json;
use verax_core::Timestamp;

use super::activity::{Actor, Change};
use super::columns::ReturningId;
use crate::changes::Changed;
use crate::connection::Records;
use crate::error::RecordsError;
use crate::schema::tokens;

/// A token, without its secret, which is stored nowhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenRecord {
    /// Its identifier.
    pub id: u64,
    /// The SHA-256 of the token.
    pub hash: [u8; 32],
    /// Its scopes, as the service writes them.
    pub scopes: String,
    /// Its creator's note.
    pub note: String,
    /// When it was created.
    pub created_at: Timestamp,
    /// When it was revoked.
    pub revoked_at: Option<Timestamp>,
}

type Row = (u64, Vec<u8>, String, String, u64, Option<u64>);

impl Records {
    /// All tokens, oldest first, including revoked ones.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub async fn tokens(&self) -> Result<Vec<TokenRecord>, RecordsError> {
        self.exchange(async |connection| load(connection).await).await
    }

    /// At most `most` tokens after a given one, oldest first, including revoked ones.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub async fn tokens_after(
        &self,
        after: u64,
        most: u16,
    ) -> Result<Vec<TokenRecord>, RecordsError> {
        self.exchange(async |connection| {
            let page = tokens::table.filter(tokens::id.gt(after)).order(tokens::id);
            let rows: Vec<Row> = page.limit(most.into()).load(connection).await?;
            rows.into_iter().map(token_of).collect()
        })
        .await
    }

    /// Records a new token by its hash.
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
    ) -> Result<Changed<TokenRecord>, RecordsError> {
        self.change(actor, now, async |connection| {
            let row = (
                tokens::hash.eq(&hash[..]),
                tokens::scopes.eq(scopes),
                tokens::note.eq(note),
                tokens::created_at.eq(now.as_millis()),
            );
            let row = diesel::insert_into(tokens::table).values(row);
            let id: u64 = ReturningId(row)
                .get_result(connection)
                .await
                .map_err(|e| RecordsError::of("the token", e, ""))?;
            let change = Change {
                tenant: None,
                action: "token.create",
                subject: format!("token {id}"),
                detail: json!({ "scopes": scopes, "note": note }),
            };
            let (scopes, note) = (scopes.to_owned(), note.to_owned());
            let record = TokenRecord { id, hash, scopes, note, created_at: now, revoked_at: None };
            Ok((record, change))
        })
        .await
    }

    /// Marks a token as revoked.
    ///
    /// # Errors
    /// [`RecordsError::Missing`] if there is none or it was already revoked,
    /// [`RecordsError::Unavailable`].
    pub async fn revoke_token(
        &self,
        id: u64,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        self.change(actor, now, async |connection| {
            let rows = tokens::table.find(id).filter(tokens::revoked_at.is_null());
            let at = tokens::revoked_at.eq(now.as_millis());
            if diesel::update(rows).set(at).execute(connection).await? == 0 {
                return Err(RecordsError::Missing(format!("token {id}")));
            }
            let change = Change {
                tenant: None,
                action: "token.revoke",
                subject: format!("token {id}"),
                detail: json!({}),
            };
            Ok(((), change))
        })
        .await
    }
}

/// All tokens, oldest first, including revoked ones.
pub(crate) async fn load(
    connection: &mut AsyncMysqlConnection,
) -> Result<Vec<TokenRecord>, RecordsError> {
    let rows: Vec<Row> = tokens::table.order(tokens::id).load(connection).await?;
    rows.into_iter().map(token_of).collect()
}

fn token_of(
    (id, hash, scopes, note, created_at, revoked_at): Row,
) -> Result<TokenRecord, RecordsError> {
    let hash = hash
        .try_into()
        .map_err(|_| RecordsError::Unreadable(format!("token {id} has a hash of a wrong size")))?;
    let created_at = Timestamp::from_millis(created_at);
    let revoked_at = revoked_at.map(Timestamp::from_millis);
    Ok(TokenRecord { id, hash, scopes, note, created_at, revoked_at })
}
