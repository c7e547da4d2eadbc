//! The hottest keys of namespaces, for the next start.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use verax_core::{NamespaceId, Timestamp};

use super::columns::{read_json, write_json};
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::hot_keys;

impl MariaDb {
    pub(crate) async fn keep_hottest(
        &self,
        namespace: NamespaceId,
        keys: &[String],
        now: Timestamp,
    ) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            let row = (
                hot_keys::namespace_id.eq(namespace.0),
                hot_keys::noted_at.eq(now.as_millis()),
                hot_keys::hottest.eq(write_json(&keys)),
            );
            diesel::replace_into(hot_keys::table).values(row).execute(connection).await?;
            Ok(())
        })
        .await
    }

    pub(crate) async fn hottest(
        &self,
        namespace: NamespaceId,
    ) -> Result<Vec<String>, RecordsError> {
        self.exchange(async |connection| {
            let kept: Option<String> = hot_keys::table
                .find(namespace.0)
                .select(hot_keys::hottest)
                .first(connection)
                .await
                .optional()?;
            kept.map_or(Ok(Vec::new()), |kept| read_json("hot keys", &kept))
        })
        .await
    }
}
