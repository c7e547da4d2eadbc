"""Counters and rate limits."""

from typing import Optional

from . import frames
from .caller import Caller
from .errors import VeraxError
from .values import Lifetime, RateDecision


class Counters(Caller):
    """Calls about counters and rate limits."""

    async def add(self, key: str, amount: int = 1, max_age: Optional[float] = None) -> int:
        """Adds to a counter, and creates it at 0 if missing; returns its value. After an `Unreachable`,
        the addition may or may not have happened."""
        reply = await self._request(frames.add(key, amount, Lifetime(max_age)))
        return int(reply.needs("counted"))

    async def acquire_rate(self, key: str, rate: int, period: float = 1.0, burst: Optional[int] = None,
                           amount: int = 1) -> Optional[float]:
        """Acquires from a rate limit: `None` if it was acquired, else the seconds until it may be."""
        return await self._acquire_rate(key, rate, period, burst, amount, None)

    async def _acquire_rate(self, key: str, rate: int, period: float, burst: Optional[int], amount: int,
                            bound: Optional[float]) -> Optional[float]:
        request = frames.acquire_rate(key, amount, rate, period, burst or rate)
        reply = await self._noted("rate-limit", request, bound=bound)
        if reply.name == "later":
            return max(float(reply.said), 0.001)
        reply.needs("rate acquired")
        return None

    async def allows(self, key: str, rate: int, period: float = 1.0, burst: Optional[int] = None,
                     amount: int = 1, *, without_service: bool) -> RateDecision:
        """Decides within the bound whether a caller may pass a rate limit, for a route that must answer in
        any case: without the service, `without_service` decides."""
        try:
            wait = await self._acquire_rate(key, rate, period, burst, amount, self.options.bound)
        except VeraxError as error:
            return RateDecision(without_service, None, error)
        return RateDecision(wait is None, wait)
