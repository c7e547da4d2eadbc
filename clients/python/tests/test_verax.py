"""Runs against the Verax that VERAX_URL and VERAX_TOKEN name, in the namespace ferrydesk/python."""

import os
import socket
import pathlib
import sys
import threading
import time
import unittest

sys.path.insert(0, str(pathlib.Path(__file__).parents[1]))

from verax import Refused, Unreachable, Verax, stable_key


class AgainstVerax(unittest.TestCase):
    def setUp(self):
        self.notes = Verax.from_environment().namespace("ferrydesk", "python")

    def test_values_come_back_as_they_were_stored(self):
        key = "a/b c?ä#%"
        self.assertIsNone(self.notes.get(key))
        self.assertFalse(self.notes.put(key, b"\x00\xff", "application/x-own", max_age=60, tags=['say "ahoy"']))
        found = self.notes.get(key)
        self.assertEqual((found.value, found.media_type, found.hit), (b"\x00\xff", "application/x-own", True))
        with self.assertRaises(Refused) as refused:
            self.notes.put(key, b"x", if_absent=True)
        self.assertEqual((refused.exception.status, refused.exception.name), (412, "condition-failed"))
        self.assertTrue(self.notes.put(key, b"y", if_match=found.entity_tag))
        self.assertTrue(self.notes.set_lifetime(key, 5))
        self.notes.delete(key)
        self.assertFalse(self.notes.set_lifetime(key, 5))

    def test_tags_counters_rate_limits_and_batches(self):
        self.notes.put("t", b"v", tags=["fog"])
        self.notes.invalidate_tag("fog")
        self.assertIsNone(self.notes.get("t"))
        self.assertEqual([self.notes.add("n", 3, 60), self.notes.add("n", -1)], [3, 2])
        self.assertIsNone(self.notes.acquire_rate("q", rate=1, period=3600))
        self.assertGreater(self.notes.acquire_rate("q", rate=1, period=3600), 3500)
        results = self.notes.batch([{"put": {"key": "b", "text": "v"}}, {"delete": {"key": "none"}}])
        self.assertEqual(list(results[0]), ["stored"])
        self.assertEqual(results[1], {"deleted": {"was_there": False}})

    def test_keys_are_listed_over_pages(self):
        puts = [{"put": {"key": f"page/{n}", "text": "v"}} for n in range(1000)]
        self.notes.batch(puts)
        self.notes.batch([{"put": {"key": f"page/{n}", "text": "v"}} for n in range(1000, 1500)])
        self.assertEqual(len(set(self.notes.keys("page/"))), 1500)

    def test_a_value_comes_whatever_is_wrong_with_the_cache(self):
        calls = []

        def refill():
            calls.append(1)
            return {"sailings": ["07:10"]}

        for _ in range(2):
            self.assertEqual(self.notes.get_or_refill("board", 60, refill), {"sailings": ["07:10"]})
        self.assertEqual(len(calls), 1)
        nowhere = Verax("http://127.0.0.1:1", timeout=0.2).namespace("ferrydesk", "python")
        self.assertEqual(nowhere.get_or_refill("board", 60, refill), {"sailings": ["07:10"]})
        with self.assertRaises(Unreachable):
            nowhere.get("board")

    def test_many_callers_refill_once(self):
        calls, values = [], []

        def refill():
            calls.append(1)
            time.sleep(0.2)
            return 7

        read = lambda: values.append(self.notes.get_or_refill("crowded", 60, refill))  # noqa: E731
        callers = [threading.Thread(target=read) for _ in range(20)]
        [caller.start() for caller in callers]
        [caller.join() for caller in callers]
        self.assertEqual((len(calls), values), (1, [7] * 20))

    def test_what_was_read_before_an_invalidation_is_not_stored_after_it(self):
        def refill():
            self.notes.delete("written")
            return "old"

        self.assertEqual(self.notes.get_or_refill("written", 60, refill), "old")
        self.assertIsNone(self.notes.get("written"))

        def fails():
            raise RuntimeError("the desk is closed")

        with self.assertRaises(RuntimeError):
            self.notes.get_or_refill("written", 60, fails)
        self.assertIsInstance(self.notes.acquire_permit("written"), int, "the permit was released")

    def test_a_failed_refill_returns_the_stale_copy(self):
        def fails():
            raise RuntimeError("the desk is closed")

        read = lambda refill: self.notes.get_or_refill(  # noqa: E731
            "stale", 1, refill, tags=["harbor-saltmere"], stale_if_error=3600)
        self.assertEqual(read(lambda: "07:10"), "07:10")
        until = time.monotonic() + 60
        while self.notes.get("stale") is not None:
            self.assertLess(time.monotonic(), until, "it does not end")
            time.sleep(0.05)
        self.assertEqual(read(fails), "07:10")
        self.notes.invalidate_tag("harbor-saltmere")
        with self.assertRaises(RuntimeError):
            read(fails)

    def test_a_value_that_is_no_json_is_an_error_and_spoils_no_later_call(self):
        with self.assertRaises(TypeError):
            self.notes.get_or_refill("odd", 60, lambda: {1, 2})
        self.assertEqual(self.notes.get_or_refill("odd", 60, lambda: [1, 2]), [1, 2])

    def test_a_service_that_hangs_costs_little(self):
        with socket.create_server(("127.0.0.1", 0)) as silent:
            verax = Verax(f"http://127.0.0.1:{silent.getsockname()[1]}", "verax-token-0", bound=0.1)
            notes, began = verax.namespace("ferrydesk", "python"), time.monotonic()
            for number in range(100):
                self.assertEqual(notes.get_or_refill("board", 60, lambda: number), number)
            # Without a circuit a hundred calls would take at least ten seconds.
            self.assertLess(time.monotonic() - began, 5)
            with self.assertRaisesRegex(Unreachable, "circuit is open .* timed out"):
                for _ in range(3):
                    notes.get("board")
            self.assertNotIn("verax-token-0", repr(verax))

    def test_several_addresses_find_the_one_that_answers(self):
        both = Verax("http://127.0.0.1:1, " + os.environ["VERAX_URL"], os.environ["VERAX_TOKEN"])
        notes = both.namespace("ferrydesk", "python")
        for _ in range(2):
            notes.put("several", b"x")
        self.assertEqual(notes.get("several").value, b"x")
        with self.assertRaises(Unreachable):
            Verax("http://127.0.0.1:1,http://127.0.0.1:2").namespace("a", "b").get("c")
        with self.assertRaises(ValueError):
            Verax("http://127.0.0.1:1,here")

    def test_refusals_say_why(self):
        stranger = Verax(os.environ["VERAX_URL"], "verax-token-wrong").namespace("ferrydesk", "python")
        with self.assertRaises(Refused) as refused:
            stranger.get("k")
        self.assertEqual(refused.exception.name, "not-signed-in")


class Keys(unittest.TestCase):
    def test_equal_criteria_make_equal_keys(self):
        one = stable_key("board", {"harbor": "aldermouth", "limit": 10})
        self.assertEqual(one, stable_key("board", {"limit": 10.0, "harbor": "aldermouth"}))
        self.assertEqual(one, os.environ["EXPECTED_KEY"], "the same as the command makes")

    def test_numbers_are_written_as_ecmascript_does(self):
        from verax import _number

        for number, text in [(1.0, "1"), (-0.0, "0"), (1e21, "1e+21"), (1e20, "100000000000000000000"),
                             (0.000001, "0.000001"), (1e-7, "1e-7"), (123.456, "123.456"),
                             (5e-324, "5e-324"), (1.7976931348623157e308, "1.7976931348623157e+308"),
                             (-1.5e-9, "-1.5e-9"), (333333333.33333329, "333333333.3333333")]:
            self.assertEqual(_number(number), text)


if __name__ == "__main__":
    unittest.main()
