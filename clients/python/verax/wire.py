"""Connections of the wire protocol: pooled, each shared by many calls whose requests do not wait for
each other."""

import asyncio
import ssl
import time
from typing import Any, Awaitable, Callable, Dict, List, Optional, Set, Tuple

from . import frames
from .errors import Refused, TimedOut, Unreachable, VeraxError
from .frames import Reply, Request

#: How often an idle connection is tried, in seconds; without an answer for as long it is broken.
PING_EVERY = 2.0

#: Requests that are sent regardless of what is in flight: those that unblock others.
_URGENT = frozenset({"ping", "renew_lock", "release_lock", "release_permit"})
_KEPT_FREE = 16

#: Makes the request that returns what a reply granted to a caller that is gone.
Undo = Callable[[Reply], Optional[Request]]

Place = Tuple[str, str]
Trace = Optional[Tuple[str, str]]


class Address:
    """`HOST:PORT` or `tls://HOST:PORT`."""

    def __init__(self, text: str) -> None:
        self.is_secure = text.startswith("tls://")
        host, colon, port = text.removeprefix("tls://").rpartition(":")
        if not colon or not host or not port.isdigit() or int(port) > 65535:
            raise ValueError(f"{text!r} is not an address of the wire: use HOST:PORT or tls://HOST:PORT")
        self.host, self.port, self.text = host.strip("[]"), int(port), text


