"""HTTP APIs that answer JSON, as sources: each resource is a table. Needs httpx (pip install kanal[http])."""

from __future__ import annotations

import datetime as dt
import email.utils
import hashlib
import json
import re
import time
from collections.abc import Hashable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar
from urllib.parse import urljoin, urlsplit

import pyarrow as pa
import sqlalchemy as sa
import tenacity

from kanal.connections.description import About, ColumnInfo, TableInfo
from kanal.connections.errors import DatabaseError
from kanal.connections.files.formats import needed
from kanal.connections.files.json_text import DECODER, as_text, found_at, pointed
from kanal.connections.plain import PlainCatalogue, PlainConnection
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads
from kanal.connections.urls import shown_url
from kanal.core.change_values import change_text
from kanal.core.errors import shortened
from kanal.core.frame import BadLine, SourceBatch
from kanal.core.types import TEXT, parse_type

if TYPE_CHECKING:
    from kanal.definition import Connection as ConnectionSettings
    from kanal.definition.resources import Next, Resource

#: Bytes of an answer at most, how often a page is asked for, and how long is waited for the next time, in seconds.
_MOST, _TIMES, _LONGEST_WAIT = 256 * 1024 * 1024, 6, 300.0
_REDIRECTS = 5


class ApiError(DatabaseError):
    """An API that cannot be reached, or that refuses what it was asked."""

    def __init__(self, what: str, remedy: str = "", passing: bool = False, wait: float | None = None) -> None:
        super().__init__(what, remedy, passing)
        #: The seconds after which the service says that it may be asked again.
        self.wait = wait


@dataclass
class _Page:
    """An answer: its JSON, and its headers."""

    content: Any
    headers: Mapping[str, str] = field(default_factory=dict)
    address: str = ""


class _Client:
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
            self._made = httpx.Client(timeout=httpx.Timeout(60.0, connect=seconds), follow_redirects=False)
        return self._made

    def close(self) -> None:
        """Close what is open."""
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
        """The token for the user and the password, fetched anew once it is about to expire."""
        if self._token is not None and time.monotonic() < self._token[1]:
            return self._token[0]
        form = {"grant_type": "client_credentials"} | ({"scope": scope} if scope else {})
        httpx = needed("httpx", "http", "an HTTP API is asked for")
        try:
            answer = self._client.post(address, data=form, auth=(self._user or "", self._password or ""))
        except httpx.HTTPError as error:
            raise ApiError(f"no token can be had: {urlsplit(address).netloc} gives no answer ({type(error).__name__})",
                           "correct token_url", True) from None  # fmt: skip
        try:
            found = answer.json()
            token, seconds = str(found["access_token"]), float(found.get("expires_in", 300))
        except (ValueError, KeyError, TypeError):
            raise ApiError(
                f"no token was given: {urlsplit(address).netloc} answers {answer.status_code}",
                "correct the user, the password and the scope",
                answer.status_code >= 500,
            ) from None
        self._token = token, time.monotonic() + max(0.0, seconds - 30)
        return token

    def page(self, address: str, query: Mapping[str, str]) -> _Page:
        """An answer; asked for again where a trouble passes, as late as the service wishes. Raises KanalError."""
        retrying = tenacity.Retrying(
            stop=tenacity.stop_after_attempt(_TIMES), wait=_wait, reraise=True,
            retry=tenacity.retry_if_exception(lambda error: bool(getattr(error, "passing", False))),
        )  # fmt: skip
        return retrying(self._page, address, query)

    def _page(self, address: str, query: Mapping[str, str]) -> _Page:
        httpx = needed("httpx", "http", "an HTTP API is asked for")
        own = urlsplit(self.base)
        where, parameters = address, dict(query)
        try:
            for _ in range(_REDIRECTS):
                here = urlsplit(where)
                same = (here.scheme, here.netloc) == (own.scheme, own.netloc)
                headers = self._headers() if same else {"Accept": "application/json"}
                with self._client.stream("GET", where, params=parameters or None, headers=headers) as answer:
                    if answer.is_redirect:
                        where, parameters = urljoin(str(answer.url), answer.headers["Location"]), {}
                        continue
                    return self._read(answer, address)
        except httpx.ConnectError as error:
            trusted = "certificate" not in str(error).lower()
            why = "nothing answers" if trusted else "its certificate is not trusted"
            raise ApiError(f"{own.netloc}: {why}", "correct the url, or start it", trusted) from None
        except httpx.HTTPError as error:
            raise ApiError(f"{own.netloc} broke off ({type(error).__name__})", "run it again", True) from None
        raise ApiError(f"{own.netloc} leads from one address to the next", "correct the url")

    def _read(self, answer: Any, address: str) -> _Page:
        status, parts, size = answer.status_code, [], 0
        for part in answer.iter_bytes():
            size += len(part)
            if size > _MOST:
                raise ApiError(
                    f"an answer of {_path(address)} is longer than {_MOST >> 20} MB", "ask for smaller pages"
                )
            parts.append(part)
        content = b"".join(parts)
        if status == 401 and self._settings.sign_in is not None and self._settings.sign_in.token_url and self._token:
            self._token = None
            raise ApiError("the token was not accepted", "see whether its scope is enough", True, 0.0)
        if status in (401, 403):
            raise ApiError(f"{_path(address)}: the service does not let it be read ({status})",
                           "correct sign_in and what password names")  # fmt: skip
        if status != 200:
            said = shortened(" ".join(content[:300].decode("utf-8", "replace").split()), 120)
            raise ApiError(f"{_path(address)}: the service answers {status}{f': {said}' if said else ''}",
                           "correct path and query" if status < 500 else "ask those who run it",
                           status == 429 or status >= 500, _asked_to_wait(answer.headers))  # fmt: skip
        try:
            found = DECODER.decode(content.decode("utf-8-sig"))
        except (ValueError, RecursionError):
            raise ApiError(f"{_path(address)}: the answer is no JSON, or not all of it", "correct path", True) from None
        return _Page(found, answer.headers, str(answer.url))


