//! A driver for wire connections and for the echo they are compared with: the same bytes, sizes,
//! and number in flight.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use verax_core::meter::{LatencyCounts, LatencyMeter};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// The traffic of a connection.
#[derive(Debug, Clone)]
pub(crate) struct Exchange {
    /// The first request, and the size of its response in bytes.
    pub(crate) hello: Arc<[u8]>,
    pub(crate) hello_answer: usize,
    /// The requests to draw from in turn; all of one length.
    pub(crate) requests: Arc<[Vec<u8>]>,
    /// The size of every reply.
    pub(crate) reply: usize,
}

/// How an exchange is driven.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Drive {
    pub(crate) connections: usize,
    pub(crate) in_flight: usize,
    pub(crate) time: Duration,
}

/// The result of a drive.
#[derive(Debug)]
pub(crate) struct Driven {
    pub(crate) per_second: f64,
    /// From sending a group of requests to its last reply.
    pub(crate) latency: LatencyCounts,
}

/// Sends requests over several connections for a time, each time as many as are in flight, and
/// waits for their replies before it sends the next.
pub(crate) fn drive(
    address: SocketAddr,
    exchange: &Exchange,
    drive: Drive,
) -> Result<Driven, Failure> {
    let runtime = crate::fixture::runtime("driver")?;
    let (answers, latency) = (Arc::new(AtomicU64::new(0)), Arc::new(LatencyMeter::default()));
    runtime.block_on(async {
        let mut clients = tokio::task::JoinSet::new();
        let barrier = Arc::new(tokio::sync::Barrier::new(drive.connections + 1));
        for number in 0..drive.connections {
            let (exchange, barrier) = (exchange.clone(), Arc::clone(&barrier));
            let (answers, latency) = (Arc::clone(&answers), Arc::clone(&latency));
            clients.spawn(async move {
                let stream = connect(address, &exchange).await;
                barrier.wait().await;
                let until = Instant::now() + drive.time;
                ask(stream?, &exchange, number, drive, until, &answers, &latency).await
            });
        }
        barrier.wait().await;
        let started = Instant::now();
        while let Some(ended) = clients.join_next().await {
            ended??;
        }
        let per_second = answers.load(Ordering::Relaxed) as f64 / started.elapsed().as_secs_f64();
        Ok(Driven { per_second, latency: latency.counts() })
    })
}

async fn connect(address: SocketAddr, exchange: &Exchange) -> Result<TcpStream, Failure> {
    let mut stream = TcpStream::connect(address).await?;
    stream.set_nodelay(true)?;
    stream.write_all(&exchange.hello).await?;
    let mut answer = vec![0; exchange.hello_answer];
    stream.read_exact(&mut answer).await?;
    Ok(stream)
}

async fn ask(
    mut stream: TcpStream,
    exchange: &Exchange,
    number: usize,
    how: Drive,
    until: Instant,
    answers: &AtomicU64,
    latency: &LatencyMeter,
) -> Result<(), Failure> {
    let Drive { connections, in_flight, time: _ } = how;
    let mut buffer = vec![0; (exchange.reply * in_flight).max(1)];
    // Groups are built in advance, so that building requests is not measured. All connections
    // together send every request there is.
    let count = (exchange.requests.len() / (connections * in_flight)).max(64);
    let groups: Vec<Vec<u8>> = (0..count)
        .map(|group| {
            let first = (number * count + group) * in_flight;
            let each =
                (0..in_flight).map(|n| &exchange.requests[(first + n) % exchange.requests.len()]);
            each.flatten().copied().collect()
        })
        .collect();
    let mut sent = 0;
    while Instant::now() < until {
        let started = Instant::now();
        stream.write_all(&groups[sent % groups.len()]).await?;
        stream.read_exact(&mut buffer).await?;
        latency.record(started.elapsed());
        sent += 1;
    }
    answers.fetch_add((sent * in_flight) as u64, Ordering::Relaxed);
    Ok(())
}

/// The lower bound for the same bytes: a reply of the right size for each complete request, all in
/// one write.
pub(crate) async fn echo(request: usize, reply: usize) -> std::io::Result<SocketAddr> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let _ = stream.set_nodelay(true);
                let mut received = vec![0; 64 << 10];
                let (mut filled, mut replies) = (0, Vec::new());
                loop {
                    match stream.read(&mut received[filled..]).await {
                        Ok(0) | Err(_) => return,
                        Ok(read) => filled += read,
                    }
                    let whole = filled / request;
                    replies.resize(whole * reply, 7);
                    filled -= whole * request;
                    received.copy_within(whole * request..whole * request + filled, 0);
                    if stream.write_all(&replies).await.is_err() {
                        return;
                    }
                }
            });
        }
    });
    Ok(address)
}
