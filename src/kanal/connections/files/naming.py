"""The names of files that are written: what is in braces is filled in, and what a pattern names all together."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping, Sequence
from pathlib import PurePosixPath
from urllib.parse import quote

from msgspec import Struct

from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean

_PLACE, _ONE = re.compile(r"\{([^{}]*)\}"), re.compile(r"\{[^{},]*\}")
#: What may are in braces next to the columns of partition_by.
_KNOWN = ("run", "step", "part", "date", "time")


class RunMark(Struct, frozen=True):
    """Which run and step write a file: the run's number in its run log, the step, and the run's moment."""

    number: int = 0
    step: str = ""
    moment: dt.datetime = dt.datetime(2000, 1, 1, tzinfo=dt.UTC)


def whole_pattern(pattern: str, partition_by: Sequence[str], in_parts: bool) -> str:
    """A pattern with braces for all that tells its files apart; raises KanalError for braces that mean nothing."""
    for name in _PLACE.findall(pattern):
        if name not in (*_KNOWN, *partition_by):
            hint = did_you_mean(name, [*_KNOWN, *partition_by])
            raise KanalError(f'"{{{name}}}" in {pattern} means nothing',
                             hint or f"write one of {', '.join(f'{{{one}}}' for one in _KNOWN)}, or a column that "
                             "partition_by names")  # fmt: skip
    if any(sign in _PLACE.sub("", pattern) for sign in "*?{}"):
        raise KanalError(f'"{pattern}" names files that are written, and has a wild card',
                         "write {run} or {part} instead")  # fmt: skip
    folders, slash, last = pattern.rpartition("/")
    given = _PLACE.findall(pattern)
    folders += "".join(f"{slash if place == 0 else '/'}{name}={{{name}}}" for place, name in
                       enumerate(name for name in partition_by if name not in given))  # fmt: skip
    if in_parts and "part" not in given:
        ending = "".join(PurePosixPath(_PLACE.sub("x", last)).suffixes)
        last = f"{last[: len(last) - len(ending)]}-{{part}}{ending}"
    return f"{folders.lstrip('/')}/{last}" if folders else last


def filled(pattern: str, values: Mapping[str, str], rest: str | None = None) -> str:
    """A pattern with values in place of its braces, and the same text for those that are not given."""
    return _PLACE.sub(lambda found: values.get(found[1], rest if rest is not None else found[0]), pattern)


def values_of(mark: RunMark) -> dict[str, str]:
    """What a run puts in place of {run}, {step}, {date} and {time}."""
    return {
        "run": f"{mark.number:06d}",
        "step": as_part(mark.step),
        "date": f"{mark.moment.astimezone(dt.UTC):%Y-%m-%d}",
        "time": f"{mark.moment.astimezone(dt.UTC):%H%M%S}",
    }


def scope(pattern: str, braces: bool = True) -> str:
    """The pattern of all files that a pattern names, of any run; without `braces`, {a,b} stays as it is."""
    return (_PLACE if braces else _ONE).sub("*", pattern)


def has_place(pattern: str, name: str) -> bool:
    """True if a pattern has a name in braces."""
    return name in _PLACE.findall(pattern)


def as_part(value: str | None) -> str:
    """A value as a part of a file's name: what cannot stand there as %XX; NULL as null."""
    text = "null" if value is None else quote(value, safe=" !#$&'()+,;=@[]^_`~äöüÄÖÜß")
    return "%2E" + text[1:] if text.startswith(".") else text or "%"
