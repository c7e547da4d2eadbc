//! Bare responders, which answer every request with the same bytes: what a generator is calibrated
//! against. They run in a thread of their own.

use std::net::SocketAddr;
use std::thread::JoinHandle;
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;
use verax_core::source::Source;
use verax_wire::{Frame, Nodes, Reply, Request, VERSION, Value, Welcome, next_frame};

/// The value that is always answered.
const VALUE: [u8; 256] = [b'~'; 256];

/// The largest request that is understood.
const MAX_REQUEST_BYTES: u32 = 64 << 10;

/// What a responder speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Speaks {
    Http,
    Wire,
}

/// A responder, which ends when this is dropped.
#[derive(Debug)]
pub(super) struct Responder {
    pub(super) address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Responder {
    /// Starts one on a free port of loopback.
    ///
    /// # Errors
    /// The system's.
    pub(super) fn start(speaks: Speaks) -> std::io::Result<Self> {
        let listener = std::net::TcpListener::bind("127.0.0.1:0")?;
        listener.set_nonblocking(true)?;
        let address = listener.local_addr()?;
        let (stop, stopped) = oneshot::channel();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let thread = std::thread::Builder::new().name("responder".into()).spawn(move || {
            runtime.block_on(async {
                tokio::select! {
                    () = accept(listener, speaks) => {}
                    _ = stopped => {}
                }
            });
        })?;
        Ok(Self { address, stop: Some(stop), thread: Some(thread) })
    }
}

impl Drop for Responder {
    fn drop(&mut self) {
        self.stop.take();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

async fn accept(listener: std::net::TcpListener, speaks: Speaks) {
    let Ok(listener) = TcpListener::from_std(listener) else { return };
    while let Ok((stream, _)) = listener.accept().await {
        let _ = stream.set_nodelay(true);
        tokio::spawn(async move {
            // A connection that breaks ends.
            let _ = match speaks {
                Speaks::Http => http(stream).await,
                Speaks::Wire => wire(stream).await,
            };
        });
    }
}

/// Answers requests without bodies, which is what a generator's reads are.
async fn http(mut stream: TcpStream) -> std::io::Result<()> {
    let head = format!(
        "HTTP/1.1 200 OK\r\ncontent-type: application/octet-stream\r\n\
         cache-status: verax; hit; ttl=60\r\ncontent-length: {}\r\n\r\n",
        VALUE.len()
    );
    let answer = [head.as_bytes(), &VALUE].concat();
    let (mut received, mut out) = (Vec::new(), Vec::new());
    loop {
        let mut rest = &received[..];
        while let Some(end) = rest.windows(4).position(|four| four == b"\r\n\r\n") {
            rest = &rest[end + 4..];
            out.extend_from_slice(&answer);
        }
        let left = rest.len();
        received.drain(..received.len() - left);
        stream.write_all(&out).await?;
        out.clear();
        if received.len() > MAX_REQUEST_BYTES as usize || stream.read_buf(&mut received).await? == 0
        {
            return Ok(());
        }
    }
}

async fn wire(mut stream: TcpStream) -> std::io::Result<()> {
    let (mut received, mut out) = (Vec::new(), Vec::new());
    loop {
        let mut taken = 0;
        while let Some((frame, size)) =
            next_frame(&received[taken..], MAX_REQUEST_BYTES).map_err(std::io::Error::other)?
        {
            taken += size;
            let request = Request::decode(frame.head, frame.body).map_err(std::io::Error::other)?;
            let about = Frame { namespace: frame.head.namespace, id: frame.head.id };
            if let Some((reply, about)) = reply(&request, about) {
                reply.encode(about, &mut out);
            }
        }
        received.drain(..taken);
        stream.write_all(&out).await?;
        out.clear();
        if stream.read_buf(&mut received).await? == 0 {
            return Ok(());
        }
    }
}

/// The reply to what a client sends that reads; `None` to anything else, which ends in a timeout.
fn reply(request: &Request<'_>, about: Frame) -> Option<(Reply<'static>, Frame)> {
    let idle = u32::try_from(Duration::from_secs(60).as_millis()).unwrap_or(u32::MAX);
    Some(match request {
        Request::Hello(_) => {
            let welcome = Welcome {
                version: VERSION,
                max_body_bytes: MAX_REQUEST_BYTES,
                max_in_flight: 4_096,
                idle_timeout: idle,
                topology: 0,
                nodes: Nodes::of(&[""]),
            };
            (Reply::Welcome(welcome), about)
        }
        Request::Open { .. } => {
            let opened =
                Reply::Opened { may_read: true, may_write: false, max_value_bytes: 1 << 20 };
            (opened, Frame { namespace: 1, id: about.id })
        }
        Request::Ping => (Reply::Pong, about),
        Request::Get { .. } => {
            let value = Value {
                source: Source::Hit,
                due: false,
                time_left: 60_000,
                details: None,
                revision: None,
                value: &VALUE,
            };
            (Reply::Value(value), about)
        }
        _ => return None,
    })
}
