"""The frames of the wire protocol (docs/wire-protocol.md): requests to bytes, bytes to replies."""

import struct
from dataclasses import dataclass
from typing import Any, Dict, Iterable, List, Optional, Sequence, Tuple

from .errors import Refused, VeraxError
from .values import Found, Lifetime, Put

HEAD = 12
VERSION = 1
MAX_BODY = 128 << 20
MAX_KEY, MAX_TAG, MAX_TAGS, MAX_OPERATIONS = 1024, 128, 32, 1000

#: The media type of a negative entry.
NO_VALUE_TYPE = "application/vnd.verax.no-value"

_ABSENT = (1 << 64) - 1
_SOURCES = ("hit", "stale", "stale-on-error", "origin", "joined", "hit")
_DUE = 5

#: The names of failure codes, from 1 on.
_CODES = ("invalid", "not-signed-in", "missing-scope", "not-found", "condition-failed", "value-too-large",
          "origin-failed", "origin-timeout", "no-value", "wrong-kind", "overloaded", "unsupported-version",
          "records-unavailable", "internal", "not-held", "permit-voided", "permit-expired", "standby",
          "origin-unavailable", "refill-abandoned", "key-mismatch", "has-origin", "quota-exceeded",
          "broken-content")


class Breach(VeraxError):
    """The peer does not speak the protocol."""


@dataclass(frozen=True)
class Request:
    """A request: its kind, flags and body, and for HTTP what it says."""

    name: str
    kind: int
    flags: int
    body: bytes
    said: Dict[str, Any]

    def frame(self, namespace: int, number: int) -> bytes:
        """The request as a frame."""
        return struct.pack("<IBBHI", len(self.body), self.kind, self.flags, namespace, number) + self.body


def _milliseconds(seconds: float) -> int:
    return min(max(0, round(seconds * 1000)), _ABSENT - 1)


def _short(text: str) -> bytes:
    data = text.encode()
    if len(data) > 255:
        raise ValueError(f"{text[:40]!r}… has {len(data)} bytes: at most 255 are allowed")
    return bytes([len(data)]) + data


def _long(text: str) -> bytes:
    data = text.encode()
    return struct.pack("<H", len(data)) + data


def checked_key(key: str) -> bytes:
    """A key, if it can be one."""
    data = key.encode()
    if not 1 <= len(data) <= MAX_KEY:
        raise ValueError(f"a key of {len(data)} bytes is out of range: use 1 to {MAX_KEY}")
    return data


def _tag(tag: str) -> bytes:
    data = tag.encode()
    if not 1 <= len(data) <= MAX_TAG:
        raise ValueError(f"a tag of {len(data)} bytes is out of range: use 1 to {MAX_TAG}")
    return data


def _tags(tags: Sequence[str]) -> bytes:
    if len(tags) > MAX_TAGS:
        raise ValueError(f"an entry with {len(tags)} tags has too many: use at most {MAX_TAGS}")
    return bytes([len(tags)]) + b"".join(bytes([len(data)]) + data for data in map(_tag, tags))


def _lifetime(lifetime: Lifetime) -> bytes:
    parts = (lifetime.max_age, lifetime.stale_while_revalidate, lifetime.stale_if_error)
    return struct.pack("<3Q", *(_ABSENT if part is None else _milliseconds(part) for part in parts))


def entity_tag_number(tag: str) -> bytes:
    """An entity tag, with its quotes, in its wire form."""
    try:
        return int(tag.strip().strip('"'), 16).to_bytes(16, "little")
    except (ValueError, OverflowError):
        raise ValueError(f"{tag!r} is not an entity tag") from None


def hello(token: str) -> Request:
    body = b"VRXW" + struct.pack("<HH", VERSION, VERSION) + _long(token) + _short("verax-python/0.1.0")
    return Request("hello", 0x01, 0, body, {})


def open_namespace(tenant: str, namespace: str) -> Request:
    return Request("open", 0x02, 0, _short(tenant) + _short(namespace), {})


def ping() -> Request:
    return Request("ping", 0x03, 0, b"", {})


def trace(traceparent: str, tracestate: str) -> Request:
    return Request("trace", 0x06, 0, _short(traceparent) + tracestate.encode(), {})


