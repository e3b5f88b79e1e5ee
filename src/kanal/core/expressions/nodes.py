"""A compiled expression: its SQL type, and how it is evaluated over a frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, ClassVar

import pyarrow as pa
from msgspec import Struct

from kanal.core.arrays import Datum
from kanal.core.conversions import Options, converter
from kanal.core.errors import ConversionError, ExpressionError
from kanal.core.faults import Fault
from kanal.core.frame import ColumnKey, Frame
from kanal.core.records import PartlyCompared
from kanal.core.types import NULL, TEXT, Family, SqlType, decimal

Evaluate = Callable[[Frame], Datum]


class Node(PartlyCompared, Struct, frozen=True, eq=False):
    """Part of an expression. `column` is set if it is nothing but a column, `literal` if it is a bare text."""

    aside: ClassVar[frozenset[str]] = frozenset({"source"})

    type: SqlType
    evaluate: Evaluate
    constant: bool = False
    column: ColumnKey | None = None
    literal: str | None = None
    source: Any = None

    def value(self) -> Any:
        """The Python value of a constant node."""
        return self.evaluate(_NOWHERE).as_py()


class _Nowhere:
    """Stands for the frame if a constant is evaluated; it has no columns."""

    rows = 1


_NOWHERE: Any = _Nowhere()


def constant(value: Any, sql_type: SqlType, literal: str | None = None) -> Node:
    """A node of one value, given as a Python value that Arrow takes for the type."""
    scalar = pa.scalar(value, sql_type.arrow)
    return Node(sql_type, lambda _: scalar, constant=True, literal=literal)


def null_of(sql_type: SqlType) -> Node:
    """A NULL of a type."""
    return constant(None, sql_type)


def text_constant(value: str) -> Node:
    """A text literal, which takes on the type that its surroundings need."""
    return constant(value, TEXT, literal=value)


def constant_misfit(fault: Fault) -> ExpressionError:
    """The error of a constant or parameter that is not of its type."""
    what, _, hint = fault.message.rpartition(": ")
    what = what if hint.startswith(("set ", "correct ", "name ", "write ")) else fault.message
    return ExpressionError(what, "correct that value, or the parameter that gives it")


def convert(node: Node, target: SqlType, options: Options | None = None) -> Node:
    """The node converted by the rules of conversions; values that do not fit are faults.

    Constants are converted at once; raises ExpressionError for one that does not fit, or an impossible pair.
    """
    if node.type == target:
        return node
    if node.type == NULL:
        return null_of(target)
    try:
        conversion = converter(node.type, target, options or Options())
    except ConversionError as error:
        raise ExpressionError(error.what, error.remedy) from None
    if node.constant:
        values, faults = conversion(pa.array([node.value()], node.type.arrow))
        if faults:
            raise constant_misfit(faults[0])
        scalar = values[0]
        return Node(target, lambda _: scalar, constant=True)

    def evaluate(frame: Frame) -> Datum:
        values, faults = conversion(frame.array(node.evaluate(frame)))
        frame.report(faults)
        return values

    return Node(target, evaluate)


def common_type(types: list[SqlType]) -> SqlType | None:
    """The type in which values of all the types can be compared or are in one column; None if there is none."""
    known = [sql_type for sql_type in types if sql_type.family is not Family.NULL]
    if not known:
        return NULL
    families = {sql_type.family for sql_type in known}
    if families == {Family.INTEGER}:
        return max(known, key=lambda sql_type: sql_type.integer_range[1])
    if families <= {Family.INTEGER, Family.DECIMAL}:
        scale = max(sql_type.scale or 0 for sql_type in known)
        whole = max(sql_type.whole_digits for sql_type in known)
        return decimal(min(76, whole + scale), scale)
    if families <= {Family.INTEGER, Family.DECIMAL, Family.DOUBLE}:
        return SqlType("double precision") if len({t.name for t in known}) > 1 else known[0]
    if families <= {Family.DATE, Family.TIMESTAMP} and len(families) == 2:
        return SqlType("timestamp")
    if len(families) > 1:
        return None
    if families == {Family.TEXT}:
        lengths = {sql_type.length for sql_type in known}
        return known[0] if len(lengths) == 1 else TEXT
    return known[0]


def common_of(nodes: Sequence[Node], what: str) -> SqlType:
    """The type in which nodes can be compared; bare texts take on that of the others.

    Raises ExpressionError if the types have nothing in common.
    """
    typed = list(dict.fromkeys(node.type for node in nodes if node.literal is None))
    target = common_type(typed) if typed else TEXT
    if target == NULL and any(node.literal is not None for node in nodes):
        target = TEXT
    if target is None:
        names = " and ".join(str(sql_type) for sql_type in typed)
        raise ExpressionError(f"{what} has {names}, which do not go together", "write CAST(… AS …) around one of them")
    return TEXT if target.family is Family.TEXT else target


def unify(nodes: Sequence[Node], what: str) -> tuple[list[Node], SqlType]:
    """The nodes converted to their common type; raises ExpressionError if they have none."""
    target = common_of(nodes, what)
    return [widen(node, target) for node in nodes], target


#: Conversions of floating and decimal values inside an expression take the nearest value, as SQL does.
_NEAREST = Options(rounding="half_even")


def widen(node: Node, target: SqlType) -> Node:
    """The node in a type of which its own is a part; raises ExpressionError for any other."""
    if node.type == target or node.type.family is target.family is Family.TEXT:
        return Node(target, node.evaluate, node.constant, node.column, node.literal)
    if target.family is Family.DOUBLE and node.type.family in (Family.INTEGER, Family.DECIMAL):
        return convert(node, target, _NEAREST)
    return convert(node, target)
