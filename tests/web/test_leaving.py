"""A closed page takes its questions back, and other requests are heard as before."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

import pytest
from fastapi import FastAPI, Request
from starlette.responses import StreamingResponse

from silent_loom.core.base.askers import present
from silent_loom.core.base.parallel import Task
from silent_loom.web.leaving import Leaving

T = TypeVar("T")


def app_of(begun: threading.Event, ended: list[str]) -> FastAPI:
    app = FastAPI()
    app.add_middleware(Leaving)

    def wait() -> None:
        task, asker = Task(), present()
        assert asker is not None
        asker.add(task)
        begun.set()
        for _ in range(1000):
            if task.cancelled:
                ended.append("cancelled")
                return
            threading.Event().wait(0.005)
        ended.append("never told")

    app.add_api_route("/ask", lambda: wait(), methods=["GET"])

    @app.post("/ask")
    def _ask(body: dict[str, Any]) -> None:
        ended.append(f"got {body['n']}")
        wait()

    @app.post("/read")
    async def _read(request: Request) -> StreamingResponse:
        body = await request.body()

        async def parts() -> Any:
            yield body
            yield body

        return StreamingResponse(parts())

    return app


def alone(work: Coroutine[Any, Any, T]) -> T:
    """Run in a thread of its own: other tests of this process may have left a loop behind in this one."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result()


async def requested(app: FastAPI, method: str, path: str, parts: list[bytes], leaves: asyncio.Event) -> list[dict[str, Any]]:
    scope = {
        "type": "http",
        "asgi": {"version": "3.0"},
        "http_version": "1.1",
        "method": method,
        "path": path,
        "raw_path": path.encode(),
        "query_string": b"",
        "headers": [(b"host", b"127.0.0.1"), (b"content-type", b"application/json")],
    }
    sent: list[dict[str, Any]] = []
    messages = [{"type": "http.request", "body": p, "more_body": p is not parts[-1]} for p in parts]

    async def receive() -> dict[str, Any]:
        if messages:
            return messages.pop(0)
        await leaves.wait()
        return {"type": "http.disconnect"}

    async def send(message: Any) -> None:
        sent.append(message)

    await app(scope, receive, send)
    return sent


@pytest.mark.parametrize(
    ("method", "parts", "told"), [("GET", [b""], ["cancelled"]), ("POST", [b'{"n"', b": 7}"], ["got 7", "cancelled"])]
)
def test_who_leaves_is_not_computed_for(method: str, parts: list[bytes], told: list[str]) -> None:
    begun, ended = threading.Event(), list[str]()

    async def run() -> None:
        leaves = asyncio.Event()
        asked = asyncio.create_task(requested(app_of(begun, ended), method, "/ask", parts, leaves))
        await asyncio.to_thread(begun.wait, 5)
        assert "cancelled" not in ended
        leaves.set()
        await asked

    alone(run())
    assert ended == told


def test_who_stays_is_answered_whole() -> None:
    async def run() -> list[dict[str, Any]]:
        return await requested(app_of(threading.Event(), []), "POST", "/read", [b"one ", b"two "], asyncio.Event())

    sent = alone(run())
    assert b"".join(m.get("body", b"") for m in sent) == b"one two one two "
