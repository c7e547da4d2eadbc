"""The one call that replaces look-up, branch and store."""

import asyncio
import json
import time
from dataclasses import dataclass, replace
from typing import Any, Awaitable, Callable, Iterable, Optional, Tuple, Union

from . import frames
from .entries import Entries
from .errors import NotStored, Refused, VeraxError
from .frames import Reply, Request
from .refills import Refill
from .values import NO_VALUE, Cached, Found, Lifetime, Put, Refilled


@dataclass
class Work:
    """A refill that a caller does: its permit, and the callers of this process that wait for it."""

    key: str
    entry: "Entry"
    active: Optional[Refill] = None
    permit: Optional[int] = None
    previous: Optional[Cached] = None
    no_permit: Optional[VeraxError] = None
    started: float = 0.0
    #: How long storing may take; without it, no longer than a user should wait.
    bound: Optional[float] = None


@dataclass(frozen=True)
class Entry:
    """What a refilled value is stored with."""

    lifetime: Lifetime
    tags: Tuple[str, ...]
    negative_max_age: Optional[float]
    takes_negative: bool


def versioned(key: str, schema: Optional[int]) -> str:
    """The key of an entry with a schema version: each version has an entry of its own."""
    return key if schema is None else f"{key};schema={schema}"


def _refilled_by_another() -> VeraxError:
    return NotStored("another caller is refilling the key")


