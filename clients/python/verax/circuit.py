"""A circuit breaker: a service that does not answer must not cost a timeout on every call."""

import time
from typing import Callable

from .errors import CircuitOpen


class Circuit:
    """Opens after three failures in a row; then one call after each pause tries again."""

    FAILURES, SHORTEST, LONGEST = 3, 0.25, 2.0

    def __init__(self, now: Callable[[], float] = time.monotonic) -> None:
        self._now = now
        self._in_a_row, self._pause, self._not_before, self._reason = 0, self.SHORTEST, 0.0, ""

    def admit(self) -> None:
        """Raises `CircuitOpen` with the last reason while the circuit is open."""
        if self._in_a_row < self.FAILURES:
            return
        if self._now() < self._not_before:
            raise CircuitOpen("the client's circuit is open for a while after several failures, "
                              f"the last: {self._reason}")
        self._not_before = self._now() + self._pause

    def failed(self, reason: str) -> None:
        """A call did not get an answer."""
        self._in_a_row, self._reason = self._in_a_row + 1, reason
        if self._in_a_row >= self.FAILURES:
            self._not_before = self._now() + self._pause
            self._pause = min(self._pause * 2, self.LONGEST)

    def succeeded(self) -> None:
        """A call got an answer, whatever it was."""
        self._in_a_row, self._pause = 0, self.SHORTEST