def _path(address: str) -> str:
    """An address for people: what of it cannot be secret."""
    return urlsplit(address).path or "/"


def _asked_to_wait(headers: Mapping[str, str]) -> float | None:
    """The seconds that Retry-After says (RFC 9110, section 10.2.3)."""
    text = headers.get("Retry-After", "")
    if text.isdigit():
        return float(text)
    try:
        moment = email.utils.parsedate_to_datetime(text)
    except (TypeError, ValueError):
        return None
    moment = moment if moment.tzinfo is not None else moment.replace(tzinfo=dt.UTC)
    return max(0.0, (moment - dt.datetime.now(dt.UTC)).total_seconds())


def _wait(state: Any) -> float:
    asked = getattr(state.outcome.exception(), "wait", None)
    usual = tenacity.wait_exponential_jitter(0.5, max=30)(state)
    return min(_LONGEST_WAIT, usual if asked is None else float(asked))


class _Catalogue(PlainCatalogue):
    def __init__(self, api: HttpApi) -> None:
        super().__init__(api.name)
        self._api = api
        self._known: dict[str, TableInfo] = {}

    def about(self) -> About:
        """What is at the other end; raises KanalError where it does not answer."""
        name = next(iter(self._api.resources))
        next(self._api.pages(name, {}))
        return About("HTTP API", f"{len(self._api.resources)} resources", "httpx")

    def table_names(self, schema: str | None = None) -> list[str]:
        """The names of the resources."""
        del schema
        return sorted(self._api.resources)

    def describe(self, schema: str | None, table: str) -> TableInfo:
        """A resource; where its fields are not said, those of its first page, as text. Raises KanalError."""
        del schema
        name = next((one for one in self._api.resources if one.casefold() == table.casefold()), None)
        if name is None:
            return super().describe(None, table)
        if name not in self._known:
            self._known[name] = self._api.described(name)
        return self._known[name]


