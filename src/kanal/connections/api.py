"""HTTP APIs that answer JSON: each resource is a table that rows are read from or sent to."""

from __future__ import annotations

import contextlib
import datetime as dt
import hashlib
import json
import re
from collections.abc import Hashable, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar
from urllib.parse import urljoin

import pyarrow as pa
import sqlalchemy as sa

from kanal.connections.api_client import ApiError, Client, Page, path_of
from kanal.connections.api_load import ApiLoad
from kanal.connections.bodies import led_to, whole_number
from kanal.connections.description import About, ColumnInfo, TableInfo
from kanal.connections.files.json_text import DECODER, Number, as_text, checked, found_at, pointed, pointer_to
from kanal.connections.misfits import not_finite
from kanal.connections.openapi import resources_of
from kanal.connections.plain import PlainCatalogue, PlainConnection
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads, Writes
from kanal.connections.urls import shown_url
from kanal.core.change_values import change_text
from kanal.core.conversions import converter
from kanal.core.errors import shortened
from kanal.core.faults import Fault
from kanal.core.frame import BadLine, SourceBatch
from kanal.core.types import DATE, TEXT, TIMESTAMP, TIMESTAMPTZ, parse_type
from kanal.definition.resources import ResourceField

if TYPE_CHECKING:
    from kanal.definition import Connection as ConnectionSettings
    from kanal.definition.resources import Next, Resource


#: Digits of a bigint, fewer than which are sure to fit; how deep objects in objects become columns.
_BIGINT, _DEEP = 19, 4
_MOMENTS = (DATE, TIMESTAMPTZ, TIMESTAMP)