def get(key: str, only_if_cached: bool = False, refresh: bool = False, details: bool = False,
        may_refill: bool = False, revision: bool = False, stale_if_error: bool = False) -> Request:
    flags = (only_if_cached * 1 | refresh * 2 | details * 4 | may_refill * 8 | revision * 16
             | stale_if_error * 32)
    said = {"key": key, "only_if_cached": only_if_cached, "refresh": refresh,
            "stale_if_error": stale_if_error}
    return Request("get", 0x10, flags, checked_key(key), said)


def _put(put: Put, kind: int, before: bytes, tell_revision: bool, permit: Optional[int]) -> Request:
    conditions = [put.if_absent, put.if_matches is not None, put.if_revision is not None]
    if sum(conditions) > 1:
        raise ValueError("a put has at most one condition")
    if not 1 <= len(put.media_type.encode()) <= 255 or put.media_type.count("/") != 1:
        raise ValueError(f"{put.media_type!r} is not a media type: use TYPE/SUBTYPE")
    flags, body = tell_revision * 32, before
    if put.if_absent:
        flags |= 1
    if put.if_matches is not None:
        flags, body = flags | 2, body + entity_tag_number(put.if_matches)
    if put.if_revision is not None:
        flags, body = flags | 16, body + struct.pack("<Q", put.if_revision)
    if put.lifetime.is_given:
        flags, body = flags | 4, body + _lifetime(put.lifetime)
    if put.tags:
        flags, body = flags | 8, body + _tags(list(put.tags))
    checked_key(put.key)
    body += _short(put.media_type) + _long(put.key) + put.value
    return Request("put", kind, flags, body, {"put": put, "permit": permit})


def put(entry: Put, tell_revision: bool = False) -> Request:
    return _put(entry, 0x11, b"", tell_revision, None)


def delete(key: str) -> Request:
    return Request("delete", 0x12, 0, checked_key(key), {"key": key})


def set_lifetime(key: str, lifetime: Lifetime) -> Request:
    flags, before = (1, _lifetime(lifetime)) if lifetime.is_given else (0, b"")
    said = {"key": key, "lifetime": lifetime}
    return Request("set_lifetime", 0x13, flags, before + checked_key(key), said)


def batch(operations: Sequence[Request]) -> Request:
    parts = [struct.pack("<H", len(operations))]
    parts += [struct.pack("<BBI", part.kind, part.flags, len(part.body)) + part.body for part in operations]
    return Request("batch", 0x14, 0, b"".join(parts), {"operations": operations})


def list_keys(prefix: str, cursor: str, limit: int) -> Request:
    body = struct.pack("<H", limit) + _short(cursor) + prefix.encode()
    return Request("list", 0x15, 0, body, {"prefix": prefix, "cursor": cursor, "limit": limit})


def invalidate_tag(tag: str) -> Request:
    return Request("invalidate_tag", 0x16, 0, _tag(tag), {"tag": tag})


def add(key: str, amount: int, lifetime: Lifetime) -> Request:
    if not -(1 << 63) <= amount < 1 << 63:
        raise ValueError(f"{amount} does not fit into 64 bits")
    flags, part = (1, _lifetime(lifetime)) if lifetime.is_given else (0, b"")
    body = struct.pack("<q", amount) + part + checked_key(key)
    return Request("add", 0x17, flags, body, {"key": key, "amount": amount, "lifetime": lifetime})


def acquire_rate(key: str, amount: int, count: int, period: float, burst: int) -> Request:
    if min(amount, count, burst) < 0:
        raise ValueError("a rate limit has no negative numbers")
    body = struct.pack("<4Q", amount, count, _milliseconds(period), burst) + checked_key(key)
    said = {"key": key, "amount": amount, "count": count, "period": period, "burst": burst}
    return Request("acquire_rate", 0x18, 0, body, said)


def clear(prefix: Optional[str]) -> Request:
    flags, body = (0, b"") if prefix is None else (1, checked_key(prefix))
    return Request("clear", 0x19, flags, body, {"prefix": prefix})


