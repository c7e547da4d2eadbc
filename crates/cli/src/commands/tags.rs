//! `verax tag`.

use serde_json::json;
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::TagCommand;
use crate::failure::Failure;
use crate::output::Output;

pub(super) async fn tag(
    verax: &Client,
    output: Output,
    command: TagCommand,
) -> Result<(), Failure> {
    let TagCommand::Invalidate { place, tag } = command;
    namespace(verax, &place)?.invalidate_tag(&tag).await?;
    output.answer(&json!({ "tag": tag, "invalidated": true }), |_| {
        format!("invalidated every entry with the tag {tag:?}")
    })
}
