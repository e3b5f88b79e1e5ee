"""What the small servers of the demo share: they begin to answer when they are made, until they are closed."""

from __future__ import annotations

import contextlib
import sys
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Self, TypeVar


class DemoServer:
    """A server at this machine, whose requests a handler answers; port 0 is a free one. Raises OSError."""

    def __init__(self, handler: type[BaseHTTPRequestHandler], port: int) -> None:
        self._server = ThreadingHTTPServer(("127.0.0.1", port), handler)
        threading.Thread(target=self._server.serve_forever, name="kanal-demo-server", daemon=True).start()

    @property
    def port(self) -> int:
        """The port that it listens at."""
        return int(self._server.server_address[1])

    def close(self) -> None:
        """Stop it."""
        self._server.shutdown()
        self._server.server_close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class DemoHandler(BaseHTTPRequestHandler):
    """Answers in HTTP/1.1, and tells nobody what it was asked."""

    protocol_version = "HTTP/1.1"
    wbufsize = 1 << 16  # head and body in one go

    def log_message(self, format: str, *arguments: object) -> None:
        """Nothing: an address may have a signature in it."""


_Server = TypeVar("_Server", bound=DemoServer)


def serve(make: Callable[[], _Server], port: int, tell: Callable[[_Server], None]) -> None:
    """Make a server, tell of it, and let it answer until Ctrl+C."""
    try:
        server = make()
    except OSError as error:
        sys.exit(f"port {port} cannot be used: {error.strerror}. Name another by --port.")
    with server:
        tell(server)
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait()
