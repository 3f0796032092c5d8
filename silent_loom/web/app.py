"""The application: routers, templates, errors, start and end."""

from __future__ import annotations

import logging
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from pathlib import Path

from anyio import to_thread
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import DatabaseError

from silent_loom import __version__
from silent_loom.core.base.errors import Cancelled, FileError, Full, LoomError, NotMade, refusal
from silent_loom.core.base.kernels import load_kernels
from silent_loom.core.ways.prepare import Preparation
from silent_loom.store.database import refused
from silent_loom.store.states import Conflict, Missing
from silent_loom.store.store import Store
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
    bench, rooms = Workbench(store, preparation=preparation if warm else None), Openings(store)

    @asynccontextmanager
    async def life(_app: FastAPI) -> AsyncIterator[None]:
        def prepare() -> None:
            try:
                if demo:
                    from silent_loom.demo.seed import seed

                    seed(store)
                bench.seeded.set()
                if demo:  # so that the library opens on finished pictures
                    for line in store.listed():
                        with suppress(LoomError):  # its card says what is wrong with it
                            bench.cards.card(line.id, line.head)
                if warm:
                    preparation.wait_for_all()
                    load_kernels()
            except Exception:
                log.exception("preparing failed")
            bench.seeded.set()

        if warm:
            preparation.start()
        bench.jobs.resume()
        # Most of them wait for their turn; a page that computes nothing must never wait for a thread
        to_thread.current_default_thread_limiter().total_tokens = THREADS
        threading.Thread(target=prepare, name="prepare", daemon=True).start()
        yield
        preparation.stop()
        bench.close()
        rooms.close()
        store.close()

    app = FastAPI(title="Silent Loom", version=__version__, lifespan=life, docs_url=None, redoc_url=None)
    app.state.bench, app.state.store, app.state.demo = bench, store, demo
    app.state.rooms = rooms
    app.add_middleware(Leaving)
    app.add_middleware(Guard, hosts=hosts or set(), token=token)
    app.mount("/static", Fixed(directory=STATIC), name="static")
    for module in (library, opening, materials, maps, trials, looking, deliveries, profiles, archives, patterns, recipes, many):
        app.include_router(module.router)

    @app.exception_handler(Conflict)
    async def _conflict(_request: Request, error: Conflict) -> JSONResponse:
        return JSONResponse({"error": str(error), "kept": error.kept, "conflict": True}, 409)

    @app.exception_handler(Missing)
    async def _missing(_request: Request, error: Missing) -> JSONResponse:
        return JSONResponse({"error": str(error)}, 404)

    def told(error: LoomError) -> JSONResponse:
        # What is not made as the weave stands may have been made when it was asked for
        kinds = {FileError: 415, Full: 507, NotMade: 409}
        status = next((status for kind, status in kinds.items() if isinstance(error, kind)), 422)
        about = {"error": str(error), "what": error.what, "where": error.where, "todo": error.todo}
        return JSONResponse({k: printable(v) for k, v in about.items()}, status)

    @app.exception_handler(LoomError)
    async def _wrong(_request: Request, error: LoomError) -> JSONResponse:
        return told(error)

    @app.exception_handler(OSError)
    async def _refused(_request: Request, error: OSError) -> JSONResponse:
        return told(refusal(error))

    @app.exception_handler(DatabaseError)
    async def _database(_request: Request, error: DatabaseError) -> JSONResponse:
        return told(refused(error))

    @app.exception_handler(RequestValidationError)
    async def _malformed(_request: Request, error: RequestValidationError) -> JSONResponse:
        # Without what was sent: it may hold what JSON cannot say
        return JSONResponse({"detail": [{k: e[k] for k in ("type", "loc", "msg")} for e in error.errors()]}, 422)

    @app.exception_handler(OverflowError)
    async def _beyond(_request: Request, _error: OverflowError) -> JSONResponse:
        return told(LoomError("a number is larger than anything here can be", "", "Send a smaller one."))

    @app.exception_handler(Cancelled)
    async def _superseded(_request: Request, _error: Cancelled) -> Response:
        return Response(status_code=204, headers={"x-superseded": "1"})

    return app


def printable(text: str) -> str:
    """A text that can be sent: halves of characters, which a request may hold, become marks of doubt."""
    return text.encode("utf-8", "replace").decode("utf-8")
