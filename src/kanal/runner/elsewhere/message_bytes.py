"""Messages as data: only records of a known kind can be read, so reading a message cannot run code.

Each value is a plain msgpack value or an array that begins with its kind.
"""

from __future__ import annotations

import datetime as dt
import numbers
import pickle
from collections.abc import Callable, Mapping
from decimal import Decimal
from enum import Enum
from pathlib import Path, PurePath
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

import msgspec

from kanal.connections.base import Digest
from kanal.connections.defaults import DefaultValue
from kanal.connections.description import About, ColumnInfo, Constraint, ForeignKey, Right, RowCount, TableInfo
from kanal.connections.journal import LoadedFile, Progress, Watermark
from kanal.connections.loading import Conflict, PortionRows, RefusedRow
from kanal.connections.reading import Window
from kanal.connections.roles import Reads, Writes
from kanal.core.faults import Fault
from kanal.core.native import ExactText
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject
from kanal.core.shapes import ColumnShape, TableShape
from kanal.core.tally import Tally
from kanal.core.types import Family, SqlType
from kanal.runlog import BatchRecord
from kanal.runner.elsewhere.portions import PortionOutcome, Unpublished
from kanal.runner.messages import (
    Answer,
    BatchEnds,
    Ending,
    Failure,
    Goodbye,
    RefusedRows,
    Said,
    Sign,
    Speaker,
    StepBegins,
    StepOutcome,
    StopRequest,
    TryFailed,
    WillResolve,
)

#: The records that messages consist of.
RECORDS: Mapping[str, Any] = {
    kind.__name__: kind
    for kind in (
        About, Answer, BatchEnds, BatchRecord, ColumnInfo, ColumnShape, Conflict, Constraint, DefaultValue, Digest,
        Failure, Fault, ForeignKey, Goodbye, LoadedFile, PortionOutcome, PortionRows, Progress, RefusedRow,
        RefusedRows, Reject, Right, RowCount, Said, Sign, Speaker, SqlType, StepBegins, StepOutcome, StopRequest,
        TableInfo, TableShape, Tally, TryFailed, Unpublished, Watermark, WillResolve, Window,
    )
}  # fmt: skip
_NAMES = {kind: name for name, kind in RECORDS.items()}
_ENUMS: Mapping[str, type[Enum]] = {kind.__name__: kind for kind in (Ending, Family, Reads, Reason, Writes)}
_COLLECTIONS: Mapping[str, Callable[[Any], Any]] = {"list": list, "tuple": tuple, "set": set, "frozenset": frozenset}
_TEXTS: Mapping[str, Callable[[str], Any]] = {
    "int": int,
    "decimal": Decimal,
    "date": dt.date.fromisoformat,
    "time": dt.time.fromisoformat,
    "path": Path,
    "uuid": UUID,
}
_LARGEST = 2**63


class Sealed:
    """The type of a column as its database's library describes it. Only the workers that reach the database open it."""

    def __init__(self, content: bytes) -> None:
        self.content = content

    def __reduce__(self) -> tuple[Any, ...]:
        return pickle.loads, (self.content,)

    def __deepcopy__(self, _: Any) -> Sealed:
        return self  # a copy would else be opened here

    def __copy__(self) -> Sealed:
        return self


def encode(message: Any) -> bytes:
    """A message as bytes; raises TypeError for one that holds anything but data."""
    return msgspec.msgpack.encode(_plain(message))


def decode(content: bytes) -> Any:
    """The message that bytes contain; raises ValueError if they contain none."""
    try:
        return _value(msgspec.msgpack.decode(content))
    except (msgspec.MsgspecError, TypeError, LookupError, ArithmeticError, RecursionError, AttributeError) as error:
        raise ValueError(f"not a message: {error}") from None


def _plain(value: Any) -> Any:
    """A value as one that msgpack has."""
    kind = type(value)
    if value is None or kind in (bool, float, str, bytes) or (kind is int and abs(value) < _LARGEST):
        return value
    if kind in _NAMES:
        return ["record", _NAMES[kind], *(_field(value, name) for name in kind.__struct_fields__)]
    if isinstance(value, Enum):
        if _ENUMS.get(kind.__name__) is kind:
            return ["enum", kind.__name__, value.name]
    elif isinstance(value, list | tuple | set | frozenset):
        return [kind.__name__ if kind.__name__ in _COLLECTIONS else "tuple", *map(_plain, value)]
    elif isinstance(value, Mapping):
        return ["dict", *(_plain(part) for pair in value.items() for part in pair)]
    elif isinstance(value, dt.datetime):
        zone = value.tzinfo.key if isinstance(value.tzinfo, ZoneInfo) else None
        text = value.replace(tzinfo=None).isoformat() if zone else value.isoformat()
        return ["datetime", text, zone, value.fold]
    elif isinstance(value, dt.timedelta):
        return ["timedelta", value.days, value.seconds, value.microseconds]
    elif isinstance(value, dt.date | dt.time):
        return ["time" if isinstance(value, dt.time) else "date", value.isoformat()]
    elif isinstance(value, numbers.Integral):
        return ["int", str(value)]
    elif isinstance(value, Decimal | PurePath | UUID):
        name = "decimal" if isinstance(value, Decimal) else "uuid" if isinstance(value, UUID) else "path"
        return [name, str(value)]
    elif isinstance(value, str):
        return ["exact", str(value), value.value] if isinstance(value, ExactText) else str(value)
    raise TypeError(f"{kind.__module__}.{kind.__qualname__} cannot be sent")


def _field(record: Any, name: str) -> Any:
    value = getattr(record, name)
    if name != "dialect_type" or value is None:
        return _plain(value)
    return ["sealed", value.content if isinstance(value, Sealed) else pickle.dumps(value)]


def _value(plain: Any) -> Any:
    """The value that such a one represents."""
    if plain is None or isinstance(plain, bool | int | float | str | bytes):
        return plain
    if not isinstance(plain, list):
        raise ValueError(f"not a kind of value: {type(plain).__name__}")
    kind, *parts = plain
    if kind in _COLLECTIONS:
        return _COLLECTIONS[kind](map(_value, parts))
    if kind in _TEXTS:
        return _TEXTS[kind](*parts)
    match kind:
        case "record":
            name, *values = parts
            return RECORDS[name](**dict(zip(RECORDS[name].__struct_fields__, map(_value, values), strict=True)))
        case "enum":
            name, member = parts
            return _ENUMS[name][member]
        case "dict":
            values = list(map(_value, parts))
            return dict(zip(values[::2], values[1::2], strict=True))
        case "datetime":
            text, zone, fold = parts
            found = dt.datetime.fromisoformat(text).replace(fold=fold)
            return found if zone is None else found.replace(tzinfo=ZoneInfo(zone))
        case "exact":
            return ExactText(*parts)
        case "timedelta":
            return dt.timedelta(*parts)
        case "sealed":
            return Sealed(*parts)
    raise ValueError(f"not a kind of value: {kind}")
