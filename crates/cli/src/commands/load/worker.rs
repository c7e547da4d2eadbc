//! Generating the load of runs: as a process of the service, or lent by another machine.

use std::os::fd::AsFd;
use std::time::Duration;

use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufReader};
use tokio::net::unix::pipe;
use verax_api::JoinedWorker;
use verax_client::{Client, ClientError, DEFAULT_WIRE};
use verax_load::ServiceAddress;

use crate::arguments::WorkerOptions;
use crate::environment::environment;
use crate::failure::Failure;
use crate::output::{Output, table};

/// How often a worker says that it is there, while no run has it.
const HERE_EVERY: Duration = Duration::from_secs(5);

/// How long it waits before it joins again, when the service was not there.
const PAUSE: Duration = Duration::from_secs(2);

/// Generates load as the conductor of a run says on standard input.
pub(crate) async fn piped() -> Result<(), Failure> {
    let foreign = |e: std::io::Error| {
        Failure::usage(format!("the service starts this itself, with pipes to talk to it: {e}"))
    };
    let input = std::io::stdin().as_fd().try_clone_to_owned().map_err(foreign)?;
    let output = std::io::stdout().as_fd().try_clone_to_owned().map_err(foreign)?;
    let orders = pipe::Receiver::from_owned_fd(input).map_err(foreign)?;
    let reports = pipe::Sender::from_owned_fd(output).map_err(foreign)?;
    verax_load::generate(orders, reports, None).await.map_err(|e| Failure::failed(e.to_string()))
}

/// Takes part in one run after another until it is interrupted.
pub(super) async fn join(
    verax: &Client,
    output: Output,
    options: &WorkerOptions,
) -> Result<(), Failure> {
    tokio::select! {
        ended = join_again(verax, output, options) => ended,
        _ = tokio::signal::ctrl_c() => Ok(()),
    }
}

async fn join_again(
    verax: &Client,
    output: Output,
    options: &WorkerOptions,
) -> Result<(), Failure> {
    let name = options.name.clone().unwrap_or_else(machine_name);
    let wire = options.wire.clone().or_else(|| environment("VERAX_WIRE_URL"));
    let mut reach = ServiceAddress {
        wire: wire.unwrap_or_else(|| DEFAULT_WIRE.to_owned()),
        ca: environment("VERAX_CA").map(Into::into),
        credentials_directory: options.credentials_directory.clone(),
        ..ServiceAddress::default()
    };
    let mut has_joined = false;
    loop {
        let stream = match verax.join_load_worker(&name).await {
            Ok(stream) => stream,
            // It was there before: it may be starting again.
            Err(ClientError::Unreachable { .. } | ClientError::TimedOut { .. }) if has_joined => {
                tokio::time::sleep(PAUSE).await;
                continue;
            }
            Err(error) => return Err(error.into()),
        };
        has_joined = true;
        // The node that answered, which may be another one than before.
        reach.url = verax.url().to_string();
        output.remark(format!("joined {} as {name}; Ctrl-C ends it", verax.url()));
        match take_part(stream, &reach).await {
            Ok(true) => output.remark("took part in a run"),
            Ok(false) => {
                output.remark("the service ended the connection");
                tokio::time::sleep(PAUSE).await;
            }
            Err(error) => {
                output.remark(format!("a run was not carried out: {error}"));
                tokio::time::sleep(PAUSE).await;
            }
        }
    }
}

/// Waits for a run and takes part in it; false if the service ended before there was one.
async fn take_part(
    stream: impl AsyncRead + AsyncWrite + Unpin,
    reach: &ServiceAddress,
) -> Result<bool, String> {
    let (orders, mut reports) = tokio::io::split(stream);
    let mut orders = BufReader::new(orders);
    let mut here = tokio::time::interval(HERE_EVERY);
    loop {
        tokio::select! {
            first = orders.fill_buf() => match first {
                Ok([]) | Err(_) => return Ok(false),
                Ok(_) => break,
            },
            _ = here.tick() => {
                if reports.write_all(b"\n").await.is_err() || reports.flush().await.is_err() {
                    return Ok(false);
                }
            }
        }
    }
    let generated = verax_load::generate(orders, reports, Some(reach)).await;
    generated.map(|()| true).map_err(|error| error.to_string())
}

/// The name of this machine.
fn machine_name() -> String {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    match name.trim() {
        "" => "a worker".to_owned(),
        name => name.to_owned(),
    }
}

/// The workers, one a row.
pub(super) fn table_of(workers: &[JoinedWorker]) -> String {
    let row = |worker: &JoinedWorker| {
        vec![
            worker.id.to_string(),
            worker.name.clone(),
            if worker.is_busy { "in a run" } else { "waits" }.to_owned(),
            worker.joined_at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
        ]
    };
    table(&[">worker", "name", "state", "joined"], workers.iter().map(row))
}
