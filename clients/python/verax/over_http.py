"""The same requests over HTTP, for where only HTTP gets through. Waits and lifetimes are in whole
seconds, rounded up."""

import asyncio
import http.client
import json
import math
import ssl
import threading
import urllib.parse
import weakref
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Callable, Dict, List, Optional, Tuple

from .errors import Refused, Unreachable
from .frames import Reply, Request
from .values import Found, Lifetime, Put
from .wire import Place, Trace, Undo

Response = Tuple[int, http.client.HTTPMessage, bytes]


class Http:
    """HTTP requests on threads of their own, each with a connection that is kept."""

    THREADS = 16

    def __init__(self, urls: str, token: Callable[[], str], ca: Optional[str], timeout: float) -> None:
        self._all = [urllib.parse.urlsplit(one.strip()) for one in urls.split(",")]
        for parts in self._all:
            if parts.scheme not in ("http", "https") or not parts.hostname:
                raise ValueError(f"{parts.geturl()!r} is not an address of Verax: use something like "
                                 "http://127.0.0.1:8750")
        self._at, self._token, self._timeout = 0, token, timeout
        secure = any(parts.scheme == "https" for parts in self._all)
        self._tls = ssl.create_default_context(cafile=ca) if secure else None
        self._local = threading.local()
        self._open: "weakref.WeakSet[http.client.HTTPConnection]" = weakref.WeakSet()
        self._threads = ThreadPoolExecutor(self.THREADS, "verax-http")

    async def call(self, place: Place, request: Request, undo: Optional[Undo] = None,
                   trace: Trace = None) -> Reply:
        """Carries out a request."""
        if request.name == "batch":
            answers = await asyncio.gather(*(self._one(place, part, None, trace)
                                             for part in request.said["operations"]))
            return Reply("batch", answers)
        reply = await self._one(place, request, undo, trace)
        if reply.name == "failed":
            raise reply.said
        return reply

    def close(self) -> None:
        """Ends the connections, and the threads."""
        self._threads.shutdown(wait=False)
        for connection in list(self._open):
            connection.close()

    async def _one(self, place: Place, request: Request, undo: Optional[Undo], trace: Trace) -> Reply:
        loop = asyncio.get_running_loop()
        answering = loop.run_in_executor(self._threads, self._carry_out, place, request, trace)
        try:
            return await asyncio.shield(answering)
        except asyncio.CancelledError:
            # Nobody asks for what it comes to.
            answering.add_done_callback(lambda done: done.cancelled() or done.exception())
            if undo is not None:
                answering.add_done_callback(lambda done: self._take_back(place, undo, done))
            raise

    def _take_back(self, place: Place, undo: Undo, done: "asyncio.Future[Reply]") -> None:
        if done.cancelled() or done.exception() is not None:
            return
        request = undo(done.result())
        if request is not None:
            self._threads.submit(self._carry_out, place, request, None)

    def _carry_out(self, place: Place, request: Request, trace: Trace) -> Reply:
        method, path, fields, body, read = _plan(request)
        base = "/v1/tenants/{}/namespaces/{}".format(*map(_segment, place))
        if trace is not None:
            fields["traceparent"] = trace[0]
            if trace[1]:
                fields["tracestate"] = trace[1]
        wait = request.said.get("wait", 0.0)
        status, answered, value = self._request(method, base + path, fields, body, wait)
        if 200 <= status < 300:
            return read(status, answered, value)
        try:
            problem = json.loads(value)
        except ValueError:
            raise Unreachable(f"it answered {status} without a problem document") from None
        return _refusal(problem)

    def _request(self, method: str, path: str, fields: Dict[str, str], body: Optional[bytes],
                 wait: float) -> Response:
        """Sends one request. A kept connection that the server has closed is reopened once. An address
        that cannot be reached, or is a standby, has changed nothing, so the next one is tried."""
        fields["Authorization"] = f"Bearer {self._token()}"
        at, left = self._at, len(self._all) - 1
        while True:
            try:
                connection, kept = self._connection(at, self._timeout + wait)
            except OSError as error:
                self._drop()
                if left == 0:
                    raise Unreachable(f"Verax cannot be reached: {error}") from error
                at, left = (at + 1) % len(self._all), left - 1
                continue
            try:
                is_sent = True
                try:
                    connection.request(method, path, body=body, headers=fields)
                except (BrokenPipeError, ConnectionResetError):
                    # A server may refuse a body before all of it was sent: its response says why.
                    is_sent = False
                response = connection.getresponse()
                status, answered, value = response.status, response.headers, response.read()
                if not is_sent:
                    self._drop()
                if status == 503 and left > 0 and _problem_name(value) == "standby":
                    at, left = (at + 1) % len(self._all), left - 1
                    continue
                self._at = at
                return status, answered, value
            except (http.client.RemoteDisconnected, BrokenPipeError, ConnectionResetError) as error:
                self._drop()
                if not kept:
                    raise Unreachable(f"Verax cannot be reached: {error}") from error
            except (OSError, http.client.HTTPException) as error:
                self._drop()
                # It may have been done, so it is not sent again. The next call goes elsewhere.
                self._at = (at + 1) % len(self._all)
                raise Unreachable(f"Verax cannot be reached: {error}") from error

    def _connection(self, at: int, timeout: float) -> Tuple[http.client.HTTPConnection, bool]:
        kept, kept_at = getattr(self._local, "connection", None), getattr(self._local, "at", None)
        if kept is not None and kept_at == at and kept.sock is not None:
            kept.sock.settimeout(timeout)
            return kept, True
        self._drop()
        parts = self._all[at]
        host = parts.hostname or ""
        if parts.scheme == "https":
            made: http.client.HTTPConnection = http.client.HTTPSConnection(
                host, parts.port, timeout=timeout, context=self._tls)
        else:
            made = http.client.HTTPConnection(host, parts.port, timeout=timeout)
        made.connect()
        self._local.connection, self._local.at = made, at
        self._open.add(made)
        return made, False

    def _drop(self) -> None:
        connection = getattr(self._local, "connection", None)
        self._local.connection = None
        if connection is not None:
            connection.close()


