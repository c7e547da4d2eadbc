//! A live stream of who waits for what.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::response::sse::{Event, Sse};
use futures_util::{Stream, StreamExt};
use tokio_stream::wrappers::IntervalStream;
use verax_api::{Waiting, WaitingLock, WaitingLockEvent, WaitingPermit, WaitingRefill};
use verax_control::access::Caller;
use verax_service::Service;

use super::{locks, permits};
use crate::failure::Failure;
use crate::http::authenticated::Authenticated;
use crate::http::live::{Events, until_stop};

/// How often it is sent.
const EVERY: Duration = Duration::from_millis(500);

/// The maximum number of each kind.
const MOST: usize = 50;

fn now(service: &Service, caller: &Caller) -> Waiting {
    let (at, waiting) = (service.engine().now(), service.control().waiting(caller, MOST));
    Waiting {
        origins: waiting.origins,
        permits: waiting
            .permits
            .into_iter()
            .map(|(namespace, view)| WaitingPermit {
                namespace: namespace.path(),
                permit: permits::shown(&view, at),
            })
            .collect(),
        locks: waiting
            .locks
            .into_iter()
            .map(|(namespace, view)| WaitingLock {
                namespace: namespace.path(),
                lock: locks::shown(&view, at),
            })
            .collect(),
        refills: waiting
            .refills
            .into_iter()
            .map(|(namespace, record)| WaitingRefill {
                namespace: namespace.path(),
                refill: permits::refill_to_api(record),
            })
            .collect(),
        lock_events: waiting
            .lock_events
            .into_iter()
            .map(|(namespace, event)| WaitingLockEvent {
                namespace: namespace.path(),
                event: locks::event_to_api(&event),
            })
            .collect(),
    }
}

/// Stream who waits for what: live permits and locks, and recent events, twice a second.
#[cfg_attr(test, utoipa::path(get, path = "/v1/waiting/live", tag = "live",
    responses((status = 200, description = "server-sent events named `waiting`", content_type = "text/event-stream", body = Waiting))))]
pub(crate) async fn live(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
) -> Result<Sse<impl Stream<Item = Events> + Send>, Failure> {
    let open = caller.open_stream()?;
    let stopping = service.stopping();
    let events = IntervalStream::new(tokio::time::interval(EVERY)).map(move |_| {
        let (waiting, _open) = (now(&service, &caller), &open);
        Ok(Event::default().event("waiting").json_data(waiting).unwrap_or_default())
    });
    Ok(Sse::new(until_stop(stopping, events)))
}
