//! The database user of origins that are queries: it may only read.

use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use rand::distr::{Alphanumeric, SampleString};

use crate::error::DemoError;

/// The name of the user, and of the credential with its password.
pub const READER: &str = "ferry-reader";

/// Creates the user with a new password, which is returned.
///
/// # Errors
/// [`DemoError::Data`].
pub async fn create(url: &str) -> Result<String, DemoError> {
    let mut connection =
        AsyncMysqlConnection::establish(url).await.map_err(|e| DemoError::Data(e.to_string()))?;
    // Only letters and digits, so it cannot end the statement.
    let password = Alphanumeric.sample_string(&mut rand::rng(), 32);
    connection
        .batch_execute(&format!(
            "CREATE OR REPLACE USER '{READER}'@'127.0.0.1' IDENTIFIED BY '{password}'; \
             GRANT SELECT ON ferry.* TO '{READER}'@'127.0.0.1'"
        ))
        .await?;
    Ok(password)
}
