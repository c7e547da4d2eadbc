"""A client of Verax over HTTP, with only the standard library.

    from verax import Verax

    boards = Verax.from_environment().namespace("ferrydesk", "boards")
    board = boards.get_or_refill("board/aldermouth", 30, read_from_database)

A cache may lose any entry at any time: a miss means "ask the origin", never "it does not exist".
"""

import hashlib
import http.client
import json
import math
import os
import ssl
import threading
import time
import urllib.parse
from dataclasses import dataclass
from typing import Any, Callable, Iterable, Iterator, Optional, Union

__all__ = ["Verax", "Namespace", "Found", "Refused", "Unreachable", "stable_key"]


class Unreachable(Exception):
    """Verax could not be reached, or did not respond in time."""


class Refused(Exception):
    """Verax refused: `name` is the name of the problem, `status` the HTTP status."""

    def __init__(self, status: int, problem: dict):
        super().__init__(problem.get("detail", f"status {status}"))
        self.status = status
        self.problem = problem
        self.name = problem.get("type", "").removeprefix("urn:verax:problem:")


@dataclass(frozen=True)
class Found:
    """A value, its media type and entity tag, and its source according to Cache-Status."""

    value: bytes
    media_type: str
    entity_tag: Optional[str]
    cache_status: str

    @property
    def hit(self) -> bool:
        """Whether it was a hit."""
        return "hit" in [part.strip() for part in self.cache_status.split(";")]


class Verax:
    """The address of Verax, and the token to send. Threads can share it: each has a connection of its
    own, which is kept open. `url` may have the addresses of a pair, separated by commas; the client
    follows the active node. A request takes at most about `timeout` seconds, and what `get_or_refill`
    does about the cache at most about `bound`. After several failures in a row requests fail at once
    for a while, with the last reason. The token is never printed."""

    def __init__(self, url: str = "http://127.0.0.1:8750", token: Optional[str] = None,
                 timeout: float = 5.0, ca: Optional[str] = None, bound: float = 0.25):
        self._all = [urllib.parse.urlsplit(one.strip()) for one in url.split(",")]
        for parts in self._all:
            if parts.scheme not in ("http", "https") or not parts.hostname:
                raise ValueError(f"{parts.geturl()!r} is not an address of Verax: use something like "
                                 "http://127.0.0.1:8750")
        self._at, self._token, self._timeout = 0, token, timeout
        self._circuit = _Circuit()
        #: The longest time, in seconds, that `get_or_refill` waits for each answer about the cache.
        self.bound = bound
        secure = any(parts.scheme == "https" for parts in self._all)
        self._tls = ssl.create_default_context(cafile=ca) if secure else None
        self._local = threading.local()
        #: The longest wait, in seconds, that an answer within the timeout leaves room for.
        self.max_wait = max(0, int(timeout) - 1)

    @classmethod
    def from_environment(cls) -> "Verax":
        """Reads VERAX_URL, VERAX_TOKEN and VERAX_CA."""
        url = os.environ.get("VERAX_URL") or "http://127.0.0.1:8750"
        return cls(url, os.environ.get("VERAX_TOKEN") or None, ca=os.environ.get("VERAX_CA") or None)

    def namespace(self, tenant: str, name: str) -> "Namespace":
        """A handle on one namespace of one tenant."""
        return Namespace(self, tenant, name)

    def __repr__(self) -> str:
        return f"Verax({', '.join(parts.geturl() for parts in self._all)})"

    def _connection(self, at: int, timeout: float) -> tuple[http.client.HTTPConnection, bool]:
        kept, kept_at = getattr(self._local, "connection", None), getattr(self._local, "at", None)
        if kept is not None and kept_at == at and kept.sock is not None:
            kept.sock.settimeout(timeout)
            return kept, True
        self._drop()
        parts = self._all[at]
        if parts.scheme == "https":
            made = http.client.HTTPSConnection(parts.hostname, parts.port, timeout=timeout,
                                               context=self._tls)
        else:
            made = http.client.HTTPConnection(parts.hostname, parts.port, timeout=timeout)
        made.connect()
        self._local.connection, self._local.at = made, at
        return made, False

    def _drop(self) -> None:
        connection = getattr(self._local, "connection", None)
        self._local.connection = None
        if connection is not None:
            connection.close()

    def request(self, method: str, path: str, body: Optional[bytes] = None, fields: Optional[dict] = None,
                timeout: Optional[float] = None) -> tuple[int, http.client.HTTPMessage, bytes]:
        """Sends one request. A kept connection that the server has closed is reopened once. An address
        that cannot be reached, or is a standby, has changed nothing, so the next one is tried."""
        self._circuit.admit()
        try:
            answered = self._request(method, path, body, fields, timeout or self._timeout)
        except Unreachable as failure:
            self._circuit.failed(str(failure))
            raise
        self._circuit.succeeded()
        return answered

    def _request(self, method: str, path: str, body: Optional[bytes], fields: Optional[dict],
                 timeout: float) -> tuple[int, http.client.HTTPMessage, bytes]:
        fields = dict(fields or {})
        if self._token:
            fields["Authorization"] = f"Bearer {self._token}"
        at, left = self._at, len(self._all) - 1
        while True:
            try:
                connection, kept = self._connection(at, timeout)
            except OSError as error:
                self._drop()
                if left == 0:
                    raise Unreachable(str(error)) from error
                at, left = (at + 1) % len(self._all), left - 1
                continue
            try:
                connection.request(method, path, body=body, headers=fields)
                response = connection.getresponse()
                status, answered, value = response.status, response.headers, response.read()
                if status == 503 and left > 0 and _is_standby(value):
                    at, left = (at + 1) % len(self._all), left - 1
                    continue
                self._at = at
                return status, answered, value
            except (http.client.RemoteDisconnected, BrokenPipeError, ConnectionResetError) as error:
                self._drop()
                if not kept:
                    raise Unreachable(str(error)) from error
            except (OSError, http.client.HTTPException) as error:
                self._drop()
                # It may have been done, so it is not sent again. The next call goes elsewhere.
                self._at = (at + 1) % len(self._all)
                raise Unreachable(str(error)) from error


