"""Decides which requests the page answers: they use one of its names, and come from people who may see it."""

from __future__ import annotations

import ipaddress
import re
import socket
from collections.abc import Sequence

from msgspec import Struct
from starlette.requests import HTTPConnection
from starlette.responses import PlainTextResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Receive, Scope, Send

from kanal.core.errors import KanalError
from kanal.service.feeds import SECURITY
from kanal.service.sessions import Sessions, token_of

_LOCAL = ("127.0.0.1", "::1", "localhost")
#: Paths that are open to everybody; they show no rows.
_OPEN = ("/sign-in", "/health", "/page.css", "/page.js", "/mark.svg")


class PageAccess(Struct, frozen=True):
    """The address and the names of a page, and the places of the tokens for acting and for looking."""

    port: int
    listen: str = _LOCAL[0]
    allow_actions: str | None = None
    allow_viewing: str | None = None
    names: Sequence[str] = ()

    @property
    def local(self) -> bool:
        """True if only this machine reaches it."""
        return self.listen in _LOCAL

    @property
    def address(self) -> str:
        """Where the page is."""
        host = f"[{self.listen}]" if ":" in self.listen else self.listen
        return f"http://{host}:{self.port}/"

    def sessions(self) -> Sessions:
        """Who may see the page and act on it; raises KanalError if that would be everybody on the network."""
        if not self.local and not self.allow_viewing and not self.allow_actions:
            raise KanalError(
                f"with --listen {self.listen}, everybody who reaches this machine could see rejected rows",
                "name the place of a token by --allow-viewing, or let the page listen on this machine only",
            )
        acting = token_of("--allow-actions", self.allow_actions) if self.allow_actions else None
        viewing = token_of("--allow-viewing", self.allow_viewing) if self.allow_viewing else None
        return Sessions(acting, viewing, private=viewing is not None or not self.local)

    def is_called(self, host: str) -> bool:
        """True if a Host header names the page. A page of another site cannot send an address as its own name."""
        found = re.fullmatch(r"(?:\[([0-9a-f:.]+)\]|([^:\[\]]+))(?::\d*)?", host.strip().lower(), re.ASCII)
        if found is None:
            return False
        name = found[1] or found[2]
        if name in (*_LOCAL, *map(str.lower, self.names)):
            return True
        return not self.local and (name == socket.gethostname().lower() or _is_address(name))


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


class Doors:
    """Middleware that turns away requests for another name, and those of people who have to sign in first."""

    def __init__(self, app: ASGIApp, access: PageAccess, sessions: Sessions) -> None:
        self._app, self._access, self._sessions = app, access, sessions

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request, or let it pass."""
        refused = self._refused(HTTPConnection(scope)) if scope["type"] == "http" else None
        await (refused or self._app)(scope, receive, send)

    def _refused(self, request: HTTPConnection) -> Response | None:
        host = request.headers.get("host", "")
        if not self._access.is_called(host):
            said = "This page has another name. If it should be called by this one, start kanal serve with --host-name."
            return PlainTextResponse(said, 400, SECURITY)
        if request.url.path in _OPEN or self._sessions.may_look(request):
            return None
        if "text/html" in request.headers.get("accept", ""):
            return RedirectResponse("/sign-in", 303, SECURITY)
        said = "Sign in, or send the token in a header: Authorization: Bearer TOKEN"
        return PlainTextResponse(said, 401, SECURITY | {"WWW-Authenticate": "Bearer"})
