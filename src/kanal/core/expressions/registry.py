"""The functions that expressions may call: each is one entry with its signature, meaning and example."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any, ParamSpec, TypeVar

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from kanal.core.arrays import Datum
from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions.nodes import Node, common_type, convert, unify, widen
from kanal.core.expressions.other_dialects import standard_form
from kanal.core.faults import Fault, Refusal, value_text
from kanal.core.frame import Frame
from kanal.core.nearest import did_you_mean
from kanal.core.types import DOUBLE, TEXT, Family, SqlType, decimal, parse_type

Arguments = ParamSpec("Arguments")
Result = TypeVar("Result")
Body = Callable[..., Datum]
Returns = Callable[[list[SqlType]], SqlType]


class Function(Struct, frozen=True):
    """One function, or one of several of a name that differ in what they take.

    `signature` is what documentation shows; `example` is an expression and its value as text. `exact` says that the
    parameters are types in full, to which arguments are converted, and not families of types.
    """

    name: str
    signature: str
    parameters: tuple[str, ...]
    optional: int
    variadic: bool
    returns: Returns
    body: Body
    group: str
    meaning: str
    example: tuple[str, str | None]
    exact: bool = False
    #: Raises a Refusal if the constants among the arguments after the first, else None, can never do.
    check: Callable[..., object] | None = None


_FUNCTIONS: dict[str, list[Function]] = {}
_SIGNATURE = re.compile(r"(\w+)\((.*?)\)\s*->\s*(.+)")
#: How far a type is from what a parameter takes; pairs not listed do not go.
_DISTANCE: dict[tuple[Family, str], int] = {
    (Family.INTEGER, "decimal"): 1,
    (Family.INTEGER, "double"): 3,
    (Family.DECIMAL, "double"): 2,
    (Family.DATE, "timestamp"): 1,
    (Family.UUID, "text"): 1,
    (Family.JSON, "text"): 1,
}
_FAMILY_OF = {
    "text": Family.TEXT,
    "integer": Family.INTEGER,
    "whole": Family.INTEGER,
    "decimal": Family.DECIMAL,
    "double": Family.DOUBLE,
    "boolean": Family.BOOLEAN,
    "date": Family.DATE,
    "time": Family.TIME,
    "timestamp": Family.TIMESTAMP,
    "timestamptz": Family.TIMESTAMPTZ,
    "interval": Family.INTERVAL,
    "binary": Family.BINARY,
}
_OF_ALL_TYPES = frozenset({"value", "same"})
_SHORT_NAMES = {family: name for name, family in _FAMILY_OF.items() if name != "whole"}


def function(
    signature: str,
    example: tuple[str, str | None],
    group: str,
    returns: Returns | None = None,
    check: Callable[..., object] | None = None,
) -> Callable[[Body], Body]:
    """Register a function by a signature such as `left(text, integer) -> text`.

    A type followed by ? is optional, by ... may come any number of times; `value` takes all types, as their text, and
    `same` all types, but only one; `integer` is widened to bigint, `whole` keeps its width.
    The body takes the frame and an Arrow array for each argument; its docstring is the documentation.
    """
    match = _SIGNATURE.fullmatch(signature)
    assert match, signature
    name, inside, result = match.groups()
    words = [word.strip() for word in inside.split(",")] if inside else []
    variadic = bool(words) and words[-1].endswith("...")
    parameters = tuple(word.rstrip("?.") for word in words)

    def register(body: Body) -> Body:
        entry = Function(
            name=name,
            signature=signature,
            parameters=parameters,
            optional=sum(word.endswith("?") for word in words),
            variadic=variadic,
            returns=returns or (lambda types: _result(result, types)),
            body=body,
            group=group,
            meaning=inspect.getdoc(body) or "",
            example=example,
            check=check,
        )
        _FUNCTIONS.setdefault(name, []).append(entry)
        return body

    return register


def elementwise(body: Callable[..., Any], result: SqlType) -> Body:
    """A body that calls a Python function for each row without a NULL; a Refusal it raises is that row's fault."""

    def evaluate(frame: Frame, *arguments: pa.Array) -> pa.Array:
        values: list[Any] = []
        faults: list[Fault] = []
        for row, row_arguments in enumerate(zip(*(argument.to_pylist() for argument in arguments), strict=True)):
            if None in row_arguments:
                values.append(None)
                continue
            try:
                values.append(body(*row_arguments))
            except Refusal as refusal:
                values.append(None)
                faults.append(Fault(row, refusal.reason, value_text(row_arguments[0]), refusal.message))
        frame.report(faults)
        return pa.array(values, result.arrow)

    evaluate.__doc__ = body.__doc__
    return evaluate


def python_function(
    signature: str, example: tuple[str, str | None], group: str
) -> Callable[[Callable[Arguments, Result]], Callable[Arguments, Result]]:
    """Register a function whose body is called with Python values, one row at a time."""
    result = parse_type(signature.rpartition("->")[2].strip())

    def register(body: Callable[Arguments, Result]) -> Callable[Arguments, Result]:
        function(signature, example, group)(elementwise(body, result))
        return body

    return register


def all_functions() -> list[Function]:
    """Every function, by name."""
    return [entry for name in sorted(_FUNCTIONS) for entry in _FUNCTIONS[name]]


