//! Checks the stored values of a namespace.

use serde::Serialize;
use verax_api::{CheckRequest, DamagedValue};
use verax_client::{Client, Lookup, Namespace, ReadOptions};

use super::entries::namespace;
use crate::arguments::CheckOptions;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

/// What became of a value that was read anew.
const REFILLED: &str = "refilled";

/// What a whole check found.
#[derive(Debug, Default, Serialize)]
struct Checked {
    checked: u64,
    damaged: Vec<Damaged>,
}

/// A damaged value.
#[derive(Debug, Serialize)]
struct Damaged {
    #[serde(flatten)]
    value: DamagedValue,
    /// What became of it; empty if it is still there.
    outcome: String,
}

pub(super) async fn check(
    verax: &Client,
    output: Output,
    options: CheckOptions,
) -> Result<(), Failure> {
    let namespace = namespace(verax, &options.place)?;
    let (prefix, remove) = (options.prefix.unwrap_or_default(), options.remove);
    let mut request = CheckRequest { prefix, remove, cursor: None };
    let (mut all, mut damaged) = (Checked::default(), Vec::new());
    loop {
        let step = namespace.check(&request).await?;
        all.checked += step.checked;
        damaged.extend(step.damaged);
        request.cursor = step.cursor;
        if request.cursor.is_none() {
            break;
        }
    }
    for value in damaged {
        let outcome = match () {
            () if value.removed => "removed".to_owned(),
            () if options.refill => refill(&namespace, &value.key).await,
            () => String::new(),
        };
        all.damaged.push(Damaged { value, outcome });
    }
    output.answer(&all, report)?;
    let is_left = |value: &&Damaged| value.outcome != "removed" && value.outcome != REFILLED;
    let left = all.damaged.iter().filter(is_left).count();
    match left {
        0 => Ok(()),
        // A program sees from the exit code whether something is left to do.
        _ => Err(Failure::failed(format!(
            "{left} damaged: remove them with --remove, or read them anew with --refill"
        ))),
    }
}

/// Reads a key anew from its origin, and tells the outcome.
async fn refill(namespace: &Namespace, key: &str) -> String {
    let anew = ReadOptions { refresh: true, ..ReadOptions::default() };
    match namespace.look_up(key, anew).await {
        Ok(Lookup::Found(found)) if found.stored => REFILLED.to_owned(),
        Ok(Lookup::Found(_)) => "the origin's value was not stored".to_owned(),
        Ok(Lookup::NoValue) => REFILLED.to_owned(),
        Ok(Lookup::Miss) => "the namespace has no origin to read".to_owned(),
        Err(error) => error.to_string(),
    }
}

fn report(all: &Checked) -> String {
    let checked = figures::count(all.checked);
    if all.damaged.is_empty() {
        return format!("{checked} entries checked, none is damaged");
    }
    let rows = all.damaged.iter().map(|damaged| {
        let Damaged { value, outcome } = damaged;
        let place = format!("{}:{}", value.line, value.column);
        vec![value.key.clone(), place, value.reason.clone(), outcome.clone()]
    });
    let damaged = figures::count(all.damaged.len() as u64);
    let rows = table(&["key", "line:column", "reason", ""], rows);
    format!("{rows}\n{checked} entries checked, {damaged} damaged")
}
