"""Active refills of this process: of all callers that need a key at the same time, one leads and the
others share its result.

A caller that starts after an invalidation must not get a value read before it. A value stored with a
permit is safe for every caller that joined before it was sent to be stored; any other value only for
callers that joined before fetching began."""

import asyncio
from typing import Any, Dict, Optional, Tuple


class Refill:
    """An active refill, and its result: a value for those it is safe for, or `None`."""

    def __init__(self, key: str, of: "ActiveRefills") -> None:
        self.key, self._of = key, of
        self.began, self.is_leading = False, True
        self._landed: "asyncio.Future[Tuple[Optional[Tuple[Any]], bool]]" = (
            asyncio.get_running_loop().create_future())

    def close(self) -> None:
        """Later callers begin their own refill."""
        if self._of.active.get(self.key) is self:
            del self._of.active[self.key]

    def land(self, result: Optional[Tuple[Any]], for_all: bool) -> None:
        """Ends it with a value in a tuple, or without one."""
        self.close()
        if not self._landed.done():
            self._landed.set_result((result, for_all))

    async def landed(self, joined_early: bool) -> Optional[Tuple[Any]]:
        """The value, if it is safe for a caller that joined then."""
        result, for_all = await asyncio.shield(self._landed)
        return result if for_all or joined_early else None


class ActiveRefills:
    """The active refills, by key."""

    def __init__(self) -> None:
        self.active: Dict[str, Refill] = {}

    def join(self, key: str) -> Tuple[Refill, bool]:
        """The refill of a key, and whether the caller leads it."""
        present = self.active.get(key)
        if present is not None:
            return present, False
        self.active[key] = started = Refill(key, self)
        return started, True
