"""Asks HTTP APIs, signed in; asks again if a trouble passes. Needs httpx (pip install kanal[http])."""

from __future__ import annotations

import datetime as dt
import email.utils
import time
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

import sqlalchemy as sa
import tenacity
from msgspec import Struct, field

from kanal.connections.bodies import blocks, is_web_address, led_to, whole_number
from kanal.connections.errors import DatabaseError, unreached
from kanal.connections.files.formats import needed
from kanal.connections.files.json_text import DECODER
from kanal.core.errors import passes, shortened

if TYPE_CHECKING:
    from kanal.definition import Connection as ConnectionSettings

#: Bytes of an answer at most, how often a page is asked for, and how long is waited for the next time, in seconds.
_MOST, _TIMES, _LONGEST_WAIT = 256 * 1024 * 1024, 6, 300.0
#: Bytes of an answer with a token at most.
_MOST_OF_TOKEN = 1_000_000
_REDIRECTS = 5
#: What to do if rows may have been taken.
_AFTER_BREAK = "see what it has; with repeatable = true in send, if it knows Idempotency-Key, they are sent again"


class ApiError(DatabaseError):
    """An API that cannot be reached, or that refuses what it was asked."""

    def __init__(
        self, what: str, remedy: str = "", passing: bool = False, wait: float | None = None, status: int | None = None
    ) -> None:
        super().__init__(what, remedy, passing)
        self.status = status
        #: The seconds after which the service says that it may be asked again.
        self.wait = wait


class BodyError(ApiError):
    """An answer that began, and whose body cannot be read."""


class Page(Struct):
    """An answer: its JSON, and its headers."""

    content: Any
    headers: Mapping[str, str] = field(default_factory=dict)
    address: str = ""


