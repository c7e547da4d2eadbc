//! What a conductor and its generators say to each other: a line of JSON each.

use std::path::PathBuf;
use std::time::Duration;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufRead, AsyncBufReadExt, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use verax_core::load::{
    ErrorKind, InvalidRecording, LaneTarget, LoadProfile, RecordedLane, RecordedRead,
    RecordedReads, Steering,
};

/// The longest line with an order, in bytes: the keys of a run are in one.
pub(crate) const MAX_ORDER_BYTES: u64 = 128 << 20;

/// The longest line with a report, in bytes: it has a second of every lane.
pub(crate) const MAX_REPORT_BYTES: u64 = 4 << 20;

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
    /// The traffic that is replayed, if any is.
    pub(crate) recorded: Option<PackedReads>,
    /// Its number among the generators of the run, from 0, and how many they are.
    pub(crate) share: u32,
    pub(crate) of: u32,
}

/// Recorded traffic, as a message has it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct PackedReads {
    pub(crate) seconds: f64,
    pub(crate) reads: String,
}

impl PackedReads {
    pub(crate) fn of(recorded: &RecordedReads) -> Self {
        let seconds = recorded.length.as_secs_f64();
        Self { seconds, reads: RecordedRead::pack(&recorded.reads) }
    }

    pub(crate) fn unpack(&self) -> Result<RecordedReads, InvalidRecording> {
        let length = Duration::try_from_secs_f64(self.seconds).map_err(|_| InvalidRecording)?;
        Ok(RecordedReads { length, reads: RecordedRead::unpack(&self.reads)? })
    }
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
    /// The certificates of the authorities that vouch for it, in place of the system's.
    #[serde(default)]
    pub ca: Option<PathBuf>,
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
    /// In an open loop: the requests of each lane that were due at the tick before and have not
    /// ended.
    pub(crate) unanswered: Vec<u64>,
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

/// Receives messages. A call that is given up loses nothing: what has arrived of a line stays here.
#[derive(Debug)]
pub(crate) struct Receiver<R> {
    reader: R,
    line: Vec<u8>,
    most_bytes: u64,
}

impl<R: AsyncBufRead + Unpin> Receiver<R> {
    /// Lines are at most so long.
    pub(crate) fn new(reader: R, most_bytes: u64) -> Self {
        Self { reader, line: Vec::new(), most_bytes }
    }

    /// The next message; `None` at the end of the stream.
    pub(crate) async fn next<T: DeserializeOwned>(&mut self) -> std::io::Result<Option<T>> {
        loop {
            let room = self.most_bytes.saturating_sub(self.line.len() as u64);
            (&mut self.reader).take(room).read_until(b'\n', &mut self.line).await?;
            // A line without a message says that its sender is there.
            if self.line != *b"\n" {
                break;
            }
            self.line.clear();
        }
        if self.line.is_empty() {
            return Ok(None);
        }
        if self.line.last() != Some(&b'\n') {
            return Err(std::io::Error::other("a line was cut off, or is too long"));
        }
        let message = serde_json::from_slice(&self.line);
        self.line.clear();
        Ok(Some(message?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn messages_arrive_as_they_were_sent() {
        let (mut near, far) = tokio::io::duplex(16);
        let mut far = Receiver::new(tokio::io::BufReader::new(far), 64);
        let sent = tokio::spawn(async move {
            send(&mut near, &Report::Failed("a\nb".into())).await.unwrap();
            near.write_all(b"\n\n{\"Done\"").await.unwrap();
        });
        let first: Option<Report> = far.next().await.unwrap();
        assert!(matches!(first, Some(Report::Failed(reason)) if reason == "a\nb"));
        // What ends within a line is no message.
        assert!(far.next::<Report>().await.is_err());
        sent.await.unwrap();
    }

    #[rstest::rstest]
    #[case::as_long_as_it_may_be(12, true)]
    #[case::longer(11, false)]
    #[tokio::test]
    async fn a_line_is_read_up_to_its_bound(#[case] bound: u64, #[case] is_read: bool) {
        // With its end, the line has 12 bytes.
        let mut far = Receiver::new(&b"[1,2,3,4,5]\n"[..], bound);
        assert_eq!(far.next::<Vec<u8>>().await.is_ok(), is_read);
    }

    #[tokio::test]
    async fn a_line_that_has_arrived_in_part_is_not_lost() {
        let (mut near, far) = tokio::io::duplex(64);
        let mut far = Receiver::new(tokio::io::BufReader::new(far), 64);
        near.write_all(b"{\"Failed\":").await.unwrap();
        {
            // Given up after it took what there was.
            let mut next = std::pin::pin!(far.next::<Report>());
            let polled = polled_once(next.as_mut()).await;
            assert!(polled.is_pending());
        }
        near.write_all(b"\"late\"}\n").await.unwrap();
        let message: Option<Report> = far.next().await.unwrap();
        assert!(matches!(message, Some(Report::Failed(reason)) if reason == "late"));
        drop(near);
        assert!(far.next::<Report>().await.unwrap().is_none());
    }

    /// Polls a future once.
    async fn polled_once<F: Future>(
        mut future: std::pin::Pin<&mut F>,
    ) -> std::task::Poll<F::Output> {
        std::future::poll_fn(|context| std::task::Poll::Ready(future.as_mut().poll(context))).await
    }
}
