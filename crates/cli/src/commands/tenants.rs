//! Tenants: what they may use, and what they use.

use serde_json::json;
use verax_api::{Tenant, TenantQuotaChange};
use verax_client::Client;

use super::administration::{moment, none_or, per_second};
use crate::arguments::{TenantCommand, TenantQuotaFlags};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn tenant(
    verax: &Client,
    output: Output,
    command: TenantCommand,
) -> Result<(), Failure> {
    match command {
        TenantCommand::Create { name } => {
            let tenant = verax.create_tenant(&name).await?;
            output.answer(&tenant, |t| format!("created tenant {}", t.name))
        }
        TenantCommand::List => {
            let tenants = verax.tenants().await?;
            output.answer(&tenants, |tenants| tenant_table(tenants))
        }
        TenantCommand::Show { name } => {
            let tenant = verax.tenant(&name).await?;
            output.answer(&tenant, tenant_lines)
        }
        TenantCommand::Change { name, quota } => {
            let tenant = verax.change_tenant(&name, &change_of(quota)).await?;
            output.answer(&tenant, tenant_lines)
        }
        TenantCommand::Delete { name } => {
            verax.delete_tenant(&name).await?;
            output.answer(&json!({ "deleted": name }), |_| format!("deleted tenant {name}"))
        }
    }
}

fn change_of(flags: TenantQuotaFlags) -> TenantQuotaChange {
    TenantQuotaChange {
        reserve_bytes: flags.reserve,
        cap_bytes: flags.cap.map(|limit| limit.0),
        max_entries: flags.max_entries.map(|limit| limit.0),
        max_namespaces: flags.max_namespaces.map(|limit| limit.0),
        max_value_bytes: flags.max_value.map(|limit| limit.0),
        requests_per_second: flags.max_request_rate.map(|limit| limit.0),
        bytes_per_second: flags.max_byte_rate.map(|limit| limit.0),
        max_connections: flags.max_connections.map(|limit| limit.0),
    }
}

fn tenant_table(tenants: &[Tenant]) -> String {
    let titles =
        ["tenant", ">namespaces", ">entries", ">memory", ">reserve", ">cap", ">refused", "created"];
    let hidden = || "–".to_owned();
    let rows = tenants.iter().map(|tenant| {
        let usage = |figure: fn(&verax_api::TenantUsage) -> String| {
            tenant.usage.as_ref().map_or_else(hidden, figure)
        };
        let quota = tenant.quota.unwrap_or_default();
        vec![
            tenant.name.clone(),
            usage(|u| figures::count(u.namespaces)),
            usage(|u| figures::count(u.entries)),
            usage(|u| figures::bytes(u.bytes)),
            figures::bytes_or_none(Some(quota.reserve_bytes).filter(|bytes| *bytes > 0)),
            figures::bytes_or_none(quota.cap_bytes),
            usage(|u| figures::count(u.refused)),
            moment(tenant.created_at),
        ]
    });
    table(&titles, rows)
}

/// Use against a limit.
fn against(used: String, limit: Option<String>) -> String {
    match limit {
        Some(limit) => format!("{used} of {limit}"),
        None => used,
    }
}

fn tenant_lines(tenant: &Tenant) -> String {
    let mut lines = vec![("tenant", tenant.name.clone())];
    if let (Some(quota), Some(usage)) = (&tenant.quota, &tenant.usage) {
        let mut memory = against(figures::bytes(usage.bytes), quota.cap_bytes.map(figures::bytes));
        if usage.excess_bytes > 0 {
            memory += &format!(" (shrinking: {} to go)", figures::bytes(usage.excess_bytes));
        }
        let limit = |number: Option<u64>| number.map(figures::count);
        lines.extend([
            ("namespaces", against(figures::count(usage.namespaces), limit(quota.max_namespaces))),
            ("entries", against(figures::count(usage.entries), limit(quota.max_entries))),
            ("memory", memory),
            ("reserve", figures::bytes(quota.reserve_bytes)),
            ("reserved in namespaces", figures::bytes(usage.reserved_bytes)),
            ("cap", figures::bytes_or_none(quota.cap_bytes)),
            ("max value", figures::bytes_or_none(quota.max_value_bytes)),
            (
                "max request rate",
                none_or(quota.requests_per_second.map(|n| per_second(figures::count(n)))),
            ),
            (
                "max byte rate",
                none_or(quota.bytes_per_second.map(|n| per_second(figures::bytes(n)))),
            ),
            (
                "connections",
                against(figures::count(usage.connections), limit(quota.max_connections)),
            ),
            ("refused", figures::count(usage.refused)),
        ]);
    }
    lines.push(("created", moment(tenant.created_at)));
    let line = |(name, text): &(&str, String)| format!("{name:<23} {text}");
    lines.iter().map(line).collect::<Vec<_>>().join("\n")
}
