"""What a page is told when something cannot be done: a sentence, and the status that fits."""

from __future__ import annotations

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from sqlalchemy.exc import DatabaseError

from silent_loom.core.base.errors import Cancelled, FileError, Full, LoomError, NotMade, refusal
from silent_loom.store.database import refused
from silent_loom.store.states import Conflict, Missing


def answer_errors(app: FastAPI) -> None:
    """Every error that the artist can mend is answered in words, with what, where and what to do."""

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


def printable(text: str) -> str:
    """A text that can be sent: halves of characters, which a request may hold, become marks of doubt."""
    return text.encode("utf-8", "replace").decode("utf-8")
