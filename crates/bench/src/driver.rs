//! A cheap HTTP/1.1 client: the same request repeatedly, one in flight on each connection, on a
//! thread and runtime of its own.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::task::JoinSet;

/// Sends `request` over `connections` connections for a time; returns answers per second.
///
/// # Errors
/// If a connection fails, or a response is not 200.
pub(crate) fn drive(
    address: SocketAddr,
    request: Arc<[u8]>,
    connections: usize,
    time: Duration,
) -> Result<f64, String> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|e| e.to_string())?;
    runtime.block_on(async {
        let answers = Arc::new(AtomicU64::new(0));
        let started = Instant::now();
        let mut clients = JoinSet::new();
        for _ in 0..connections {
            let (request, answers) = (Arc::clone(&request), Arc::clone(&answers));
            clients.spawn(async move { ask(address, &request, &answers, started + time).await });
        }
        while let Some(ended) = clients.join_next().await {
            ended.map_err(|e| e.to_string())??;
        }
        Ok(answers.load(Ordering::Relaxed) as f64 / started.elapsed().as_secs_f64())
    })
}

async fn ask(
    address: SocketAddr,
    request: &[u8],
    answers: &AtomicU64,
    until: Instant,
) -> Result<(), String> {
    let mut stream = TcpStream::connect(address).await.map_err(|e| e.to_string())?;
    stream.set_nodelay(true).map_err(|e| e.to_string())?;
    let mut buffer = vec![0; 16 * 1024];
    while Instant::now() < until {
        stream.write_all(request).await.map_err(|e| e.to_string())?;
        let mut filled = 0;
        loop {
            let read = stream.read(&mut buffer[filled..]).await.map_err(|e| e.to_string())?;
            filled += read;
            match whole(&buffer[..filled]) {
                Some(true) => break,
                Some(false) if read > 0 => {}
                _ => return Err(String::from_utf8_lossy(&buffer[..filled]).into_owned()),
            }
        }
        answers.fetch_add(1, Ordering::Relaxed);
    }
    Ok(())
}

/// Whether a response is complete; `None` if it is not a 200.
fn whole(answer: &[u8]) -> Option<bool> {
    if answer.len() < 12 {
        return Some(false);
    }
    if &answer[..12] != b"HTTP/1.1 200" {
        return None;
    }
    let Some(head) = answer.windows(4).position(|w| w == b"\r\n\r\n") else { return Some(false) };
    let text = std::str::from_utf8(&answer[..head]).ok()?;
    let length = text.lines().find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.eq_ignore_ascii_case("content-length").then(|| value.trim().parse::<usize>().ok())?
    });
    Some(answer.len() >= head + 4 + length.unwrap_or(0))
}