class _Catalogue(PlainCatalogue):
    def __init__(self, api: HttpApi) -> None:
        super().__init__(api.name)
        self._api = api
        self._known: dict[str, TableInfo] = {}

    def about(self) -> About:
        """What is at the other end; raises KanalError if it does not answer."""
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
    """An HTTP API that answers JSON."""

    reads: ClassVar[frozenset[Reads]] = frozenset({Reads.ROWS})
    writes: ClassVar[frozenset[Writes]] = frozenset({Writes.APPEND})
    undoes: ClassVar[bool] = False

    def __init__(self, name: str, url: sa.URL, settings: ConnectionSettings, folder: Path) -> None:
        super().__init__(name)
        self._settings, self._folder = settings, folder
        self.client = Client(url, settings)
        self._shown = shown_url(url)
        self._catalogue = _Catalogue(self)

    @cached_property
    def resources(self) -> dict[str, Resource]:
        """The resources that the job names, and those of its OpenAPI document; raises ApiError if that is none."""
        found = dict(self._settings.resource)
        if self._settings.openapi:
            found = resources_of(self._document()) | found
        if not found:
            what = f"connection {self.name}: {self._settings.openapi} describes no list of objects"
            raise ApiError(what, "name the lists as resources")
        return found

    def _document(self) -> Any:
        file = self._settings.openapi_file
        if file is None:
            return self.client.page(self._settings.openapi or "", {}).content
        path = self._folder / file
        try:
            return DECODER.decode(path.read_text(encoding="utf-8-sig"))
        except OSError as error:
            raise ApiError(
                f"connection {self.name}: {path} cannot be read: {error.strerror}", "correct openapi"
            ) from None
        except (ValueError, RecursionError):
            raise ApiError(f"connection {self.name}: {path} is no JSON", "write the OpenAPI document as JSON") from None

    def propose_fields(self) -> None:
        """Of resources whose fields are not said, take those of the first page, with the types they seem to have."""
        for name, resource in list(self.resources.items()):
            if not resource.fields:
                rows = [row for row, _ in _rows_of(next(self.pages(name, {})), resource, name) if isinstance(row, dict)]
                self.resources[name] = resource.model_copy(update={"fields": dict(proposed_fields(rows))})

    @property
    def catalogue(self) -> PlainCatalogue:
        return self._catalogue

    @property
    def identity(self) -> Hashable:
        return "api", self.client.base

    @property
    def shown_url(self) -> str:
        return self._shown

    def dispose(self) -> None:
        self.client.close()

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

    def refuses_table(self, table: TableInfo) -> tuple[str, str] | None:
        if self.resources[table.name].send is not None:
            return None
        return f"the resource {table.name} takes no rows", 'say how they are sent, such as send = { method = "POST" }'

    # --- as a target -----------------------------------------------------------------------------------------------

    def can_undo(self, sql: str) -> bool:
        """False: it takes no SQL."""
        del sql
        return False

    def storable(self, table: TableInfo, rows: pa.RecordBatch) -> tuple[pa.RecordBatch, list[tuple[str, Fault]]]:
        del table
        faults: list[tuple[str, Fault]] = []
        for name, values in zip(rows.schema.names, rows.columns, strict=True):
            if pa.types.is_floating(values.type):
                faults += [(name, one) for one in not_finite(values, "JSON has no such number: map it with CASE")]
        return rows, faults

    @contextlib.contextmanager
    def load(self) -> Iterator[ApiLoad]:
        """What sends rows; a service has no transaction, so what was sent stays."""
        yield ApiLoad(self, self.resources, self.client)

    # --- pages -----------------------------------------------------------------------------------------------------

    def pages(self, name: str, values: Mapping[str, str]) -> Iterator[Page]:
        """The pages of a resource, one after the other; raises KanalError, also if they go in a circle."""
        resource = self.resources[name]
        address = urljoin(self.client.base, resource.path.lstrip("/"))
        query = self.client.query | _filled(resource.query, values)
        seen, given, number = set[str](), dict[bytes, int](), 0
        while True:
            query |= _counted(resource.next, number)
            asked = f"{address} {sorted(query.items())}"
            if asked in seen:
                raise ApiError(f"resource {name}: its pages go in a circle, back to {path_of(address)}", "correct next")
            seen.add(asked)
            try:
                page = self.client.page(address, query)
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
            address, query = (led_to(page.address, following), {}) if isinstance(following, str) else (
                address, query | following)  # fmt: skip

    def batches(self, reading: Reading) -> Iterator[SourceBatch]:
        name, left = reading.table.name, reading.limit
        resource = self.resources[name]
        low = next((window.low for window in reading.windows if window.low is not None), None)
        values = {} if low is None else {"watermark": moment_text(low, resource.watermark_format)}
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
            whole, wrong = checked(row)
            if whole is not None:
                good.append((whole, parent))
            else:
                shown = shortened((as_text(row) or "null").encode("utf-8", "replace").decode(), 300)
                bad.append(BadLine(reading.table.name, number, shown, wrong))
        columns = {}
        for name in reading.columns:
            field = resource.fields.get(name)
            parts = pointed(field.pointer) if field is not None and field.pointer is not None else [name]
            of_parent = field is not None and field.parent
            columns[name] = pa.array(
                [as_text(found_at(parent if of_parent else row, parts)) for row, parent in good], pa.string()
            )
        return SourceBatch(len(good), columns, bad_lines=tuple(bad))


def proposed_fields(rows: list[dict[str, Any]], inside: tuple[str, ...] = ()) -> Iterator[tuple[str, ResourceField]]:
    """The columns of some rows, with the types that their values seem to have: objects in them as columns of their own,
    lists as JSON."""
    for name in dict.fromkeys(key for row in rows for key in row):
        place = (*inside, name)
        values = [row[name] for row in rows if row.get(name) is not None]
        if values and all(isinstance(value, dict) for value in values) and len(place) < _DEEP:
            yield from proposed_fields(values, place)
            continue
        pointer = pointer_to(place) if inside else None
        yield "_".join(place), ResourceField(type=_seeming_type(values), pointer=pointer)