class Connection:
    """One connection. After its first failure every call on it fails."""

    def __init__(self, address: Address, reader: asyncio.StreamReader,
                 writer: asyncio.StreamWriter) -> None:
        self.address = address
        self.is_broken = False
        self.nodes: List[str] = []
        self._reader, self._writer = reader, writer
        self._last_id = 0
        self._waiting: Dict[int, "asyncio.Future[Tuple[int, Reply]]"] = {}
        self._abandoned: Dict[int, Tuple[int, Undo]] = {}
        self._opened: Dict[Place, "asyncio.Future[int]"] = {}
        self._in_flight = asyncio.Semaphore(_KEPT_FREE)
        self._heard = time.monotonic()
        #: Why it broke.
        self._failure: Optional[VeraxError] = None
        self._tasks = [asyncio.ensure_future(self._read())]

    @classmethod
    async def open(cls, address: Address, token: str, tls: Optional[ssl.SSLContext]) -> "Connection":
        """Connects and sends the hello.

        Raises `Unreachable`, or `Refused` for a token that is not valid."""
        try:
            context = tls if address.is_secure else None
            reader, writer = await asyncio.open_connection(address.host, address.port, ssl=context)
        except OSError as error:
            raise Unreachable(f"Verax at {address.text} cannot be reached: {error}") from error
        connection = cls(address, reader, writer)
        try:
            _, reply = await connection._send(0, frames.hello(token), None, None)
            said = connection._known(reply).needs("welcome")
        except BaseException:
            connection.close()
            raise
        most = min(said["max_in_flight"], 65_536)
        connection._in_flight = asyncio.Semaphore(max(1, most - _KEPT_FREE))
        connection.nodes = said["nodes"]
        connection._tasks.append(asyncio.ensure_future(connection._keep_alive()))
        return connection

    async def call(self, place: Place, request: Request, undo: Optional[Undo], trace: Trace) -> Reply:
        """Sends a request about a namespace and waits for its reply. Cancelling forgets the reply, and
        returns what it grants."""
        number = await self._open(place)
        if request.name in _URGENT or request.kind == 0x29:
            return self._known((await self._send(number, request, undo, trace))[1])
        async with self._in_flight:
            return self._known((await self._send(number, request, undo, trace))[1])

    def close(self) -> None:
        """Ends the connection and every call on it."""
        if self.is_broken and not self._waiting and self._writer.is_closing():
            return
        self.is_broken = True
        self._writer.close()
        waiting, self._waiting = self._waiting, {}
        for future in waiting.values():
            if not future.done():
                future.set_exception(self._gone())
        current = asyncio.current_task() if _is_running() else None
        for task in self._tasks:
            if task is not current:
                task.cancel()

    def _gone(self, why: str = "the connection broke") -> VeraxError:
        if self._failure is not None:
            return self._failure
        return Unreachable(f"Verax at {self.address.text} cannot be reached: {why}")

    @staticmethod
    def _known(reply: Reply) -> Reply:
        if reply.name == "failed":
            raise reply.said
        return reply

    async def _open(self, place: Place) -> int:
        known = self._opened.get(place)
        if known is None:
            known = self._opened[place] = asyncio.ensure_future(self._open_now(place))
        try:
            return await asyncio.shield(known)
        except BaseException:
            if known.done() and (known.cancelled() or known.exception() is not None):
                self._opened.pop(place, None)
            raise

    async def _open_now(self, place: Place) -> int:
        number, reply = await self._send(0, frames.open_namespace(*place), None, None)
        self._known(reply).needs("opened")
        return number

    async def _send(self, namespace: int, request: Request, undo: Optional[Undo],
                    trace: Trace) -> Tuple[int, Reply]:
        if self.is_broken:
            raise self._gone()
        number = self._next_id()
        future: "asyncio.Future[Tuple[int, Reply]]" = asyncio.get_running_loop().create_future()
        self._waiting[number] = future
        data = request.frame(namespace, number)
        if trace is not None:
            # It belongs to the next request, so both are written at once.
            data = frames.trace(*trace).frame(0, 0) + data
        try:
            self._writer.write(data)
            if self._writer.transport.get_write_buffer_size() > 1 << 18:
                await self._writer.drain()
            return await future
        except asyncio.CancelledError:
            if future.done() and not future.cancelled() and future.exception() is None:
                self._take_back(namespace, undo, future.result()[1])
            elif undo is not None and not self.is_broken:
                self._abandoned[number] = (namespace, undo)
            raise
        except OSError as error:
            raise self._gone(str(error)) from error
        finally:
            self._waiting.pop(number, None)

    def _next_id(self) -> int:
        while True:
            self._last_id = self._last_id % 0xFFFF_FFFF + 1
            if self._last_id not in self._waiting and self._last_id not in self._abandoned:
                return self._last_id

    def _take_back(self, namespace: int, undo: Optional[Undo], reply: Reply) -> None:
        request = undo(reply) if undo is not None else None
        if request is not None and not self.is_broken:
            # Nobody waits for the reply: if it fails, the lease or permit expires.
            self._writer.write(request.frame(namespace, self._next_id()))

    async def _read(self) -> None:
        received = bytearray()
        try:
            while True:
                data = await self._reader.read(1 << 16)
                if not data:
                    break
                self._heard = time.monotonic()
                received += data
                while (frame := frames.next_frame(received)) is not None:
                    self._take(*frame)
        except frames.Breach as breach:
            why = f"it does not speak the wire protocol: {breach}"
            if received.startswith(b"HTTP/"):
                why = "it speaks HTTP: use its address for the wire protocol"
            self._failure = self._gone(why)
        except VeraxError as error:
            self._failure = error
        except OSError as error:
            self._failure = self._gone(str(error))
        finally:
            self.is_broken = True
            waiting, self._waiting = self._waiting, {}
            for future in waiting.values():
                if not future.done():
                    future.set_exception(self._gone())
            self._writer.close()

    def _take(self, kind: int, flags: int, namespace: int, number: int, body: bytes) -> None:
        reply = frames.reply(kind, flags, body)
        if number != 0:
            future = self._waiting.pop(number, None)
            if future is not None and not future.done():
                future.set_result((namespace, reply))
            else:
                abandoned = self._abandoned.pop(number, None)
                if abandoned is not None:
                    self._take_back(abandoned[0], abandoned[1], reply)
        elif reply.name == "goodbye":
            # New calls use another connection; waiting ones still get their replies.
            self.is_broken = True
        elif reply.name == "failed":
            # The end of the token's access.
            raise reply.said

    async def _keep_alive(self) -> None:
        while not self.is_broken:
            await asyncio.sleep(PING_EVERY)
            if time.monotonic() - self._heard < PING_EVERY:
                continue
            try:
                await asyncio.wait_for(self._send(0, frames.ping(), None, None), PING_EVERY)
            except (asyncio.TimeoutError, VeraxError):
                self.close()


def _is_running() -> bool:
    try:
        asyncio.get_running_loop()
        return True
    except RuntimeError:
        return False


