//! `verax damage`.

use serde_json::json;
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::{DamageCommand, EntryName};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn damage(
    verax: &Client,
    output: Output,
    command: DamageCommand,
) -> Result<(), Failure> {
    match command {
        DamageCommand::List { place } => {
            let all = namespace(verax, &place)?.damage_reports().await?;
            output.answer(&all, |all| {
                let reports = figures::number_of(all.reports, "report", "reports");
                let removed = figures::count(all.removed);
                let summary = format!("{reports} since the start, {removed} removed");
                let rows = all.items.iter().map(|report| {
                    let outcome = if report.removed { "removed" } else { "" };
                    vec![
                        report.at.strftime("%Y-%m-%d %H:%M:%S").to_string(),
                        report.key.clone(),
                        report.reporter.clone(),
                        report.reason.clone(),
                        outcome.to_owned(),
                    ]
                });
                match all.items.is_empty() {
                    true => summary,
                    false => {
                        let titles = ["time (UTC)", "key", "reporter", "reason", ""];
                        format!("{}\n{summary}", table(&titles, rows))
                    }
                }
            })
        }
        DamageCommand::Report { entry: EntryName { place, key }, entity_tag, reason } => {
            let namespace = namespace(verax, &place)?;
            let tag = match entity_tag {
                Some(tag) if tag.starts_with('"') => tag,
                Some(tag) => format!("\"{tag}\""),
                None => namespace.show(&key).await?.map_or_else(String::new, |e| e.entity_tag),
            };
            let removed = !tag.is_empty() && namespace.report_damage(&key, &tag, &reason).await?;
            output.answer(&json!({ "key": key, "removed": removed }), |_| match removed {
                true => "removed; the next read refills it".to_owned(),
                false if tag.is_empty() => "there is no entry".to_owned(),
                false => "not removed: another value is there, or it was removed three times \
                    within a minute"
                    .to_owned(),
            })
        }
    }
}
