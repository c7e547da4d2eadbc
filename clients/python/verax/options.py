"""Options of a handle, and where tokens come from."""

from dataclasses import dataclass
from typing import Callable, Optional, Union

from .events import Hook, TraceHook

#: A token, or what returns the current one.
Token = Union[str, Callable[[], str]]


def token_file(path: str) -> Callable[[], str]:
    """A token source: the file is read for every connection, so that it can be replaced."""

    def read() -> str:
        with open(path, encoding="utf-8") as file:
            return file.read().strip()

    return read


@dataclass(frozen=True)
class CacheOptions:
    """Options of a handle; times are in seconds.

    `timeout` is the limit of a call, `bound` that of what `get_or_refill` asks about the cache before it
    refills by itself, `refill_wait` how long it waits while another caller refills, `refill_lease` how
    long a refill may take before another caller may. `hook` receives every event; `trace` returns the
    trace context of the current span."""

    timeout: float = 1.0
    bound: float = 0.1
    refill_wait: float = 5.0
    refill_lease: float = 30.0
    connections: int = 2
    hook: Optional[Hook] = None
    trace: Optional[TraceHook] = None
