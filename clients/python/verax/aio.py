"""The client for asyncio; the blocking one is made of it."""

import asyncio
import os
from typing import Callable, Optional, Union

from .batches import Batches
from .counters import Counters
from .locks import Locks
from .options import CacheOptions, Token, token_file
from .over_http import Http
from .serving import Serving
from .wire import Address, Pool
from .writing import Writing


class AsyncVerax:
    """How to reach Verax. With `wire` the handles speak the wire protocol; without it, HTTP.

    `url` and `wire` may have the addresses of a pair, separated by commas. The token is never printed."""

    def __init__(self, wire: Optional[str] = "127.0.0.1:8751", url: str = "http://127.0.0.1:8750",
                 token: Token = "", ca: Optional[str] = None, connect_timeout: float = 2.0) -> None:
        self._wire = [Address(one.strip()) for one in wire.split(",")] if wire else []
        self._url, self._ca, self._connect_timeout = url, ca, connect_timeout
        self._token: Callable[[], str] = token if callable(token) else (lambda: str(token))

    @classmethod
    def from_environment(cls) -> "AsyncVerax":
        """Reads `VERAX_WIRE_URL` (or, without it, `VERAX_URL`), `VERAX_TOKEN` or `VERAX_TOKEN_FILE`, and
        `VERAX_CA`."""
        read = os.environ.get
        url, wire = read("VERAX_URL"), read("VERAX_WIRE_URL")
        file = read("VERAX_TOKEN_FILE")
        token: Token = read("VERAX_TOKEN") or (token_file(file) if file else "")
        if not wire and not url:
            wire = "127.0.0.1:8751"
        return cls(wire or None, url or "http://127.0.0.1:8750", token, read("VERAX_CA") or None)

    def __repr__(self) -> str:
        addresses = ", ".join(address.text for address in self._wire) or self._url
        return f"{type(self).__name__}({addresses})"

    def cache(self, tenant: str, namespace: str, options: CacheOptions = CacheOptions()) -> "AsyncCache":
        """A handle on a namespace. It connects on first use, and belongs to the running event loop."""
        transport: Union[Pool, Http]
        if self._wire:
            transport = Pool(self._wire, self._token, self._ca, options.connections, self._connect_timeout)
        else:
            transport = Http(self._url, self._token, self._ca, options.timeout)
        return AsyncCache(tenant, namespace, transport, options)


class AsyncCache(Batches, Counters, Serving, Writing, Locks):
    """A handle on one namespace of one tenant."""

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self.tenant}/{self.namespace})"

    async def close(self) -> None:
        """Ends the connections and what runs in the background."""
        for task in list(self._background):
            task.cancel()
        await asyncio.gather(*self._background, return_exceptions=True)
        self._transport.close()

    async def __aenter__(self) -> "AsyncCache":
        return self

    async def __aexit__(self, *_: object) -> None:
        await self.close()
