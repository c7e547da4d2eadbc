"""The blocking client: the asyncio one on an event loop in a thread of its own. Threads share it."""

import asyncio
import os
import threading
import time
from concurrent.futures import FIRST_EXCEPTION, CancelledError, Future, ThreadPoolExecutor, wait
from typing import Any, Callable, Coroutine, Dict, Iterable, Iterator, List, Optional, Sequence, Tuple, TypeVar

from . import frames
from .aio import AsyncCache, AsyncVerax
from .errors import LockHeld, VeraxError
from .locks import AsyncLock
from .lost import Outdated
from .options import CacheOptions, Token
from .refilling import Entry, Work, versioned
from .serving import PAUSE, is_lasting
from .values import Cached, Found, Lifetime, Outcome, Put, RateDecision

T = TypeVar("T")


class _Loop:
    """The event loop of this process, started on first use; a forked process starts its own."""

    def __init__(self) -> None:
        self._guard, self._process = threading.Lock(), 0
        self._loop: Optional[asyncio.AbstractEventLoop] = None

    def begin(self, work: Coroutine[Any, Any, T]) -> "Future[T]":
        """Runs work in the background."""
        return asyncio.run_coroutine_threadsafe(work, self._started())

    def run(self, work: Coroutine[Any, Any, T]) -> T:
        """Runs work and waits for it. An interrupt cancels it."""
        running = self.begin(work)
        try:
            return running.result()
        except BaseException:
            running.cancel()
            raise

    def process(self) -> int:
        """The process whose loop this is."""
        self._started()
        return self._process

    def _started(self) -> asyncio.AbstractEventLoop:
        with self._guard:
            if self._loop is None or self._process != os.getpid():
                self._loop, self._process = asyncio.new_event_loop(), os.getpid()
                thread = threading.Thread(target=self._loop.run_forever, name="verax", daemon=True)
                thread.start()
            return self._loop


_loop = _Loop()


class Verax(AsyncVerax):
    """How to reach Verax, for blocking code. With `wire` the handles speak the wire protocol; without it,
    HTTP. See `verax.aio.AsyncVerax` for asyncio."""

    def __init__(self, wire: Optional[str] = "127.0.0.1:8751", url: str = "http://127.0.0.1:8750",
                 token: Token = "", ca: Optional[str] = None, connect_timeout: float = 2.0) -> None:
        super().__init__(wire, url, token, ca, connect_timeout)

    def cache(self, tenant: str, namespace: str,  # type: ignore[override]
              options: CacheOptions = CacheOptions()) -> "Cache":
        """A handle on a namespace, which threads share. It connects on first use."""
        make = super().cache
        # Refuses what cannot be right now, not at the first call.
        return Cache(lambda: make(tenant, namespace, options))


