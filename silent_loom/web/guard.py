"""Who may talk to the application: known hosts only, and no writes from other sites' pages."""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; font-src 'self'; connect-src 'self'; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
_LOOPBACK = {"127.0.0.1", "localhost", "[::1]"}
_READS = {"GET", "HEAD", "OPTIONS"}


def _name_of(host: str) -> str:
    if host.startswith("["):
        return host.partition("]")[0] + "]"
    return host.partition(":")[0].lower()


class Guard:
    """Refuses requests for hosts it does not serve (DNS rebinding) and writes whose Origin is another (forgery).

    Parameters
    ----------
    hosts : set of str
        Host names served besides loopback; '*' when the artist chose to listen on every address.
    max_body : int
        Largest request body in bytes.
    """

    def __init__(self, app: ASGIApp, hosts: set[str], max_body: int = 1 << 30) -> None:
        self.app, self.hosts, self.max_body = app, _LOOPBACK | hosts, max_body

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        refusal = self._refusal(scope["method"], headers)
        if refusal:
            await JSONResponse({"error": refusal}, 403)(scope, receive, send)
            return
        if int(headers.get("content-length") or 0) > self.max_body:
            await JSONResponse({"error": "The file is too large. Make it smaller."}, 413)(scope, receive, send)
            return

        async def with_policy(message: Message) -> None:
            if message["type"] == "http.response.start":
                extra = [
                    (b"content-security-policy", POLICY.encode()),
                    (b"x-content-type-options", b"nosniff"),
                    (b"referrer-policy", b"same-origin"),
                    (b"cross-origin-resource-policy", b"same-origin"),
                ]
                message["headers"] = [*message["headers"], *extra]
            await send(message)

        await self.app(scope, receive, with_policy)

    def _refusal(self, method: str, headers: Headers) -> str:
        host = headers.get("host", "")
        if "*" not in self.hosts and _name_of(host) not in self.hosts:
            return f"This address ({host[:80]}) is not served. Use the one that was printed at the start."
        if method not in _READS:
            origin = headers.get("origin")
            if origin is not None and urlsplit(origin).netloc.lower() != host.lower():
                return "This request came from another site's page and was refused."
            if origin is None and headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
                return "This request came from another site's page and was refused."
        return ""
