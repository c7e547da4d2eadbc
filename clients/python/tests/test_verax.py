"""Runs against the Verax that VERAX_URL, VERAX_WIRE_URL and VERAX_TOKEN name, in the namespaces
ferrydesk/python and ferrydesk/notes."""

import asyncio
import dataclasses
import json
import os
import pathlib
import signal
import socket
import subprocess
import sys
import threading
import time
import unittest
import urllib.error
import urllib.request

sys.path.insert(0, str(pathlib.Path(__file__).parents[1]))
sys.path.insert(0, str(pathlib.Path(__file__).parent))

import conformance  # noqa: E402

from verax import (NO_VALUE, AsyncVerax, CacheOptions, HitRatio, LockHeld, Refilled, Refused,  # noqa: E402
                   Unreachable, Verax, frames, log_reasons, stable_key, token_file)

URL, WIRE, TOKEN = (os.environ[name] for name in ("VERAX_URL", "VERAX_WIRE_URL", "VERAX_TOKEN"))
PATIENT = CacheOptions(timeout=20, bound=20)


def doors(kind):
    """How to reach the service over both transports."""
    return {"wire": kind(wire=WIRE, token=TOKEN), "http": kind(wire=None, url=URL, token=TOKEN)}


def opened(test, verax, namespace="python", options=CacheOptions()):
    """A blocking handle that is closed at the end of the test."""
    cache = verax.cache("ferrydesk", namespace, options)
    test.addCleanup(cache.close)
    return cache


def failures(cache, count):
    """Why some reads fail."""
    reasons = []
    for _ in range(count):
        try:
            cache.get("board")
        except Unreachable as error:
            reasons.append(str(error))
    return reasons


def asynchronous(test):
    """Runs an asynchronous test once over each transport."""
    def run(self):
        for name in ("wire", "http"):
            with self.subTest(name):
                async def whole():
                    async with doors(AsyncVerax)[name].cache("ferrydesk", "python", PATIENT) as cache:
                        await cache.clear()
                        await test(self, cache)
                asyncio.run(whole())
    return run


def call(method, path, body=None):
    """A request of the HTTP interface; None if it was refused."""
    data = None if body is None else json.dumps(body).encode()
    fields = {"Authorization": f"Bearer {TOKEN}", "Content-Type": "application/json"}
    try:
        with urllib.request.urlopen(urllib.request.Request(URL + path, data, fields, method=method)) as answer:
            return json.load(answer)
    except urllib.error.HTTPError:
        return None


def warm(keys):
    """Starts a warm run over keys."""
    path = "/v1/tenants/ferrydesk/namespaces/python/warm-runs"
    return call("POST", path, {"keys": [{"list": keys}], "retries": 0})


async def eventually(look):
    """What `look`, which blocks, returns once it returns something."""
    for _ in range(600):
        found = await asyncio.get_running_loop().run_in_executor(None, look)
        if found is not None:
            return found
        await asyncio.sleep(0.05)
    raise AssertionError("it did not happen within half a minute")


class Conformance(unittest.TestCase):
    maxDiff = None

    def test_asynchronous_calls_conform(self):
        for name, verax in doors(AsyncVerax).items():
            with self.subTest(name):
                async def whole():
                    async with verax.cache("ferrydesk", "python", PATIENT) as cache:
                        return await conformance.differences(cache)
                self.assertEqual(asyncio.run(whole()), [])

    def test_blocking_calls_conform(self):
        for name, verax in doors(Verax).items():
            with self.subTest(name), verax.cache("ferrydesk", "python", PATIENT) as cache:
                self.assertEqual(asyncio.run(conformance.differences(conformance.Unblocked(cache))), [])

    def test_golden_vectors_are_read_and_written(self):
        vectors = pathlib.Path(__file__).parents[3] / "crates" / "wire" / "vectors" / "frames.txt"
        kinds = set()
        for line in vectors.read_text().splitlines():
            sender, about, content, data = (part.strip() for part in line.split(" | ", 3))
            received = bytearray.fromhex(data)
            kind, flags, namespace, number, body = frames.next_frame(received)
            self.assertEqual(received, b"", content)
            self.assertEqual(about, f"namespace {namespace}, id {number}")
            if sender == "reply":
                kinds.add(frames.reply(kind, flags, body).name)
        self.assertGreater(len(kinds), 12, kinds)
        spoken = frames.get("board/aldermouth").frame(1, 5).hex()
        self.assertIn(spoken, vectors.read_text())

    def test_frames_that_break_the_protocol_are_refused(self):
        for kind, flags, body in [(0x90, 0, b"\x09" + bytes(8)), (0x90, 4, bytes(9)), (0x92, 2, b""),
                                  (0x83, 0, b"x"), (0x95, 0, b"\x01"), (0xFF, 0, bytes(10) + b"\xff"),
                                  (0x7F, 0, b""), (0x94, 0, b"\x01\x00\x90\x00\xff\xff\xff\xff")]:
            with self.assertRaises(frames.Breach):
                frames.reply(kind, flags, body)
        with self.assertRaises(frames.Breach):
            frames.next_frame(bytearray(b"\xff\xff\xff\xff" + bytes(8)))