def _segment(text: str) -> str:
    if text in ("", ".", ".."):
        raise ValueError(f"{text!r} cannot be put in a URL")
    return urllib.parse.quote(text, safe="")


def _problem_name(value: bytes) -> str:
    try:
        return str(json.loads(value).get("type", "")).removeprefix("urn:verax:problem:")
    except (ValueError, AttributeError):
        return ""


def _refusal(problem: Dict[str, Any]) -> Reply:
    name = str(problem.get("type", "")).removeprefix("urn:verax:problem:") or "internal"
    if name == "miss":
        return Reply("miss")
    if name in ("being-refilled", "rate-limited"):
        return Reply("later", float(problem.get("retry_after_seconds", 1.0)))
    if name == "locked":
        said = {part: problem.get(part, 0) for part in ("fencing_token", "ends_in_seconds", "held_seconds")}
        return Reply("held", {**said, "owner": problem.get("owner", "")})
    # HTTP tells what cannot be read from what cannot be; the wire protocol has one name for both.
    name = "invalid" if name == "bad-request" else name
    return Reply("failed", Refused(name, problem.get("detail", ""), problem.get("request_id"),
                                   problem.get("unchanged") is True, problem.get("retry_after_seconds")))


def _cache_control(lifetime: Lifetime, *more: str) -> Dict[str, str]:
    parts = {"max-age": lifetime.max_age, "stale-while-revalidate": lifetime.stale_while_revalidate,
             "stale-if-error": lifetime.stale_if_error}
    directives = [f"{name}={math.ceil(time)}" for name, time in parts.items() if time is not None]
    directives += more
    return {"Cache-Control": ", ".join(directives)} if directives else {}


