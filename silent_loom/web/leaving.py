"""A page that is closed, or goes elsewhere, takes its questions back."""

from __future__ import annotations

import asyncio
from contextlib import suppress

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from silent_loom.core.base.askers import Asker, asking


class Leaving:
    """Tells the computations of a request that nobody waits for their answer any more.

    A server says so in `receive` once the body was read, so a watcher reads on from there; the application is told what the
    watcher heard.
    """

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        asker, gone = Asker(), asyncio.Event()
        watching: asyncio.Task[None] | None = None
        without_body = scope["method"] in ("GET", "HEAD")
        told = False

        async def watch() -> None:
            while (await receive())["type"] != "http.disconnect":
                pass
            asker.leave()
            gone.set()

        async def heard() -> Message:
            nonlocal watching, told
            if without_body and not told:
                told = True
                return {"type": "http.request", "body": b"", "more_body": False}
            if watching is not None:
                await gone.wait()
                return {"type": "http.disconnect"}
            message = await receive()
            if message["type"] == "http.disconnect":
                asker.leave()
            elif not message.get("more_body", False):
                watching = asyncio.create_task(watch())
            return message

        if without_body:
            watching = asyncio.create_task(watch())
        try:
            with asking(asker):
                await self.app(scope, heard, send)
        finally:
            if watching is not None:
                watching.cancel()
                with suppress(asyncio.CancelledError):
                    await watching
