//! Column conversions that several tables share.

use diesel::mysql::Mysql;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::result::QueryResult;
use diesel::sql_types::{BigInt, Unsigned};
use serde::Serialize;
use serde::de::DeserializeOwned;
use verax_core::Name;

use crate::error::RecordsError;

/// An INSERT that returns the identifier of its row (`INSERT … RETURNING`, which MariaDB has and
/// Diesel's MySQL dialect lacks): identifiers come from the statement that created them, never from
/// a second query.
pub(super) struct ReturningId<I>(pub(super) I);

impl<I: QueryFragment<Mysql>> QueryFragment<Mysql> for ReturningId<I> {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Mysql>) -> QueryResult<()> {
        self.0.walk_ast(out.reborrow())?;
        out.push_sql(" RETURNING `id`");
        Ok(())
    }
}

impl<I: QueryId> QueryId for ReturningId<I> {
    type QueryId = ReturningId<I::QueryId>;

    const HAS_STATIC_QUERY_ID: bool = I::HAS_STATIC_QUERY_ID;
}

impl<I> Query for ReturningId<I> {
    type SqlType = Unsigned<BigInt>;
}

pub(super) fn read_name(text: String) -> Result<Name, RecordsError> {
    Name::new(text).map_err(|e| RecordsError::Unreadable(e.to_string()))
}

pub(super) fn millis(time: std::time::Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// Reads a column of JSON.
pub(super) fn read_json<T: DeserializeOwned>(what: &str, text: &str) -> Result<T, RecordsError> {
    serde_json::from_str(text).map_err(|e| RecordsError::Unreadable(format!("{what}: {e}")))
}

/// Writes a column of JSON. Numbers, texts and lists can always be written.
pub(super) fn write_json(value: &impl Serialize) -> String {
    serde_json::to_string(value).unwrap_or_default()
}
