"""What every call of a handle shares: the transport, the circuit, the events."""

import asyncio
import logging
import time
from typing import Any, Coroutine, Optional, Set, Union

from .circuit import Circuit
from .errors import Refused, TimedOut, Unreachable, VeraxError
from .events import Event
from .frames import Reply, Request
from .lost import LostInvalidations
from .options import CacheOptions
from .over_http import Http
from .refills import ActiveRefills
from .wire import Pool, Undo, within

log = logging.getLogger("verax")


class Caller:
    """Makes the requests of a handle."""

    def __init__(self, tenant: str, namespace: str, transport: Union[Pool, Http],
                 options: CacheOptions) -> None:
        self.tenant, self.namespace, self.options = tenant, namespace, options
        self._transport = transport
        self._circuit = Circuit()
        self._refills = ActiveRefills()
        self._lost = LostInvalidations()
        self._background: Set["asyncio.Task[Any]"] = set()

    def _note(self, kind: str, started: float, size: int = 0,
              reason: Optional[BaseException] = None) -> None:
        if self.options.hook is None:
            return
        seconds = time.monotonic() - started
        try:
            self.options.hook(Event(kind, self.tenant, self.namespace, seconds, size, reason))
        except Exception:  # noqa: BLE001 - an application's hook must not break its reads
            log.exception("a hook for events failed")

    async def _request(self, request: Request, bound: Optional[float] = None, undo: Optional[Undo] = None,
                       always: bool = False, may_wait: bool = False) -> Reply:
        if not always:
            self._circuit.admit()
        trace = None
        if self.options.trace is not None and request.name in ("get", "put", "delete", "batch"):
            trace = self.options.trace()
        calling = self._transport.call((self.tenant, self.namespace), request, undo, trace)
        try:
            reply: Reply = await within(bound or self.options.timeout, calling)
        except Unreachable as error:
            # A slow origin, or another caller, does not mean a slow Verax.
            if not (may_wait and isinstance(error, TimedOut)):
                self._circuit.failed(str(error))
            raise
        except Refused:
            self._circuit.succeeded()
            raise
        self._circuit.succeeded()
        return reply

    async def _noted(self, kind: str, request: Request, size: int = 0,
                     bound: Optional[float] = None) -> Reply:
        started = time.monotonic()
        try:
            reply = await self._request(request, bound)
        except VeraxError as error:
            self._note(kind, started, size, error)
            raise
        self._note(kind, started, size)
        return reply

    def _spawn(self, work: Coroutine[Any, Any, Any]) -> "asyncio.Task[Any]":
        task: "asyncio.Task[Any]" = asyncio.ensure_future(work)
        self._background.add(task)
        task.add_done_callback(self._background.discard)
        task.add_done_callback(lambda done: done.cancelled() or done.exception())
        return task
