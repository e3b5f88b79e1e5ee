"""Says in Kanal's words what the models found wrong."""

from __future__ import annotations

import types
import typing
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from kanal.core.errors import shortened
from kanal.core.nearest import did_you_mean
from kanal.definition.problems import KeyPath, Problem

#: So many mistakes are told, and for so many a known key is looked for.
_SHOWN, _HINTED = 200, 50
#: In which file and line a key stands.
Lines = Mapping[KeyPath, tuple[Path, int]]


def problems_of(
    error: ValidationError, root: type[BaseModel], lines: Lines | None = None, main: Path | None = None
) -> list[Problem]:
    """What is wrong with what was given to a model, each with its key, and file and line where these are known."""
    details = error.errors(include_url=False)
    problems = [
        _problem(one, root if place < _HINTED else None, lines or {}, main)
        for place, one in enumerate(details[:_SHOWN])
    ]
    if len(details) > _SHOWN:
        more = f"{len(details) - _SHOWN:,} more things are wrong with the job"
        problems.append(Problem((), more, "correct these first", main))
    return list(dict.fromkeys(problems))


def _problem(details: Any, root: type[BaseModel] | None, lines: Lines, main: Path | None) -> Problem:
    """A validation error of the models as a problem for people."""
    path = tuple(str(part) for part in details["loc"] if isinstance(part, str | int))
    path = tuple("check" if part == "check_" else part for part in path)
    what, remedy = _wording(details, path, root)
    file: Path | None = main
    line: int | None = None
    for length in range(min(len(path), 12), 0, -1):
        if path[:length] in lines:
            file, line = lines[path[:length]]
            break
    return Problem(path[:-1] if details["type"] == "extra_forbidden" else path, what, remedy, file, line)


#: By pydantic's name of a mistake: what is said of it and what to do, with what it knows put in.
_WORDINGS = {
    "missing": ("this key is missing", "add it"),
    "literal_error": ("{given} is not known here", "write {expected}"),
    "too_short": ("it is empty", "give at least {min_length} of them"),
    "too_long": ("it has too many entries", "give at most {max_length}"),
    "string_too_short": ("the text is empty", "write at least {min_length} character"),
    "greater_than": ("{given} is not greater than {gt}", "write a greater number"),
    "greater_than_equal": ("{given} is less than {ge}", "write {ge} or more"),
    "less_than": ("{given} is not less than {lt}", "write a smaller number"),
    "less_than_equal": ("{given} is more than {le}", "write {le} or less"),
    "finite_number": ("{given} is not a number of seconds", "write one such as 2.5"),
}
_TYPE_NAMES = {
    "string": "a text", "int": "a whole number", "float": "a number", "list": "a list", "dict": "a table",
    "model": "a table", "bool": "true or false", "model attributes": "a table", "datetime": "a date and time",
    "date": "a date", "time": "a time",
}  # fmt: skip


def _wording(details: Any, path: KeyPath, root: type[BaseModel] | None) -> tuple[str, str]:
    kind, given = details["type"], details.get("input")
    context = {name: str(value) for name, value in (details.get("ctx") or {}).items()}
    if kind == "extra_forbidden":
        hint = did_you_mean(path[-1], known_keys(path[:-1], root)) if root is not None else ""
        return f'unknown key "{shortened(path[-1])}"', hint or "remove it"
    if kind == "value_error":
        head, colon, tail = context["error"].partition(": ")
        return (head, tail) if colon else (context["error"], "correct the value")
    if kind in _WORDINGS:
        what, remedy = _WORDINGS[kind]
        context = context | {"given": _shown(given), "expected": context.get("expected", "").replace("'", '"')}
        return what.format(**context), remedy.format(**context)
    expected = kind.removesuffix("_type").removesuffix("_parsing").replace("_", " ")
    name = _TYPE_NAMES.get(expected)
    if name is not None:
        return f"{_shown(given)} is not {name}", f"write {name}"
    return f"{_shown(given)} does not fit here", str(details["msg"]).lower()


def _shown(value: Any) -> str:
    return shortened(f'"{value}"' if isinstance(value, str) else str(value), 40)


def known_keys(path: KeyPath, root: type[BaseModel]) -> list[str]:
    """The keys that may stand at a place of a model."""
    model: Any = root
    for part in path:
        model = _inside(model, part)
        if model is None:
            return []
    if not (isinstance(model, type) and issubclass(model, BaseModel)):
        return []
    keys = [info.alias or name for name, info in model.model_fields.items()]
    return [*keys, "include"] if "pipeline" in keys else keys


def _inside(model: Any, part: str) -> Any:
    """The model under a key of a model, or under any name of a dictionary of models."""
    if isinstance(model, type) and issubclass(model, BaseModel):
        for name, info in model.model_fields.items():
            if part in (name, info.alias):
                return _stripped(info.annotation)
        return None
    if typing.get_origin(model) is dict:
        return _stripped(typing.get_args(model)[1])
    return None


def _stripped(annotation: Any) -> Any:
    if typing.get_origin(annotation) in (typing.Union, types.UnionType):
        return next((part for part in typing.get_args(annotation) if part is not type(None)), None)
    return annotation
