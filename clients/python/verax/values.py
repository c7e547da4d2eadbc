"""What calls take and return."""

from dataclasses import dataclass, field
from typing import Any, Optional, Sequence, Union

from .errors import VeraxError


@dataclass(frozen=True)
class Found:
    """A value and where it came from: `hit`, `stale`, `stale-on-error`, `origin` or `joined`.

    Times are in seconds; `time_left` is `None` once it is stale. `is_due` says that the caller may
    refresh it early."""

    value: bytes
    source: str
    time_left: Optional[float] = None
    is_due: bool = False
    age: Optional[float] = None
    entity_tag: Optional[str] = None
    media_type: Optional[str] = None
    tags: Sequence[str] = ()
    revision: Optional[int] = None


class _NoValue:
    """The knowledge that the origin has no value."""

    def __repr__(self) -> str:
        return "NO_VALUE"

    def __bool__(self) -> bool:
        return False


#: A negative entry; returned by a refill, it stores one. `None` is an ordinary JSON value.
NO_VALUE = _NoValue()


@dataclass(frozen=True)
class Refilled:
    """What a refill may return in place of a value: tags and a lifetime found while reading."""

    value: Any
    tags: Sequence[str] = ()
    max_age: Optional[float] = None
    is_storable: bool = True


@dataclass(frozen=True)
class Cached:
    """A value of `find_or_refill`: `NO_VALUE` for a negative entry.

    `source` is `cache`, `being-refreshed`, `stale-on-error`, `refill` or `shared-refill`. Times are in
    seconds. `not_stored` says why this caller's refill was not stored; the value is right
    nevertheless."""

    value: Any
    source: str
    age: Optional[float] = None
    time_left: Optional[float] = None
    not_stored: Optional[VeraxError] = None

    @property
    def exists(self) -> bool:
        """Whether there is a value."""
        return self.value is not NO_VALUE


@dataclass(frozen=True)
class Lifetime:
    """A lifetime in seconds; parts that are `None` come from the namespace's policy."""

    max_age: Optional[float] = None
    stale_while_revalidate: Optional[float] = None
    stale_if_error: Optional[float] = None

    @property
    def is_given(self) -> bool:
        """Whether any part is given."""
        return not (self.max_age is None and self.stale_while_revalidate is None
                    and self.stale_if_error is None)


@dataclass(frozen=True)
class Put:
    """A value to store, for `put_many`."""

    key: str
    value: bytes
    media_type: str = "application/octet-stream"
    lifetime: Lifetime = field(default_factory=Lifetime)
    tags: Sequence[str] = ()
    if_absent: bool = False
    if_matches: Optional[str] = None
    if_revision: Optional[int] = None


@dataclass(frozen=True)
class RateDecision:
    """Whether a caller may pass a rate limit; `undecided` says why the service did not decide."""

    is_allowed: bool
    retry_after: Optional[float] = None
    undecided: Optional[VeraxError] = None


#: The outcome of one operation of a batch.
Outcome = Union[Any, VeraxError, ValueError]