class Cache:
    """A handle on one namespace of one tenant. Every call is that of `verax.aio.AsyncCache`, and blocks.
    It may be made before a process forks."""

    def __init__(self, make: Callable[[], AsyncCache]) -> None:
        self._make, self._guard = make, threading.Lock()
        self._own: Optional[AsyncCache] = None
        self._process = 0
        self._threads: Optional[ThreadPoolExecutor] = None
        self._cache()

    def _cache(self) -> AsyncCache:
        process = _loop.process()
        with self._guard:
            if self._own is None or self._process != process:
                self._own, self._process = _loop.run(self._made()), process
                self._threads = None
            return self._own

    async def _made(self) -> AsyncCache:
        return self._make()

    def __repr__(self) -> str:
        return f"Cache({self._cache().tenant}/{self._cache().namespace})"

    def close(self) -> None:
        """Ends the connections."""
        _loop.run(self._cache().close())

    def __enter__(self) -> "Cache":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def get(self, key: str, **options: bool) -> Optional[Found]:
        """See `AsyncCache.get`."""
        return _loop.run(self._cache().get(key, **options))

    def look_up(self, key: str, **options: bool) -> Any:
        """See `AsyncCache.look_up`."""
        return _loop.run(self._cache().look_up(key, **options))

    def put(self, key: str, value: bytes, media_type: str = "application/octet-stream", *,
            max_age: Optional[float] = None, stale_while_revalidate: Optional[float] = None,
            stale_if_error: Optional[float] = None, tags: Iterable[str] = (), if_absent: bool = False,
            if_matches: Optional[str] = None, if_revision: Optional[int] = None) -> bool:
        """See `AsyncCache.put`."""
        return _loop.run(self._cache().put(
            key, value, media_type, max_age=max_age, stale_while_revalidate=stale_while_revalidate,
            stale_if_error=stale_if_error, tags=tags, if_absent=if_absent, if_matches=if_matches,
            if_revision=if_revision))

    def delete(self, key: str) -> bool:
        """See `AsyncCache.delete`."""
        return _loop.run(self._cache().delete(key))

    def set_lifetime(self, key: str, *, max_age: Optional[float] = None,
                     stale_while_revalidate: Optional[float] = None,
                     stale_if_error: Optional[float] = None) -> bool:
        """See `AsyncCache.set_lifetime`."""
        return _loop.run(self._cache().set_lifetime(
            key, max_age=max_age, stale_while_revalidate=stale_while_revalidate,
            stale_if_error=stale_if_error))

    def invalidate_tag(self, tag: str) -> None:
        """See `AsyncCache.invalidate_tag`."""
        _loop.run(self._cache().invalidate_tag(tag))

    def clear(self, prefix: Optional[str] = None) -> int:
        """See `AsyncCache.clear`."""
        return _loop.run(self._cache().clear(prefix))

    def keys(self, prefix: str = "") -> Iterator[str]:
        """See `AsyncCache.keys`."""
        cursor = ""
        while True:
            request = frames.list_keys(prefix, cursor, 1000)
            keys, cursor = _loop.run(self._cache()._request(request)).needs("page")
            yield from keys
            if not cursor:
                return

    def get_many(self, keys: Sequence[str]) -> List[Outcome]:
        """See `AsyncCache.get_many`."""
        return _loop.run(self._cache().get_many(keys))

    def put_many(self, values: Sequence[Put]) -> List[Outcome]:
        """See `AsyncCache.put_many`."""
        return _loop.run(self._cache().put_many(values))

    def delete_many(self, keys: Sequence[str]) -> List[Outcome]:
        """See `AsyncCache.delete_many`."""
        return _loop.run(self._cache().delete_many(keys))

    def add(self, key: str, amount: int = 1, max_age: Optional[float] = None) -> int:
        """See `AsyncCache.add`."""
        return _loop.run(self._cache().add(key, amount, max_age))

    def acquire_rate(self, key: str, rate: int, period: float = 1.0, burst: Optional[int] = None,
                     amount: int = 1) -> Optional[float]:
        """See `AsyncCache.acquire_rate`."""
        return _loop.run(self._cache().acquire_rate(key, rate, period, burst, amount))

    def allows(self, key: str, rate: int, period: float = 1.0, burst: Optional[int] = None,
               amount: int = 1, *, without_service: bool) -> RateDecision:
        """See `AsyncCache.allows`."""
        return _loop.run(self._cache().allows(key, rate, period, burst, amount,
                                              without_service=without_service))

    def get_or_refill(self, key: str, refill: Callable[[], Any], *, max_age: Optional[float] = None,
                      stale_while_revalidate: Optional[float] = None,
                      stale_if_error: Optional[float] = None, tags: Iterable[str] = (),
                      schema: Optional[int] = None, in_background: bool = False) -> Any:
        """See `AsyncCache.get_or_refill`; `refill` runs in the calling thread, or with `in_background` in
        another when there is a stale copy."""
        lifetime = Lifetime(max_age, stale_while_revalidate, stale_if_error)
        entry = Entry(lifetime, tuple(tags), None, False)
        return self._refilled(versioned(key, schema), entry, refill, in_background).value

    def find_or_refill(self, key: str, refill: Callable[[], Any], *, max_age: Optional[float] = None,
                       stale_while_revalidate: Optional[float] = None,
                       stale_if_error: Optional[float] = None, tags: Iterable[str] = (),
                       negative_max_age: Optional[float] = None, schema: Optional[int] = None,
                       in_background: bool = False) -> Cached:
        """See `AsyncCache.find_or_refill`."""
        lifetime = Lifetime(max_age, stale_while_revalidate, stale_if_error)
        entry = Entry(lifetime, tuple(tags), negative_max_age, True)
        return self._refilled(versioned(key, schema), entry, refill, in_background)

    def _refilled(self, key: str, entry: Entry, refill: Callable[[], Any], in_background: bool) -> Cached:
        cache = self._cache()
        work = _loop.run(cache.begin_refill(key, entry))
        if isinstance(work, Cached):
            return work
        if in_background and work.previous is not None:
            if self._threads is None:
                self._threads = ThreadPoolExecutor(4, "verax-refill")
            self._threads.submit(self._refill_now, cache, work, refill)
            return work.previous
        return self._refill_now(cache, work, refill)

    @staticmethod
    def _refill_now(cache: AsyncCache, work: Work, refill: Callable[[], Any]) -> Cached:
        try:
            value = refill()
        except BaseException as error:
            served = _loop.run(cache.failed_refill(work, error))
            if served is not None:
                return served
            raise
        return _loop.run(cache.end_refill(work, value))

    def serve_refills(self, refill: Callable[[str], Any], *, concurrency: int = 4) -> None:
        """See `AsyncCache.serve_refills`. `refill` runs in `concurrency` threads. It blocks until it is
        interrupted."""
        cache, stopping = self._cache(), threading.Event()
        waits: "Dict[int, Future[Any]]" = {}
        count = max(1, concurrency)
        with ThreadPoolExecutor(count, "verax-serve") as threads:
            serving = [threads.submit(self._serve, cache, refill, stopping, waits) for _ in range(count)]
            try:
                done, _ = wait(serving, return_when=FIRST_EXCEPTION)
                for one in done:
                    one.result()
            finally:
                stopping.set()
                # Keys that are being refilled are waited for, others are not.
                while not all(one.done() for one in serving):
                    for waiting in list(waits.values()):
                        waiting.cancel()
                    wait(serving, PAUSE)

    @staticmethod
    def _serve(cache: AsyncCache, refill: Callable[[str], Any], stopping: threading.Event,
               waits: "Dict[int, Future[Any]]") -> None:
        while not stopping.is_set():
            asked = time.monotonic()
            waits[threading.get_ident()] = waiting = _loop.begin(cache.await_refill())
            try:
                work = waiting.result()
            except CancelledError:
                return
            except VeraxError as error:
                if is_lasting(error):
                    raise
                stopping.wait(PAUSE)
                continue
            if work is None:
                # Whatever replies sooner, such as a proxy, does not make this loop spin.
                stopping.wait(max(0.0, asked + PAUSE - time.monotonic()))
                continue
            try:
                _loop.run(cache.end_refill(work, refill(work.key)))
            except Exception as error:  # noqa: BLE001 - one key must not end the service
                _loop.run(cache.gave_up_refill(work, error))

    def write_and_invalidate(self, write: Callable[[], T], *, keys: Iterable[str] = (),
                             tags: Iterable[str] = ()) -> Tuple[T, Optional[VeraxError]]:
        """See `AsyncCache.write_and_invalidate`."""
        outdated = [Outdated(key=key) for key in keys] + [Outdated(tag=tag) for tag in tags]
        try:
            value = write()
        except BaseException:
            _loop.run(self._cache().invalidate_all(outdated))
            raise
        return value, _loop.run(self._cache().invalidate_all(outdated))

    def acquire_lock(self, name: str, *, lease: float = 30.0, wait: float = 0.0, owner: str = "") -> "Lock":
        """See `AsyncCache.acquire_lock`.

            with boards.acquire_lock("berth-7", wait=10) as lock:
                ...  # send lock.fencing_token with every write
        """
        return Lock(_loop.run(self._cache().acquire_lock(name, lease=lease, wait=wait, owner=owner)))

    def peek_lock(self, name: str) -> Optional[LockHeld]:
        """See `AsyncCache.peek_lock`."""
        return _loop.run(self._cache().peek_lock(name))


class Lock:
    """A held lock, renewed in the background until it is released or lost. See
    `verax.aio.AsyncLock`."""

    def __init__(self, own: AsyncLock) -> None:
        self._own, self.name, self.fencing_token = own, own.name, own.fencing_token

    @property
    def is_lost(self) -> bool:
        """Whether the lease is known to have ended."""
        return self._own.is_lost

    def release(self) -> None:
        """Ends the lease. Raises `Refused` with the name `not-held` if it had already ended."""
        _loop.run(self._own.release())

    def __enter__(self) -> "Lock":
        return self

    def __exit__(self, *_: object) -> None:
        _loop.run(self._own.__aexit__())
