"""The resources that an OpenAPI 3 document describes (https://spec.openapis.org/oas/v3.1.0): its lists of objects."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from kanal.connections.files.json_text import as_text, found_at, pointed, pointer_to
from kanal.definition.resources import Next, Resource, ResourceField, Send

#: How deep references and objects are followed.
_DEEP = 12
_FORMATS = {"date-time": "timestamp with time zone", "date": "date", "uuid": "uuid", "time": "time"}
#: Parameters by which pages are usually asked for.
_SIZES, _PAGES, _OFFSETS = ("limit", "size", "page_size", "pageSize", "per_page"), ("page",), ("offset", "skip")
_NEXT, _TOTAL = ("next", "next_url", "nextLink"), ("total", "total_count", "totalCount", "count")
_SIZE = 100


def resources_of(document: Any) -> dict[str, Resource]:
    """The lists of a document, each with its fields and, as far as it is known, its paging."""
    found: dict[str, Resource] = {}
    paths = document.get("paths") if isinstance(document, dict) else None
    for path, operations in paths.items() if isinstance(paths, dict) else ():
        if "{" in path or not isinstance(operations, dict):
            continue
        made = _listed(document, path, operations)
        if made is not None:
            name = re.sub(r"\W+", "_", path.strip("/").rpartition("/")[2]) or "items"
            found[name if name not in found else re.sub(r"\W+", "_", path.strip("/"))] = made
    return found


def _listed(document: Any, path: str, operations: dict[str, Any]) -> Resource | None:
    """The list that GET answers with; None if it answers with none."""
    get = _meant(document, operations.get("get"))
    answers = get.get("responses") or {}
    answer = _meant(document, answers.get("200") or answers.get("default"))
    schema = _schema_in(document, answer)
    rows, items = _rows_in(document, schema)
    if items is None:
        return None
    fields = dict(_fields_of(document, items, (), 0))
    if not fields:
        return None
    given: dict[str, Any] = {"path": path.strip("/"), "fields": fields} | ({"rows": rows} if rows else {})
    following = _paging(document, operations, get, schema if rows else {})
    if following is not None:
        given["next"] = following
    totals = [name for name in _TOTAL if name in _properties(schema)]
    if rows and totals:
        given["total"] = f"/{totals[0]}"
    if isinstance(operations.get("post"), dict):
        given["send"] = Send()
    return Resource(**given)


def _meant(document: Any, value: Any) -> dict[str, Any]:
    """An object of the document, or the one that it refers to."""
    for _ in range(_DEEP):
        if not isinstance(value, dict):
            return {}
        reference = value.get("$ref")
        if not isinstance(reference, str):
            return value
        value = found_at(document, pointed(reference.removeprefix("#")))
    return {}


def _schema_in(document: Any, holder: dict[str, Any]) -> dict[str, Any]:
    content = holder.get("content")
    for kind, body in content.items() if isinstance(content, dict) else ():
        if "json" in str(kind) and isinstance(body, dict):
            return _whole(document, body.get("schema"))
    return {}


def _whole(document: Any, schema: Any) -> dict[str, Any]:
    """A schema with what it is put together of."""
    found = _meant(document, schema)
    parts = found.get("allOf")
    if not isinstance(parts, list):
        return found
    properties: dict[str, Any] = dict(_properties(found))
    for part in parts[:_DEEP]:
        properties |= _properties(_meant(document, part))
    return found | {"type": "object", "properties": properties}


def _properties(schema: dict[str, Any]) -> dict[str, Any]:
    found = schema.get("properties")
    return found if isinstance(found, dict) else {}


def _kind(schema: dict[str, Any]) -> str:
    kind = schema.get("type")
    kinds = [one for one in kind if one != "null"] if isinstance(kind, list) else [kind]
    return str(kinds[0]) if kinds and kinds[0] else ("object" if "properties" in schema else "")


def _rows_in(document: Any, schema: dict[str, Any]) -> tuple[str, dict[str, Any] | None]:
    """Where the list of an answer is, and of what; None if there is none."""
    if _kind(schema) == "array":
        return "", _whole(document, schema.get("items"))
    for name, part in _properties(schema).items():
        inner = _whole(document, part)
        if _kind(inner) == "array":
            items = _whole(document, inner.get("items"))
            if _kind(items) == "object":
                return pointer_to([name]), items
    return "", None


def _fields_of(
    document: Any, schema: dict[str, Any], inside: tuple[str, ...], deep: int
) -> Iterator[tuple[str, ResourceField]]:
    """The columns of an object; those of an object in it with its name before theirs."""
    for name, part in _properties(schema).items():
        inner, place = _whole(document, part), (*inside, str(name))
        if _kind(inner) == "object" and _properties(inner) and deep < 3:
            yield from _fields_of(document, inner, place, deep + 1)
            continue
        yield "_".join(place), ResourceField(type=_type_of(inner), pointer=pointer_to(place) if inside else None)


def _type_of(schema: dict[str, Any]) -> str:
    kind, form = _kind(schema), str(schema.get("format") or "")
    if kind == "string":
        longest = as_text(schema.get("maxLength"))
        sized = longest is not None and longest.isdigit() and 0 < int(longest) < 10_000
        return _FORMATS.get(form) or (f"varchar({longest})" if sized else "text")
    if kind == "integer":
        return "integer" if form == "int32" else "bigint"
    if kind == "number":
        return "double precision" if form in ("double", "float") else "decimal(38,18)"
    return {"boolean": "boolean", "object": "json", "array": "json"}.get(kind, "text")


def _paging(document: Any, operations: dict[str, Any], get: dict[str, Any], answer: dict[str, Any]) -> Next | None:
    """How the next page is had, by the names that are usual for it; None if none of them is there."""
    for name in _NEXT:
        if name in _properties(answer):
            return Next(pointer=f"/{name}")
    listed = [*(operations.get("parameters") or []), *(get.get("parameters") or [])]
    known = [_meant(document, parameter) for parameter in listed]
    names = {str(one.get("name")) for one in known if one.get("in") == "query"}
    size = next((name for name in _SIZES if name in names), None)
    if size is None:
        return None
    for kind, words in (("offset", _OFFSETS), ("page", _PAGES)):
        for word in words:
            if word in names:
                return Next(**{kind: word}, size=_SIZE, size_parameter=size)  # type: ignore[arg-type]
    return None
