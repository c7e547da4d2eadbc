"""Refilling keys that warm runs ask for."""

import asyncio
import time
from typing import Any, Awaitable, Callable, Optional

from . import frames
from .errors import Refused, VeraxError
from .frames import Reply, Request
from .refilling import Entry, Refilling, Work
from .values import Lifetime

#: How long one request waits for a key, in seconds.
WAIT = 20.0

#: The pause after a failure that may pass, in seconds.
PAUSE = 0.5

#: Failures that repeating a request does not mend.
_LASTING = frozenset({"has-origin", "invalid", "missing-scope", "not-found", "not-signed-in"})


def is_lasting(error: VeraxError) -> bool:
    """Whether repeating a request does not mend its failure."""
    return isinstance(error, Refused) and error.name in _LASTING


class Serving(Refilling):
    """Calls for services that refill keys when a warm run asks for them."""

    async def serve_refills(self, refill: Callable[[str], Awaitable[Any]], *, concurrency: int = 4) -> None:
        """Refills keys that warm runs ask for, in a namespace without an origin: up to `concurrency` at
        the same time. The keys of a run are spread over all instances that call this.

        `refill` takes a key and returns a JSON value, `NO_VALUE`, or a `Refilled`; if it raises, another
        instance may be asked. This goes on until it is canceled, over restarts of Verax, and raises only
        what repeating does not mend: a token without the rights to read and to write, or a namespace that
        has an origin or is gone."""
        serving = [asyncio.ensure_future(self._serve(refill)) for _ in range(max(1, concurrency))]
        try:
            await asyncio.gather(*serving)
        finally:
            for one in serving:
                one.cancel()
            await asyncio.gather(*serving, return_exceptions=True)

    async def _serve(self, refill: Callable[[str], Awaitable[Any]]) -> None:
        while True:
            asked = time.monotonic()
            try:
                work = await self.await_refill()
            except VeraxError as error:
                if is_lasting(error):
                    raise
                await asyncio.sleep(PAUSE)
                continue
            if work is None:
                # Whatever replies sooner, such as a proxy, does not make this loop spin.
                await asyncio.sleep(asked + PAUSE - time.monotonic())
                continue
            try:
                value = await refill(work.key)
                await self.end_refill(work, value)
            except Exception as error:  # noqa: BLE001 - one key must not end the service
                await self.gave_up_refill(work, error)
            except BaseException as error:
                self._spawn(self.gave_up_refill(work, error))
                raise

    async def await_refill(self) -> Optional[Work]:
        """Waits for a key, for `end_refill` or `gave_up_refill`; None if none was wanted. For clients that
        run the refill elsewhere."""
        request = frames.await_refill(self.options.refill_lease, WAIT)

        def undo(reply: Reply) -> Optional[Request]:
            return frames.release_permit(reply.said[2], reply.said[0]) if reply.name == "wanted" else None

        reply = await self._request(request, WAIT + self.options.timeout, undo, may_wait=True)
        if reply.name == "miss":
            return None
        permit, _, key = reply.needs("wanted")
        entry = Entry(Lifetime(), (), None, True)
        return Work(key, entry, permit=permit, started=time.monotonic(), bound=self.options.timeout)

    async def gave_up_refill(self, work: Work, error: BaseException) -> None:
        """Releases the permit of a key without a value."""
        self._note("refill-failed", work.started, reason=error)
        await self._release(work)
