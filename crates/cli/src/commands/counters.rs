//! `verax counter`.

use serde_json::json;
use verax_client::Client;

use super::entries::namespace;
use super::lifetimes::lifetime;
use crate::arguments::CounterCommand;
use crate::failure::Failure;
use crate::output::Output;

pub(super) async fn counter(
    verax: &Client,
    output: Output,
    command: CounterCommand,
) -> Result<(), Failure> {
    let CounterCommand::Add { entry, amount, lifetime: flags } = command;
    let counter = namespace(verax, &entry.place)?.add(&entry.key, amount, lifetime(flags)).await?;
    let answer = json!({ "key": entry.key, "value": counter.value, "created": counter.created });
    output.answer(&answer, |_| {
        let how = if counter.created { "created" } else { "added" };
        format!("{} · {how}", counter.value)
    })
}