class Refilling(unittest.TestCase):
    @asynchronous
    async def test_many_callers_refill_once(self, cache):
        calls = []

        async def refill():
            calls.append(1)
            await asyncio.sleep(0.2)
            return 7

        read = [cache.get_or_refill("crowded", refill, max_age=60) for _ in range(100)]
        self.assertEqual(await asyncio.gather(*read), [7] * 100)
        self.assertEqual(len(calls), 1)

    def test_threads_and_processes_share_a_refill(self):
        for name, verax in doors(Verax).items():
            calls, values = [], []
            caches = [opened(self, verax, options=PATIENT) for _ in range(2)]
            caches[0].clear()

            def refill():
                calls.append(1)
                time.sleep(0.2)
                return 7

            def read(number):
                values.append(caches[number % 2].get_or_refill("shared", refill, max_age=60))

            with self.subTest(name):
                callers = [threading.Thread(target=read, args=(number,)) for number in range(20)]
                [caller.start() for caller in callers]
                [caller.join() for caller in callers]
                self.assertEqual((len(calls), values), (1, [7] * 20))

    @asynchronous
    async def test_a_refill_may_say_more_than_a_value(self, cache):
        async def refill():
            return Refilled("07:10", tags=["harbor-saltmere"], max_age=60)

        async def unstored():
            return Refilled("secret", is_storable=False)

        await cache.find_or_refill("board", refill)
        self.assertEqual((await cache.get("board", details=True)).tags, ("harbor-saltmere",))
        cached = await cache.find_or_refill("unstored", unstored)
        self.assertEqual((cached.value, str(cached.not_stored)), ("secret", "the refill asked for it"))
        self.assertIsNone(await cache.get("unstored"))

    @asynchronous
    async def test_a_value_that_is_no_json_is_an_error_and_spoils_no_later_call(self, cache):
        async def odd():
            return {1, 2}

        async def good():
            return [1, 2]

        with self.assertRaises(TypeError):
            await cache.get_or_refill("odd", odd, max_age=60)
        self.assertEqual(await cache.get_or_refill("odd", good, max_age=60), [1, 2])
        async def nothing():
            return NO_VALUE
        with self.assertRaises(TypeError):
            await cache.get_or_refill("none", nothing)

    @asynchronous
    async def test_a_cancelled_refill_lets_the_next_caller_refill(self, cache):
        began = asyncio.Event()

        async def hangs():
            began.set()
            await asyncio.sleep(3600)

        async def good():
            return 1

        hanging = asyncio.ensure_future(cache.get_or_refill("k", hangs, max_age=60))
        await began.wait()
        waiting = asyncio.ensure_future(cache.get_or_refill("k", good, max_age=60))
        await asyncio.sleep(0.05)
        hanging.cancel()
        self.assertEqual(await asyncio.wait_for(waiting, 10), 1)
        self.assertEqual((await cache.get("k")).value, b"1")

    @asynchronous
    async def test_a_stale_copy_is_refreshed_in_the_background(self, cache):
        async def value(text):
            return text

        options = {"max_age": 0, "stale_while_revalidate": 600, "in_background": True}
        await cache.get_or_refill("k", lambda: value("old"), **options)
        options["max_age"] = 60
        read = await cache.find_or_refill("k", lambda: value("new"), **options)
        self.assertEqual((read.value, read.source), ("old", "being-refreshed"))
        until = time.monotonic() + 20
        while (await cache.get("k")).value != b'"new"':
            self.assertLess(time.monotonic(), until)
            await asyncio.sleep(0.01)


