"""Who may talk to the application: known hosts only, no writes from other sites' pages, and those who know the token."""

from __future__ import annotations

import secrets
from contextlib import suppress
from urllib.parse import parse_qs, urlsplit

from starlette.datastructures import Headers
from starlette.responses import JSONResponse, RedirectResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; font-src 'self'; connect-src 'self'; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
_LOOPBACK = {"127.0.0.1", "localhost", "[::1]"}
_READS = {"GET", "HEAD", "OPTIONS"}
COOKIE = "loom-token"
HEADERS = [
    (b"content-security-policy", POLICY.encode()),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"same-origin"),
    (b"cross-origin-resource-policy", b"same-origin"),
]
"""Of every answer, refusals as well as pages."""
_OTHER_SITE = "This request came from another site's page and was refused."


def cookies(headers: Headers) -> list[str]:
    """Values of our cookie, wherever it stands: a malformed one of somebody else's beside it says nothing of ours."""
    parts = (part.strip() for line in headers.getlist("cookie") for part in line.split(";"))
    return [part.removeprefix(f"{COOKIE}=").strip('"') for part in parts if part.startswith(f"{COOKIE}=")]


class TooLarge(Exception):
    """A body is larger than is taken."""


def _with_headers(send: Send) -> Send:
    async def sent(message: Message) -> None:
        if message["type"] == "http.response.start":
            message["headers"] = [*message.get("headers", []), *HEADERS]
        await send(message)

    return sent


def _name_of(host: str) -> str:
    """The name in a Host header; empty where what follows it is no port."""
    if host.startswith("["):
        name, _, rest = host.partition("]")
        return name + "]" if not rest or (rest[0] == ":" and rest[1:].isdigit()) else ""
    name, colon, port = host.partition(":")
    return name.lower() if not colon or port.isdigit() else ""


class Guard:
    """Refuses requests for hosts it does not serve (DNS rebinding), writes that come from another site's page (forgery),
    bodies without end, and whoever does not know the token where there is one.

    Parameters
    ----------
    hosts : set of str
        Host names served besides loopback; '*' when the artist chose to listen on every address.
    max_body : int
        Largest request body in bytes, whether its length is said or not.
    token : str
        Comes in the address that is printed, and stays in a cookie; empty on this machine alone.
    """

    def __init__(self, app: ASGIApp, hosts: set[str], max_body: int = 1 << 30, token: str = "") -> None:
        self.app, self.hosts, self.max_body, self.token = app, _LOOPBACK | hosts, max_body, token

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        send = _with_headers(send)
        refusal = self._refusal(scope["method"], headers)
        if refusal:
            await JSONResponse({"error": refusal}, 403)(scope, receive, send)
            return
        if self.token and not await self._knows(scope, headers, receive, send):
            return
        length = headers.get("content-length") or "0"
        if not length.isdigit() or int(length) > self.max_body:
            await JSONResponse({"error": "The file is too large. Make it smaller."}, 413)(scope, receive, send)
            return
        taken, begun, over = 0, False, False

        async def bounded() -> Message:  # a body in chunks says no length
            nonlocal taken, over
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > self.max_body:
                over = True
                raise TooLarge
            return message

        async def watched(message: Message) -> None:
            nonlocal begun
            if over and not begun:  # whatever was made of a body that broke off
                return
            if message["type"] == "http.response.start":
                begun = True
            await send(message)

        with suppress(TooLarge):
            await self.app(scope, bounded, watched)
        if over and not begun:
            await JSONResponse({"error": "The file is too large. Make it smaller."}, 413)(scope, receive, send)

    def _refusal(self, method: str, headers: Headers) -> str:
        host = headers.get("host", "")
        if not _name_of(host) or ("*" not in self.hosts and _name_of(host) not in self.hosts):
            return f"This address ({host[:80]}) is not served. Use the one that was printed at the start."
        if method not in _READS:
            # Browsers say where a request comes from in one of three ways; older ones in the last alone
            origin, referer = headers.get("origin"), headers.get("referer")
            said = origin if origin is not None else referer
            if said is not None and urlsplit(said).netloc.lower() != host.lower():
                return _OTHER_SITE
            if headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
                return _OTHER_SITE
        return ""

    async def _knows(self, scope: Scope, headers: Headers, receive: Receive, send: Send) -> bool:
        """Whether a request brings the token; answered here where it does not, or brings it in its address."""
        if any(secrets.compare_digest(value.encode("utf-8", "replace"), self.token.encode()) for value in cookies(headers)):
            return True
        given = parse_qs(scope.get("query_string", b"").decode("latin-1")).get("token", [""])[0]
        if secrets.compare_digest(given.encode(), self.token.encode()):
            answer = RedirectResponse("/" + scope["path"].lstrip("/\\"), 303)  # '//host' would lead elsewhere
            answer.set_cookie(COOKIE, self.token, httponly=True, samesite="strict")
            await answer(scope, receive, send)
            return False
        said = "Others can reach this application, so it asks for a token. Use the whole address that was printed at the start."
        await JSONResponse({"error": said}, 401)(scope, receive, send)
        return False
