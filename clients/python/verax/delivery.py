"""Invalidations, and the delivery of those that did not get through."""

import asyncio
import time
from typing import List, Optional, Sequence

from . import frames
from .caller import Caller
from .errors import VeraxError, is_temporary
from .lost import Outdated
from .wire import within


class Delivery(Caller):
    """Calls that invalidate."""

    async def delete(self, key: str) -> bool:
        """Deletes an entry; returns whether it existed."""
        reply = await self._noted("delete", frames.delete(key))
        return bool(reply.needs("done")[0])

    async def invalidate_tag(self, tag: str) -> None:
        """Invalidates every entry with a tag."""
        (await self._noted("invalidate", frames.invalidate_tag(tag))).needs("done")

    async def invalidate_all(self, outdated: Sequence[Outdated]) -> Optional[VeraxError]:
        """Invalidates entries, all together within the timeout of a call; returns the first failure."""
        started, first = time.monotonic(), None
        for one, error in zip(outdated, await self._deliver(outdated)):
            if error is None:
                continue
            first = first or error
            if not is_temporary(error):
                self._note("invalidation-lost", started, reason=error)
            elif self._lost.add(one):
                self._note("invalidation-delayed", started, reason=error)
                if not self._lost.is_delivering:
                    self._lost.is_delivering = True
                    self._spawn(self._deliver_lost())
            else:
                self._note("invalidation-lost", started, reason=error)
        return first

    async def _deliver(self, outdated: Sequence[Outdated]) -> List[Optional[VeraxError]]:
        async def one(what: Outdated) -> Optional[VeraxError]:
            try:
                if what.key is not None:
                    await self.delete(what.key)
                else:
                    await self.invalidate_tag(what.tag or "")
                return None
            except VeraxError as error:
                return error

        return list(await asyncio.gather(*map(one, outdated)))

    async def _deliver_lost(self) -> None:
        pause = 0.1
        try:
            while self._lost.kept:
                await asyncio.sleep(pause)
                started, some = time.monotonic(), self._lost.oldest()
                failed = False
                for what, error in zip(some, await self._deliver(some)):
                    if error is not None and is_temporary(error):
                        failed = True
                        continue
                    self._lost.settle(what)
                    kind = "invalidation-delivered" if error is None else "invalidation-lost"
                    self._note(kind, started, reason=error)
                pause = min(pause * 2, 2.0) if failed else 0.1
        finally:
            self._lost.is_delivering = False

    async def _settle_lost(self, key: str, bound: Optional[float]) -> None:
        """Delivers what may concern a key before a cached value of it is read."""
        concerned = self._lost.concerning(key)
        if not concerned:
            return
        delivered = await within(bound or self.options.timeout, self._deliver(concerned))
        for what, error in zip(concerned, delivered):
            if error is not None:
                raise error
            self._lost.settle(what)
