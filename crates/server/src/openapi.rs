//! The interface's own description (OpenAPI 3.1).

use axum::Json;
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::{Modify, OpenApi};

use crate::{
    administration, drills, entries, health, live, locks, metrics, nodes, operations, permits,
    runs, sessions, waiting,
};

#[derive(OpenApi)]
#[openapi(
    info(title = "Verax", description = "A shared cache as a service."),
    paths(
        entries::read, entries::put, entries::change_lifetime, entries::delete, entries::list, entries::clear,
        operations::batch, operations::invalidate_tag, operations::add, operations::take,
        permits::claim, permits::give_back, permits::list,
        locks::claim, locks::look, locks::renew, locks::release, locks::list,
        administration::tenants, administration::create_tenant, administration::delete_tenant,
        administration::origins, administration::create_origin, administration::change_origin, administration::delete_origin,
        administration::namespaces, administration::create_namespace, administration::namespace,
        administration::change_namespace, administration::delete_namespace,
        administration::tokens, administration::create_token, administration::revoke_token,
        administration::activity,
        sessions::start, sessions::show, sessions::end, sessions::new_link,
        live::samples, waiting::live,
        runs::start_warm, runs::recent_warm, runs::warm, runs::stop_warm, runs::watch_warm,
        runs::profiles, runs::recent_load, runs::start_load, runs::load, runs::stop_load,
        runs::watch_load,
        drills::specs, drills::recent, drills::start, drills::show, drills::watch,
        health::healthz, health::readyz, nodes::list, metrics::show, show,
    ),
    modifiers(&Bearer),
    security(("token" = []))
)]
struct Description;

struct Bearer;

impl Modify for Bearer {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let scheme = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        openapi.components.get_or_insert_default().add_security_scheme("token", scheme);
    }
}

/// Show this description.
#[utoipa::path(get, path = "/openapi.json", tag = "health", responses((status = 200)))]
pub(crate) async fn show() -> Json<utoipa::openapi::OpenApi> {
    Json(Description::openapi())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The console's types and the documentation are made from this file. `make openapi` writes it.
    #[test]
    fn the_written_description_is_current() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
        let current = Description::openapi().to_pretty_json().unwrap() + "\n";
        if std::env::var_os("VERAX_WRITE_OPENAPI").is_some() {
            std::fs::write(path, &current).unwrap();
        }
        let written = std::fs::read_to_string(path).unwrap_or_default();
        assert!(written == current, "docs/openapi.json is out of date: run `make openapi`");
    }
}
