"""Start the application on a port of this machine."""

from __future__ import annotations

import errno
import faulthandler
import secrets
import signal
import socket
from pathlib import Path

import uvicorn

from silent_loom.core.base.errors import LoomError, refusal
from silent_loom.store.lock import FolderLock
from silent_loom.store.store import Store, default_folder
from silent_loom.store.sweep import sweep
from silent_loom.web.app import create_app

LOOPBACK = {"127.0.0.1", "::1", "localhost"}
TRIED = 50
"""Ports after the one asked for that are tried when it is taken."""


def serve(*, data: Path | None, demo: bool, host: str, port: int) -> None:
    """Serve until stopped; the address is printed when the first page can be loaded.

    Raises
    ------
    LoomError
        No port is free, or the data folder cannot be used, or is in use.
    """
    if hasattr(signal, "SIGUSR1"):
        faulthandler.register(signal.SIGUSR1)  # says where every thread is, should it ever stand still
    folder = data or default_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        lock = FolderLock(folder)
    except OSError as error:
        raise refusal(error, str(folder)) from None
    store = Store(folder)
    sweep(folder, store.knows)
    store.forget_decisions()
    listener = _listen(host, port)
    everywhere = host in ("0.0.0.0", "::")
    token = "" if host in LOOPBACK else secrets.token_urlsafe(16)
    app = create_app(store, hosts={"*"} if everywhere else {f"[{host}]" if ":" in host else host}, demo=demo, token=token)
    shown = f"[{host}]" if ":" in host else host
    at = f"http://{shown}:{listener.getsockname()[1]}/"
    lock.say(at)
    config = uvicorn.Config(app, log_level="warning", access_log=False, timeout_graceful_shutdown=3)
    server = _Announcing(config, f"{at}?token={token}" if token else at, folder)
    try:
        server.run(sockets=[listener])
    finally:
        lock.release()


def _listen(host: str, port: int) -> socket.socket:
    """A socket on the port asked for, or on the next one that is free; said where it is another."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    for tried in range(port, min(65536, port + TRIED) if port else 1):
        listener = socket.socket(family)
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listener.bind((host, tried))
            listener.listen()  # two may bind one port; only one may listen
        except OSError as error:
            listener.close()
            if error.errno == errno.EADDRINUSE:
                continue
            raise LoomError(
                f"port {tried} of {host} cannot be used ({error.strerror})",
                "serve",
                "Choose another with --port, or --port 0 for a free one.",
            ) from None
        if tried != port:
            print(f"Port {port} is taken; the next free one is {tried}.", flush=True)
        return listener
    raise LoomError(
        f"ports {port} to {port + TRIED - 1} of {host} are taken", "serve", "Choose another with --port, or --port 0."
    )


class _Announcing(uvicorn.Server):
    def __init__(self, config: uvicorn.Config, address: str, folder: Path) -> None:
        super().__init__(config)
        self._address, self._folder = address, folder

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started:
            print(f"Silent Loom is at {self._address}  (data in {self._folder}; stop with Ctrl+C)", flush=True)
