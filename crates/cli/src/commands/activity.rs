//! Who changed what: as a table, and as JSON lines.

use std::io::Write;

use serde_json::Value;
use verax_api::ActivityItem;
use verax_client::{ActivityQuery, Client};

use super::administration::moment;
use crate::arguments::{ActivityCommand, ActivityFlags};
use crate::failure::Failure;
use crate::output::{Output, table};

/// The most rows that the service sends in one page.
const PAGE: u32 = 500;

pub(super) async fn activity(
    verax: &Client,
    output: Output,
    command: ActivityCommand,
) -> Result<(), Failure> {
    match command {
        ActivityCommand::List { filter, limit } => {
            let items = verax.activity(&query(filter, limit)).await?.items;
            output.answer(&items, |items| activity_table(items))
        }
        ActivityCommand::Export { filter } => {
            let mut query = query(filter, PAGE);
            let mut out = std::io::stdout().lock();
            loop {
                let page = verax.activity(&query).await?;
                for item in &page.items {
                    let line = serde_json::to_string(item).map_err(std::io::Error::from)?;
                    writeln!(out, "{line}")?;
                }
                match page.cursor {
                    Some(cursor) => query.cursor = Some(cursor),
                    None => return Ok(out.flush()?),
                }
            }
        }
    }
}

fn query(flags: ActivityFlags, limit: u32) -> ActivityQuery {
    let ActivityFlags { tenant, actor, action, subject, since, until } = flags;
    ActivityQuery { tenant, actor, action, subject, since, until, cursor: None, limit }
}

fn activity_table(items: &[ActivityItem]) -> String {
    if items.is_empty() {
        return "nothing matches".to_owned();
    }
    let rows = items.iter().map(|item| {
        let (actor, action) = (item.actor.clone(), item.action.clone());
        vec![moment(item.at), actor, action, item.subject.clone(), details(&item.detail)]
    });
    table(&["time", "actor", "action", "subject", "detail"], rows)
}

/// The details in words: `jitter_percent 0 → 10`.
fn details(detail: &Value) -> String {
    let Some(members) = detail.as_object() else { return detail.to_string() };
    let text = |value: &Value| match value {
        Value::String(text) => text.clone(),
        Value::Null => "–".to_owned(),
        other => other.to_string(),
    };
    let given = members.iter().filter(|(_, value)| !value.is_null() && *value != "");
    let words = given.map(|(name, value)| match (value.get("before"), value.get("after")) {
        (Some(before), Some(after)) => format!("{name} {} → {}", text(before), text(after)),
        _ => format!("{name} {}", text(value)),
    });
    words.collect::<Vec<_>>().join(", ")
}