class _Circuit:
    """A circuit breaker: a service that does not answer must not cost a timeout on every call."""

    FAILURES, SHORTEST, LONGEST = 3, 0.25, 2.0

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._in_a_row, self._pause, self._not_before, self._reason = 0, self.SHORTEST, 0.0, ""

    def admit(self) -> None:
        """Raises `Unreachable` while the circuit is open; after a pause one call tries again."""
        with self._lock:
            if self._in_a_row < self.FAILURES:
                return
            now = time.monotonic()
            if now < self._not_before:
                raise Unreachable("the client's circuit is open for a while after several failures, "
                                  f"the last: {self._reason}")
            self._not_before = now + self._pause

    def failed(self, reason: str) -> None:
        with self._lock:
            self._in_a_row, self._reason = self._in_a_row + 1, reason
            if self._in_a_row >= self.FAILURES:
                self._not_before = time.monotonic() + self._pause
                self._pause = min(self._pause * 2, self.LONGEST)

    def succeeded(self) -> None:
        with self._lock:
            self._in_a_row, self._pause = 0, self.SHORTEST


def _is_standby(value: bytes) -> bool:
    try:
        return json.loads(value).get("type") == "urn:verax:problem:standby"
    except (ValueError, AttributeError):
        return False


class Namespace:
    """A handle on one namespace of one tenant."""

    def __init__(self, verax: Verax, tenant: str, name: str):
        self._verax = verax
        self._base = f"/v1/tenants/{_segment(tenant)}/namespaces/{_segment(name)}"

    def _ask(self, method: str, path: str, body: Optional[bytes] = None, fields: Optional[dict] = None,
             accept: Iterable[int] = (), timeout: Optional[float] = None,
             ) -> tuple[int, http.client.HTTPMessage, bytes]:
        status, answered, value = self._verax.request(method, self._base + path, body, fields, timeout)
        if 200 <= status < 300 or status in accept:
            return status, answered, value
        try:
            problem = json.loads(value)
        except ValueError:
            problem = {}
        raise Refused(status, problem)

    def _post(self, path: str, request: dict) -> dict:
        body = json.dumps(request).encode()
        return json.loads(self._ask("POST", path, body, {"Content-Type": "application/json"})[2])

    def get(self, key: str, only_if_cached: bool = False, stale_if_error: bool = False,
            timeout: Optional[float] = None) -> Optional[Found]:
        """Gets an entry; `None` is a miss or a negative entry. With `only_if_cached`, no origin is read;
        with `stale_if_error` as well, a copy within its stale-if-error time is returned too."""
        wanted = {"only-if-cached": only_if_cached, "stale-if-error=315360000": stale_if_error}
        directives = [directive for directive, is_wanted in wanted.items() if is_wanted]
        fields = {"Cache-Control": ", ".join(directives)} if directives else {}
        try:
            path = f"/entries/{_segment(key)}"
            _, answered, value = self._ask("GET", path, fields=fields, timeout=timeout)
        except Refused as refused:
            if refused.name in ("miss", "no-value"):
                return None
            raise
        return Found(value, answered.get("Content-Type", ""), answered.get("ETag"),
                     answered.get("Cache-Status", ""))

    def put(self, key: str, value: bytes, media_type: str = "application/octet-stream",
            max_age: Optional[int] = None, tags: Iterable[str] = (), if_absent: bool = False,
            if_match: Optional[str] = None, permit: Optional[int] = None,
            stale_if_error: Optional[int] = None, timeout: Optional[float] = None) -> bool:
        """Stores a value, with a permit if it was read with one; returns whether it replaced one. Parts
        of the lifetime that are left out come from the namespace's policy."""
        fields = {"Content-Type": media_type}
        lifetime = {"max-age": max_age, "stale-if-error": stale_if_error}
        directives = [f"{part}={seconds}" for part, seconds in lifetime.items() if seconds is not None]
        if directives:
            fields["Cache-Control"] = ", ".join(directives)
        quoted = ['"' + tag.replace("\\", "\\\\").replace('"', '\\"') + '"' for tag in tags]
        if quoted:
            fields["Cache-Groups"] = ", ".join(quoted)
        if if_absent:
            fields["If-None-Match"] = "*"
        if if_match is not None:
            fields["If-Match"] = if_match
        if permit is not None:
            fields["Verax-Permit"] = str(permit)
        path = f"/entries/{_segment(key)}"
        return self._ask("PUT", path, value, fields, timeout=timeout)[0] == 204

    def delete(self, key: str) -> None:
        """Deletes an entry, present or not."""
        self._ask("DELETE", f"/entries/{_segment(key)}")

    def set_lifetime(self, key: str, max_age: int) -> bool:
        """Sets the lifetime of an entry, counted from now; returns whether it exists."""
        fields = {"Cache-Control": f"max-age={max_age}"}
        return self._ask("PATCH", f"/entries/{_segment(key)}", fields=fields, accept=(404,))[0] == 204

    def invalidate_tag(self, tag: str) -> None:
        """Invalidates every entry with a tag."""
        self._ask("DELETE", f"/tags/{_segment(tag)}")

    def batch(self, operations: list[dict]) -> list[dict]:
        """Executes operations such as {"get": {"key": "a"}}; one result for each."""
        return self._post("/batch", {"operations": operations})["results"]

    def add(self, key: str, amount: int = 1, max_age: Optional[int] = None) -> int:
        """Adds to a counter, and creates it if missing; returns its value."""
        request: dict = {"add": amount}
        if max_age is not None:
            request["cache_control"] = f"max-age={max_age}"
        return self._post(f"/counters/{_segment(key)}", request)["value"]

    def acquire_rate(self, key: str, rate: int, amount: int = 1, period: float = 1.0,
             burst: Optional[int] = None) -> Optional[float]:
        """Acquires from a rate limit: `None` when it was acquired, else the seconds to wait."""
        request = {"acquire": amount, "rate": rate, "period_seconds": period, "burst": burst or rate}
        try:
            self._post(f"/rate-limits/{_segment(key)}", request)
            return None
        except Refused as refused:
            if refused.name == "rate-limited":
                return refused.problem["retry_after_seconds"]
            raise

    def keys(self, prefix: str = "") -> Iterator[str]:
        """The keys that start with `prefix`, page by page."""
        cursor = None
        while True:
            query = {"prefix": prefix, "limit": 1000} | ({"cursor": cursor} if cursor else {})
            page = json.loads(self._ask("GET", "/entries?" + urllib.parse.urlencode(query))[2])
            yield from (item["key"] for item in page["items"])
            cursor = page.get("cursor")
            if not cursor:
                return

    def acquire_permit(self, key: str, wait: int = 0, lease: float = 10.0,
            refresh: bool = False, timeout: Optional[float] = None) -> Union[Found, int, None]:
        """Requests a key that the caller can refill: returns the value if it is cached or another caller
        stores it within `wait` seconds; the number of a permit if the caller may refill it, to store with
        or to release; `None` while another caller refills. With `refresh`, requests the permit even if a
        value is cached. A negative entry is refused as `no-value`."""
        fields = {"Content-Type": "application/json"}
        if wait:
            fields["Prefer"] = f"wait={wait}"
        body = json.dumps({"lease_seconds": lease, "refresh": refresh}).encode()
        status, answered, value = self._ask("POST", f"/permits/{_segment(key)}", body, fields,
                                            accept=(423,), timeout=timeout)
        if status == 201:
            return json.loads(value)["permit"]
        if status == 423:
            return None
        return Found(value, answered.get("Content-Type", ""), answered.get("ETag"),
                     answered.get("Cache-Status", ""))

    def release_permit(self, key: str, permit: int) -> None:
        """Releases a permit without a value; the next queued caller may refill."""
        self._ask("DELETE", f"/permits/{_segment(key)}?permit={permit}")

    def get_or_refill(self, key: str, max_age: Optional[int], refill: Callable[[], Any],
                      tags: Iterable[str] = (), stale_if_error: Optional[int] = None) -> Any:
        """Returns the JSON value of a key: from the cache, otherwise from `refill`, whose value is stored.
        Of all callers that miss it at the same time, in any process, one refills and the others wait for
        its value. A value read before an invalidation is never stored after it. When `refill` fails, a
        copy within its stale-if-error time is returned. The value does not depend on the cache: only
        errors of `refill` are raised, and `TypeError` or `ValueError` for a value that is no JSON."""
        permit, bound, wait = None, self._verax.bound, self._verax.max_wait
        try:
            found = self.get(key, only_if_cached=True, timeout=bound)
            if found is not None:
                try:
                    return json.loads(found.value)
                except ValueError:
                    pass  # a value of another form is replaced by the caller that gets the permit
            outcome = self.acquire_permit(key, wait=wait, refresh=True, timeout=wait + bound)
            if isinstance(outcome, Found):
                return json.loads(outcome.value)
            permit = outcome
        except (ValueError, Unreachable, Refused):
            pass
        try:
            value = refill()
        except BaseException as failure:
            self._release_quietly(key, permit)
            stale = self._stale_copy(key) if isinstance(failure, Exception) else None
            if stale is not None:
                return stale
            raise
        try:
            body = json.dumps(value).encode()
        except (TypeError, ValueError):
            self._release_quietly(key, permit)
            raise
        # Without a permit nothing is stored, since it could be outdated.
        if permit is not None:
            try:
                self.put(key, body, "application/json", max_age, tags=tags, permit=permit,
                         stale_if_error=stale_if_error, timeout=bound)
            except (Unreachable, Refused):
                self._release_quietly(key, permit)
        return value

    def _stale_copy(self, key: str) -> Any:
        """The value of a copy within its stale-if-error time, for a caller whose refill failed."""
        try:
            found = self.get(key, only_if_cached=True, stale_if_error=True, timeout=self._verax.bound)
            return json.loads(found.value) if found is not None else None
        except (ValueError, Unreachable, Refused):
            return None

    def _release_quietly(self, key: str, permit: Optional[int]) -> None:
        if permit is not None:
            try:
                self.release_permit(key, permit)
            except (Unreachable, Refused):
                pass  # its end time does the rest


