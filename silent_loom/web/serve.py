"""Start the application on a port of this machine."""

from __future__ import annotations

import socket
from pathlib import Path

import uvicorn

from silent_loom.core.errors import LoomError
from silent_loom.store.store import Store, default_folder
from silent_loom.web.app import create_app


def serve(*, data: Path | None, demo: bool, host: str, port: int) -> None:
    """Serve until stopped; the address is printed when the first page can be loaded.

    Raises
    ------
    LoomError
        The port is taken, or the data folder cannot be used.
    """
    folder = data or default_folder()
    try:
        store = Store(folder)
    except OSError as error:
        raise LoomError(
            f"the data folder cannot be used ({error.strerror})", str(folder), "Choose another with --data."
        ) from None
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    listener = socket.socket(family)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
    except OSError as error:
        raise LoomError(
            f"port {port} of {host} cannot be used ({error.strerror})",
            "serve",
            "Choose another with --port, or --port 0 for a free one.",
        ) from None
    everywhere = host in ("0.0.0.0", "::")
    app = create_app(store, hosts={"*"} if everywhere else {f"[{host}]" if ":" in host else host}, demo=demo)
    shown = f"[{host}]" if ":" in host else host
    config = uvicorn.Config(app, log_level="warning", access_log=False, timeout_graceful_shutdown=3)
    server = _Announcing(config, f"http://{shown}:{listener.getsockname()[1]}/", folder)
    server.run(sockets=[listener])


class _Announcing(uvicorn.Server):
    def __init__(self, config: uvicorn.Config, address: str, folder: Path) -> None:
        super().__init__(config)
        self._address, self._folder = address, folder

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started:
            print(f"Silent Loom is at {self._address}  (data in {self._folder}; stop with Ctrl+C)", flush=True)
