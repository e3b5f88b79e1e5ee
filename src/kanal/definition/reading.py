"""Reads a job from TOML files, and says of each mistake in which file and line it stands and what to do."""

from __future__ import annotations

import re
import tomllib
import types
import typing
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from kanal.core.nearest import did_you_mean
from kanal.definition.locations import key_lines
from kanal.definition.models import JobDefinition
from kanal.definition.problems import JobError, KeyPath, Problem

AnyJob = TypeVar("AnyJob", bound=JobDefinition)
_Lines = dict[KeyPath, tuple[Path, int]]


def read_job(path: Path, kind: type[AnyJob]) -> AnyJob:
    """The job of a file and those it includes; raises JobError with all problems found."""
    lines: _Lines = {}
    data = _load(path, lines, ())
    data.pop("include", None)
    try:
        job = kind.model_validate(data)
    except ValidationError as error:
        problems = [_problem(details, data, lines, path) for details in error.errors()]
        raise JobError(list(dict.fromkeys(problems))) from None
    job._folder = path.resolve().parent
    job._lines = lines
    return job


def _load(path: Path, lines: _Lines, above: tuple[Path, ...]) -> dict[str, Any]:
    """The tables of a file, with those of the files it includes merged under them."""
    if path.resolve() in above:
        raise JobError([Problem(("include",), f"{path.name} includes itself", "remove one of the includes", above[-1])])
    try:
        text = path.read_bytes().decode("utf-8")
    except FileNotFoundError:
        raise JobError(
            [Problem((), f"There is no file {path}", "name the job file, or write one with kanal demo")]
        ) from None
    except IsADirectoryError:
        raise JobError([Problem((), f"{path} is a folder", "name the job file in it")]) from None
    except PermissionError:
        raise JobError([Problem((), f"The file {path} may not be read", "ask for the right to read it")]) from None
    except UnicodeDecodeError as error:
        what = f"byte {error.start + 1:,} is not UTF-8"
        raise JobError([Problem((), what, "save the file in UTF-8", path)]) from None
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise JobError([_broken_toml(str(error), path, text)]) from None
    for key, line in key_lines(text).items():
        lines.setdefault(key, (path, line))
    if above == ():
        lines[()] = (path, 1)
    included = data.get("include", [])
    if isinstance(included, str):
        included = [included]
    for name in included if isinstance(included, list) else []:
        if isinstance(name, str):
            below = _load(path.parent / name, lines, (*above, path.resolve()))
            data = _merged(below, data)
    return data


def _merged(under: dict[str, Any], over: dict[str, Any]) -> dict[str, Any]:
    """Two files' tables together; where both say something, the one that includes wins."""
    result = dict(under)
    for key, value in over.items():
        both = isinstance(value, dict) and isinstance(result.get(key), dict)
        result[key] = _merged(result[key], value) if both else value
    return result


def _broken_toml(message: str, path: Path, text: str) -> Problem:
    place = re.search(r"\(at line (\d+), column (\d+)\)", message)
    what = re.sub(r"\s*\(at .*\)$", "", message)
    if place is None:
        number = max(1, len(text.rstrip().splitlines()))
        return Problem((), f"the file is not TOML: {what} at its end", "complete the last line", path, number)
    return Problem(
        (),
        f"the file is not TOML: {what}, at column {place[2]}",
        "texts stand in quotes, lists in [ ], tables in { } on one line",
        path,
        int(place[1]),
    )


def _problem(details: Any, data: dict[str, Any], lines: _Lines, main: Path) -> Problem:
    """A validation error of the models as a problem for people."""
    path = tuple(str(part) for part in details["loc"] if isinstance(part, str | int))
    path = tuple("check" if part == "check_" else part for part in path)
    what, remedy = _wording(details, path)
    file, line = main, None
    for length in range(len(path), 0, -1):
        if path[:length] in lines:
            file, line = lines[path[:length]]
            break
    return Problem(path[:-1] if details["type"] == "extra_forbidden" else path, what, remedy, file, line)


def _wording(details: Any, path: KeyPath) -> tuple[str, str]:
    kind, given = details["type"], details.get("input")
    context = details.get("ctx") or {}
    if kind == "extra_forbidden":
        return f'unknown key "{path[-1]}"', did_you_mean(path[-1], known_keys(path[:-1]))
    if kind == "missing":
        return "this key is missing", "add it"
    if kind == "literal_error":
        expected = str(context["expected"]).replace("'", '"')
        return f'"{given}" is not known here', f"write {expected}"
    if kind == "value_error":
        what = str(context["error"])
        head, colon, tail = what.partition(": ")
        return (head, tail) if colon else (what, "")
    if kind.endswith("_type") or kind in ("is_instance_of", "model_attributes_type"):
        expected = kind.removesuffix("_type").replace("_", " ")
        names = {
            "string": "a text",
            "int": "a whole number",
            "list": "a list",
            "dict": "a table",
            "model": "a table",
            "bool": "true or false",
            "model attributes": "a table",
        }
        return (
            f"{_shown(given)} is not {names.get(expected, expected)}",
            f"write {names.get(expected, expected)}",
        )
    return str(details["msg"]).lower(), ""


def _shown(value: Any) -> str:
    text = f'"{value}"' if isinstance(value, str) else str(value)
    return text if len(text) <= 40 else text[:40] + "…"


def known_keys(path: KeyPath) -> list[str]:
    """The keys that may stand at a place of a job file."""
    model: Any = JobDefinition
    for part in path:
        model = _inside(model, part)
        if model is None:
            return []
    if not (isinstance(model, type) and issubclass(model, BaseModel)):
        return []
    keys = [info.alias or name for name, info in model.model_fields.items()]
    return [*keys, "include"] if model is JobDefinition else keys


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
