//! Checks the stored values of a namespace.

use serde::Serialize;
use verax_api::{CheckRequest, DamagedValue};
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::CheckOptions;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

/// What a whole check found.
#[derive(Debug, Default, Serialize)]
struct Checked {
    checked: u64,
    damaged: Vec<DamagedValue>,
}

pub(super) async fn check(
    verax: &Client,
    output: Output,
    options: CheckOptions,
) -> Result<(), Failure> {
    let namespace = namespace(verax, &options.place)?;
    let (prefix, remove) = (options.prefix.unwrap_or_default(), options.remove);
    let mut request = CheckRequest { prefix, remove, cursor: None };
    let mut all = Checked::default();
    loop {
        let step = namespace.check(&request).await?;
        all.checked += step.checked;
        all.damaged.extend(step.damaged);
        request.cursor = step.cursor;
        if request.cursor.is_none() {
            break;
        }
    }
    output.answer(&all, report)?;
    let left = all.damaged.iter().filter(|value| !value.removed).count();
    match left {
        0 => Ok(()),
        // A program sees from the exit code whether something is left to do.
        _ => Err(Failure::failed(format!("{left} damaged: remove them with --remove"))),
    }
}

fn report(all: &Checked) -> String {
    let checked = figures::count(all.checked);
    if all.damaged.is_empty() {
        return format!("{checked} entries checked, none is damaged");
    }
    let rows = all.damaged.iter().map(|value| {
        let place = format!("{}:{}", value.line, value.column);
        let outcome = if value.removed { "removed" } else { "" };
        vec![value.key.clone(), place, value.reason.clone(), outcome.to_owned()]
    });
    let damaged = figures::count(all.damaged.len() as u64);
    let rows = table(&["key", "line:column", "reason", ""], rows);
    format!("{rows}\n{checked} entries checked, {damaged} damaged")
}
