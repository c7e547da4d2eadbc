//! The demo's warm plans and schedules.

use verax_api::DefinitionFile;
use verax_client::{Client, ClientError, DefinitionCondition};

use crate::error::DemoError;

/// The file that people import, too.
const PLANS: &str = include_str!("../plans.toml");

/// Creates the plans and schedules that are missing.
///
/// # Errors
/// [`DemoError`].
pub async fn create(verax: &Client) -> Result<(), DemoError> {
    let file: DefinitionFile =
        toml::from_str(PLANS).map_err(|e| DemoError::Plans(e.to_string()))?;
    let names = |path: &str| {
        let (tenant, name) = DefinitionFile::split(path).map_err(DemoError::Plans)?;
        Ok::<_, DemoError>((tenant.to_owned(), name.to_owned()))
    };
    let absent = DefinitionCondition::IfAbsent;
    for (path, spec) in &file.plans {
        let (tenant, name) = names(path)?;
        there(verax.put_warm_plan(&tenant, &name, spec, &absent).await)?;
    }
    for (path, spec) in &file.schedules {
        let (tenant, name) = names(path)?;
        there(verax.put_schedule(&tenant, &name, spec, &absent).await)?;
    }
    Ok(())
}

/// One that is there already stays as it is.
fn there<T>(result: Result<T, ClientError>) -> Result<(), ClientError> {
    match result {
        Err(error) if error.problem() == Some("condition-failed") => Ok(()),
        other => other.map(drop),
    }
}
