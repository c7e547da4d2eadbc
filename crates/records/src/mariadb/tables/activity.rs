//! Who changed what, and when.

use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde_json::Value;
use verax_core::{Name, Timestamp};

use super::tenant_ids::tenant_id;
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::activity;
use crate::model::{Activity, ActivityFilter, Actor, Change};

type Row = (u64, u64, String, Option<String>, String, String, String);

/// Records the activity of a change, within its transaction.
pub(crate) async fn write(
    connection: &mut AsyncMysqlConnection,
    actor: &Actor,
    now: Timestamp,
    change: &Change,
    id: Option<&[u8; 16]>,
) -> Result<(), Error> {
    let tenant_id = match &change.tenant {
        Some(tenant) => tenant_id(connection, tenant).await.optional()?,
        None => None,
    };
    let row = (
        activity::at.eq(now.as_millis()),
        activity::actor.eq(actor.as_str()),
        activity::tenant.eq(change.tenant.as_ref().map(Name::as_str)),
        activity::tenant_id.eq(tenant_id),
        activity::action.eq(change.action),
        activity::subject.eq(&change.subject),
        activity::detail.eq(change.detail.to_string()),
        activity::change_id.eq(id.map(|id| &id[..])),
    );
    diesel::insert_into(activity::table).values(row).execute(connection).await.map(drop)
}

impl MariaDb {
    /// Records something done outside the records, such as clearing a namespace.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn note(
        &self,
        actor: &Actor,
        now: Timestamp,
        change: Change,
    ) -> Result<(), RecordsError> {
        self.exchange(async |connection| Ok(write(connection, actor, now, &change, None).await?))
            .await
    }

    /// The activity that fits a filter, newest first. A tenant's activity begins when it was
    /// created, without that of an earlier tenant of its name.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn activity(
        &self,
        filter: &ActivityFilter,
    ) -> Result<Vec<Activity>, RecordsError> {
        self.exchange(async |connection| {
            let mut query = activity::table
                .select((
                    activity::id,
                    activity::at,
                    activity::actor,
                    activity::tenant,
                    activity::action,
                    activity::subject,
                    activity::detail,
                ))
                .order(activity::id.desc())
                .limit(filter.most.into())
                .into_boxed();
            if let Some(tenant) = &filter.tenant {
                let Some(id) = tenant_id(connection, tenant).await.optional()? else {
                    return Ok(Vec::new());
                };
                query = query.filter(activity::tenant_id.eq(id));
            }
            if let Some(part) = &filter.actor {
                query = query.filter(activity::actor.like(containing(part)));
            }
            if let Some(part) = &filter.action {
                query = query.filter(activity::action.like(containing(part)));
            }
            if let Some(part) = &filter.subject {
                query = query.filter(activity::subject.like(containing(part)));
            }
            if let Some(since) = filter.since {
                query = query.filter(activity::at.ge(since.as_millis()));
            }
            if let Some(until) = filter.until {
                query = query.filter(activity::at.lt(until.as_millis()));
            }
            if let Some(before) = filter.before {
                query = query.filter(activity::id.lt(before));
            }
            let rows: Vec<Row> = query.load(connection).await?;
            Ok(rows
                .into_iter()
                .map(|(id, at, actor, tenant, action, subject, detail)| Activity {
                    id,
                    at: Timestamp::from_millis(at),
                    actor,
                    tenant,
                    action,
                    subject,
                    detail: serde_json::from_str(&detail).unwrap_or(Value::Null),
                })
                .collect())
        })
        .await
    }
}

/// A pattern of texts that contain a part, in which nothing stands for anything else.
fn containing(part: &str) -> String {
    let mut pattern = String::from("%");
    for character in part.chars() {
        if matches!(character, '%' | '_' | '\\') {
            pattern.push('\\');
        }
        pattern.push(character);
    }
    pattern.push('%');
    pattern
}

#[cfg(test)]
mod tests {
    use diesel_async::SimpleAsyncConnection;
    use serde_json::json;

    use super::*;
    use crate::mariadb::connection::connect;
    use crate::mariadb::launcher::{PrivateServer, scratch_directory};

    /// The service's own database user can neither change nor delete what happened, and a tenant's
    /// deletion does not need to.
    #[tokio::test(flavor = "multi_thread")]
    async fn activity_is_only_added_to() {
        let directory = scratch_directory();
        let server = PrivateServer::start(directory.path()).await.unwrap();
        let records = MariaDb::later(server.url("verax"));
        records.prepare().await.unwrap();
        let (actor, now) = (Actor::new("an operator"), Timestamp::from_millis(1));
        let tenant = Name::new("ferrydesk").unwrap();
        records.create_tenant(&tenant, &actor, now).await.unwrap();
        let (action, subject) = ("namespace.clear", "ferrydesk/boards".to_owned());
        let change = Change { tenant: Some(tenant.clone()), action, subject, detail: json!({}) };
        records.note(&actor, now, change).await.unwrap();
        records.delete_tenant(&tenant, &actor, now).await.unwrap();

        let mut connection = connect(records.url()).await.unwrap();
        for statement in ["UPDATE activity SET actor = 'nobody'", "DELETE FROM activity"] {
            let refused = connection.batch_execute(statement).await.unwrap_err();
            assert!(refused.to_string().contains("activity is only added to"), "{refused}");
        }
        let filter = ActivityFilter::latest(None, 10);
        assert_eq!(records.activity(&filter).await.unwrap().len(), 3);
        server.stop().await.unwrap();
    }
}
