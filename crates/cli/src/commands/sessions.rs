//! Console sessions: who is signed in, and an end to it.

use serde_json::json;
use verax_api::LiveSession;
use verax_client::Client;

use super::administration::moment;
use crate::arguments::SessionCommand;
use crate::failure::Failure;
use crate::output::{Output, table};

pub(super) async fn session(
    verax: &Client,
    output: Output,
    command: SessionCommand,
) -> Result<(), Failure> {
    match command {
        SessionCommand::List => {
            let sessions = verax.sessions().await?;
            output.answer(&sessions, |sessions| session_table(sessions))
        }
        SessionCommand::End { id } => {
            verax.end_session(id).await?;
            output.answer(&json!({ "ended": id }), |_| format!("ended session {id}"))
        }
    }
}

fn session_table(sessions: &[LiveSession]) -> String {
    if sessions.is_empty() {
        return "nobody is signed in to the console".to_owned();
    }
    let rows = sessions.iter().map(|session| {
        vec![
            session.id.to_string(),
            session.who.clone(),
            session.scopes.join(" "),
            moment(session.started_at),
            moment(session.last_used_at),
            moment(session.ends_at),
        ]
    });
    table(&[">session", "who", "scopes", "began", "last used", "ends"], rows)
}