class Serving(unittest.TestCase):
    @asynchronous
    async def test_keys_of_a_warm_run_are_refilled(self, cache):
        asked = []

        async def refill(key):
            asked.append(key)
            if key == "odd":
                return {1, 2}
            if key == "fails":
                raise OSError("the database is away")
            return NO_VALUE if key == "nowhere" else Refilled([key], tags=["warm"], max_age=60)

        serving = asyncio.ensure_future(cache.serve_refills(refill, concurrency=2))
        # A start is refused until a service waits.
        run = await eventually(lambda: warm(["a", "b", "nowhere", "odd", "fails"]))
        ended = await eventually(lambda: (lambda now: now if now["state"] != "running" else None)(
            call("GET", f"/v1/warm-runs/{run['id']}")))
        self.assertEqual([ended[part] for part in ("stored", "no_value", "failed")], [2, 1, 2], ended)
        self.assertEqual((await cache.get("a", details=True)).tags, ("warm",))
        self.assertIs(await cache.look_up("nowhere"), NO_VALUE)
        self.assertEqual(set(asked), {"a", "b", "nowhere", "odd", "fails"})
        serving.cancel()
        with self.assertRaises(asyncio.CancelledError):
            await serving

    def test_what_repeating_does_not_mend_ends_it(self):
        for name, verax in {"wire": Verax(wire=WIRE, token="verax-token-none"),
                            "http": Verax(wire=None, url=URL, token="verax-token-none")}.items():
            with self.subTest(name), self.assertRaises(Refused) as refused:
                opened(self, verax, options=PATIENT).serve_refills(lambda key: key, concurrency=2)
            self.assertEqual(refused.exception.name, "not-signed-in")


    def test_an_interrupt_ends_a_blocking_worker_soon(self):
        # Whatever started the tests may ignore interrupts, and so would the worker.
        program = ("from verax import Verax; import signal, sys; "
                   "signal.signal(signal.SIGINT, signal.default_int_handler); "
                   "print('begun', flush=True); "
                   "Verax(wire=sys.argv[1], token=sys.argv[2]).cache('ferrydesk', 'notes')"
                   ".serve_refills(lambda key: key)")
        place = {**os.environ, "PYTHONPATH": str(pathlib.Path(__file__).parents[1])}
        worker = subprocess.Popen([sys.executable, "-c", program, WIRE, TOKEN], env=place,
                                  stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        self.addCleanup(worker.stdout.close)
        worker.stdout.readline()

        def waits():
            path = "/v1/tenants/ferrydesk/namespaces/notes/permits"
            return True if (call("GET", path) or {}).get("refillers") == 4 else None

        asyncio.run(eventually(waits))
        worker.send_signal(signal.SIGINT)
        # One wait takes up to twenty seconds.
        worker.wait(10)


class Outages(unittest.TestCase):
    def test_a_service_that_hangs_costs_little(self):
        with socket.create_server(("127.0.0.1", 0)) as silent:
            address = f"127.0.0.1:{silent.getsockname()[1]}"
            for name, verax in {"wire": Verax(wire=address, token="verax-token-0"),
                                "http": Verax(None, f"http://{address}", "verax-token-0")}.items():
                with self.subTest(name):
                    notes, began = opened(self, verax), time.monotonic()
                    for number in range(100):
                        self.assertEqual(notes.get_or_refill("board", lambda: number), number)
                    # Without a circuit a hundred calls would take at least ten seconds.
                    self.assertLess(time.monotonic() - began, 5)
                    # Now and then a call tries whether the service is back.
                    self.assertRegex(" ".join(failures(notes, 5)), "circuit is open .* did not answer")
                    began = time.monotonic()
                    decision = notes.allows("search", 5, without_service=True)
                    self.assertTrue(decision.is_allowed and decision.undecided is not None)
                    self.assertNotIn("verax-token-0", repr(verax) + repr(notes))

    def test_a_body_refused_before_it_was_sent_tells_the_reason(self):
        problem = (b'{"type": "urn:verax:problem:value-too-large", "status": 413, "detail": "too large"}')

        def refuse(listener):
            with listener.accept()[0] as connection:
                connection.recv(100)
                connection.sendall(b"HTTP/1.1 413 Content Too Large\r\ncontent-length: %d\r\n\r\n%s"
                                   % (len(problem), problem))
            # Closed with bytes unread, so that the connection is reset.

        with socket.create_server(("127.0.0.1", 0)) as listener:
            refusing = threading.Thread(target=refuse, args=(listener,))
            refusing.start()
            url = f"http://127.0.0.1:{listener.getsockname()[1]}"
            cache = opened(self, Verax(wire=None, url=url, token=TOKEN), options=PATIENT)
            with self.assertRaises(Refused) as refused:
                cache.put("large", b"x" * (16 << 20))
            self.assertEqual(refused.exception.name, "value-too-large")
            refusing.join()

    def test_what_is_wrong_is_named(self):
        http = URL.removeprefix("http://")
        for verax, says in [(Verax("127.0.0.1:1"), "cannot be reached"),
                            (Verax(None, "http://127.0.0.1:1"), "cannot be reached"),
                            (Verax(http, token=TOKEN), "speaks HTTP")]:
            with self.assertRaisesRegex(Unreachable, says):
                opened(self, verax).get("k")
        for wrong in ("nowhere", "tls://127.0.0.1:1", ":1"):
            with self.assertRaises(ValueError):
                Verax(wrong).cache("ferrydesk", "python")
        for name, verax in {"wire": Verax(WIRE, token="verax-token-wrong"),
                            "http": Verax(None, URL, "verax-token-wrong")}.items():
            with self.subTest(name), self.assertRaises(Refused) as refused:
                opened(self, verax).get("k")
            self.assertEqual(refused.exception.name, "not-signed-in")

    def test_several_addresses_find_the_one_that_answers(self):
        for verax in (Verax(f"127.0.0.1:1, {WIRE}", token=TOKEN),
                      Verax(None, f"http://127.0.0.1:1, {URL}", TOKEN)):
            notes = opened(self, verax)
            notes.put("several", b"x")
            self.assertEqual(notes.get("several").value, b"x")

    def test_a_lost_invalidation_is_delivered_when_the_service_is_back(self):
        class Gate:
            """A way to the service that can be closed."""

            def __init__(self):
                self.listener, self.is_open = socket.create_server(("127.0.0.1", 0)), True
                self.address = f"127.0.0.1:{self.listener.getsockname()[1]}"
                threading.Thread(target=self.accept, daemon=True).start()

            def accept(self):
                while True:
                    try:
                        near, _ = self.listener.accept()
                    except OSError:
                        return
                    host, _, port = WIRE.rpartition(":")
                    far = socket.create_connection((host, int(port)))
                    for pair in ((near, far), (far, near)):
                        threading.Thread(target=self.relay, args=pair, daemon=True).start()

            def relay(self, source, sink):
                try:
                    while data := source.recv(1 << 16):
                        while not self.is_open:
                            time.sleep(0.005)
                        sink.sendall(data)
                except OSError:
                    pass
                source.close()
                sink.close()

        gate, events = Gate(), []
        options = CacheOptions(timeout=0.3, bound=0.3, hook=lambda event: events.append(event.kind))
        notes = opened(self, Verax(gate.address, token=TOKEN), "python", options)
        direct = opened(self, doors(Verax)["wire"], "python", PATIENT)
        direct.put("k", b'"old"')
        until = time.monotonic() + 30
        while True:
            try:
                notes.get("k")
                break
            except Unreachable:
                self.assertLess(time.monotonic(), until)
        gate.is_open = False
        written, error = notes.write_and_invalidate(lambda: "written", keys=["k"], tags=["harbor"])
        self.assertEqual(written, "written")
        self.assertIsInstance(error, Unreachable)
        self.assertEqual(notes.get_or_refill("k", lambda: "new"), "new")
        gate.is_open = True
        while direct.get("k") is not None:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.01)
        self.assertIn("invalidation-delayed", events)
        gate.listener.close()


