//! `verax lifetime`.

use serde_json::json;
use verax_client::{Client, LifetimeOptions};

use super::entries::namespace;
use crate::arguments::{LifetimeFlags, NamespacePath};
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

pub(super) fn lifetime(flags: LifetimeFlags) -> LifetimeOptions {
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
    let NamespacePath { tenant, name } = &options.entry.place;
    let (namespace, key) = (namespace(verax, &options.entry.place)?, &options.entry.key);
    let missing = || Failure::not_found(format!("{tenant}/{name} has no entry {key:?}"));
    if !namespace.set_lifetime(key, lifetime(options.lifetime)).await? {
        return Err(missing());
    }
    let left = namespace.show(key).await?.ok_or_else(missing)?.time_left_seconds;
    output.answer(&json!({ "key": key, "time_left_seconds": left }), |_| {
        format!("changed · {}", figures::time_left(left))
    })
}