class HttpApi(PlainConnection):
    """An HTTP API that answers JSON, as a source."""

    reads: ClassVar[frozenset[Reads]] = frozenset({Reads.ROWS})

    def __init__(self, name: str, url: sa.URL, settings: ConnectionSettings) -> None:
        super().__init__(name)
        self.resources: dict[str, Resource] = dict(settings.resource)
        self._client = _Client(url, settings)
        self._shown = shown_url(url)
        self._catalogue = _Catalogue(self)

    @property
    def catalogue(self) -> PlainCatalogue:
        return self._catalogue

    @property
    def identity(self) -> Hashable:
        return "api", self._client.base

    @property
    def shown_url(self) -> str:
        return self._shown

    def dispose(self) -> None:
        self._client.close()

    def described(self, name: str) -> TableInfo:
        """A resource's columns."""
        resource = self.resources[name]
        if resource.fields:
            columns = [ColumnInfo(one, field.type, found := parse_type(field.type), found) for one, field in
                       resource.fields.items()]  # fmt: skip
            return TableInfo(None, name, tuple(columns))
        rows = [row for row, _ in _rows_of(next(self.pages(name, {})), resource, name) if isinstance(row, dict)]
        names = list(dict.fromkeys(key for row in rows for key in row))
        if not names:
            raise ApiError(
                f"resource {name}: the first page has no rows", 'name its fields, such as fields = { mark = "text" }'
            )
        return TableInfo(None, name, tuple(ColumnInfo(one, "text", TEXT, TEXT) for one in names))

    # --- pages -----------------------------------------------------------------------------------------------------

    def pages(self, name: str, values: Mapping[str, str]) -> Iterator[_Page]:
        """The pages of a resource, one after the other; raises KanalError, also where they go in a circle."""
        resource = self.resources[name]
        address = urljoin(self._client.base, resource.path.lstrip("/"))
        query = self._client.query | _filled(resource.query, values)
        seen, given, number = set[str](), dict[bytes, int](), 0
        while True:
            query |= _counted(resource.next, number)
            asked = f"{address} {sorted(query.items())}"
            if asked in seen:
                raise ApiError(f"resource {name}: its pages go in a circle, back to {_path(address)}", "correct next")
            seen.add(asked)
            try:
                page = self._client.page(address, query)
            except ApiError as error:
                what = f"connection {self.name}, resource {name}: {error.what}"
                raise ApiError(what, error.remedy, error.passing) from None
            rows = _list_of(page, resource, name)
            digest = hashlib.sha256(json.dumps(rows).encode("utf-8", "surrogatepass")).digest()
            if rows and digest in given:
                raise ApiError(f"resource {name}: page {number + 1} has the rows of page {given[digest]}",
                               "correct next: the service may not know its parameter")  # fmt: skip
            given[digest] = number + 1
            yield page
            number += 1
            following = _next_of(page, resource.next, len(rows))
            if following is None:
                return
            address, query = (urljoin(page.address, following), {}) if isinstance(following, str) else (
                address, query | following)  # fmt: skip

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        name, left = reading.table.name, reading.limit
        resource = self.resources[name]
        low = next((window.low for window in reading.windows if window.low is not None), None)
        values = {} if low is None else {"watermark": change_text(low)}
        place, total = 0, None
        for page in self.pages(name, values):
            if resource.total is not None:
                total = _number(found_at(page.content, pointed(resource.total)), total)
            found = list(_rows_of(page, resource, name))
            for start in range(0, len(found), reading.batch_rows):
                batch = self._batch(found[start : start + reading.batch_rows], reading, resource, place)
                place += batch.rows + len(batch.bad_lines)
                if left is not None and batch.rows >= left:
                    columns = {one: values.slice(0, left) for one, values in batch.columns.items()}
                    yield SourceBatch(left, columns, bad_lines=batch.bad_lines)
                    return
                left = None if left is None else left - batch.rows
                yield batch
        if total is not None and resource.each is None and not values and total != place:
            raise ApiError(f"resource {name}: the service says that there are {total:,} rows, and gave {place:,}",
                           "run it again; if that stays so, correct next")  # fmt: skip

    def _batch(self, rows: list[tuple[Any, Any]], reading: Reading, resource: Resource, place: int) -> SourceBatch:
        good: list[tuple[Any, Any]] = []
        bad: list[BadLine] = []
        for number, (row, parent) in enumerate(rows, place + 1):
            if isinstance(row, dict):
                good.append((row, parent))
            else:
                bad.append(
                    BadLine(reading.table.name, number, shortened(as_text(row) or "null", 300), "it is not an object")
                )
        columns = {}
        for name in reading.columns:
            field = resource.fields.get(name)
            parts = pointed(field.pointer) if field is not None and field.pointer is not None else [name]
            of_parent = field is not None and field.parent
            columns[name] = pa.array(
                [as_text(found_at(parent if of_parent else row, parts)) for row, parent in good], pa.string()
            )
        return SourceBatch(len(good), columns, bad_lines=tuple(bad))


