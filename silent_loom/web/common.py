"""What the routers share."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, cast

from fastapi import Depends, Request
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
    return cast(Workbench, request.app.state.bench)


def _store(request: Request) -> Store:
    return cast(Store, request.app.state.store)


def _rooms(request: Request) -> Openings:
    return cast(Openings, request.app.state.rooms)


Rooms = Annotated[Openings, Depends(_rooms)]
Bench = Annotated[Workbench, Depends(_bench)]
Stored = Annotated[Store, Depends(_store)]
