"""Events of a handle, for an application's own metrics, logs and traces."""

import logging
from dataclasses import dataclass
from typing import Any, Callable, Optional, Tuple


@dataclass(frozen=True)
class Event:
    """What happened: `kind` is one of the kinds below, `reason` why something failed.

    `hit`, `stale`, `stale-on-error`, `negative`, `miss`: a read. `failure`: a read failed. `skipped`: the
    circuit was open. `refill`, `refill-failed`, `not-stored`, `unreadable`: a refill of the application.
    `put`, `delete`, `invalidate`, `rate-limit`, `lock`: a call, with a reason if it failed.
    `invalidation-delayed`, `invalidation-delivered`, `invalidation-lost`: an invalidation that did not get
    through."""

    kind: str
    tenant: str
    namespace: str
    seconds: float
    bytes: int = 0
    reason: Optional[BaseException] = None


Hook = Callable[[Event], None]

#: Returns `traceparent` and `tracestate` (W3C Trace Context) of the current span.
TraceHook = Callable[[], Optional[Tuple[str, str]]]

_READS = {"hit": True, "stale": True, "stale-on-error": True, "negative": True, "miss": False,
          "failure": False, "skipped": False}


class HitRatio:
    """A hook that counts reads: `ratio` is the share that the cache served."""

    def __init__(self) -> None:
        self.served = self.reads = 0

    def __call__(self, event: Event) -> None:
        served = _READS.get(event.kind)
        if served is not None:
            self.reads += 1
            self.served += served

    @property
    def ratio(self) -> float:
        """From 0 to 1; 0 before the first read."""
        return self.served / self.reads if self.reads else 0.0


def log_reasons(logger: Optional[logging.Logger] = None) -> Hook:
    """A hook that logs every event with a reason as a warning."""
    log = logger or logging.getLogger("verax")

    def hook(event: Event) -> None:
        if event.reason is not None:
            log.warning("%s in %s/%s after %.0f ms: %s", event.kind, event.tenant, event.namespace,
                        event.seconds * 1000, event.reason)

    return hook


def count_with_opentelemetry(meter: Any) -> Hook:
    """A hook that counts events by kind, with an OpenTelemetry meter, as `verax.client.events`."""
    counter = meter.create_counter("verax.client.events", unit="{event}",
                                   description="Events of the Verax client")

    def hook(event: Event) -> None:
        place = f"{event.tenant}/{event.namespace}"
        counter.add(1, {"verax.event": event.kind, "verax.namespace": place})

    return hook


def trace_with_opentelemetry() -> TraceHook:
    """A trace hook for the current span of OpenTelemetry's API, which must be installed."""
    from opentelemetry import trace  # type: ignore[import-not-found]

    def hook() -> Optional[Tuple[str, str]]:
        context = trace.get_current_span().get_span_context()
        if not context.is_valid:
            return None
        traceparent = f"00-{context.trace_id:032x}-{context.span_id:016x}-{context.trace_flags:02x}"
        return traceparent, context.trace_state.to_header()

    return hook