class _Slot:
    def __init__(self) -> None:
        self.connection: Optional[Connection] = None
        self.connecting: Optional["asyncio.Task[Connection]"] = None
        self.pause, self.not_before = 0.0, 0.0
        self.failure: Optional[VeraxError] = None


class Pool:
    """A few connections to the active node, opened on demand and reopened when they break."""

    SHORTEST, LONGEST, MAX_TRIES = 0.02, 2.0, 16

    def __init__(self, addresses: List[Address], token: Callable[[], str], ca: Optional[str],
                 connections: int, connect_timeout: float) -> None:
        self._named, self._active = addresses, 0
        self._token, self._timeout = token, connect_timeout
        secure = any(address.is_secure for address in addresses)
        if secure and ca is None:
            raise ValueError("a tls:// address needs the certificates to trust: set VERAX_CA")
        self._tls = ssl.create_default_context(cafile=ca) if secure else None
        self._slots = [_Slot() for _ in range(max(1, connections))]
        self._next = 0

    async def call(self, place: Place, request: Request, undo: Optional[Undo] = None,
                   trace: Trace = None) -> Reply:
        """Sends a request over the next working connection."""
        connection = await self._connection()
        return await connection.call(place, request, undo, trace)

    def close(self) -> None:
        """Ends the connections."""
        for slot in self._slots:
            if slot.connection is not None:
                slot.connection.close()
            if slot.connecting is not None:
                slot.connecting.cancel()

    async def _connection(self) -> Connection:
        self._next = (self._next + 1) % len(self._slots)
        slot = self._slots[self._next]
        if slot.connection is not None and not slot.connection.is_broken:
            return slot.connection
        if slot.connecting is None:
            if time.monotonic() < slot.not_before and slot.failure is not None:
                raise slot.failure
            slot.connecting = asyncio.ensure_future(self._connect(slot))
            # An attempt whose callers are all gone must not be reported as forgotten.
            slot.connecting.add_done_callback(lambda task: task.cancelled() or task.exception())
        # The attempt continues even if no caller waits for it.
        return await asyncio.shield(slot.connecting)

    async def _connect(self, slot: _Slot) -> Connection:
        try:
            opened = await self._connect_to_any()
            slot.connection, slot.failure, slot.pause = opened, None, 0.0
            return opened
        except VeraxError as error:
            slot.pause = min(max(slot.pause * 2, self.SHORTEST), self.LONGEST)
            slot.not_before, slot.failure = time.monotonic() + slot.pause, error
            raise
        finally:
            slot.connecting = None

    async def _connect_to_any(self) -> Connection:
        count = len(self._named)
        order = [self._named[(self._active + step) % count] for step in range(count)]
        failure: VeraxError = Unreachable("no address of Verax answers")
        tried: Set[str] = set()
        while order and len(tried) < self.MAX_TRIES:
            address = order.pop(0)
            if address.text in tried:
                continue
            tried.add(address.text)
            try:
                opening = Connection.open(address, self._token(), self._tls)
                opened = await asyncio.wait_for(opening, self._timeout)
            except asyncio.TimeoutError:
                if not isinstance(failure, Refused):
                    failure = Unreachable(f"Verax at {address.text} did not answer in time")
                continue
            except Refused:
                # It holds for every node with the same records.
                raise
            except VeraxError as error:
                if not isinstance(failure, Refused):
                    failure = error
                continue
            if opened.nodes and opened.nodes[0] == "":
                self._active = self._named.index(address) if address in self._named else self._active
                return opened
            opened.close()
            failure = Refused("standby", "only a standby node answers: the active one cannot be reached")
            if opened.nodes:
                try:
                    active = Address(opened.nodes[0])
                except ValueError:
                    continue
                # The token must not be sent without TLS if the configured address has it.
                if active.is_secure or not address.is_secure:
                    order.insert(0, active)
        raise failure


async def within(seconds: float, call: Awaitable[Any]) -> Any:
    """Waits at most so long; raises `TimedOut` then."""
    try:
        return await asyncio.wait_for(call, seconds)
    except asyncio.TimeoutError:
        raise TimedOut(f"Verax did not answer within {seconds * 1000:.0f} ms") from None