class Guards(unittest.TestCase):
    @asynchronous
    async def test_locks_are_renewed_and_released(self, cache):
        async with await cache.acquire_lock("berth", lease=2, owner="pilot") as lock:
            await asyncio.sleep(3)
            self.assertFalse(lock.is_lost, "it was renewed")
            with self.assertRaises(LockHeld) as held:
                await cache.acquire_lock("berth")
            self.assertEqual(held.exception.owner, "pilot")
            self.assertGreater(held.exception.held_seconds, 1)
        self.assertIsNone(await cache.peek_lock("berth"))

    @asynchronous
    async def test_a_cancelled_wait_for_a_lock_keeps_nothing(self, cache):
        lock = await cache.acquire_lock("berth")
        waiting = asyncio.ensure_future(cache.acquire_lock("berth", wait=20))
        await asyncio.sleep(0.1)
        waiting.cancel()
        await asyncio.gather(waiting, return_exceptions=True)
        await lock.release()
        until = time.monotonic() + 25
        while (await cache.peek_lock("berth")) is not None:
            self.assertLess(time.monotonic(), until)
            await asyncio.sleep(0.01)

    def test_a_lost_lock_is_told(self):
        cache = opened(self, doors(Verax)["wire"], "python", PATIENT)
        lock = cache.acquire_lock("quay", lease=0.6)
        thief = opened(self, doors(Verax)["wire"], "python", PATIENT)
        # Releasing with its token is what an operator who forces it open amounts to.
        from verax.blocking import _loop
        _loop.run(thief._cache()._request(frames.release_lock("quay", lock.fencing_token)))
        until = time.monotonic() + 20
        while not lock.is_lost:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.01)
        with self.assertRaisesRegex(Refused, "not-held"):
            lock.release()


