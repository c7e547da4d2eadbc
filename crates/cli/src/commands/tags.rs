//! `verax tag`.

use serde_json::json;
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::TagCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

pub(super) async fn tag(
    verax: &Client,
    output: Output,
    command: TagCommand,
) -> Result<(), Failure> {
    let TagCommand::Invalidate { place, tag, dry_run } = command;
    let namespace = namespace(verax, &place)?;
    if dry_run {
        let entries = namespace.count_tag(&tag).await?;
        let answer = json!({ "tag": tag, "invalidated": false, "entries": entries });
        return output.answer(&answer, |_| {
            let entries = figures::number_of(entries, "entry has", "entries have");
            format!("{entries} the tag {tag:?}; none was invalidated")
        });
    }
    namespace.invalidate_tag(&tag).await?;
    output.answer(&json!({ "tag": tag, "invalidated": true }), |_| {
        format!("invalidated every entry with the tag {tag:?}")
    })
}
