"""A client of Verax, a shared cache as a service, with only the standard library.

    from verax import Verax

    boards = Verax.from_environment().cache("ferrydesk", "boards")
    board = boards.get_or_refill("board/aldermouth", read_from_database, max_age=30)

`Verax` and `Cache` block; `AsyncVerax` and `AsyncCache` are for asyncio. Both speak the wire protocol,
or HTTP where only HTTP gets through. A cache may lose any entry at any time: a miss means "ask the
origin", never "it does not exist".
"""

from .aio import AsyncCache, AsyncVerax
from .blocking import Cache, Lock, Verax
from .errors import (CircuitOpen, LockHeld, NotStored, Refused, TimedOut, Unreachable,
                     VeraxError)
from .events import (Event, HitRatio, Hook, TraceHook, count_with_opentelemetry, log_reasons,
                     trace_with_opentelemetry)
from .keys import stable_key
from .locks import AsyncLock
from .options import CacheOptions, token_file
from .values import NO_VALUE, Cached, Found, Lifetime, Put, RateDecision, Refilled

__all__ = ["AsyncCache", "AsyncLock", "AsyncVerax", "Cache", "CacheOptions", "Cached", "CircuitOpen", "Event", "Found",
           "HitRatio", "Hook", "Lifetime", "Lock", "LockHeld", "NO_VALUE", "NotStored", "Put",
           "RateDecision", "Refilled", "Refused", "TimedOut", "TraceHook", "Unreachable", "Verax", "VeraxError",
           "count_with_opentelemetry", "log_reasons", "stable_key", "token_file",
           "trace_with_opentelemetry"]
