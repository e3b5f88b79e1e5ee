"""Who may see the page and act on it: those who have shown a token, in requests of the page itself."""

from __future__ import annotations

import hmac
import secrets
import time
from pathlib import Path

from msgspec import Struct, field
from starlette.exceptions import HTTPException
from starlette.requests import HTTPConnection, Request

from kanal.connections import secret_value
from kanal.core.errors import KanalError
from kanal.definition import Secret

#: Seconds for which a session lasts.
LASTS = 12 * 3600
COOKIE = "kanal-session"
#: A token must have at least this many characters.
_TOKEN = 16


class Session(Struct):
    """Someone who has shown a token: whether they may act, what their forms carry, and how long the session lasts."""

    acts: bool
    form: str = field(default_factory=lambda: secrets.token_urlsafe(24))
    until: float = field(default_factory=lambda: time.monotonic() + LASTS)


class Sessions:
    """The sessions of a page, with one token for acting and one for looking.

    Without a token, nobody can sign in. If the page is `private`, nobody can look without having signed in.
    """

    def __init__(self, acting: str | None, viewing: str | None, private: bool) -> None:
        self._acting, self._viewing = acting, viewing
        self.private = private
        self._sessions: dict[str, Session] = {}

    @property
    def tokens(self) -> bool:
        """True if there is a token to sign in with."""
        return self._acting is not None or self._viewing is not None

    @property
    def actions(self) -> bool:
        """True if someone may act."""
        return self._acting is not None

    def of(self, request: HTTPConnection) -> Session | None:
        """The session of a request, if it has one that still lasts."""
        session = self._sessions.get(request.cookies.get(COOKIE, ""))
        return session if session is not None and session.until > time.monotonic() else None

    def may_look(self, request: HTTPConnection) -> bool:
        """True if a request may be answered with what the page shows."""
        if not self.private or self.of(request) is not None:
            return True
        kind, _, token = request.headers.get("authorization", "").partition(" ")
        return kind.lower() == "bearer" and self._role_of(token.strip()) is not None

    def _role_of(self, token: str) -> bool | None:
        """Whether who has this token may act; None for a wrong token."""
        acts = self._acting is not None and _same(token, self._acting)
        looks = self._viewing is not None and _same(token, self._viewing)
        return acts if acts or looks else None

    def begin(self, request: Request, token: str) -> str | None:
        """Begin a session with a token; the value of its cookie, or None if the token is wrong."""
        acts = self._role_of(token)
        if acts is None or not _same_site(request):
            return None
        now = time.monotonic()
        self._sessions = {key: one for key, one in self._sessions.items() if one.until > now}
        key = secrets.token_urlsafe(32)
        self._sessions[key] = Session(acts)
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

    def require_actor(self, request: Request) -> None:
        """Raise HTTPException for a request without the session of someone who may act."""
        if not self.require_session(request).acts:
            raise HTTPException(403, "Your token is for looking only; nothing was done.")

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


def token_of(option: str, place: str) -> str:
    """The token of an environment variable, or of a file after file:, or of the keyring after keyring:.

    Raises KanalError, which names the option, for one that cannot be had or is too short.
    """
    kind, colon, rest = place.partition(":")
    secret = Secret(**{kind: rest}) if colon and kind in ("file", "keyring", "env") else Secret(env=place)
    token = secret_value(secret, option, Path.cwd(), "kanal").strip()
    if len(token) < _TOKEN:
        raise KanalError(
            f"the token of {option} has fewer than {_TOKEN} characters, and could be guessed",
            "take a longer one, such as of: openssl rand -hex 24",
        )
    return token
