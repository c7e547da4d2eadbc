//! Access tokens: their scopes and hashes.

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde_json::json;
use verax_core::Timestamp;

use super::columns::ReturningId;
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::tokens;
use crate::model::{Actor, NewToken, Rotated, TokenRecord, token_change};

type Row = (u64, Vec<u8>, String, String, u64, Option<u64>, Option<u64>, Option<u64>);

impl MariaDb {
    /// All tokens, oldest first, including revoked ones.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub(crate) async fn tokens(&self) -> Result<Vec<TokenRecord>, RecordsError> {
        self.exchange(async |connection| load(connection).await).await
    }

    /// At most `most` tokens after a given one, oldest first, including revoked ones.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub(crate) async fn tokens_after(
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
    pub(crate) async fn create_token(
        &self,
        new: &NewToken<'_>,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<TokenRecord>, RecordsError> {
        self.change(actor, now, async |connection| {
            let record = insert(connection, new, now).await?;
            let change = token_change("token.create", record.id, new.detail());
            Ok((record, change))
        })
        .await
    }

    /// Records a token that follows another with the same scopes and note, which ends by itself at
    /// `ends_at` unless it ends earlier. The follower lasts as long as the other was to last from
    /// its creation.
    ///
    /// # Errors
    /// [`RecordsError::Missing`] if there is none or it was already revoked,
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn rotate_token(
        &self,
        id: u64,
        hash: [u8; 32],
        ends_at: Timestamp,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<Rotated>, RecordsError> {
        self.change(actor, now, async |connection| {
            let row = tokens::table.find(id).filter(tokens::revoked_at.is_null()).for_update();
            let row = row.first::<Row>(connection).await.optional()?;
            let missing = || RecordsError::Missing(format!("token {id}"));
            let mut previous = token_of(row.ok_or_else(missing)?)?;
            let new = previous.follower(hash, now);
            let record = insert(connection, &new, now).await?;
            previous.ends_by(ends_at);
            let at = previous.expires_at.map(Timestamp::as_millis);
            diesel::update(tokens::table.find(id))
                .set(tokens::expires_at.eq(at))
                .execute(connection)
                .await?;
            let change = token_change("token.rotate", id, json!({ "by": record.id }));
            Ok((Rotated { previous, record }, change))
        })
        .await
    }

    /// Writes down when tokens were last used, which is no change.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn note_uses(&self, uses: &[(u64, Timestamp)]) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            for (id, at) in uses {
                diesel::update(tokens::table.find(id))
                    .set(tokens::last_used_at.eq(at.as_millis()))
                    .execute(connection)
                    .await?;
            }
            Ok(())
        })
        .await
    }

    /// Marks a token as revoked.
    ///
    /// # Errors
    /// [`RecordsError::Missing`] if there is none or it was already revoked,
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn revoke_token(
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
            Ok(((), token_change("token.revoke", id, json!({}))))
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

async fn insert(
    connection: &mut AsyncMysqlConnection,
    new: &NewToken<'_>,
    now: Timestamp,
) -> Result<TokenRecord, RecordsError> {
    let row = (
        tokens::hash.eq(&new.hash[..]),
        tokens::scopes.eq(new.scopes),
        tokens::note.eq(new.note),
        tokens::created_at.eq(now.as_millis()),
        tokens::expires_at.eq(new.expires_at.map(Timestamp::as_millis)),
    );
    let row = diesel::insert_into(tokens::table).values(row);
    let id: u64 = ReturningId(row)
        .get_result(connection)
        .await
        .map_err(|e| RecordsError::of("the token", e, ""))?;
    Ok(new.record(id, now))
}

fn token_of(
    (id, hash, scopes, note, created_at, revoked_at, expires_at, last_used_at): Row,
) -> Result<TokenRecord, RecordsError> {
    let hash = hash
        .try_into()
        .map_err(|_| RecordsError::Unreadable(format!("token {id} has a hash of a wrong size")))?;
    Ok(TokenRecord {
        id,
        hash,
        scopes,
        note,
        created_at: Timestamp::from_millis(created_at),
        revoked_at: revoked_at.map(Timestamp::from_millis),
        expires_at: expires_at.map(Timestamp::from_millis),
        last_used_at: last_used_at.map(Timestamp::from_millis),
    })
}
