//! What a service that keeps nothing begins with: tenants, origins, namespaces and tokens, from a
//! file.

use std::path::Path;
use std::sync::Arc;

use serde::Deserialize;
use verax_api::{CreateNamespace, CreateOrigin, CreateToken};
use verax_cli::Failure;
use verax_control::access::Caller;
use verax_control::{Control, ControlError};
use verax_core::Name;

/// The file, in TOML.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Bootstrap {
    #[serde(default)]
    tenants: Vec<BootstrapTenant>,
    #[serde(default)]
    tokens: Vec<BootstrapToken>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct BootstrapTenant {
    name: String,
    #[serde(default)]
    origins: Vec<CreateOrigin>,
    #[serde(default)]
    namespaces: Vec<CreateNamespace>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct BootstrapToken {
    /// The token itself, which tests know beforehand.
    secret: String,
    scopes: Vec<String>,
    #[serde(default)]
    note: String,
}

impl Bootstrap {
    /// Reads a file.
    pub(super) fn read(path: &Path) -> Result<Self, Failure> {
        let shown = path.display();
        let text = std::fs::read_to_string(path)
            .map_err(|e| Failure::usage(format!("the bootstrap file {shown}: {e}")))?;
        toml::from_str(&text).map_err(|e| {
            let why = e.to_string();
            Failure::usage(format!("the bootstrap file {shown}: {}", why.trim_end()))
        })
    }

    /// Creates everything, by the rules for administrators.
    pub(super) async fn create(
        &self,
        control: &Arc<Control>,
        administrator: &Caller,
    ) -> Result<(), Failure> {
        let about = |subject: String| {
            move |error: ControlError| {
                Failure::usage(format!("the bootstrap file, {subject}: {error}"))
            }
        };
        for tenant in &self.tenants {
            let place = &tenant.name;
            let created = control.create_tenant(administrator, place).await;
            created.map_err(about(format!("tenant {place}")))?;
            let name = Name::new(place.as_str()).map_err(|e| Failure::usage(e.to_string()))?;
            for origin in &tenant.origins {
                let created = control.create_origin(administrator, &name, origin).await;
                created.map_err(about(format!("origin {place}/{}", origin.name)))?;
            }
            for namespace in &tenant.namespaces {
                let CreateNamespace { name: own, policy } = namespace;
                let created = control.create_namespace(administrator, &name, own, policy).await;
                created.map_err(about(format!("namespace {place}/{own}")))?;
            }
        }
        for (number, token) in (1..).zip(&self.tokens) {
            let BootstrapToken { secret, scopes, note } = token;
            let request = CreateToken::new(scopes, note);
            let created = control.import_token(administrator, &request, secret).await;
            created.map_err(about(format!("token {number}")))?;
        }
        Ok(())
    }
}
