//! Who changed what, and when.

use diesel::dsl::max;
use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde_json::Value;
use verax_core::{Name, Timestamp};

use crate::connection::{Records, bounded};
use crate::error::RecordsError;
use crate::schema::activity;

/// Who makes a change, as it is to be remembered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Actor(String);

impl Actor {
    /// An actor by description; cut to 250 characters.
    pub fn new(description: impl Into<String>) -> Self {
        Self(description.into().chars().take(250).collect())
    }

    /// The description.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// A change, as it is to be remembered.
#[derive(Debug, Clone)]
pub struct Change<'a> {
    /// The tenant it belongs to; `None` when it is the whole service's.
    pub tenant: Option<&'a Name>,
    /// What was done, as `noun.verb`.
    pub action: &'static str,
    /// To what.
    pub subject: String,
    /// More about it.
    pub detail: Value,
}

/// A remembered change.
#[derive(Debug, Clone, PartialEq)]
pub struct Activity {
    /// Its number; later changes have larger ones.
    pub id: u64,
    /// When it was made.
    pub at: Timestamp,
    /// Who made it.
    pub actor: String,
    /// The tenant it belongs to; `None` when it is the whole service's.
    pub tenant: Option<String>,
    /// What was done, as `noun.verb`.
    pub action: String,
    /// To what.
    pub subject: String,
    /// More about it.
    pub detail: Value,
}

type Row = (u64, u64, String, Option<String>, String, String, String);

/// Writes a change down, within the transaction that makes it.
pub(crate) async fn write(
    connection: &mut AsyncMysqlConnection,
    actor: &Actor,
    now: Timestamp,
    change: &Change<'_>,
) -> Result<(), Error> {
    let row = (
        activity::at.eq(now.as_millis()),
        activity::actor.eq(actor.as_str()),
        activity::tenant.eq(change.tenant.map(Name::as_str)),
        activity::action.eq(change.action),
        activity::subject.eq(&change.subject),
        activity::detail.eq(change.detail.to_string()),
    );
    diesel::insert_into(activity::table).values(row).execute(connection).await.map(drop)
}

impl Records {
    /// Remembers something that was done outside the records, such as clearing a namespace.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn note(
        &self,
        actor: &Actor,
        now: Timestamp,
        change: Change<'_>,
    ) -> Result<(), RecordsError> {
        let (records, actor) = (self.clone(), actor.clone());
        let tenant = change.tenant.cloned();
        let (action, subject, detail) = (change.action, change.subject, change.detail);
        bounded(async move {
            let mut connection = records.connection().await?;
            let change = Change { tenant: tenant.as_ref(), action, subject, detail };
            Ok(write(&mut connection, &actor, now, &change).await?)
        })
        .await
    }

    /// The latest activity, newest first, at most `most`, of one tenant or of all.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn activity(
        &self,
        tenant: Option<Name>,
        most: u32,
    ) -> Result<Vec<Activity>, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            let mut query =
                activity::table.order(activity::id.desc()).limit(most.into()).into_boxed();
            if let Some(tenant) = tenant {
                query = query.filter(activity::tenant.eq(tenant.to_string()));
            }
            let rows: Vec<Row> = query.load(&mut connection).await?;
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

    /// The identity of the latest change; 0 when there was none.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn latest_change(&self) -> Result<u64, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            let latest = activity::table.select(max(activity::id));
            Ok(latest.first::<Option<u64>>(&mut connection).await?.unwrap_or(0))
        })
        .await
    }
}
