//! Reads over the wire against a bare TCP echo of the same sizes.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use verax_server::WireLimits;
use verax_wire::{Frame, GetFlags, Hello, Request, VERSION, next_frame};

use crate::Options;
use crate::fixture::Fixture;
use crate::frames::{Drive, Exchange, drive, echo};
use crate::rounds::Row;

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// How many different requests are prepared; they are spread over all keys.
const PREPARED: usize = 4_096;

/// A service on the wire with `entries` entries of `bytes` each.
pub(crate) struct Served {
    pub(crate) address: SocketAddr,
    pub(crate) exchange: Exchange,
    fixture: Fixture,
}

pub(crate) fn key(number: usize) -> String {
    format!("board/harbor-{number:08}")
}

impl Served {
    pub(crate) fn start(entries: usize, bytes: usize) -> Result<Self, Failure> {
        Self::start_prepared(entries, bytes, PREPARED)
    }

    /// With as many different requests prepared.
    pub(crate) fn start_prepared(
        entries: usize,
        bytes: usize,
        prepared: usize,
    ) -> Result<Self, Failure> {
        let memory = (entries * (bytes + 256)).max(1 << 30) as u64;
        let fixture = Fixture::start(memory)?;
        for number in 0..entries {
            fixture.put(&key(number), bytes)?;
        }
        let service = Arc::clone(&fixture.service);
        let (address, exchange) = fixture.runtime.block_on(async {
            let listener = TcpListener::bind("127.0.0.1:0").await?;
            let address = listener.local_addr()?;
            tokio::spawn(verax_server::serve_wire(listener, service, None, WireLimits::default()));
            let mut hello = Vec::new();
            let greeting =
                Hello { lowest: VERSION, highest: VERSION, token: &fixture.token, client: "bench" };
            Request::Hello(greeting).encode(Frame::default(), &mut hello);
            let open = Request::Open { tenant: "ferrydesk", namespace: "boards" };
            open.encode(Frame::default(), &mut hello);
            let requests: Vec<Vec<u8>> = (0..prepared)
                .map(|n| {
                    let mut request = Vec::new();
                    let key = key(n.wrapping_mul(0x9e37_79b1) % entries);
                    let get = Request::Get { key: &key, flags: GetFlags::default() };
                    get.encode(Frame { namespace: 1, id: 1 }, &mut request);
                    request
                })
                .collect();
            let (hello_answer, reply) = sizes(address, &hello, &requests[0]).await?;
            let exchange =
                Exchange { hello: hello.into(), hello_answer, requests: requests.into(), reply };
            Ok::<_, Failure>((address, exchange))
        })?;
        Ok(Self { address, exchange, fixture })
    }

    /// A token that opens it.
    pub(crate) fn token(&self) -> &str {
        &self.fixture.token
    }
}

/// The response size of hello and open, and of one request, in bytes.
async fn sizes(
    address: SocketAddr,
    hello: &[u8],
    request: &[u8],
) -> Result<(usize, usize), Failure> {
    let mut stream = TcpStream::connect(address).await?;
    stream.write_all(hello).await?;
    let (mut received, mut sizes) = (Vec::new(), Vec::new());
    while sizes.len() < 3 {
        if let Some((_, taken)) = next_frame(&received, 128 << 20)? {
            received.drain(..taken);
            sizes.push(taken);
            if sizes.len() == 2 {
                stream.write_all(request).await?;
            }
            continue;
        }
        let mut more = [0; 4_096];
        let read = stream.read(&mut more).await?;
        if read == 0 {
            return Err("the wire closed during the hello".into());
        }
        received.extend_from_slice(&more[..read]);
    }
    Ok((sizes[0] + sizes[1], sizes[2]))
}

pub(crate) fn run(options: &Options) -> Result<Vec<Row>, Failure> {
    let served = Served::start(100_000, 128)?;
    let runtime = crate::fixture::runtime("echo")?;
    let exchange = &served.exchange;
    let bare = Exchange { hello: [].into(), hello_answer: 0, ..exchange.clone() };
    let limit = runtime.block_on(echo(exchange.requests[0].len(), exchange.reply))?;
    let wanted = |in_flight| options.in_flight.is_none_or(|only| only == in_flight);
    let goals = [(1, 0.90), (16, 0.70), (64, 0.50)];
    let rows = goals.into_iter().filter(|(n, _)| wanted(*n)).map(|(in_flight, goal)| {
        let time = Duration::from_secs_f64(options.seconds);
        let how = Drive { connections: 64, in_flight, time };
        let what = format!("wire get, 128 B, 64 connections, {in_flight} in flight");
        let rate = |driven: Result<crate::frames::Driven, Failure>| {
            driven.map_or(f64::NAN, |d| d.per_second)
        };
        Row::take(
            (&what, "a bare TCP echo of the same sizes", goal),
            options.rounds,
            || rate(drive(served.address, exchange, how)),
            || rate(drive(limit, &bare, how)),
        )
    });
    Ok(rows.collect())
}
