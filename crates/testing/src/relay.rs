//! The way between client and service, which has the faults.

use std::io;

use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream, ReadHalf, WriteHalf, split};
use tokio::sync::watch;
use verax_wire::next_frame;

use crate::fault::Fault;

/// How many bytes each direction holds.
pub(crate) const BUFFER: usize = 64 << 10;

/// The current fault.
pub(crate) type Faults = watch::Receiver<Option<Fault>>;

/// Relays between the stream of a client and that of the service, until either ends or the service
/// is unreachable.
pub(crate) async fn relay(client: DuplexStream, service: DuplexStream, faults: Faults) {
    let (from_client, to_client) = split(client);
    let (from_service, to_service) = split(service);
    let mut unreachable = faults.clone();
    tokio::select! {
        _ = requests(from_client, to_service, faults.clone()) => {}
        _ = replies(from_service, to_client, faults) => {}
        _ = unreachable.wait_for(|fault| *fault == Some(Fault::Unreachable)) => {}
    }
}

/// Waits while nothing arrives.
async fn heard(faults: &mut Faults) -> Option<Fault> {
    match faults.wait_for(|fault| *fault != Some(Fault::Silent)).await {
        Ok(fault) => *fault,
        Err(_) => None,
    }
}

async fn requests(
    mut from: ReadHalf<DuplexStream>,
    mut to: WriteHalf<DuplexStream>,
    mut faults: Faults,
) -> io::Result<()> {
    let mut received = Vec::new();
    loop {
        if from.read_buf(&mut received).await? == 0 {
            return Ok(());
        }
        let fault = heard(&mut faults).await;
        while let Ok(Some((frame, taken))) = next_frame(&received, u32::MAX) {
            if !fault.is_some_and(|fault| fault.loses(frame.head.kind)) {
                to.write_all(&received[..taken]).await?;
            }
            received.drain(..taken);
        }
    }
}

async fn replies(
    mut from: ReadHalf<DuplexStream>,
    mut to: WriteHalf<DuplexStream>,
    mut faults: Faults,
) -> io::Result<()> {
    let mut received = Vec::new();
    loop {
        if from.read_buf(&mut received).await? == 0 {
            return Ok(());
        }
        if let Some(Fault::Slow(time)) = heard(&mut faults).await {
            tokio::time::sleep(time).await;
            // It may have become silent meanwhile.
            heard(&mut faults).await;
        }
        to.write_all(&received).await?;
        received.clear();
    }
}