class Refilling(Entries):
    """Calls that read and refill."""

    async def get_or_refill(self, key: str, refill: Callable[[], Awaitable[Any]], *,
                            max_age: Optional[float] = None,
                            stale_while_revalidate: Optional[float] = None,
                            stale_if_error: Optional[float] = None, tags: Iterable[str] = (),
                            schema: Optional[int] = None, in_background: bool = False) -> Any:
        """Returns the JSON value of a key: from the cache, otherwise from `refill`, whose value is stored.

        Of all callers that miss it at the same time, in any process, one refills and the others wait for
        its value. A value read before an invalidation is never stored after it. When `refill` fails, a
        copy within its stale-if-error time is returned. The value does not depend on the cache: only
        errors of `refill` are raised, and `TypeError` or `ValueError` for a value that is no JSON. With
        `in_background`, a caller that finds a stale copy does not wait for its refill."""
        entry = Entry(Lifetime(max_age, stale_while_revalidate, stale_if_error), tuple(tags), None, False)
        cached = await self._refilled(versioned(key, schema), entry, refill, in_background)
        return cached.value

    async def find_or_refill(self, key: str, refill: Callable[[], Awaitable[Any]], *,
                             max_age: Optional[float] = None,
                             stale_while_revalidate: Optional[float] = None,
                             stale_if_error: Optional[float] = None, tags: Iterable[str] = (),
                             negative_max_age: Optional[float] = None, schema: Optional[int] = None,
                             in_background: bool = False) -> Cached:
        """`get_or_refill` for values that may not exist, and for refills that know more: `refill` may
        return `NO_VALUE`, which is kept as a negative entry, or a `Refilled`."""
        lifetime = Lifetime(max_age, stale_while_revalidate, stale_if_error)
        entry = Entry(lifetime, tuple(tags), negative_max_age, True)
        return await self._refilled(versioned(key, schema), entry, refill, in_background)

    async def _refilled(self, key: str, entry: Entry, refill: Callable[[], Awaitable[Any]],
                        in_background: bool) -> Cached:
        work = await self.begin_refill(key, entry)
        if isinstance(work, Cached):
            return work
        if in_background and work.previous is not None:
            self._spawn(self._refill_now(work, refill, True))
            return work.previous
        return await self._refill_now(work, refill, False)

    async def _refill_now(self, work: Work, refill: Callable[[], Awaitable[Any]],
                          in_background: bool) -> Cached:
        try:
            value = await refill()
        except BaseException as error:
            served = await self.failed_refill(work, error)
            if served is not None:
                return served
            if in_background:
                return Cached(NO_VALUE, "refill")
            raise
        return await self.end_refill(work, value)

    async def begin_refill(self, key: str, entry: Entry) -> Union[Cached, Work]:
        """The cached value, or the work of refilling it, for `end_refill` or `failed_refill`. For clients
        that run the refill elsewhere."""
        frames.checked_key(key)
        if len(entry.tags) > frames.MAX_TAGS:
            raise ValueError(f"an entry with {len(entry.tags)} tags has too many")
        deadline = time.monotonic() + self.options.refill_wait
        while True:
            known, refresh, previous, unknown = await self._cached_state(key, entry)
            if known is not None:
                return known
            active, leads = self._refills.join(key)
            if not leads:
                if previous is not None:
                    return previous
                early = not active.began
                try:
                    left = max(0.0, deadline - time.monotonic())
                    landed = await asyncio.wait_for(active.landed(early), left)
                except asyncio.TimeoutError:
                    return Work(key, entry, no_permit=_refilled_by_another(), started=time.monotonic())
                if landed is None:
                    continue
                value = landed[0]
                if value is NO_VALUE and not entry.takes_negative:
                    return Work(key, entry, no_permit=_refilled_by_another(), started=time.monotonic())
                return Cached(_decoded(value), "shared-refill")
            if unknown is not None:
                # Others that missed at this moment join before it is fetched.
                await asyncio.sleep(0)
            active.began = True
            work = Work(key, entry, active, previous=previous, no_permit=unknown, started=time.monotonic())
            if unknown is not None:
                return work
            try:
                known = await self._acquire(work, refresh)
            except BaseException:
                active.land(None, True)
                raise
            return known or work

    async def _cached_state(self, key: str, entry: Entry) -> Tuple[
            Optional[Cached], bool, Optional[Cached], Optional[VeraxError]]:
        """What is known, whether a refresh is needed, what serves meanwhile, why nothing is known."""
        started = time.monotonic()
        try:
            found = await self.look_up(key, bound=self.options.bound, only_if_cached=True, may_refill=True,
                                       details=True)
        except VeraxError as error:
            return None, False, None, error
        if found is NO_VALUE:
            known = Cached(NO_VALUE, "cache") if entry.takes_negative else None
            return known, True, None, None
        if found is None:
            return None, False, None, None
        try:
            value = json.loads(found.value)
        except ValueError as error:
            # It is replaced by the caller that gets the permit.
            self._note("unreadable", started, len(found.value), error)
            return None, True, None, None
        if found.is_due or found.source == "stale":
            return None, True, Cached(value, "being-refreshed", found.age, found.time_left), None
        return Cached(value, "cache", found.age, found.time_left), False, None, None

    async def _acquire(self, work: Work, refresh: bool) -> Optional[Cached]:
        """Acquires the permit as the leader; returns a value that another caller stored."""
        options = self.options
        request = frames.acquire_permit(work.key, options.refill_lease, options.refill_wait, True, refresh,
                                        True)

        def undo(reply: Reply) -> Optional[Request]:
            return frames.release_permit(work.key, reply.said[0]) if reply.name == "permit" else None

        try:
            reply = await self._request(request, options.refill_wait + options.bound, undo, may_wait=True)
            found = None if reply.name in ("permit", "later") else self._read(reply)
        except VeraxError as error:
            found = NO_VALUE if isinstance(error, Refused) and error.name == "no-value" else None
            reply, work.no_permit = Reply("none"), error
        if isinstance(found, Found):
            try:
                known = Cached(json.loads(found.value), "shared-refill", found.age, found.time_left)
                self._land(work, (found.value,), False)
                return known
            except ValueError:
                work.no_permit = _refilled_by_another()
        elif found is NO_VALUE and work.entry.takes_negative:
            self._land(work, (NO_VALUE,), False)
            return Cached(NO_VALUE, "shared-refill")
        elif reply.name == "permit":
            work.permit = reply.said[0]
        else:
            # Without a permit, nothing is stored, since it could be outdated.
            work.no_permit = work.no_permit or _refilled_by_another()
            if work.previous is not None:
                self._land(work, None, True)
                return work.previous
        return None

    def _land(self, work: Work, result: Optional[Tuple[Any]], for_all: bool) -> None:
        if work.active is not None:
            active, work.active = work.active, None
            active.land(result, for_all)

    async def end_refill(self, work: Work, value: Any) -> Cached:
        """Stores what a refill returned, if it may be stored, and returns it.

        Raises `TypeError` or `ValueError` for a value that is no JSON."""
        refilled = value if isinstance(value, Refilled) else Refilled(value)
        entry, lifetime = work.entry, work.entry.lifetime
        if refilled.max_age is not None:
            lifetime = replace(lifetime, max_age=refilled.max_age)
        try:
            if refilled.value is NO_VALUE:
                if not entry.takes_negative:
                    raise TypeError("only find_or_refill takes NO_VALUE")
                # Nothing to serve stale.
                negative = refilled.max_age if refilled.max_age is not None else entry.negative_max_age
                lifetime, media_type, data = Lifetime(negative, 0, 0), frames.NO_VALUE_TYPE, b""
            else:
                media_type, data = "application/json", json.dumps(refilled.value).encode()
            tags = (*entry.tags, *refilled.tags)
            put = Put(work.key, data, media_type, lifetime, tags)
            request = frames.put_with_permit(work.permit or 0, put)
        except (TypeError, ValueError):
            self._land(work, None, True)
            await self._release(work)
            raise
        self._note("refill", work.started, len(data))
        landed: Tuple[Any] = (NO_VALUE,) if refilled.value is NO_VALUE else (data,)
        not_stored = await self._store(work, request, landed, refilled.is_storable)
        if not_stored is not None:
            self._note("not-stored", work.started, reason=not_stored)
        return Cached(refilled.value, "refill", 0.0, None, not_stored)

    async def _store(self, work: Work, request: Request, landed: Tuple[Any],
                     is_storable: bool) -> Optional[VeraxError]:
        if not is_storable or work.permit is None:
            self._land(work, landed, False)
            await self._release(work)
            wanted = NotStored("the refill asked for it")
            return (work.no_permit or _refilled_by_another()) if is_storable else wanted
        # A later caller may know of an invalidation that the store does not.
        if work.active is not None:
            work.active.close()
        try:
            await self._request(request, work.bound or self.options.bound, always=True)
        except VeraxError as error:
            self._land(work, landed, False)
            # An unused permit is released, so that the next queued caller need not wait.
            await self._release(work)
            return error
        except BaseException:
            self._land(work, landed, False)
            raise
        work.permit = None
        self._land(work, landed, True)
        return None

    async def failed_refill(self, work: Work, error: BaseException) -> Optional[Cached]:
        """What to serve although a refill failed: the present copy, or one within its stale-if-error
        time."""
        self._note("refill-failed", work.started, reason=error)
        # Another caller may try.
        self._land(work, None, True)
        if not isinstance(error, Exception):
            self._spawn(self._release(work))
            return None
        await self._release(work)
        if work.previous is not None:
            return replace(work.previous, source="stale-on-error")
        try:
            found = await self.look_up(work.key, bound=self.options.bound, only_if_cached=True,
                                       stale_if_error=True, details=True)
            if isinstance(found, Found):
                source = "cache" if found.source == "hit" else "stale-on-error"
                return Cached(json.loads(found.value), source, found.age, found.time_left)
        except (VeraxError, ValueError):
            pass
        return None

    async def _release(self, work: Work) -> None:
        permit, work.permit = work.permit, None
        if permit is not None:
            try:
                await self._request(frames.release_permit(work.key, permit), self.options.bound, always=True)
            except VeraxError:
                pass  # its end time does the rest



def _decoded(value: Any) -> Any:
    return NO_VALUE if value is NO_VALUE else json.loads(value)
