"""The application: routers, templates, start and end."""

from __future__ import annotations

import logging
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from pathlib import Path

from anyio import to_thread
from fastapi import FastAPI
from fastapi.responses import Response
from fastapi.staticfiles import StaticFiles

from silent_loom import __version__
from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.kernels import load_kernels
from silent_loom.core.base.troubles import troubles
from silent_loom.core.ways.prepare import Preparation
from silent_loom.store.store import Store
from silent_loom.web.errors import answer_errors
from silent_loom.web.guard import Guard
from silent_loom.web.leaving import Leaving
from silent_loom.web.routers import (
    archives,
    deliveries,
    library,
    looking,
    many,
    maps,
    materials,
    models,
    opening,
    patterns,
    profiles,
    recipes,
    trials,
)
from silent_loom.work.opening import Openings
from silent_loom.work.workbench import Workbench

STATIC = Path(__file__).parent / "static"
THREADS = 200
"""Requests that are answered at a time."""
log = logging.getLogger(__name__)


class Fixed(StaticFiles):
    """Shipped files; asked for again only when they changed."""

    def file_response(self, *args: object, **kwargs: object) -> Response:
        response: Response = super().file_response(*args, **kwargs)  # type: ignore[arg-type]
        response.headers["cache-control"] = "no-cache"
        return response


def create_app(store: Store, *, hosts: set[str] | None = None, demo: bool = False, warm: bool = True, token: str = "") -> FastAPI:
    """The application on a store.

    Parameters
    ----------
    store : Store
    hosts : set of str
        Host names to answer for besides loopback.
    demo : bool
        Fill an empty store with the materials of Skerry Light, in the background.
    token : str
        Asked of everybody, where it is not empty: for an application that others can reach.
    warm : bool
        Have all kernels compiled by other processes, or load them, in the background.
    """
    preparation = Preparation()
    workbench, rooms = Workbench(store, preparation=preparation if warm else None), Openings(store)

    @asynccontextmanager
    async def life(_app: FastAPI) -> AsyncIterator[None]:
        def prepare() -> None:
            try:
                if demo:
                    from silent_loom.demo.seed import seed

                    seed(store)
                workbench.seeded.set()
                if demo:  # so that the library opens on finished pictures
                    for line in store.listed():
                        with suppress(LoomError):  # its card says what is wrong with it
                            workbench.cards.card(line.id, line.head)
                if warm:
                    preparation.wait_for_all()
                    load_kernels()
                for words in troubles():
                    log.warning(words)
            except Exception:
                log.exception("preparing failed")
            workbench.seeded.set()

        if warm:
            preparation.start()
        workbench.jobs.resume()
        # Most of them wait for their turn; a page that computes nothing must never wait for a thread
        to_thread.current_default_thread_limiter().total_tokens = THREADS
        threading.Thread(target=prepare, name="prepare", daemon=True).start()
        yield
        preparation.stop()
        workbench.close()
        rooms.close()
        store.close()

    app = FastAPI(title="Silent Loom", version=__version__, lifespan=life, docs_url=None, redoc_url=None)
    app.state.works, app.state.store, app.state.demo = workbench, store, demo
    app.state.rooms = rooms
    app.add_middleware(Leaving)
    app.add_middleware(Guard, hosts=hosts or set(), token=token)
    app.mount("/static", Fixed(directory=STATIC), name="static")
    for module in (
        library,
        opening,
        materials,
        maps,
        trials,
        looking,
        deliveries,
        profiles,
        archives,
        patterns,
        recipes,
        many,
        models,
    ):
        app.include_router(module.router)

    answer_errors(app)
    return app
