"""Runs the ASGI application against the Verax of VERAX_WIRE_URL and VERAX_TOKEN."""

import asyncio
import json
import os
import pathlib
import sys
import unittest

HERE = pathlib.Path(__file__).parents[1]
sys.path[:0] = [str(HERE), str(HERE.parent / "clients" / "python")]

import departure_app  # noqa: E402


async def call(app, path):
    """One request, as an ASGI server makes it."""
    sent = []

    async def receive():
        return {"type": "http.request"}

    async def send(message):
        sent.append(message)

    await app({"type": "http", "path": path}, receive, send)
    return sent[0]["status"], json.loads(sent[1]["body"])


class Lifespan:
    """The start and the end of an application, as an ASGI server makes them."""

    def __init__(self, app):
        self.app = app

    async def __aenter__(self):
        self.messages, self.answers = asyncio.Queue(), asyncio.Queue()
        run = self.app({"type": "lifespan"}, self.messages.get, self.answers.put)
        self.running = asyncio.ensure_future(run)
        await self.tell("lifespan.startup")

    async def __aexit__(self, *_):
        await self.tell("lifespan.shutdown")
        await self.running

    async def tell(self, what):
        await self.messages.put({"type": what})
        assert (await self.answers.get())["type"] == what + ".complete"


class Application(unittest.TestCase):
    def test_boards_are_read_once_and_survive_an_outage(self):
        reads, away = [], []

        async def read_board(harbor):
            reads.append(harbor)
            if away:
                raise OSError("the database is away")
            return await departure_app.read_board(harbor)

        async def whole():
            app = departure_app.application(read_board)
            async with Lifespan(app):
                boards = await asyncio.gather(*(call(app, "/boards/brinewick") for _ in range(20)))
                self.assertEqual({json.dumps(board) for board in boards}, {json.dumps(boards[0])})
                self.assertEqual(boards[0][0], 200)
                self.assertEqual((await call(app, "/boards/nowhere"))[0], 404)
                self.assertEqual((await call(app, "/boards/nowhere"))[0], 404)
                self.assertEqual(sorted(reads), ["brinewick", "nowhere"])
                away.append(True)
                self.assertEqual((await call(app, "/boards/brinewick"))[0], 200)
                self.assertEqual((await call(app, "/boards/aldermouth"))[0], 503)
                self.assertGreater((await call(app, "/hit-ratio"))[1], 0)
            wire = os.environ.pop("VERAX_WIRE_URL")
            os.environ["VERAX_WIRE_URL"] = "127.0.0.1:1"
            away.clear()
            async with Lifespan(app):
                self.assertEqual((await call(app, "/boards/brinewick"))[0], 200, "without Verax")
            os.environ["VERAX_WIRE_URL"] = wire

        asyncio.run(whole())


if __name__ == "__main__":
    unittest.main()
