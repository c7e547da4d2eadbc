"""Writes to an origin, in the order that leaves no outdated value behind."""

from typing import Any, Awaitable, Callable, Iterable, Optional, Tuple

from .delivery import Delivery
from .errors import VeraxError
from .lost import Outdated


class Writing(Delivery):
    """The call around a write to the origin."""

    async def write_and_invalidate(self, write: Callable[[], Awaitable[Any]], *, keys: Iterable[str] = (),
                                   tags: Iterable[str] = ()) -> Tuple[Any, Optional[VeraxError]]:
        """Writes to the origin by `write`, and then invalidates the entries it outdates. Returns its
        result, and why the cache was not updated, if it was not: then the invalidations are kept, and
        sent when Verax is back; until then this process serves no cached value that they may concern.
        The entries are also invalidated if `write` fails, since the write may have happened."""
        outdated = [Outdated(key=key) for key in keys] + [Outdated(tag=tag) for tag in tags]
        try:
            value = await write()
        except Exception:
            await self.invalidate_all(outdated)
            raise
        except BaseException:
            self._spawn(self.invalidate_all(outdated))
            raise
        return value, await self.invalidate_all(outdated)