def _found(_: int, answered: http.client.HTTPMessage, value: bytes) -> Reply:
    status = [part.strip() for part in answered.get("Cache-Status", "").split(",")[-1].split(";")]
    said = dict(part.partition("=")[::2] for part in status[1:])
    left = int(said["ttl"]) if said.get("ttl", "").lstrip("-").isdigit() else None
    if "hit" in said:
        source = "stale" if left is not None and left < 0 else "hit"
    elif said.get("fwd") == "stale":
        source = "stale-on-error"
    else:
        source = "joined" if "collapsed" in said else "origin"
    revision = answered.get("Verax-Revision")
    return Reply("value", Found(
        value=value, source=source, time_left=float(left) if left and left > 0 else None,
        age=float(answered.get("Age", "0")), entity_tag=answered.get("ETag"),
        media_type=answered.get("Content-Type"), tags=tuple(_groups(answered.get("Cache-Groups", ""))),
        revision=int(revision) if revision else None))


def _groups(field: str) -> List[str]:
    """The members of a list of strings (RFC 9651)."""
    groups: List[str] = []
    at = 0
    while (start := field.find('"', at)) >= 0:
        at, text = start + 1, ""
        while at < len(field) and field[at] != '"':
            at += field[at] == "\\"
            text, at = text + field[at:at + 1], at + 1
        groups.append(text)
        at += 1
    return groups


def _json(name: str, read: Callable[[Any], Any]) -> Callable[..., Reply]:
    return lambda status, answered, value: Reply(name, read(json.loads(value)))


def _plan(request: Request) -> Tuple[str, str, Dict[str, str], Optional[bytes], Callable[..., Reply]]:
    """The HTTP request, and how its response is read."""
    said, plain = request.said, {"Content-Type": "application/json"}
    done = lambda status, answered, value: Reply("done", (True, None))  # noqa: E731
    if request.name == "get":
        wanted = {"no-cache": said["refresh"], "only-if-cached": said["only_if_cached"],
                  "stale-if-error=315360000": said["stale_if_error"]}
        fields = _cache_control(Lifetime(), *(name for name, is_wanted in wanted.items() if is_wanted))
        return "GET", f"/entries/{_segment(said['key'])}", fields, None, _found
    if request.name == "put":
        return _plan_put(said["put"], said["permit"])
    if request.name == "delete":
        read = lambda status, answered, value: Reply(  # noqa: E731
            "done", (answered.get("Verax-Deleted") == "?1", None))
        return "DELETE", f"/entries/{_segment(said['key'])}", {}, None, read
    if request.name == "set_lifetime":
        path = f"/entries/{_segment(said['key'])}"
        return "PATCH", path, _cache_control(said["lifetime"]), None, done
    if request.name == "list":
        query = {"prefix": said["prefix"], "limit": said["limit"]}
        query.update({"cursor": said["cursor"]} if said["cursor"] else {})
        read_page = _json("page", lambda page: ([item["key"] for item in page["items"]],
                                                page.get("cursor") or ""))
        return "GET", "/entries?" + urllib.parse.urlencode(query), {}, None, read_page
    if request.name == "invalidate_tag":
        return "DELETE", f"/tags/{_segment(said['tag'])}", {}, None, done
    if request.name == "clear":
        prefix = said["prefix"]
        path = "/entries" if prefix is None else "/entries?" + urllib.parse.urlencode({"prefix": prefix})
        return "DELETE", path, {}, None, _json("cleared", lambda cleared: cleared["entries"])
    if request.name == "add":
        lifetime = _cache_control(said["lifetime"]).get("Cache-Control")
        add = {"add": said["amount"], **({"cache_control": lifetime} if lifetime else {})}
        path = f"/counters/{_segment(said['key'])}"
        return "POST", path, plain, json.dumps(add).encode(), _json("counted", lambda c: c["value"])
    if request.name == "acquire_rate":
        rate = {"acquire": said["amount"], "rate": said["count"], "period_seconds": said["period"],
                "burst": said["burst"]}
        path = f"/rate-limits/{_segment(said['key'])}"
        return "POST", path, plain, json.dumps(rate).encode(), _json("rate acquired", lambda r: r["left"])
    if request.name == "await_refill":
        return _plan_await(request)
    if request.name in ("acquire_permit", "release_permit"):
        return _plan_permit(request)
    return _plan_lock(request)


