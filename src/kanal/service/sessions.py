"""Who may act on the page: those who have shown the token, in requests of the page itself."""

from __future__ import annotations

import hmac
import secrets
import time
from pathlib import Path

from msgspec import Struct, field
from starlette.exceptions import HTTPException
from starlette.requests import Request

from kanal.connections import secret_value
from kanal.core.errors import KanalError
from kanal.definition import Secret

#: Seconds for which a session lasts.
LASTS = 12 * 3600
COOKIE = "kanal-session"
#: A token must have at least this many characters.
_TOKEN = 16


class Session(Struct):
    """Someone who has shown the token: what their forms carry, and how long the session lasts."""

    form: str = field(default_factory=lambda: secrets.token_urlsafe(24))
    until: float = field(default_factory=lambda: time.monotonic() + LASTS)


class Sessions:
    """The sessions of a page. Without a token, nobody can sign in."""

    def __init__(self, token: str | None) -> None:
        self._token = token
        self._sessions: dict[str, Session] = {}

    @property
    def allowed(self) -> bool:
        """True if there is a token to sign in with."""
        return self._token is not None

    def of(self, request: Request) -> Session | None:
        """The session of a request, if it has one that still lasts."""
        session = self._sessions.get(request.cookies.get(COOKIE, ""))
        return session if session is not None and session.until > time.monotonic() else None

    def begin(self, request: Request, token: str) -> str | None:
        """Begin a session with a token; the value of its cookie, or None if the token is wrong."""
        if self._token is None or not _same_site(request) or not _same(token, self._token):
            return None
        now = time.monotonic()
        self._sessions = {key: one for key, one in self._sessions.items() if one.until > now}
        key = secrets.token_urlsafe(32)
        self._sessions[key] = Session()
        return key

    def end(self, request: Request) -> None:
        """End the session of a request."""
        self._sessions.pop(request.cookies.get(COOKIE, ""), None)

    def require_session(self, request: Request) -> Session:
        """The session of a request, before its body is read; raises HTTPException if there is none."""
        session = self.of(request)
        if session is None or not _same_site(request):
            raise HTTPException(403, "Sign in first; nothing was done.")
        return session

    def require(self, request: Request, form: str) -> None:
        """Raise HTTPException unless a form was sent by this page, in a session."""
        if not _same(form, self.require_session(request).form):
            raise HTTPException(403, "Sign in first; nothing was done.")


def _same(one: str, other: str) -> bool:
    return hmac.compare_digest(one.encode(), other.encode())


def _same_site(request: Request) -> bool:
    """True for a request that this page itself makes."""
    origin = request.headers.get("origin")
    return origin is None or origin.partition("://")[2] == request.headers.get("host")


def token_of(place: str) -> str:
    """The token of an environment variable, or of a file after file:, or of the keyring after keyring:."""
    kind, colon, rest = place.partition(":")
    secret = Secret(**{kind: rest}) if colon and kind in ("file", "keyring", "env") else Secret(env=place)
    token = secret_value(secret, "--allow-actions", Path.cwd(), "kanal").strip()
    if len(token) < _TOKEN:
        raise KanalError(
            f"the token of --allow-actions has fewer than {_TOKEN} characters, and could be guessed",
            "take a longer one, such as of: openssl rand -hex 24",
        )
    return token
