"""Entries: get, put, set their lifetime, list and clear them."""

import time
from typing import Any, AsyncIterator, Iterable, Optional

from . import frames
from .delivery import Delivery
from .errors import CircuitOpen, Refused, VeraxError
from .frames import Reply
from .values import NO_VALUE, Found, Lifetime, Put


class Entries(Delivery):
    """Calls about single entries."""

    async def get(self, key: str, *, only_if_cached: bool = False, refresh: bool = False,
                  details: bool = False, revision: bool = False,
                  stale_if_error: bool = False) -> Optional[Found]:
        """Gets an entry; if the namespace has an origin, a miss reads it through. `None` is a miss or a
        negative entry; `look_up` tells which. `details` asks for age, entity tag, media type and tags."""
        found = await self.look_up(key, only_if_cached=only_if_cached, refresh=refresh, details=details,
                                   revision=revision, stale_if_error=stale_if_error)
        return found if isinstance(found, Found) else None

    async def look_up(self, key: str, *, bound: Optional[float] = None, **options: bool) -> Any:
        """As `get`, but a negative entry is `NO_VALUE`."""
        started = time.monotonic()
        request = frames.get(key, **options)
        await self._settle_lost(key, bound)
        try:
            reply = await self._request(request, bound, may_wait=not options.get("only_if_cached"))
            found = self._read(reply)
        except Refused as error:
            if error.name == "no-value":
                found = NO_VALUE
            else:
                self._note("failure", started, reason=error)
                raise
        except VeraxError as error:
            kind = "skipped" if isinstance(error, CircuitOpen) else "failure"
            self._note(kind, started, reason=error)
            raise
        self._note_read(started, found)
        return found

    def _read(self, reply: Reply) -> Any:
        if reply.name == "miss":
            return None
        if reply.name == "failed":
            if reply.said.name == "no-value":
                return NO_VALUE
            raise reply.said
        return reply.needs("value")

    def _note_read(self, started: float, found: Any) -> None:
        if not isinstance(found, Found):
            return self._note("miss" if found is None else "negative", started)
        # To the application, a value that the service read from the origin is a miss.
        kind = found.source if found.source in ("hit", "stale", "stale-on-error") else "miss"
        self._note(kind, started, len(found.value))

    async def put(self, key: str, value: bytes, media_type: str = "application/octet-stream", *,
                  max_age: Optional[float] = None, stale_while_revalidate: Optional[float] = None,
                  stale_if_error: Optional[float] = None, tags: Iterable[str] = (),
                  if_absent: bool = False, if_matches: Optional[str] = None,
                  if_revision: Optional[int] = None) -> bool:
        """Stores a value; returns whether it replaced one. Parts of the lifetime that are left out come
        from the namespace's policy. Raises `Refused` with the name `condition-failed` if the condition
        does not hold."""
        lifetime = Lifetime(max_age, stale_while_revalidate, stale_if_error)
        put = Put(key, value, media_type, lifetime, tuple(tags), if_absent, if_matches, if_revision)
        reply = await self._noted("put", frames.put(put), len(value))
        return bool(reply.needs("done")[0])

    async def set_lifetime(self, key: str, *, max_age: Optional[float] = None,
                           stale_while_revalidate: Optional[float] = None,
                           stale_if_error: Optional[float] = None) -> bool:
        """Sets an entry's lifetime, counted from now; returns whether it exists."""
        lifetime = Lifetime(max_age, stale_while_revalidate, stale_if_error)
        reply = await self._request(frames.set_lifetime(key, lifetime))
        return reply.name == "done"

    async def clear(self, prefix: Optional[str] = None) -> int:
        """Removes every entry, or those whose keys start with `prefix`; returns how many. Needs the right
        to invalidate."""
        return int((await self._noted("invalidate", frames.clear(prefix))).needs("cleared"))

    async def keys(self, prefix: str = "") -> AsyncIterator[str]:
        """The keys that start with `prefix`, page by page."""
        cursor = ""
        while True:
            keys, cursor = (await self._request(frames.list_keys(prefix, cursor, 1000))).needs("page")
            for key in keys:
                yield key
            if not cursor:
                return