def _seeming_type(values: list[Any]) -> str:
    if values and all(isinstance(value, bool) for value in values):
        return "boolean"
    texts = [as_text(value) or "" for value in values]
    if values and all(isinstance(value, Number) for value in values):
        if all(text.lstrip("-").isdigit() and len(text) < _BIGINT for text in texts):
            return "bigint"
        plain = all("e" not in text.lower() for text in texts)
        parts = [text.lstrip("-").partition(".") for text in texts]
        whole, scale = max(len(before) for before, _, _ in parts), max(len(after) for _, _, after in parts)
        return f"decimal({min(38, whole + scale + 4)},{scale})" if plain and whole + scale < 34 else "double precision"
    if not all(isinstance(value, str) for value in values) or not values:
        return "json" if values and all(isinstance(value, dict | list) for value in values) else "text"
    array = pa.array(texts, pa.string())
    return next((str(kind) for kind in _MOMENTS if not converter(TEXT, kind)(array)[1]), "text")


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


def _next_of(page: Page, following: Next | None, rows: int) -> str | dict[str, str] | None:
    """The address of the next page, or the parameters that change; None if this was the last."""
    if following is None:
        return None
    if following.pointer is not None or following.link:
        found = _linked(page) if following.link else found_at(page.content, pointed(following.pointer or ""))
        return _askable(str(found)) if found else None
    if following.cursor is not None:
        text = as_text(found_at(page.content, pointed(following.cursor)))
        return {str(following.parameter): _askable(text)} if text and rows else None
    return {} if rows >= (following.size or 1) else None


def _askable(text: str) -> str:
    """A text that can be part of an address; raises ApiError."""
    try:
        text.encode()
    except UnicodeEncodeError:
        raise ApiError("where the next page is, is no Unicode text", "run it again") from None
    return text


def moment_text(value: Any, form: str) -> str:
    """A change value as a service is asked for it: a moment in UTC, or a date, in the format; a number unchanged."""
    if isinstance(value, dt.datetime):
        moment = value.replace(tzinfo=dt.UTC) if value.tzinfo is None else value.astimezone(dt.UTC)
        if form == "unix":
            return f"{moment.timestamp():f}".rstrip("0").rstrip(".")
        if form == "rfc3339":
            return moment.isoformat().replace("+00:00", "Z")
        return moment.strftime(form)
    if isinstance(value, dt.date):
        if form == "unix":
            return str(int(dt.datetime(value.year, value.month, value.day, tzinfo=dt.UTC).timestamp()))
        return value.isoformat() if form == "rfc3339" else value.strftime(form)
    return change_text(value)


def _filled(query: Mapping[str, Any], values: Mapping[str, str]) -> dict[str, str]:
    """The parameters with what is known put in; those whose value is not known are left out."""
    made = {}
    for name, value in query.items():
        text = json.dumps(value) if isinstance(value, bool) else str(value)
        if "{watermark}" in text and "watermark" not in values:
            continue
        made[name] = text.replace("{watermark}", values.get("watermark", ""))
    return made


def _list_of(page: Page, resource: Resource, name: str) -> list[Any]:
    """The list of rows in an answer; raises KanalError if there is none."""
    found = found_at(page.content, pointed(resource.rows))
    if not isinstance(found, list):
        where = f"at {resource.rows}" if resource.rows else "as a whole"
        raise ApiError(f"resource {name}: the answer is no list {where}", 'say where it is, such as rows = "/items"')
    return found


def _rows_of(page: Page, resource: Resource, name: str) -> Iterator[tuple[Any, Any]]:
    """The rows of a page, each with its parent, which is the row itself if it has none."""
    for row in _list_of(page, resource, name):
        if resource.each is None:
            yield row, row
            continue
        members = found_at(row, pointed(resource.each))
        for member in members if isinstance(members, list) else []:
            yield member, row


def _linked(page: Page) -> str | None:
    """The address of the next page in the Link header (RFC 8288)."""
    for address, parameters in re.findall(r"<([^>]*)>((?:\s*;[^,<]*)*)", page.headers.get("Link", "")):
        if re.search(r';\s*rel\s*=\s*"?[^"]*\bnext\b', parameters):
            return str(address)
    return None


#: More digits than any number of rows has, and fewer than Python refuses to read.
_DIGITS = 4_000


def _number(value: Any, otherwise: int | None) -> int | None:
    text = as_text(value)
    number = whole_number(text, _DIGITS) if text is not None else None
    return otherwise if number is None else number
