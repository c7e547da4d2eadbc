"""Runs ../../conformance/cases.json with the asyncio client and with the blocking one."""

import asyncio
import json
import pathlib

from verax import NO_VALUE, Cached, LockHeld, Put, Refused, VeraxError
from verax.values import Lifetime

CASES = json.loads((pathlib.Path(__file__).parents[2] / "conformance" / "cases.json").read_text())


class Failing(Exception):
    """The refill of a case fails."""


def text(value):
    return value["repeat"] * value["times"] if isinstance(value, dict) else value


def found(result):
    if result is NO_VALUE:
        return {"no_value": True}
    if result is None:
        return {"miss": True}
    return {"value": result.value.decode(), "source": result.source}


def cached(result: Cached):
    said = {"value": result.value} if result.exists else {"no_value": True}
    return {**said, "from": result.source}


def lifetime(step):
    return {part: step[part] for part in ("max_age", "stale_while_revalidate", "stale_if_error")
            if part in step}


def of_batch(results, read):
    return {"results": [refused(one) if isinstance(one, Exception) else read(one) for one in results]}


def refused(error):
    if isinstance(error, Refused):
        return {"refused": error.name}
    if isinstance(error, LockHeld):
        return {"held_by": error.owner}
    if isinstance(error, VeraxError):
        return {"error": str(error)}
    return {"refused": "invalid"}


class Runner:
    """Runs the steps of one case over an asynchronous handle."""

    def __init__(self, cache):
        self.cache, self.revisions, self.locks = cache, {}, {}

    async def step(self, step):
        try:
            return await getattr(self, step["call"])(step)
        except Failing:
            return {"failed": True}
        except (VeraxError, ValueError) as error:
            return refused(error)

    async def get(self, step):
        options = {name: step[name] for name in ("only_if_cached", "stale_if_error") if name in step}
        return found(await self.cache.get(text(step["key"]), **options))

    async def look_up(self, step):
        return found(await self.cache.look_up(step["key"]))

    async def details(self, step):
        read = await self.cache.get(step["key"], only_if_cached=True, details=True, revision=True)
        if read is None:
            return {"miss": True}
        assert read.entity_tag
        return {"media_type": read.media_type, "tags": list(read.tags),
                "has_revision": read.revision is not None}

    async def remember(self, step):
        self.revisions[step["name"]] = (await self.cache.get(step["key"], revision=True)).revision
        return {"done": True}

    async def put(self, step):
        given = {name: step[name] for name in ("media_type", "tags", "if_absent", "if_matches")
                 if name in step}
        if "if_revision" in step:
            given["if_revision"] = self.revisions.get(step["if_revision"], step["if_revision"])
        value = text(step["value"]).encode()
        return {"replaced": await self.cache.put(text(step["key"]), value, **given, **lifetime(step))}

    async def delete(self, step):
        return {"deleted": await self.cache.delete(step["key"])}

    async def set_lifetime(self, step):
        return {"exists": await self.cache.set_lifetime(step["key"], **lifetime(step))}

    async def invalidate_tag(self, step):
        await self.cache.invalidate_tag(step["tag"])
        return {"done": True}

    async def clear(self, step):
        return {"cleared": await self.cache.clear(step.get("prefix"))}

    async def keys(self, step):
        return {"keys": sorted([key async for key in self.cache.keys(step["prefix"])])}

    async def put_many(self, step):
        puts = [Put(one["key"], one["value"].encode(), one.get("media_type", "text/plain"),
                    Lifetime(one.get("max_age")), tuple(one.get("tags", ()))) for one in step["values"]]
        return of_batch(await self.cache.put_many(puts), lambda was: {"replaced": was})

    async def get_many(self, step):
        return of_batch(await self.cache.get_many(step["keys"]), found)

    async def delete_many(self, step):
        return of_batch(await self.cache.delete_many(step["keys"]), lambda was: {"deleted": was})

    async def add(self, step):
        return {"counter": await self.cache.add(step["key"], step["amount"])}

    async def acquire_rate(self, step):
        wait = await self.cache.acquire_rate(step["key"], step["rate"], step["period"], step["burst"],
                                             step["amount"])
        return {"acquired": True} if wait is None else {"later": True}

    async def lock(self, step):
        given = {name: step[name] for name in ("owner", "lease", "wait") if name in step}
        self.locks[step.get("as")] = await self.cache.acquire_lock(step["name"], **given)
        return {"acquired": True}

    async def release(self, step):
        await self.locks[step["lock"]].release()
        return {"done": True}

    async def larger_token(self, step):
        one, other = self.locks[step["lock"]], self.locks[step["than"]]
        return {"larger": one.fencing_token > other.fencing_token}

    async def peek_lock(self, step):
        holder = await self.cache.peek_lock(step["name"])
        return {"free": True} if holder is None else {"held_by": holder.owner}

    async def refill(self, step):
        async def refill():
            for during in step.get("during", ()):
                assert await self.step(during) == during["is"], during
            if step.get("fails"):
                raise Failing()
            return NO_VALUE if step.get("no_value") else step["value"]

        given = {name: step[name] for name in ("tags", "schema", "negative_max_age") if name in step}
        return cached(await self.cache.find_or_refill(step["key"], refill, **given, **lifetime(step)))


class Unblocked:
    """A blocking handle, as the runner calls it: every call on a thread."""

    def __init__(self, cache):
        self.cache = cache

    def __getattr__(self, name):
        async def call(*positional, **named):
            result = await asyncio.to_thread(getattr(self.cache, name), *positional, **named)
            return Unblocked(result) if name == "acquire_lock" else result

        if name == "fencing_token":
            return self.cache.fencing_token
        return call

    async def keys(self, prefix):
        for key in await asyncio.to_thread(lambda: list(self.cache.keys(prefix))):
            yield key

    async def find_or_refill(self, key, refill, **options):
        loop = asyncio.get_running_loop()

        def blocking():
            return asyncio.run_coroutine_threadsafe(refill(), loop).result()

        return await asyncio.to_thread(self.cache.find_or_refill, key, blocking, **options)


async def differences(cache):
    """The steps whose result is not what the cases say."""
    wrong = []
    for case in CASES:
        await cache.clear()
        runner = Runner(cache)
        for step in case["steps"]:
            result = await runner.step(step)
            if result != step["is"]:
                wrong.append((case["name"], {**step, "value": None} if "value" in step else step, result))
    return wrong
