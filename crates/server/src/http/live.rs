//! Live streams: server-sent events.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::{Stream, StreamExt, stream};
use serde::Serialize;
use tokio::sync::watch;
use verax_control::runs::Run;
use verax_service::Service;

use crate::failure::Failure;
use crate::http::authenticated::Authenticated;

pub(crate) type Events = Result<Event, Infallible>;

/// How often an idle stream sends a keep-alive.
const ALIVE_EVERY: Duration = Duration::from_secs(15);

fn event(name: &str, data: &impl Serialize) -> Events {
    Ok(Event::default().event(name).json_data(data).unwrap_or_default())
}

/// Ends a stream when the service stops, so that a graceful shutdown can finish.
pub(crate) fn until_stop(
    mut stopping: watch::Receiver<bool>,
    events: impl Stream<Item = Events> + Send,
) -> impl Stream<Item = Events> + Send {
    events.take_until(async move {
        let _ = stopping.wait_for(|stopping| *stopping).await;
    })
}

/// Stream live samples: the last two minutes as `history`, then a `sample` each second.
#[cfg_attr(test, utoipa::path(get, path = "/v1/live", tag = "live",
    responses((status = 200, description = "server-sent events", content_type = "text/event-stream", body = verax_api::LiveSample))))]
pub(crate) async fn samples(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
) -> Result<Sse<impl Stream<Item = Events> + Send>, Failure> {
    let open = caller.open_stream()?;
    let (history, view) = service.control().watch(&caller);
    let first = stream::once(std::future::ready(event("history", &history)));
    let later = stream::unfold((view, open), async |(mut view, open)| {
        let sample = view.next().await?;
        Some((event("sample", &sample), (view, open)))
    });
    let events = until_stop(service.stopping(), first.chain(later));
    Ok(Sse::new(events).keep_alive(KeepAlive::new().interval(ALIVE_EVERY)))
}

/// Streams a run: its current state, then each change with the samples that are new, the last with
/// the name `end`.
pub(crate) fn run_stream<R: Run>(
    stopping: watch::Receiver<bool>,
    receiver: watch::Receiver<R>,
) -> Sse<impl Stream<Item = Events> + Send> {
    let begin = (receiver, None::<usize>, false);
    let events = stream::unfold(begin, async |(mut receiver, sent_samples, ended)| {
        let first = sent_samples.is_none();
        if ended || (!first && receiver.changed().await.is_err()) {
            return None;
        }
        let (run, samples) = {
            let run = receiver.borrow_and_update();
            (run.since_sample(sent_samples.unwrap_or(0)), run.sample_count())
        };
        let ended = !run.is_running();
        let sent = event(if ended { "end" } else { "progress" }, &run);
        // A warm run changes with every key; ten updates a second are enough to watch.
        if !ended && !first {
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        Some((sent, (receiver, Some(samples), ended)))
    });
    Sse::new(until_stop(stopping, events)).keep_alive(KeepAlive::new().interval(ALIVE_EVERY))
}
