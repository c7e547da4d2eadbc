"""Named locks."""

import asyncio
import time
from typing import Optional

from . import frames
from .caller import Caller, log
from .errors import LockHeld, Refused, VeraxError, is_temporary
from .frames import Reply, Request


class Locks(Caller):
    """Calls about locks."""

    async def acquire_lock(self, name: str, *, lease: float = 30.0, wait: float = 0.0,
                           owner: str = "") -> "AsyncLock":
        """Acquires a lock, waiting for at most `wait` seconds. Its lease is renewed in the background
        until it is released. Raises `LockHeld` if another caller holds it.

            async with await boards.acquire_lock("berth-7", wait=10) as lock:
                ...  # send lock.fencing_token with every write
        """
        started = time.monotonic()

        def undo(reply: Reply) -> Optional[Request]:
            return frames.release_lock(name, reply.said[0]) if reply.name == "granted" else None

        request = frames.acquire_lock(name, owner, lease, wait)
        try:
            reply = await self._request(request, wait + self.options.timeout, undo, may_wait=wait > 0)
        except VeraxError as error:
            self._note("lock", started, reason=error)
            raise
        self._note("lock", started)
        if reply.name == "held":
            raise LockHeld(name, **reply.said)
        return AsyncLock(self, name, reply.needs("granted")[0], lease, started)

    async def peek_lock(self, name: str) -> Optional[LockHeld]:
        """The holder of a lock; `None` when it is free."""
        reply = await self._request(frames.peek_lock(name))
        return None if reply.name == "miss" else LockHeld(name, **reply.needs("held"))



class AsyncLock:
    """A held lock, renewed in the background until it is released or lost.

    A lock with a lease cannot guarantee that its holder still has it at the moment of a write. Send
    `fencing_token` with every write, and let the target refuse tokens smaller than the largest it saw."""

    def __init__(self, cache: Caller, name: str, fencing_token: int, lease: float,
                 asked_at: float) -> None:
        self.name, self.fencing_token = name, fencing_token
        self._cache, self._lease = cache, lease
        self._lost = asyncio.Event()
        self._renewing = cache._spawn(self._renew(asked_at))

    @property
    def is_lost(self) -> bool:
        """Whether the lease is known to have ended."""
        return self._lost.is_set()

    async def lost(self) -> None:
        """Waits until the lease is lost."""
        await self._lost.wait()

    async def release(self) -> None:
        """Ends the lease. Raises `Refused` with the name `not-held` if it had already ended."""
        self._renewing.cancel()
        await self._cache._request(frames.release_lock(self.name, self.fencing_token), always=True)

    async def __aenter__(self) -> "AsyncLock":
        return self

    async def __aexit__(self, *_: object) -> None:
        try:
            await self.release()
        except VeraxError as error:
            log.warning("the lock %r was not released: %s", self.name, error)

    async def _renew(self, asked_at: float) -> None:
        """Renews three times within the lease. It is lost when Verax says so, or when it could not be
        renewed for its length, counted from before the last successful request."""
        now = time.monotonic()
        # A lease after a wait began somewhere between request and reply: it is renewed at once.
        waited = now - asked_at > self._lease / 6
        ends, pause = (now + self._lease, 0.0) if waited else (asked_at + self._lease, self._lease / 3)
        while True:
            await asyncio.sleep(max(0.0, min(pause, ends - time.monotonic())))
            began, pause = time.monotonic(), self._lease / 3
            if began >= ends:
                break
            request = frames.renew_lock(self.name, self.fencing_token, self._lease)
            try:
                await self._cache._request(request, ends - began, always=True)
                ends = began + self._lease
            except Refused as refused:
                if not is_temporary(refused):
                    break
                pause = max(self._lease / 20, 0.01)
            except VeraxError:
                pause = max(self._lease / 20, 0.01)
        self._lost.set()