class Hooks(unittest.TestCase):
    def test_events_are_counted_logged_and_spoil_nothing(self):
        ratio = HitRatio()
        cache = opened(self, doors(Verax)["wire"], "notes", dataclasses.replace(PATIENT, hook=ratio))
        cache.clear()
        for _ in range(4):
            cache.get_or_refill("k", lambda: 1, max_age=60)
        self.assertEqual((ratio.reads, ratio.ratio), (4, 0.75))
        with self.assertLogs("verax", "WARNING") as logs:
            broken = opened(self, Verax("127.0.0.1:1"), "notes", CacheOptions(hook=log_reasons()))
            broken.get_or_refill("k", lambda: 1)
        self.assertRegex(logs.output[0], "failure in ferrydesk/notes .* cannot be reached")

        def breaks(event):
            raise RuntimeError("a hook of the application")

        with self.assertLogs("verax", "ERROR"):
            odd = opened(self, doors(Verax)["wire"], "notes", dataclasses.replace(PATIENT, hook=breaks))
            self.assertEqual(odd.get("k").value, b"1")

    def test_a_token_file_can_be_replaced(self):
        path = pathlib.Path(os.environ.get("TMPDIR", "/tmp")) / f"verax-token-{os.getpid()}"
        try:
            path.write_text(TOKEN + "\n")
            cache = opened(self, Verax(WIRE, token=token_file(str(path))), "notes", PATIENT)
            self.assertIsNone(cache.get("nothing"))
        finally:
            path.unlink()

    def test_a_forked_process_connects_by_itself(self):
        cache = opened(self, doors(Verax)["wire"], "notes", PATIENT)
        cache.put("forked", b"v")
        child = os.fork()
        if child == 0:
            os._exit(0 if cache.get("forked").value == b"v" else 1)
        self.assertEqual(os.waitpid(child, 0)[1], 0)
        self.assertEqual(cache.get("forked").value, b"v")


class Keys(unittest.TestCase):
    def test_equal_criteria_make_equal_keys(self):
        one = stable_key("board", {"harbor": "aldermouth", "limit": 10})
        self.assertEqual(one, stable_key("board", {"limit": 10.0, "harbor": "aldermouth"}))
        self.assertEqual(one, os.environ["EXPECTED_KEY"], "the same as the command makes")

    def test_numbers_are_written_as_ecmascript_does(self):
        from verax.keys import _number

        for number, text in [(1.0, "1"), (-0.0, "0"), (1e21, "1e+21"), (1e20, "100000000000000000000"),
                             (0.000001, "0.000001"), (1e-7, "1e-7"), (123.456, "123.456"),
                             (5e-324, "5e-324"), (1.7976931348623157e308, "1.7976931348623157e+308"),
                             (-1.5e-9, "-1.5e-9"), (333333333.33333329, "333333333.3333333")]:
            self.assertEqual(_number(number), text)


if __name__ == "__main__":
    unittest.main()
