//! Named locks.

use serde_json::json;
use verax_api::{Lock, LockEvent, LockHolder};
use verax_client::{Client, LockOptions};

use super::entries::namespace;
use super::lock_holder::{holder_text, time};
use super::under_lock::run_under;
use crate::arguments::LockCommand;
use crate::failure::Failure;
use crate::output::{Output, table};

pub(super) async fn lock(
    verax: &Client,
    output: Output,
    command: LockCommand,
) -> Result<(), Failure> {
    match command {
        LockCommand::Hold { lock, wait, lease, owner, command } => {
            let owner = Some(owner.unwrap_or_else(whoever_this_is));
            let options = LockOptions { owner, lease, wait, ..LockOptions::default() };
            run_under(verax, output, &lock, &options, &command).await
        }
        LockCommand::Show { lock } => {
            let shown = namespace(verax, &lock.place)?.lock(&lock.name).await?;
            output.answer(&shown, lock_lines)
        }
        LockCommand::List { place } => {
            let locks = namespace(verax, &place)?.locks().await?;
            output.answer(&locks, |locks| {
                let titles =
                    ["lock", "owner", ">fencing token", ">held for", ">ends in", ">queued"];
                let held = match locks.items.is_empty() {
                    true => "no lock is held".to_owned(),
                    false => table(&titles, locks.items.iter().map(row)),
                };
                let latest = locks.recent.iter().take(10).map(event_row);
                match locks.recent.is_empty() {
                    true => held,
                    false => {
                        let titles =
                            ["time (UTC)", "lock", "event", "owner", ">fencing token", ">duration"];
                        format!("{held}\n\nrecent events\n{}", table(&titles, latest))
                    }
                }
            })
        }
        LockCommand::Release { lock, fencing_token: Some(token), .. } => {
            namespace(verax, &lock.place)?.release_lock(&lock.name, token).await?;
            output.answer(&json!({ "lock": lock.name, "released": true }), |_| "released".into())
        }
        LockCommand::Release { lock, .. } => {
            let ended = namespace(verax, &lock.place)?.force_release_lock(&lock.name).await?;
            output.answer(&json!({ "lock": lock.name, "holder": ended }), |_| match &ended {
                Some(holder) => format!(
                    "forced open: {} held it with fencing token {}, and may not know that its lease has ended",
                    holder.owner, holder.fencing_token
                ),
                None => "nobody held it".into(),
            })
        }
    }
}

fn whoever_this_is() -> String {
    let given = |name| std::env::var(name).ok().filter(|text| !text.is_empty());
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let user = given("USER").or_else(|| given("LOGNAME")).unwrap_or_else(|| "somebody".into());
    format!("{user} on {}, process {}", host.trim(), std::process::id())
}

fn lock_lines(lock: &Lock) -> String {
    let Some(holder) = &lock.holder else { return format!("{} is free", lock.name) };
    let mut text = format!(
        "{} is held by {} · for {} so far",
        lock.name,
        holder_text(holder),
        time(holder.held_seconds)
    );
    for (place, waiting) in lock.queue.iter().enumerate() {
        text.push_str(&format!(
            "\n  {}. {} · waiting for {} · times out in {}",
            place + 1,
            waiting.owner,
            time(waiting.waiting_seconds),
            time(waiting.times_out_in_seconds)
        ));
    }
    let more = lock.queued.saturating_sub(lock.queue.len() as u64);
    if more > 0 {
        text.push_str(&format!("\n  … and {more} more"));
    }
    text
}

fn row(lock: &Lock) -> Vec<String> {
    let holder = lock.holder.as_ref();
    let of = |text: fn(&LockHolder) -> String| holder.map_or_else(String::new, text);
    vec![
        lock.name.clone(),
        of(|holder| holder.owner.clone()),
        of(|holder| holder.fencing_token.to_string()),
        of(|holder| time(holder.held_seconds)),
        of(|holder| time(holder.ends_in_seconds)),
        lock.queued.to_string(),
    ]
}

fn event_row(event: &LockEvent) -> Vec<String> {
    vec![
        event.at.strftime("%H:%M:%S").to_string(),
        event.name.clone(),
        event.kind.replace('-', " "),
        event.owner.clone(),
        event.fencing_token.map_or_else(|| "–".into(), |token| token.to_string()),
        time(event.lasted_seconds),
    ]
}
