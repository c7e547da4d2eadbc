//! The user that a query reads the ferry data as: it may read, and nothing else.

use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use rand::distr::{Alphanumeric, SampleString};

use crate::error::DemoError;

/// The user's name, and that of the credential with its password.
pub const READER: &str = "ferry-reader";

/// Creates the user with a new password, which is returned.
///
/// # Errors
/// [`DemoError::Data`].
pub async fn create(url: &str) -> Result<String, DemoError> {
    let mut connection =
        AsyncMysqlConnection::establish(url).await.map_err(|e| DemoError::Data(e.to_string()))?;
    // Letters and digits alone, so nothing in it can end the statement.
    let password = Alphanumeric.sample_string(&mut rand::rng(), 32);
    connection
        .batch_execute(&format!(
            "CREATE OR REPLACE USER '{READER}'@'127.0.0.1' IDENTIFIED BY '{password}'; \
             GRANT SELECT ON ferry.* TO '{READER}'@'127.0.0.1'"
        ))
        .await?;
    Ok(password)
}
