//! `verax origin`.

use std::time::Duration;

use serde_json::json;
use verax_api::{CreateOrigin, GuardChange, Origin, OriginChange, PoolChange, SqlChange};
use verax_client::Client;

use super::administration::moment;
use crate::arguments::{NamespacePath, OriginCommand, OriginFlags};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

fn origin_table(origins: &[Origin]) -> String {
    let row = |o: &Origin| {
        let healthy = o.endpoints.iter().filter(|e| e.breaker == "closed").count();
        vec![
            format!("{}/{}", o.tenant, o.name),
            o.url.clone(),
            figures::milliseconds(o.total_timeout_ms as f64),
            format!("{healthy} of {}", o.endpoints.len()),
            o.breaker.clone(),
            format!("{} of {}", o.reads_in_flight, o.guard.max_concurrency),
            o.reads_queued.to_string(),
        ]
    };
    let titles = ["origin", "url", ">timeout", ">healthy", "circuit", ">in flight", ">queued"];
    table(&titles, origins.iter().map(row))
}

fn origin_lines(o: &Origin) -> String {
    let ms = |ms: u64| figures::milliseconds(ms as f64);
    let mut lines = vec![
        ("origin", format!("{}/{}", o.tenant, o.name)),
        ("url", o.url.clone()),
        ("connect timeout", ms(o.connect_timeout_ms)),
        ("total timeout", ms(o.total_timeout_ms)),
        ("max response", figures::bytes(o.max_response_bytes)),
        ("credential", o.credential.clone().unwrap_or_else(|| "–".into())),
    ];
    let listed = |list: &[String]| match list {
        [] => "–".to_owned(),
        list => list.join(", "),
    };
    lines.push(("open to", listed(&o.open_to)));
    if let Some(pool) = &o.pool {
        lines.push(("listings", listed(&o.listings)));
        lines.push(("balance", pool.balance.clone()));
        lines.push(("slow after", pool.slow_after_ms.map_or_else(|| "–".into(), ms)));
    }
    if let Some(sql) = &o.sql {
        // One line, whatever the query was written on.
        lines.push(("query", sql.query.split_whitespace().collect::<Vec<_>>().join(" ")));
        let most = figures::count(sql.max_rows.into());
        lines.push(("result", format!("{}, at most {most}", sql.result)));
    }
    let guard = &o.guard;
    let queue = figures::count(guard.max_queue.into());
    let failures = format!(
        "after {} consecutive failures, for {} at first",
        guard.failure_threshold,
        ms(guard.open_for_ms)
    );
    lines.extend([
        ("max concurrency", format!("{}, queue of {queue}", guard.max_concurrency)),
        ("retry budget", format!("{} % of the reads", guard.retry_budget_percent)),
        ("circuit opens", failures),
        ("circuit", o.breaker.clone()),
        ("reads", format!("{} in flight, {} queued", o.reads_in_flight, o.reads_queued)),
        ("created", moment(o.created_at)),
    ]);
    let lines: Vec<String> =
        lines.into_iter().map(|(name, text)| format!("{name:<17} {text}")).collect();
    let row = |e: &verax_api::Endpoint| {
        vec![e.url.clone(), e.breaker.clone(), e.reads_in_flight.to_string()]
    };
    let servers = table(&["server", "circuit", ">in flight"], o.endpoints.iter().map(row));
    format!("{}\n\n{servers}", lines.join("\n"))
}

/// The query, from a file where one is named.
fn query_of(text: String) -> Result<String, Failure> {
    let Some(path) = text.strip_prefix('@') else { return Ok(text) };
    std::fs::read_to_string(path)
        .map_err(|error| Failure::usage(format!("--query @{path}: {error}")))
}

/// What the flags change.
fn change_of(at: Option<String>, flags: OriginFlags) -> Result<OriginChange, Failure> {
    let ms =
        |time: Option<Duration>| time.map(|t| u64::try_from(t.as_millis()).unwrap_or(u64::MAX));
    // An empty text alone stands for an empty list.
    let list = |given: Vec<String>| {
        (!given.is_empty()).then(|| given.into_iter().filter(|text| !text.is_empty()).collect())
    };
    let pool = PoolChange {
        endpoints: list(flags.endpoints),
        balance: flags.balance,
        slow_after_ms: ms(flags.slow_after),
    };
    let sql = SqlChange {
        query: flags.query.map(query_of).transpose()?,
        result: flags.result,
        max_rows: flags.max_rows,
    };
    let guard = GuardChange {
        max_concurrency: flags.max_concurrency,
        max_queue: flags.max_queue,
        retry_budget_percent: flags.retry_budget,
        failure_threshold: flags.failure_threshold,
        open_for_ms: ms(flags.open_for),
    };
    Ok(OriginChange {
        url: at,
        connect_timeout_ms: ms(flags.connect_timeout),
        total_timeout_ms: ms(flags.total_timeout),
        max_response_bytes: flags.max_response,
        credential: flags.credential,
        pool: Some(pool).filter(|pool| *pool != PoolChange::default()),
        sql: Some(sql).filter(|sql| *sql != SqlChange::default()),
        guard: Some(guard).filter(|guard| *guard != GuardChange::default()),
        listings: list(flags.listings),
        open_to: list(flags.open_to),
    })
}

pub(super) async fn origin(
    verax: &Client,
    output: Output,
    command: OriginCommand,
) -> Result<(), Failure> {
    match command {
        OriginCommand::Create { place: NamespacePath { tenant, name }, at, flags } => {
            if at.starts_with("mysql:") && flags.query.is_none() {
                return Err(Failure::usage("an origin in a database needs --query"));
            }
            let change = change_of(None, flags)?;
            let request = CreateOrigin {
                name,
                url: at,
                connect_timeout_ms: change.connect_timeout_ms,
                total_timeout_ms: change.total_timeout_ms,
                max_response_bytes: change.max_response_bytes,
                credential: change.credential,
                pool: change.pool,
                sql: change.sql,
                guard: change.guard,
                listings: change.listings,
                open_to: change.open_to,
            };
            output.answer(&verax.create_origin(&tenant, &request).await?, origin_lines)
        }
        OriginCommand::List { tenant } => {
            output.answer(&verax.origins(&tenant).await?, |origins| origin_table(origins))
        }
        OriginCommand::Show { place: NamespacePath { tenant, name } } => {
            let origins = verax.origins(&tenant).await?;
            let origin = origins
                .into_iter()
                .find(|origin| origin.name == name)
                .ok_or_else(|| Failure::not_found(format!("there is no origin {tenant}/{name}")))?;
            output.answer(&origin, origin_lines)
        }
        OriginCommand::Change { place: NamespacePath { tenant, name }, at, flags } => {
            let change = change_of(at, flags)?;
            if change == OriginChange::default() {
                return Err(Failure::usage("nothing to change: give --at or a setting"));
            }
            output.answer(&verax.change_origin(&tenant, &name, &change).await?, origin_lines)
        }
        OriginCommand::Delete { place: NamespacePath { tenant, name } } => {
            verax.delete_origin(&tenant, &name).await?;
            let path = format!("{tenant}/{name}");
            output.answer(&json!({ "deleted": path }), |_| format!("deleted origin {path}"))
        }
    }
}