def acquire_lock(name: str, owner: str, lease: float, wait: float) -> Request:
    body = struct.pack("<2Q", _milliseconds(lease), _milliseconds(wait)) + _short(owner) + checked_key(name)
    said = {"name": name, "owner": owner, "lease": lease, "wait": wait}
    return Request("acquire_lock", 0x20, 0, body, said)


def renew_lock(name: str, fencing_token: int, lease: float) -> Request:
    body = struct.pack("<2Q", fencing_token, _milliseconds(lease)) + checked_key(name)
    said = {"name": name, "fencing_token": fencing_token, "lease": lease}
    return Request("renew_lock", 0x21, 0, body, said)


def release_lock(name: str, fencing_token: int) -> Request:
    body = struct.pack("<Q", fencing_token) + checked_key(name)
    return Request("release_lock", 0x22, 0, body, {"name": name, "fencing_token": fencing_token})


def peek_lock(name: str) -> Request:
    return Request("peek_lock", 0x23, 0, checked_key(name), {"name": name})


def acquire_permit(key: str, lease: float, wait: float, stale: bool, refresh: bool,
                   details: bool) -> Request:
    body = struct.pack("<2Q", _milliseconds(lease), _milliseconds(wait)) + _short("") + checked_key(key)
    said = {"key": key, "lease": lease, "wait": wait, "stale": stale, "refresh": refresh}
    return Request("acquire_permit", 0x28, stale * 1 | details * 2 | refresh * 4, body, said)


def await_refill(lease: float, wait: float) -> Request:
    body = struct.pack("<2Q", _milliseconds(lease), _milliseconds(wait))
    return Request("await_refill", 0x2B, 0, body, {"lease": lease, "wait": wait})


def put_with_permit(permit: int, entry: Put) -> Request:
    return _put(entry, 0x29, struct.pack("<Q", permit), False, permit)


def release_permit(key: str, permit: int) -> Request:
    body = struct.pack("<Q", permit) + checked_key(key)
    return Request("release_permit", 0x2A, 0, body, {"key": key, "permit": permit})


@dataclass(frozen=True)
class Reply:
    """A reply: its name, and its fields. A value's is a `Found`."""

    name: str
    said: Any = None

    def needs(self, name: str) -> Any:
        """The fields, if this is the expected reply."""
        if self.name != name:
            raise Breach(f"an unexpected reply: {self.name} instead of {name}")
        return self.said


class _Body:
    """Reads the fields of a body in turn."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, length: int) -> bytes:
        end = self.at + length
        if end > len(self.data):
            raise Breach("a body is too short for its fields")
        part, self.at = self.data[self.at:end], end
        return part

    def number(self, form: str) -> int:
        return int(struct.unpack("<" + form, self.take(struct.calcsize("<" + form)))[0])

    def text(self, length: int) -> str:
        try:
            return self.take(length).decode()
        except UnicodeDecodeError:
            raise Breach("a text is not UTF-8") from None

    def short(self) -> str:
        return self.text(self.number("B"))

    def rest(self) -> str:
        return self.text(len(self.data) - self.at)

    def end(self) -> None:
        if self.at != len(self.data):
            raise Breach("a body is too long for its fields")


def _flags(kind: int, flags: int, known: int) -> None:
    if flags & ~known:
        raise Breach(f"a frame of kind {kind:#x} has unknown flags: {flags}")


def _value(flags: int, body: _Body) -> Reply:
    source = body.number("B")
    if source >= len(_SOURCES):
        raise Breach(f"unknown source {source}")
    left = body.number("q")
    more: Dict[str, Any] = {}
    if flags & 1:
        more["age"] = body.number("Q") / 1000
        more["entity_tag"] = f'"{int.from_bytes(body.take(16), "little"):032x}"'
        more["media_type"] = body.short()
        more["tags"] = tuple(body.short() for _ in range(body.number("B")))
    if flags & 2:
        more["revision"] = body.number("Q")
    found = Found(value=body.take(len(body.data) - body.at), source=_SOURCES[source],
                  time_left=left / 1000 if left > 0 else None, is_due=source == _DUE, **more)
    return Reply("value", found)


def _batch(body: _Body) -> Reply:
    replies = []
    for _ in range(body.number("H")):
        kind, flags = body.number("B"), body.number("B")
        replies.append(reply(kind, flags, body.take(body.number("I"))))
    return Reply("batch", replies)


def _page(body: _Body) -> Reply:
    cursor = body.short()
    keys = []
    for _ in range(body.number("H")):
        keys.append(body.text(body.number("H")))
        body.take(24)
        body.short()
    return Reply("page", (keys, cursor))


def failure_name(code: int) -> str:
    """The name of a failure's code; those of later versions count as internal."""
    return _CODES[code - 1] if 1 <= code <= len(_CODES) else "internal"