def _plan_put(put: Put, permit: Optional[int]) -> Tuple[str, str, Dict[str, str], Optional[bytes],
                                                        Callable[..., Reply]]:
    fields = {"Content-Type": put.media_type, **_cache_control(put.lifetime)}
    quoted = ['"' + tag.replace("\\", "\\\\").replace('"', '\\"') + '"' for tag in put.tags]
    if quoted:
        fields["Cache-Groups"] = ", ".join(quoted)
    if put.if_absent:
        fields["If-None-Match"] = "*"
    if put.if_matches is not None:
        fields["If-Match"] = put.if_matches
    if put.if_revision is not None:
        fields["Verax-If-Revision"] = str(put.if_revision)
    if permit is not None:
        fields["Verax-Permit"] = str(permit)
    read = lambda status, answered, value: Reply("done", (status == 204, None))  # noqa: E731
    return "PUT", f"/entries/{_segment(put.key)}", fields, put.value, read


def _waits(seconds: float) -> Dict[str, str]:
    wait = {"Prefer": f"wait={math.ceil(seconds)}"} if seconds > 0 else {}
    return {"Content-Type": "application/json", **wait}


def _plan_permit(request: Request) -> Tuple[str, str, Dict[str, str], Optional[bytes],
                                            Callable[..., Reply]]:
    said = request.said
    path = f"/permits/{_segment(said['key'])}"
    if request.name == "release_permit":
        read = lambda status, answered, value: Reply("done", (True, None))  # noqa: E731
        return "DELETE", f"{path}?permit={said['permit']}", {}, None, read
    body = {"lease_seconds": said["lease"], "stale": said["stale"], "refresh": said["refresh"]}

    def granted(status: int, answered: http.client.HTTPMessage, value: bytes) -> Reply:
        if status != 201:
            return _found(status, answered, value)
        grant = json.loads(value)
        return Reply("permit", (grant["permit"], grant["ends_in_seconds"]))

    return "POST", path, _waits(said["wait"]), json.dumps(body).encode(), granted


def _plan_await(request: Request) -> Tuple[str, str, Dict[str, str], Optional[bytes],
                                           Callable[..., Reply]]:
    def wanted(status: int, answered: http.client.HTTPMessage, value: bytes) -> Reply:
        if status == 204:
            return Reply("miss")
        grant = json.loads(value)
        return Reply("wanted", (grant["permit"], grant["ends_in_seconds"], grant["key"]))

    body = json.dumps({"lease_seconds": request.said["lease"]}).encode()
    return "POST", "/wanted-refills", _waits(request.said["wait"]), body, wanted


def _plan_lock(request: Request) -> Tuple[str, str, Dict[str, str], Optional[bytes],
                                          Callable[..., Reply]]:
    said = request.said
    path = f"/locks/{_segment(said['name'])}"
    granted = _json("granted", lambda lease: (lease["fencing_token"], lease["ends_in_seconds"]))
    if request.name == "acquire_lock":
        body: Dict[str, Any] = {"lease_seconds": said["lease"]}
        body.update({"owner": said["owner"]} if said["owner"] else {})
        return "POST", path, _waits(said["wait"]), json.dumps(body).encode(), granted
    if request.name == "renew_lock":
        body = {"fencing_token": said["fencing_token"], "lease_seconds": said["lease"]}
        return "PATCH", path, _waits(0), json.dumps(body).encode(), granted
    if request.name == "release_lock":
        read = lambda status, answered, value: Reply("done", (True, None))  # noqa: E731
        return "DELETE", f"{path}?fencing_token={said['fencing_token']}", {}, None, read

    def peeked(status: int, answered: http.client.HTTPMessage, value: bytes) -> Reply:
        holder = json.loads(value).get("holder")
        return Reply("held", holder) if holder else Reply("miss")

    return "GET", path, {}, None, peeked
