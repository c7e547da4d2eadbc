"""Several keys in one call."""

import time
from typing import Any, Callable, List, Sequence, Union

from . import frames
from .entries import Entries
from .errors import VeraxError
from .frames import Reply, Request
from .values import NO_VALUE, Outcome, Put


class Batches(Entries):
    """Calls about several entries."""

    async def get_many(self, keys: Sequence[str]) -> List[Outcome]:
        """Gets several entries; each result is a `Found`, `None`, or the error of that key."""
        started = time.monotonic()
        for key in keys:
            await self._settle_lost(key, None)
        results = await self._batch([_attempt(frames.get, key) for key in keys], self._read)
        found = []
        for result in results:
            if isinstance(result, Exception):
                self._note("failure", started, reason=result)
            else:
                self._note_read(started, result)
            found.append(None if result is NO_VALUE else result)
        return found

    async def put_many(self, values: Sequence[Put]) -> List[Outcome]:
        """Stores several values; each result says whether one was replaced, or is the error."""
        started = time.monotonic()
        results = await self._batch([_attempt(frames.put, value) for value in values], _was_there)
        for value, result in zip(values, results):
            self._note("put", started, len(value.value), result if isinstance(result, Exception) else None)
        return results

    async def delete_many(self, keys: Sequence[str]) -> List[Outcome]:
        """Deletes several entries; each result says whether one existed, or is the error."""
        started = time.monotonic()
        results = await self._batch([_attempt(frames.delete, key) for key in keys], _was_there)
        for result in results:
            self._note("delete", started, 0, result if isinstance(result, Exception) else None)
        return results

    async def _batch(self, attempts: Sequence[Union[Request, ValueError]],
                     read: Callable[[Reply], Any]) -> List[Outcome]:
        valid = [attempt for attempt in attempts if isinstance(attempt, Request)]
        answered: List[Outcome] = []
        split = frames.parts(valid)
        for part in split:
            try:
                replies = (await self._request(frames.batch(part), may_wait=True)).needs("batch")
            except VeraxError as error:
                if len(split) == 1:
                    raise
                # Earlier parts were carried out.
                answered += [error] * len(part)
                continue
            for reply in replies:
                try:
                    answered.append(read(reply))
                except VeraxError as error:
                    answered.append(error)
        in_order = iter(answered)
        return [attempt if isinstance(attempt, ValueError) else next(in_order) for attempt in attempts]



def _attempt(make: Callable[..., Request], *arguments: Any) -> Union[Request, ValueError]:
    try:
        return make(*arguments)
    except ValueError as error:
        return error


def _was_there(reply: Reply) -> bool:
    if reply.name == "failed":
        raise reply.said
    return bool(reply.needs("done")[0])
