//! Reports of values that clients cannot decode.

use std::sync::Arc;

use axum::extract::State;
use verax_api::{DamageOutcome, DamageReport, DamageReports, ReportDamage, moment};
use verax_core::{EntityTag, Key};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, NamespacePath};
use crate::http::limits::MAX_LISTED;

/// Report a value that cannot be decoded, which removes its entry.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/damage-reports", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path)), request_body = ReportDamage,
    responses((status = 200, body = DamageOutcome), (status = 422, body = verax_api::Problem))
))]
pub(crate) async fn report(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    Json(report): Json<ReportDamage>,
) -> Result<axum::Json<DamageOutcome>> {
    let deleter = service.control().open_deleter(&caller, &tenant, &namespace)?;
    let key = Key::new(report.key).map_err(Failure::invalid)?;
    let entity_tag = EntityTag::parse(&report.entity_tag)
        .ok_or_else(|| Failure::invalid("entity_tag is not one that ETag gave, with its quotes"))?;
    let name = caller.display_name();
    let removed = deleter.report_damage(&key, entity_tag, &report.reason, name)?;
    Ok(axum::Json(DamageOutcome { removed }))
}

/// List the latest reports of values that clients could not decode, newest first.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/damage-reports", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 200, body = DamageReports))
))]
pub(crate) async fn reports(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
) -> Result<axum::Json<DamageReports>> {
    let reader = service.control().open_reader(&caller, &tenant, &namespace)?;
    let (records, reports, removed) = service.control().damage_reports(&reader);
    let items = records.into_iter().take(MAX_LISTED).map(|record| DamageReport {
        at: moment(record.at),
        key: record.key.to_string(),
        reason: record.reason,
        reporter: record.reporter,
        removed: record.removed,
    });
    Ok(axum::Json(DamageReports { reports, removed, items: items.collect() }))
}
