//! What a conductor and its generators say to each other: a line of JSON each.

use std::path::PathBuf;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufRead, AsyncBufReadExt, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use verax_core::load::{ErrorKind, LaneTarget, LoadProfile, RecordedLane, Steering};

/// The longest line, in bytes: the keys of a run are in one.
const MAX_LINE_BYTES: u64 = 128 << 20;

/// What the conductor says.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Order {
    /// What to do, once.
    Prepare(Box<Assignment>),
    /// To begin.
    Begin,
    /// To change the load.
    Steer(Steering),
    /// To end.
    Stop,
}

/// What a generator says.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Report {
    /// It can begin.
    Ready {
        /// Its process.
        process: u32,
        /// The most requests per second that it sent to a bare responder, for each lane.
        highest_per_second: Vec<f64>,
    },
    /// A second has passed.
    Tick(Box<GeneratedTick>),
    /// All has been said.
    Done,
    /// It cannot go on.
    Failed(String),
}

/// What a generator does in a run.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Assignment {
    pub(crate) profile: LoadProfile,
    /// What each lane of the profile reads.
    pub(crate) lanes: Vec<LaneTarget>,
    pub(crate) keys: Vec<String>,
    pub(crate) service: ServiceAddress,
    /// Its number among the generators of the run, from 0, and how many they are.
    pub(crate) share: u32,
    pub(crate) of: u32,
}

/// How generators reach the service that they read.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ServiceAddress {
    /// Its address for HTTP.
    pub url: String,
    /// Its address for the wire protocol.
    pub wire: String,
    /// The certificate that it has, when it is served over TLS.
    pub certificate: Option<PathBuf>,
    /// A token that opens what the lanes read.
    pub token: String,
    /// The directory with the secrets of origins.
    pub credentials_directory: Option<PathBuf>,
}

/// What one generator did within a tick.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct GeneratedTick {
    pub(crate) number: u32,
    /// Its end since the generator began, and its length.
    pub(crate) at_seconds: f64,
    pub(crate) seconds: f64,
    pub(crate) lanes: Vec<RecordedLane>,
    pub(crate) failures: Vec<CountedFailure>,
    pub(crate) processors: Option<f64>,
    pub(crate) memory_bytes: Option<u64>,
    /// The longest delay with which a request was sent that was due, in milliseconds.
    pub(crate) late_ms: f64,
}

/// Requests of a lane that failed for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct CountedFailure {
    pub(crate) lane: usize,
    pub(crate) kind: ErrorKind,
    pub(crate) message: String,
    pub(crate) count: u64,
}

/// Sends a message.
pub(crate) async fn send(
    writer: &mut (impl AsyncWrite + Unpin),
    message: &impl Serialize,
) -> std::io::Result<()> {
    let mut line = serde_json::to_vec(message)?;
    line.push(b'\n');
    writer.write_all(&line).await?;
    writer.flush().await
}

/// Receives a message; `None` at the end of the stream.
pub(crate) async fn receive<T: DeserializeOwned>(
    reader: &mut (impl AsyncBufRead + Unpin),
) -> std::io::Result<Option<T>> {
    let mut line = Vec::new();
    let read = reader.take(MAX_LINE_BYTES).read_until(b'\n', &mut line).await?;
    if read == 0 {
        return Ok(None);
    }
    if line.last() != Some(&b'\n') {
        return Err(std::io::Error::other("a line was cut off, or is too long"));
    }
    Ok(Some(serde_json::from_slice(&line)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn messages_arrive_as_they_were_sent() {
        let (mut near, far) = tokio::io::duplex(16);
        let mut far = tokio::io::BufReader::new(far);
        let sent = tokio::spawn(async move {
            send(&mut near, &Report::Failed("a\nb".into())).await.unwrap();
            near.write_all(b"{\"Done\"").await.unwrap();
        });
        let first: Option<Report> = receive(&mut far).await.unwrap();
        assert!(matches!(first, Some(Report::Failed(reason)) if reason == "a\nb"));
        // What ends within a line is no message.
        assert!(receive::<Report>(&mut far).await.is_err());
        sent.await.unwrap();
        assert!(receive::<Report>(&mut far).await.unwrap().is_none());
    }
}
