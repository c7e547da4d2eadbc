"""What can go wrong."""

from typing import Optional


class VeraxError(Exception):
    """The base of every error of this package but `ValueError` and `TypeError`."""


class Unreachable(VeraxError):
    """Verax could not be reached, or did not respond in time; the text says why."""


class TimedOut(Unreachable):
    """Verax did not respond in time."""


class CircuitOpen(Unreachable):
    """The call was not tried, since Verax failed to respond several times in a row."""


class Refused(VeraxError):
    """Verax refused or failed: `name` is the name of the problem, such as `missing-scope`.

    `request_id` finds more in the log of the service; `unchanged` says that a write certainly left
    the origin unchanged; `retry_after` is after how many seconds the call may be repeated, where the
    service says so."""

    def __init__(self, name: str, detail: str, request_id: Optional[str] = None,
                 unchanged: bool = False, retry_after: Optional[float] = None) -> None:
        super().__init__(f"{name}: {detail}" if detail else name)
        self.name, self.detail = name, detail
        self.request_id, self.unchanged, self.retry_after = request_id, unchanged, retry_after


class NotStored(VeraxError):
    """A refilled value was returned without being stored, although nothing failed."""


class LockHeld(VeraxError):
    """Another caller holds the lock: `owner`, with `fencing_token`, for `held_seconds` so far."""

    def __init__(self, name: str, owner: str, fencing_token: int, held_seconds: float,
                 ends_in_seconds: float) -> None:
        super().__init__(f"{name!r} is held by {owner!r} for another {ends_in_seconds:.1f} s at most")
        self.owner, self.fencing_token = owner, fencing_token
        self.held_seconds, self.ends_in_seconds = held_seconds, ends_in_seconds


#: The temporary refusals: the same call may succeed later.
TEMPORARY = frozenset({"overloaded", "standby", "records-unavailable", "quota-exceeded"})


def is_temporary(error: BaseException) -> bool:
    """Whether the same call may succeed later: Verax did not respond, or cannot serve now."""
    return isinstance(error, Unreachable) or (isinstance(error, Refused) and error.name in TEMPORARY)
