"""Reads a job from TOML files, and says of each mistake in which file and line it stands and what to do."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from kanal.core.errors import shortened
from kanal.definition import bundle
from kanal.definition.environments import merged
from kanal.definition.locations import key_lines
from kanal.definition.mistakes import problems_of
from kanal.definition.models import JobDefinition
from kanal.definition.problems import JobError, KeyPath, Problem
from kanal.definition.toml_mistakes import mistake_in

AnyJob = TypeVar("AnyJob", bound=JobDefinition)
_Lines = dict[KeyPath, tuple[Path, int]]


def read_job(path: Path, kind: type[AnyJob], environment: str | None = None, stands_for: Path | None = None) -> AnyJob:
    """The job of a file and those it includes, or of a bundle, in an environment if one is named.

    A bundle may represent another file: then its paths start from that one's folder, and its runs are logged as that
    one's. Raises JobError with all problems found, in any of its environments.
    """
    whole = path.name.endswith(bundle.ENDING)
    job = _read_bundle(path, kind, stands_for or path) if whole else _read(path, kind)
    problems = []
    for name in job.environment:
        try:
            job.in_environment(name)
        except JobError as error:
            problems += error.problems
    if problems:
        raise JobError(problems)
    return job.in_environment(environment) if environment is not None else job


def _read_bundle(path: Path, kind: type[AnyJob], named: Path) -> AnyJob:
    """The job of a bundle: its texts are those of the bundle, its paths start from the folder of the file named."""
    texts = bundle.unpacked(path)
    job = _read(texts, kind)
    job._texts, job._folder = job._folder, named.resolve().parent
    job._lines = job._lines | {(): (named, 1)}
    described = {
        name: connection.model_copy(update={"openapi": str(job.texts / str(connection.openapi_file))})
        for name, connection in job.connection.items()
        if connection.openapi_file is not None
    }
    return job.model_copy(update={"connection": job.connection | described}) if described else job


def _read(path: Path, kind: type[AnyJob]) -> AnyJob:
    lines: _Lines = {}
    data = _load(path, lines, ())
    data.pop("include", None)
    try:
        job = kind.model_validate(data)
    except ValidationError as error:
        raise JobError(problems_of(error, kind, lines, path)) from None
    except RecursionError:
        raise JobError([Problem((), "the file is nested too deeply", "write it with fewer levels", path)]) from None
    job._folder = path.resolve().parent
    job._lines = lines
    return job


def _load(path: Path, lines: _Lines, above: tuple[Path, ...]) -> dict[str, Any]:
    """The tables of a file, with those of the files it includes merged under them."""
    try:
        whole = path.resolve()
    except (OSError, ValueError, RuntimeError):
        raise _unreadable(path, above) from None
    if whole in above:
        raise JobError([Problem(("include",), f"{path.name} includes itself", "remove one of the includes", above[-1])])
    text = _text_of(path, above)
    data = _parsed(path, text)
    for key, line in key_lines(text).items():
        lines.setdefault(key, (path, line))
    lines[("include", str(whole))] = (path, 1)  # so that a file without keys is one of the job's too
    if above == ():
        lines[()] = (path, 1)
    included = data.get("include", [])
    if isinstance(included, str):
        included = [included]
    for name in included if isinstance(included, list) else []:
        if isinstance(name, str):
            below = _load(path.parent / name, lines, (*above, whole))
            data = merged(below, data)
    return data


def _text_of(path: Path, above: tuple[Path, ...]) -> str:
    try:
        return path.read_bytes().decode("utf-8")
    except FileNotFoundError:
        if above:
            raise JobError([_not_included(path, above[-1], "there is no such file")]) from None
        raise JobError(
            [Problem((), f"There is no file {path}", "name the job file, or write one with kanal demo")]
        ) from None
    except IsADirectoryError:
        if above:
            raise JobError([_not_included(path, above[-1], "that is a folder")]) from None
        raise JobError([Problem((), f"{path} is a folder", "name the job file in it")]) from None
    except PermissionError:
        if above:
            raise JobError([_not_included(path, above[-1], "it may not be read")]) from None
        raise JobError([Problem((), f"The file {path} may not be read", "ask for the right to read it")]) from None
    except (OSError, ValueError) as error:
        if not isinstance(error, UnicodeDecodeError):
            raise _unreadable(path, above) from None
        what = f"byte {error.start + 1:,} is not UTF-8"
        raise JobError([Problem((), what, "save the file in UTF-8", path)]) from None


def _parsed(path: Path, text: str) -> dict[str, Any]:
    for number, written in enumerate(text.splitlines(), 1):
        if written.partition("=")[0].count(".") > _PARTS:  # which the parser would take minutes for
            what = f"a key has more than {_PARTS} parts"
            raise JobError([Problem((), what, "name a key of the job", path, number)])
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise JobError([_broken_toml(str(error), path, text)]) from None
    except ValueError:  # of Python's, for a number of thousands of digits
        what = "a number in the file has more digits than can be read"
        raise JobError([Problem((), what, "write it as a text", path)]) from None
    except RecursionError:
        raise JobError([Problem((), "the file is nested too deeply", "write it with fewer levels", path)]) from None


#: Parts of a key, parted by points, of which a job's have four at most.
_PARTS = 100


def _unreadable(path: Path, above: tuple[Path, ...]) -> JobError:
    name = str(path).replace("\0", "\\0")
    name = shortened(name, 200)
    place = (("include",), above[-1]) if above else ((), None)
    what = f"{name} is not the name of a file that can be read"
    return JobError([Problem(place[0], what, "correct the name", place[1])])


def _not_included(path: Path, above: Path, why: str) -> Problem:
    """A file that cannot be included, at the line of the file that names it."""
    line = key_lines(above.read_text("utf-8")).get(("include",))
    return Problem(("include",), f"{path} cannot be included: {why}", "correct its path, or remove it", above, line)


def _broken_toml(message: str, path: Path, text: str) -> Problem:
    place = re.search(r"\(at line (\d+), column (\d+)\)", message)
    what = re.sub(r"\s*\(at .*\)$", "", message)
    if place is None:
        number = max(1, len(text.rstrip().splitlines()))
        return Problem((), f"the file is not TOML: {what} at its end", "close what the last lines open", path, number)
    number, lines = int(place[1]), text.splitlines()
    mistake = mistake_in(lines[number - 1] if number <= len(lines) else "", what, lines[: number - 1])
    if mistake is not None:
        return Problem((), mistake[0], mistake[1], path, number)
    return Problem(
        (),
        f"the file is not TOML: {what}, at column {place[2]}",
        "texts stand in quotes, lists in [ ], tables in { } on one line",
        path,
        number,
    )