def reply(kind: int, flags: int, data: bytes) -> Reply:
    """Decodes a reply or push."""
    body = _Body(data)
    read = _reply(kind, flags, body)
    body.end()
    return read


def _reply(kind: int, flags: int, body: _Body) -> Reply:
    known = {0x82: 3, 0x85: 3, 0x90: 3, 0x92: 3, 0x97: 1, 0xFF: 3}
    _flags(kind, flags, known.get(kind, 0))
    if kind == 0x81:
        body.number("H")
        said: Dict[str, Any] = {"max_body": body.number("I"), "max_in_flight": body.number("I")}
        body.number("I")
        body.number("Q")
        said["nodes"] = [body.short() for _ in range(body.number("B"))]
        return Reply("welcome", said)
    if kind == 0x82:
        return Reply("opened", body.number("Q"))
    if kind == 0x85:
        return Reply("invalidated", body.rest())
    if kind == 0x90:
        return _value(flags, body)
    if kind == 0x92:
        return Reply("done", (bool(flags & 1), body.number("Q") if flags & 2 else None))
    if kind == 0x94:
        return _batch(body)
    if kind == 0x95:
        return _page(body)
    if kind == 0x97:
        return Reply("counted", body.number("q"))
    if kind == 0x98:
        return Reply("rate acquired", body.number("Q"))
    if kind == 0x99:
        return Reply("later", body.number("Q") / 1000)
    if kind == 0x9A:
        return Reply("cleared", body.number("Q"))
    if kind in (0xA0, 0xA8):
        name = "granted" if kind == 0xA0 else "permit"
        return Reply(name, (body.number("Q"), body.number("Q") / 1000))
    if kind == 0xA9:
        return Reply("wanted", (body.number("Q"), body.number("Q") / 1000, body.rest()))
    if kind == 0xA1:
        held: Dict[str, Any] = {"fencing_token": body.number("Q"),
                                "ends_in_seconds": body.number("Q") / 1000,
                                "held_seconds": body.number("Q") / 1000}
        body.number("I")
        return Reply("held", {**held, "owner": body.rest()})
    if kind == 0xFF:
        name, number = failure_name(body.number("H")), body.number("Q")
        request_id = f"{number:016x}" if number else None
        retry_after = body.number("Q") / 1_000 if flags & 2 else None
        return Reply("failed", Refused(name, body.rest(), request_id, bool(flags & 1), retry_after))
    names = {0x83: "pong", 0x84: "goodbye", 0x91: "miss"}
    if kind not in names:
        raise Breach(f"unknown kind {kind:#x}")
    return Reply(names[kind])


def next_frame(received: bytearray) -> Optional[Tuple[int, int, int, int, bytes]]:
    """Takes the first complete frame: kind, flags, namespace, id and body."""
    if len(received) < HEAD:
        return None
    length, kind, flags, namespace, number = struct.unpack_from("<IBBHI", received)
    if length > MAX_BODY:
        raise Breach(f"a frame of {length} bytes is too large")
    if len(received) < HEAD + length:
        return None
    body = bytes(received[HEAD:HEAD + length])
    del received[:HEAD + length]
    return kind, flags, namespace, number, body


def parts(operations: Iterable[Request]) -> List[List[Request]]:
    """Splits operations into batches that fit."""
    split: List[List[Request]] = [[]]
    size = 0
    for operation in operations:
        size += len(operation.body)
        if split[-1] and (len(split[-1]) == MAX_OPERATIONS or size > 4 << 20):
            split.append([])
            size = len(operation.body)
        split[-1].append(operation)
    return [part for part in split if part]