def is_function(name: str) -> bool:
    """True if Kanal itself has a function of the name."""
    return name.lower() in _FUNCTIONS


def call(name: str, arguments: Sequence[Node], users: Mapping[str, Function | KanalError] | None = None) -> Node:
    """A call of the function that fits the arguments best; `users` are the user's own, by name in lower case,
    or what is wrong with them.

    Raises ExpressionError if the name is not known or no function of that name takes such arguments.
    """
    own = (users or {}).get(name.lower())
    if isinstance(own, KanalError):
        raise own
    entries = [own] if own is not None else _FUNCTIONS.get(name.lower())
    if entries is None:
        remedy = standard_form(name) or did_you_mean(name, [*_FUNCTIONS, *(users or {})])
        raise ExpressionError(f'There is no function "{name}"', remedy)
    best: tuple[int, Function] | None = None
    for entry in entries:
        distance = _fit(entry, arguments)
        if distance is not None and (best is None or distance < best[0]):
            best = (distance, entry)
    if best is None:
        given = ", ".join(str(argument.type) for argument in arguments)
        forms = " or ".join(entry.signature.partition(" ->")[0] for entry in entries)
        if name.lower() == "btrim":  # as the parser calls it
            name, forms = "trim", forms.replace("btrim(", "trim(")
        raise ExpressionError(f"{name}({given}) is not defined", f"it is called as {forms}; a CAST may help")
    return _bind(best[1], arguments)


def _parameters(entry: Function, count: int) -> list[str] | None:
    """The parameters for so many arguments, or None if they are too many or too few."""
    required = len(entry.parameters) - entry.optional
    if entry.variadic:
        if count < required:
            return None
        return [*entry.parameters, *[entry.parameters[-1]] * (count - len(entry.parameters))]
    return list(entry.parameters[:count]) if required <= count <= len(entry.parameters) else None


def _fit(entry: Function, arguments: Sequence[Node]) -> int | None:
    parameters = _parameters(entry, len(arguments))
    if parameters is None:
        return None
    total = 0
    for parameter, argument in zip(parameters, arguments, strict=True):
        if parameter in _OF_ALL_TYPES or argument.type.family is Family.NULL:
            continue
        wanted = parse_type(parameter).family if entry.exact else _FAMILY_OF[parameter]
        if argument.type.family is wanted:
            continue
        if argument.literal is not None and wanted is not Family.TEXT:
            total += 4
            continue
        step = _DISTANCE.get((argument.type.family, _SHORT_NAMES.get(wanted, "")))
        if step is None:
            return None
        total += step
    return total


def _bind(entry: Function, arguments: Sequence[Node]) -> Node:
    parameters = _parameters(entry, len(arguments)) or []
    nodes = list(arguments)
    if "same" in parameters:
        places = [place for place, parameter in enumerate(parameters) if parameter == "same"]
        unified, _ = unify([nodes[place] for place in places], f"{entry.name}(…)")
        for place, node in zip(places, unified, strict=True):
            nodes[place] = node
    for place, parameter in enumerate(parameters):
        if entry.exact:
            nodes[place] = convert(nodes[place], parse_type(parameter))
        elif parameter == "value":
            nodes[place] = _as_output(nodes[place])
        elif parameter != "same":
            nodes[place] = _as_parameter(nodes[place], parameter)
    types = [node.type for node in nodes]
    result = entry.returns(types)
    body = entry.body
    if entry.check is not None:
        try:
            entry.check(*(node.value() if node.constant else None for node in nodes[1:]))
        except Refusal as refusal:
            what, _, remedy = refusal.message.partition(": ")
            raise ExpressionError(f"{entry.name}: {what}", remedy) from None

    def evaluate(frame: Frame) -> Datum:
        values = frame.array(body(frame, *(frame.array(node.evaluate(frame)) for node in nodes)))
        return values if values.type == result.arrow else values.cast(result.arrow)

    return Node(result, evaluate)


def _as_output(node: Node) -> Node:
    """A value as the text that it is shown by: of booleans t and f, which a CAST writes out."""
    if node.type.family is not Family.BOOLEAN:
        return convert(node, TEXT)

    def evaluate(frame: Frame) -> Datum:
        return pc.if_else(frame.array(node.evaluate(frame)), pa.scalar("t"), pa.scalar("f"))

    return Node(TEXT, evaluate)


def _as_parameter(node: Node, parameter: str) -> Node:
    wanted = _FAMILY_OF[parameter]
    if wanted is Family.DECIMAL:
        if node.type.family is Family.DECIMAL:
            return node
        if node.type.family is Family.INTEGER:
            return convert(node, decimal(node.type.whole_digits, 0))
        return convert(node, decimal(38, 10) if node.type.family is not Family.NULL else decimal(1, 0))
    if parameter == "whole" and node.type.family is Family.INTEGER:
        return node
    if wanted is Family.INTEGER:
        return convert(node, SqlType("bigint"))
    if wanted is Family.DOUBLE:
        return widen(node, DOUBLE)
    if wanted is Family.TEXT:
        return widen(node, TEXT) if node.type.family is Family.TEXT else convert(node, TEXT)
    return convert(node, parse_type(wanted.value))


def _result(name: str, types: list[SqlType]) -> SqlType:
    if name == "same":
        found = common_type(types)
        assert found is not None
        return found
    return DOUBLE if name == "double" else parse_type(name)
