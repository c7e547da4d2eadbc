//! What can be done beyond reading and storing one value.

use std::io::Read;
use std::time::Duration;

use serde_json::{Value, json};
use verax_api::{BatchOperation, BatchResult};
use verax_client::{Client, LifetimeOptions, Rate, Taken, stable_key};

use super::entries::namespace;
use crate::arguments::{
    AllowanceCommand, BatchOptions, CounterCommand, KeyOptions, LifetimeFlags, Place, TagCommand,
};
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

/// How many operations go into one call.
const AT_ONCE: usize = 1_000;

fn lifetime(flags: LifetimeFlags) -> LifetimeOptions {
    LifetimeOptions {
        max_age: flags.max_age,
        stale_while_revalidate: flags.stale_while_revalidate,
        stale_if_error: flags.stale_if_error,
    }
}

pub(super) async fn change_lifetime(
    verax: &Client,
    output: Output,
    options: crate::arguments::LifetimeOptions,
) -> Result<(), Failure> {
    let Place { tenant, name } = &options.entry.place;
    let (namespace, key) = (namespace(verax, &options.entry.place)?, &options.entry.key);
    let missing =
        || Failure::not_found(format!("{tenant}/{name} has no entry {key:?} at the moment"));
    if !namespace.set_lifetime(key, lifetime(options.lifetime)).await? {
        return Err(missing());
    }
    let left = namespace.show(key).await?.ok_or_else(missing)?.time_left_seconds;
    output.answer(&json!({ "key": key, "time_left_seconds": left }), |_| {
        format!("changed · {}", figures::time_left(left))
    })
}

pub(super) async fn tag(
    verax: &Client,
    output: Output,
    command: TagCommand,
) -> Result<(), Failure> {
    let TagCommand::Invalidate { place, tag } = command;
    namespace(verax, &place)?.invalidate_tag(&tag).await?;
    output.answer(&json!({ "tag": tag, "invalidated": true }), |_| {
        format!("invalidated: no entry stored with the tag {tag:?} before is served any more")
    })
}

pub(super) async fn counter(
    verax: &Client,
    output: Output,
    command: CounterCommand,
) -> Result<(), Failure> {
    let CounterCommand::Add { entry, amount, lifetime: flags } = command;
    let counter = namespace(verax, &entry.place)?.add(&entry.key, amount, lifetime(flags)).await?;
    let answer = json!({ "key": entry.key, "value": counter.value, "created": counter.created });
    output.answer(&answer, |_| {
        let how = if counter.created { "created" } else { "counted on" };
        format!("{} · {how}", counter.value)
    })
}

pub(super) async fn allowance(
    verax: &Client,
    output: Output,
    command: AllowanceCommand,
) -> Result<(), Failure> {
    let AllowanceCommand::Take { entry, amount, rate, period, burst } = command;
    let limit = Rate { count: rate, period, burst: burst.unwrap_or(rate) };
    match namespace(verax, &entry.place)?.take(&entry.key, amount, limit).await? {
        Taken::Allowed { left } => output
            .answer(&json!({ "key": entry.key, "allowed": true, "left": left }), |_| {
                format!("allowed · {} left", figures::count(left))
            }),
        Taken::Later { retry_after } => {
            let seconds = retry_after.as_secs_f64();
            if output.json {
                output.json(
                    &json!({ "key": entry.key, "allowed": false, "retry_after_seconds": seconds }),
                )?;
            }
            // Rounded up: who comes back a moment too early has asked for nothing.
            let whole = Duration::from_secs(seconds.ceil() as u64);
            let time = figures::time(if seconds < 1.0 { retry_after } else { whole });
            Err(Failure::refused(format!("not allowed: nothing was taken; come back in {time}")))
        }
    }
}

fn operations(text: &str) -> Result<Vec<BatchOperation>, Failure> {
    let lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    lines
        .map(|(number, line)| {
            serde_json::from_str(line).map_err(|e| {
                Failure::usage(format!(
                    "line {} is not an operation: {e}\n  write one as {{\"get\":{{\"key\":\"a\"}}}}, {{\"put\":{{\"key\":\"a\",\"text\":\"…\"}}}} or {{\"delete\":{{\"key\":\"a\"}}}}",
                    number + 1
                ))
            })
        })
        .collect()
}

pub(super) async fn batch(
    verax: &Client,
    output: Output,
    options: BatchOptions,
) -> Result<(), Failure> {
    let text = match options.file.as_deref().filter(|path| *path != std::path::Path::new("-")) {
        Some(path) => std::fs::read_to_string(path)
            .map_err(|e| Failure::usage(format!("{} cannot be read: {e}", path.display())))?,
        None => {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text)?;
            text
        }
    };
    // All of it is read before any of it is done, so that a mistake in line 900 does nothing.
    let operations = operations(&text)?;
    let namespace = namespace(verax, &options.place)?;
    let mut counts = [0u64; 5];
    for part in operations.chunks(AT_ONCE) {
        for result in namespace.batch(part.to_vec()).await? {
            let kind = match &result {
                BatchResult::Value(_) => 0,
                BatchResult::Miss {} => 1,
                BatchResult::Stored { .. } => 2,
                BatchResult::Deleted { .. } => 3,
                BatchResult::Failed(_) => 4,
            };
            counts[kind] += 1;
            let line =
                serde_json::to_string(&result).map_err(|e| Failure::failed(e.to_string()))?;
            output.line(line)?;
        }
    }
    let [values, misses, stored, deleted, failed] = counts.map(figures::count);
    output.remark(format!(
        "{values} found · {misses} missing · {stored} stored · {deleted} deleted · {failed} failed"
    ));
    match counts[4] {
        0 => Ok(()),
        some => Err(Failure::failed(format!("{some} operations failed; their results say why"))),
    }
}

/// Reads criteria: one JSON value, or pairs whose values are JSON where they can be and text where
/// they cannot.
fn criteria(texts: &[String]) -> Result<Value, Failure> {
    if let [text] = texts
        && let Ok(value) = serde_json::from_str(text)
    {
        return Ok(value);
    }
    let mut criteria = serde_json::Map::new();
    for text in texts {
        let (name, value) = text.split_once('=').ok_or_else(|| {
            Failure::usage(format!("{text:?} is neither a JSON value nor NAME=VALUE"))
        })?;
        let value = serde_json::from_str(value).unwrap_or_else(|_| Value::String(value.to_owned()));
        if criteria.insert(name.to_owned(), value).is_some() {
            return Err(Failure::usage(format!("{name} is given twice")));
        }
    }
    Ok(Value::Object(criteria))
}

pub(super) fn key(output: Output, options: &KeyOptions) -> Result<(), Failure> {
    let criteria = criteria(&options.criteria)?;
    let key = stable_key(&options.prefix, &criteria)?;
    output.answer(&json!({ "key": key, "criteria": criteria }), |_| key.clone())
}