def _segment(text: str) -> str:
    if text in ("", ".", ".."):
        raise ValueError(f"{text!r} cannot be put in a URL")
    return urllib.parse.quote(text, safe="")


def stable_key(prefix: str, criteria: Any) -> str:
    """A key from criteria, the same as `verax key` and the Rust client make: the prefix, and half the
    SHA-256 of the criteria as canonical JSON (RFC 8785)."""
    if not prefix or ":" in prefix or len(prefix.encode()) > 200:
        raise ValueError(f"{prefix!r} cannot begin a key: use 1 to 200 bytes without a colon")
    return f"{prefix}:{hashlib.sha256(_canonical(criteria).encode()).hexdigest()[:32]}"


def _canonical(value: Any) -> str:
    if value is None or isinstance(value, (bool, str)):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, (int, float)):
        return _number(float(value))
    if isinstance(value, (list, tuple)):
        return "[" + ",".join(map(_canonical, value)) + "]"
    if isinstance(value, dict):
        if not all(isinstance(name, str) for name in value):
            raise TypeError("the names of criteria must be texts")
        # By UTF-16 code units, as the RFC asks.
        names = sorted(value, key=lambda name: name.encode("utf-16-be"))
        return "{" + ",".join(_canonical(n) + ":" + _canonical(value[n]) for n in names) + "}"
    raise TypeError(f"{type(value).__name__} makes no JSON")


def _number(number: float) -> str:
    """A double as ECMAScript writes it (RFC 8785, section 3.2.2.3)."""
    if not math.isfinite(number):
        raise ValueError(f"{number} makes no JSON")
    if number == 0:
        return "0"
    sign = "-" if number < 0 else ""
    digits, exponent = f"{abs(number)!r}", 0
    if "e" in digits:
        digits, power = digits.split("e")
        exponent = int(power)
    whole, _, part = digits.partition(".")
    point = len(whole) + exponent
    digits = (whole + part).lstrip("0")
    point -= len(whole + part) - len(digits)
    digits = digits.rstrip("0")
    if 0 < point <= 21:
        if len(digits) <= point:
            return sign + digits.ljust(point, "0")
        return f"{sign}{digits[:point]}.{digits[point:]}"
    if -6 < point <= 0:
        return f"{sign}0.{'0' * -point}{digits}"
    power = point - 1
    first, rest = digits[0], digits[1:]
    return f"{sign}{first}{'.' + rest if rest else ''}e{'+' if power > 0 else '-'}{abs(power)}"