def _counted(following: Next | None, number: int) -> dict[str, str]:
    """The parameters that say which page is wanted, where pages are counted."""
    if following is None:
        return {}
    query = {} if following.size is None else {following.size_parameter: str(following.size)}
    if following.page is not None:
        query[following.page] = str(number + (1 if following.first is None else following.first))
    if following.offset is not None:
        query[following.offset] = str(number * (following.size or 1))
    return query if (following.pointer is None and not following.link) or number == 0 else {}


def _next_of(page: _Page, following: Next | None, rows: int) -> str | dict[str, str] | None:
    """The address of the next page, or the parameters that change; None where this was the last."""
    if following is None:
        return None
    if following.pointer is not None or following.link:
        found = _linked(page) if following.link else found_at(page.content, pointed(following.pointer or ""))
        return str(found) if found else None
    if following.cursor is not None:
        text = as_text(found_at(page.content, pointed(following.cursor)))
        return {str(following.parameter): text} if text and rows else None
    return {} if rows >= (following.size or 1) else None


def _filled(query: Mapping[str, Any], values: Mapping[str, str]) -> dict[str, str]:
    """The parameters with what is known put in; those whose value is not known are left out."""
    made = {}
    for name, value in query.items():
        text = json.dumps(value) if isinstance(value, bool) else str(value)
        if "{watermark}" in text and "watermark" not in values:
            continue
        made[name] = text.replace("{watermark}", values.get("watermark", ""))
    return made


def _list_of(page: _Page, resource: Resource, name: str) -> list[Any]:
    """The list of rows in an answer; raises KanalError where there is none."""
    found = found_at(page.content, pointed(resource.rows))
    if not isinstance(found, list):
        where = f"at {resource.rows}" if resource.rows else "as a whole"
        raise ApiError(f"resource {name}: the answer is no list {where}", 'say where it is, such as rows = "/items"')
    return found


def _rows_of(page: _Page, resource: Resource, name: str) -> Iterator[tuple[Any, Any]]:
    """The rows of a page, each with its parent, which is the row itself where it has none."""
    for row in _list_of(page, resource, name):
        if resource.each is None:
            yield row, row
            continue
        members = found_at(row, pointed(resource.each))
        for member in members if isinstance(members, list) else []:
            yield member, row


def _linked(page: _Page) -> str | None:
    """The address of the next page in the Link header (RFC 8288)."""
    for address, parameters in re.findall(r"<([^>]*)>((?:\s*;[^,<]*)*)", page.headers.get("Link", "")):
        if re.search(r';\s*rel\s*=\s*"?[^"]*\bnext\b', parameters):
            return str(address)
    return None


def _number(value: Any, otherwise: int | None) -> int | None:
    text = as_text(value)
    return int(text) if text is not None and text.isdigit() else otherwise
