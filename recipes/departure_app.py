"""An ASGI application that shows departure boards, for any ASGI server. It needs `pip install ./clients/python`.

    VERAX_WIRE_URL=127.0.0.1:8751 VERAX_TOKEN_FILE=token uvicorn departure_app:app
"""

import json

from verax import NO_VALUE, AsyncVerax, CacheOptions, HitRatio

hit_ratio = HitRatio()


class Desk:
    """What the requests share: the handle, which belongs to the event loop, and the database."""

    def __init__(self, read_board):
        self.read_board, self.boards = read_board, None

    async def start(self):
        options = CacheOptions(hook=hit_ratio)
        self.boards = AsyncVerax.from_environment().cache("ferrydesk", "boards", options)

    async def stop(self):
        await self.boards.close()

    async def board(self, harbor):
        async def read():
            board = await self.read_board(harbor)
            return NO_VALUE if board is None else board

        return await self.boards.find_or_refill(
            f"board/{harbor}", read, max_age=30, stale_if_error=3600, negative_max_age=5,
            tags=[f"harbor-{harbor}"])


def application(read_board):
    """The ASGI application over a database."""
    desk = Desk(read_board)

    async def app(scope, receive, send):
        if scope["type"] == "lifespan":
            while True:
                message = await receive()
                await (desk.start() if message["type"] == "lifespan.startup" else desk.stop())
                await send({"type": message["type"] + ".complete"})
                if message["type"] == "lifespan.shutdown":
                    return
        status, body = await respond(scope["path"])
        await send({"type": "http.response.start", "status": status,
                    "headers": [(b"content-type", b"application/json")]})
        await send({"type": "http.response.body", "body": json.dumps(body).encode()})

    async def respond(path):
        if path == "/hit-ratio":
            return 200, hit_ratio.ratio
        try:
            cached = await desk.board(path.removeprefix("/boards/"))
        except OSError:
            return 503, {"detail": "the database is away"}
        return (200, cached.value) if cached.exists else (404, {"detail": "no such harbor"})

    return app


async def read_board(harbor):
    """The application's database."""
    return {"harbor": harbor, "sailings": ["07:10 Saltmere"]} if harbor == "brinewick" else None


app = application(read_board)
