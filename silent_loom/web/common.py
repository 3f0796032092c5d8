"""What the routers share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, cast

from fastapi import Depends, Request, Response
from fastapi.templating import Jinja2Templates
from markupsafe import Markup

from silent_loom import __version__
from silent_loom.store.store import Store
from silent_loom.work.opening import Openings
from silent_loom.work.workbench import Workbench

templates = Jinja2Templates(Path(__file__).parent / "templates")
templates.env.globals["version"] = __version__
# In the page itself: icons by address would be asked for anew with every button that is made
templates.env.globals["icons"] = Markup((Path(__file__).parent / "static/vendor/icons/icons.svg").read_text("utf-8"))


def _bench(request: Request) -> Workbench:
    return cast(Workbench, request.app.state.works)


def _store(request: Request) -> Store:
    return cast(Store, request.app.state.store)


def _rooms(request: Request) -> Openings:
    return cast(Openings, request.app.state.rooms)


def kept_by(request: Request, key: str, make: Callable[[], bytes]) -> Response:
    """A PNG that a browser may keep, and asks after before it shows it again: answered by a word while it shows the same."""
    tag = f'"{key}"'
    headers = {"etag": tag, "cache-control": "private, no-cache"}
    if tag in (request.headers.get("if-none-match") or ""):
        return Response(status_code=304, headers=headers)
    return Response(make(), media_type="image/png", headers=headers)


Rooms = Annotated[Openings, Depends(_rooms)]
Works = Annotated[Workbench, Depends(_bench)]
Stored = Annotated[Store, Depends(_store)]