class Client:
    """Asks an API, signed in; what is told to it is told to no other host."""

    def __init__(self, url: sa.URL, settings: ConnectionSettings) -> None:
        self._settings = settings
        self.base = (
            f"{url.drivername}://{url.host}{f':{url.port}' if url.port else ''}/{(url.database or '').strip('/')}/"
        )
        self.query = {name: str(value) for name, value in url.query.items()}
        self._user, self._password = url.username, str(url.password) if url.password is not None else None
        self._token: tuple[str, float] | None = None
        self._made: Any = None

    @property
    def _client(self) -> Any:
        if self._made is None:
            httpx = needed("httpx", "http", "an HTTP API is asked for")
            seconds = self._settings.connect_timeout or 60.0
            self._made = httpx.Client(
                timeout=httpx.Timeout(60.0, connect=seconds),
                headers={"Accept-Encoding": "gzip"},
                follow_redirects=False,
            )
        return self._made

    def close(self) -> None:
        """Close all connections."""
        if self._made is not None:
            self._made.close()
            self._made = None

    def _headers(self) -> dict[str, str]:
        """What signs in; raises KanalError."""
        sign_in, httpx = self._settings.sign_in, needed("httpx", "http", "an HTTP API is asked for")
        headers = {"Accept": "application/json"}
        if sign_in is None and self._user is None:
            return headers
        if self._password is None:
            raise ApiError("there is no password to sign in with", 'name it by password = { env = "NAME" }')
        if sign_in is not None and sign_in.header is not None:
            return headers | {sign_in.header: self._password}
        if sign_in is not None and sign_in.token_url is not None:
            return headers | {"Authorization": f"Bearer {self._fetched_token(sign_in.token_url, sign_in.scope)}"}
        if sign_in is not None and sign_in.way == "bearer":
            return headers | {"Authorization": f"Bearer {self._password}"}
        basic = next(httpx.BasicAuth(self._user or "", self._password).auth_flow(httpx.Request("GET", self.base)))
        return headers | {"Authorization": basic.headers["Authorization"]}

    def _fetched_token(self, address: str, scope: str | None) -> str:
        """The token for the user and the password, fetched again once it is about to expire."""
        if self._token is not None and time.monotonic() < self._token[1]:
            return self._token[0]
        form = {"grant_type": "client_credentials"} | ({"scope": scope} if scope else {})
        httpx = needed("httpx", "http", "an HTTP API is asked for")
        host = urlsplit(address).netloc.rpartition("@")[2]
        signed = {"data": form, "auth": (self._user or "", self._password or "")}
        try:
            with self._client.stream("POST", address, **signed) as answer:
                body = b"".join(blocks(answer, f"the token of {host}", _MOST_OF_TOKEN, ApiError))
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise ApiError(f"no token can be had: {host} gives no answer ({type(error).__name__})",
                           "correct token_url", isinstance(error, httpx.TransportError)) from None  # fmt: skip
        try:
            found = DECODER.decode(body.decode("utf-8-sig"))
            token, seconds = str(found["access_token"]), float(found.get("expires_in", 300))
        except (ValueError, KeyError, TypeError, RecursionError):
            raise ApiError(
                f"no token was given: {host} answers {answer.status_code}",
                "correct the user, the password and the scope",
                answer.status_code >= 500,
            ) from None
        self._token = token, time.monotonic() + max(0.0, seconds - 30)
        return token

    def page(self, address: str, query: Mapping[str, str]) -> Page:
        """An answer; asked for again if a trouble passes, as late as the service wishes. Raises KanalError."""
        return _retrying()(self._page, address, query)

    def send(self, method: str, address: str, body: bytes, key: str, once: bool) -> Page:
        """Send a body; again if a trouble passes, if a request that comes twice does no harm, or else only if it was
        not taken for sure. Raises ApiError, with the status of the answer."""
        return _retrying()(self._send, method, address, body, key, once)

    def _send(self, method: str, address: str, body: bytes, key: str, once: bool) -> Page:
        httpx = needed("httpx", "http", "an HTTP API is asked for")
        own = urlsplit(self.base)
        headers = self._headers() | {"Content-Type": "application/json", "Idempotency-Key": f'"{key}"'}
        try:
            sent = {"params": self.query or None, "content": body, "headers": headers}
            with self._client.stream(method, address, **sent) as answer:
                if answer.is_redirect:
                    raise ApiError(f"{path_of(address)} leads elsewhere, to which nothing is sent", "correct the url")
                return self._read(answer, address, must_tell=False)
        except BodyError as error:
            what = f"{error.what}; whether the service has taken the rows is not known"
            raise ApiError(what, _AFTER_BREAK, once) from None
        except ApiError as error:
            if error.status is not None and error.status >= 500 and error.status != 503 and not once:
                error.passing = False  # it may have taken the rows
            raise
        except httpx.ConnectError as error:
            raise ApiError(*unreached(own.netloc, error)) from None
        except httpx.HTTPError as error:
            raise ApiError(
                f"{own.netloc} broke off ({type(error).__name__}), and whether it has taken the rows is not known",
                _AFTER_BREAK,
                once,
            ) from None

    def _page(self, address: str, query: Mapping[str, str]) -> Page:
        httpx = needed("httpx", "http", "an HTTP API is asked for")
        own = urlsplit(self.base)
        where, parameters = address, dict(query)
        try:
            for _ in range(_REDIRECTS):
                if not is_web_address(where):
                    raise ApiError(
                        f"{path_of(address)} redirects to an address that is not http or https", "ask those who run it"
                    )
                here = urlsplit(where)
                same = (here.scheme, here.netloc) == (own.scheme, own.netloc)
                headers = self._headers() if same else {"Accept": "application/json"}
                with self._client.stream("GET", where, params=parameters or None, headers=headers) as answer:
                    if answer.has_redirect_location:
                        where, parameters = led_to(str(answer.url), answer.headers["Location"]), {}
                        continue
                    return self._read(answer, address)
        except httpx.ConnectError as error:
            raise ApiError(*unreached(own.netloc, error)) from None
        except httpx.HTTPError as error:
            raise ApiError(f"{own.netloc} broke off ({type(error).__name__})", "run it again", True) from None
        except httpx.InvalidURL as error:
            raise ApiError(
                f"{path_of(address)} redirects to an invalid address: {error}", "correct url, path or next"
            ) from None
        raise ApiError(f"{own.netloc} leads from one address to the next", "correct the url")

    def _read(self, answer: Any, address: str, must_tell: bool = True) -> Page:
        status = answer.status_code
        content = b"".join(blocks(answer, path_of(address), _MOST, BodyError))
        if status == 401 and self._settings.sign_in is not None and self._settings.sign_in.token_url and self._token:
            self._token = None
            raise ApiError("the token was not accepted", "see whether its scope is enough", True, 0.0)
        if status in (401, 403):
            raise ApiError(f"{path_of(address)}: the service does not let it be read ({status})",
                           "correct sign_in and what password names")  # fmt: skip
        if not 200 <= status < 300:
            said = shortened(" ".join(content[:300].decode("utf-8", "replace").split()), 120)
            raise ApiError(f"{path_of(address)}: the service answers {status}{f': {said}' if said else ''}",
                           "correct path and query" if status < 500 else "ask those who run it",
                           status == 429 or status >= 500, _asked_to_wait(answer.headers), status)  # fmt: skip
        try:
            found = DECODER.decode(content.decode("utf-8-sig"))
        except (ValueError, RecursionError):
            if not must_tell:
                return Page(None, answer.headers, str(answer.url))
            what = f"{path_of(address)}: the answer is no JSON, or not all of it"
            raise ApiError(what, "correct path", True) from None
        return Page(found, answer.headers, str(answer.url))


def _retrying() -> tenacity.Retrying:
    return tenacity.Retrying(
        stop=tenacity.stop_after_attempt(_TIMES), wait=_wait, reraise=True, retry=tenacity.retry_if_exception(passes)
    )


def path_of(address: str) -> str:
    """An address for people: what of it cannot be secret."""
    try:
        return urlsplit(address).path or "/"
    except ValueError:
        return "an address"


def _asked_to_wait(headers: Mapping[str, str]) -> float | None:
    """The seconds that Retry-After says (RFC 9110, section 10.2.3)."""
    text = headers.get("Retry-After", "")
    seconds = whole_number(text)
    if seconds is not None:
        return float(seconds)
    try:
        moment = email.utils.parsedate_to_datetime(text)
    except (TypeError, ValueError, IndexError, OverflowError):
        return None
    moment = moment if moment.tzinfo is not None else moment.replace(tzinfo=dt.UTC)
    return max(0.0, (moment - dt.datetime.now(dt.UTC)).total_seconds())


def _wait(state: Any) -> float:
    asked = getattr(state.outcome.exception(), "wait", None)
    usual = tenacity.wait_exponential_jitter(0.5, max=30)(state)
    return min(_LONGEST_WAIT, usual if asked is None else float(asked))
