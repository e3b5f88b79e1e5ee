"""The way of a batch through a pipeline, as plain functions: filter, look up, convert, check."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import Any, Literal, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from numpy.typing import NDArray

from kanal.core.arrays import mask_of, patch, valid_mask
from kanal.core.carried_rows import CarriedRows
from kanal.core.columns import SourceColumn, TargetColumn
from kanal.core.conversions import Options, converter
from kanal.core.conversions.base import Conversion, taken_options
from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions import Expression, Scope, compile_expression
from kanal.core.expressions.nodes import common_type, convert
from kanal.core.expressions.scope import parameter_constant
from kanal.core.faults import Fault, value_text
from kanal.core.frame import Frame, SourceBatch, with_strays
from kanal.core.lookups import KeyForm, LookupTable
from kanal.core.native import OwnForm
from kanal.core.reasons import Reason
from kanal.core.rejects import Reject, target_row
from kanal.core.types import TEXT, Family, SqlType

Rows = NDArray[np.intp]


class FailOnBadValue(KanalError):
    """A value that does not fit, in a column with if_bad = "fail"."""


class ColumnRule(Struct, frozen=True):
    """How a pipeline fills one target column."""

    expression: str
    type: SqlType | None = None
    options: Options = field(default_factory=Options)
    default: Any = None
    if_bad: Literal["reject", "null", "fail"] = "reject"
    bad_value: Any = None


def given_type(rule: ColumnRule, expression: Expression) -> SqlType:
    """The type of a column's values by the mapping, independent of the target."""
    return rule.type or (TEXT if expression.type.family is Family.NULL else expression.type)


# --- filter ------------------------------------------------------------------------------------------------------


def filter_rows(frame: Frame, where: Expression) -> tuple[Rows, list[tuple[str | None, Fault]]]:
    """The rows for which the condition is true, and the faults of rows for which it has no answer."""
    wanted = mask_of(frame.array(where.node.evaluate(frame)))
    faults = frame.collect()
    for fault in faults:
        wanted[fault.row] = False
    used = [name for _, name in where.uses]
    column = used[0] if len(used) == 1 else None
    unclear = [Fault(f.row, f.reason, f.value, f"the filter has no answer: {f.message}") for f in faults]
    return np.flatnonzero(wanted), [(column, fault) for fault in unclear]


# --- look up -----------------------------------------------------------------------------------------------------


class LookupPlan(Struct, frozen=True):
    """A look-up, compiled: the key expressions in the order of the table's key columns."""

    name: str
    keys: tuple[str, ...]
    probes: tuple[Expression, ...]
    types: Mapping[str, SqlType]
    missing: Literal["reject", "null"]
    #: What a key that is NULL gives, if one that the table does not have is rejected.
    null_key: Literal["reject", "null"] = "reject"
    #: The table's name.
    table: str = ""
    #: Where the table holds versions: the columns that hold from when until when each is valid. The last probe is the
    #: moment for which one is looked up.
    period: tuple[str, str] | None = None


def plan_lookup(
    name: str,
    on: Mapping[str, str],
    types: Mapping[str, SqlType],
    missing: Literal["reject", "null"],
    scope: Scope,
    as_of: tuple[str, str, str] | None = None,
) -> LookupPlan:
    """Compile a look-up, of versions as of a moment where `as_of` is given: the columns from and until, and the
    moment's expression. Raises ExpressionError if a key's type is not the table column's."""
    probes = []
    moment = [] if as_of is None else [(as_of[0], as_of[2])]
    for column, text in [*on.items(), *moment]:
        expression = compile_expression(text, scope)
        common = common_type([expression.type, types[column]])
        if expression.node.literal is None and common is None:
            raise ExpressionError(
                f"look-up {name} compares its {column} ({types[column]}) with {expression.type}",
                "write a CAST in on",
                text,
            )
        node = convert(expression.node, types[column]) if expression.type != types[column] else expression.node
        probes.append(Expression(text, node, expression.uses))
    return LookupPlan(name, tuple(on), tuple(probes), types, missing, period=as_of and as_of[:2])


def rejects_of_bad_lines(batch: SourceBatch) -> list[Reject]:
    """The lines of files that are not rows, as rejects."""
    return [
        Reject(None, Reason.BAD_FILE if bad.whole else Reason.BAD_LINE, bad.text,
               f"{bad.file}, line {bad.line}: {bad.wrong}",
               {"file.name": bad.file, "file.line": str(bad.line), "line": bad.text})
        for bad in batch.bad_lines
    ]  # fmt: skip


def look_up(frame: Frame, plan: LookupPlan, table: LookupTable) -> list[tuple[str | None, Fault]]:
    """Join the columns of the looked-up table to the frame; the faults of rows whose key it does not have.

    A value of the table that is not of its column's type is a fault of each row that uses it.
    """
    probes = [frame.array(probe.node.evaluate(frame)) for probe in plan.probes]
    faults: list[tuple[str | None, Fault]] = [(None, fault) for fault in frame.collect()]
    rows, found = table.find(probes)
    for column in plan.types:
        if column in table.columns:
            frame.join((plan.name, column), lambda column=column: table.take(column, rows, found))  # type: ignore[misc]
    if plan.missing == "reject":
        bad = ~found
        if plan.null_key == "null":
            for values in probes:
                bad &= ~mask_of(values.is_null())
        missing = np.flatnonzero(bad)
        shown = [values.take(pa.array(missing)).to_pylist() for values in probes]
        for place, row in enumerate(missing.tolist()):
            key = [column[place] for column in shown]
            text = None if key == [None] else ", ".join("NULL" if part is None else str(part) for part in key)
            parent = target_row(plan.table, dict(zip(plan.keys, map(value_text, key), strict=plan.period is None)))
            fault = Fault(row, Reason.NOT_IN_LOOKUP, text, _not_found(plan, key), parent=parent)
            faults.append((f"{plan.name}.{plan.keys[0]}", fault))
    return faults


def _not_found(plan: LookupPlan, key: list[Any]) -> str:
    at = f", valid at {key[-1]}" if plan.period is not None else ""
    named = " and ".join(
        f"{column} {'NULL' if part is None else repr(part) if isinstance(part, str) else part}"
        for column, part in zip(plan.keys, key, strict=False)
    )
    return (
        f'look-up {plan.name} has no row with {named}{at}: load it first, correct the source, or set missing = "null"'
    )


# --- convert -----------------------------------------------------------------------------------------------------


#: Options for reading texts.
_OF_TEXT = frozenset({"null_values", "true_values", "false_values", "decimal_mark", "grouping_mark", "format",
                      "time_zone", "ambiguous", "encoding"})  # fmt: skip


def _conversions_of(column: SourceColumn, first: SqlType, options: Options) -> tuple[Conversion, Conversion]:
    """The conversion of a column's values, by its type, and that of texts which are no values of its type.

    How a reader delivers the values makes no difference. Only where any row may hold any text, and an option says how
    to read texts that says nothing to values of the type, is every value read from its text.
    """
    if column.type.family is Family.TEXT:
        conversion = converter(column.type, first, options)
        return conversion, conversion
    given = options.given()
    taken = taken_options(column.type, first)
    if not column.loose or given <= taken:
        return converter(column.type, first, options), _from_stray_text(first, options)
    unknown = given - taken - _OF_TEXT
    if unknown or given - taken - taken_options(TEXT, first):
        return converter(column.type, first, options), _from_stray_text(first, options)  # which says what is wrong
    if column.stored == TEXT and column.type.family in _READ_BY_FORMAT:
        conversion = converter(TEXT, first, options)
        return conversion, conversion
    others = Options(**{name: getattr(options, name) for name in given & taken})
    return converter(column.type, first, others), _from_stray_text(first, options)


#: Types whose values a loose column may hold as texts in many forms, of which an option names one.
_READ_BY_FORMAT = (Family.DATE, Family.TIME, Family.TIMESTAMP, Family.TIMESTAMPTZ, Family.BOOLEAN)


def _from_stray_text(first: SqlType, options: Options) -> Conversion:
    """The conversion of texts that are no values of their column's type, by those options that say something to it."""
    says = options.given() & taken_options(TEXT, first)
    return converter(TEXT, first, Options(**{name: getattr(options, name) for name in says}))


class ColumnPlan:
    """One target column, compiled: the expression, its conversion, and what happens to NULL and to bad values."""

    def __init__(
        self, rule: ColumnRule, target: TargetColumn, scope: Scope, source: Mapping[str, SourceColumn]
    ) -> None:
        self.rule = rule
        self.target = target
        self.name = target.name
        self.expression = compile_expression(rule.expression, scope)
        node = self.expression.node
        first = rule.type or target.type or given_type(rule, self.expression)
        self.type = target.type or first
        self._delivered: str | None = None
        self._from_text: Conversion | None = None
        self._convert: Conversion
        column = node.column if node.column is not None and node.column[0] is None else None
        described = source.get(column[1]) if column else None
        if described is not None:
            assert column is not None
            self._delivered = column[1]
            self._convert, self._from_text = _conversions_of(described, first, rule.options)
        elif node.literal is not None:
            self._convert = converter(TEXT, first, rule.options)
        else:
            self._convert = converter(node.type, first, rule.options)
        self._fit = None if self.type == first else converter(first, self.type)
        #: The source's column whose values are this one's as they are, if there is one.
        self.unchanged: str | None = None
        if described is not None and described.type == described.stored == first == self.type:
            self.unchanged = None if rule.options.given() or rule.default is not None else self._delivered
        #: True if it goes on as the source sent it, so that its values are not looked at unless they have to be.
        self.carried = False
        #: The source's column that is mapped to this one without any options; `own_form` is set if the columns have
        #: the same type in databases of the same kind. Then every value is loaded as it is.
        self.bare = self._delivered if rule.type is None and not rule.options.given() else None
        self.own_form: OwnForm | None = None
        self._default = self._value(rule.default) if rule.default is not None else None
        self._bad_value = self._value(rule.bad_value) if rule.bad_value is not None else None
        if node.constant:
            self._check_constant(node.value())

    def _value(self, value: Any) -> Any:
        """A value of the job file as a Python value of the column's type; raises ExpressionError."""
        return convert(parameter_constant(value), self.type).value()

    def _check_constant(self, value: Any) -> None:
        node = self.expression.node
        _, faults = self._convert(pa.array([value], node.type.arrow))
        if faults:
            raise ExpressionError(faults[0].message, "", self.rule.expression)

    def __call__(self, frame: Frame, whole: bool = False) -> tuple[pa.Array, list[Fault]]:
        """The column's values in the target's type, and the faults of rows that cannot have one.

        With `whole`, a column that has an own form is given in it, whether or not a value needs it.
        """
        values = self._in_own_form(frame, whole)
        if values is not None:
            return values, self._nulls(values, []) if not self.target.nullable and values.null_count else []
        values = self._converted(frame)
        if self._fit is not None:
            values, misfits = self._fit(values)
            frame.report(misfits)
        faults = frame.collect()
        if self._default is not None and values.null_count:
            values = pc.fill_null(values, pa.scalar(self._default, values.type))
        if (faults and self.rule.if_bad != "reject") or (faults and self._bad_value is not None):
            values, faults = self._if_bad_applied(values, faults)
        if not self.target.nullable and values.null_count:
            faults = faults + self._nulls(values, faults)
        return values, faults

    def _converted(self, frame: Frame) -> pa.Array:
        if self._delivered is None:
            values, faults = self._convert(frame.array(self.expression.node.evaluate(frame)))
            frame.report(faults)
            return values
        if self._convert.source.family is Family.TEXT:
            given, strays = frame.batch.columns[self._delivered], frame.batch.strays.get(self._delivered, {})
        else:
            given, strays = frame.delivered(self._delivered)
        values, faults = self._convert(given)
        frame.report(faults)
        if strays:
            values, misfits = with_strays(values, strays, self._from_text or self._convert)
            frame.report(misfits)
        return values

    def _in_own_form(self, frame: Frame, whole: bool) -> pa.Array | None:
        """The values in the form of the databases; None if the typed values are all that there is."""
        if self.own_form is None or self.bare is None:
            return None
        given, strays = frame.batch.columns[self.bare], frame.batch.strays.get(self.bare, {})
        if not whole and not strays and given.type == self.type.arrow and given.type != TEXT.arrow:
            return None
        if self._default is not None and given.null_count:
            as_text = given.type != self.type.arrow
            given = pc.fill_null(given, pa.scalar(_text_of(self._default) if as_text else self._default, given.type))
        return self.own_form(given, strays)

    def _if_bad_applied(self, values: pa.Array, faults: list[Fault]) -> tuple[pa.Array, list[Fault]]:
        if self.rule.if_bad == "fail":
            worst = faults[0]
            raise FailOnBadValue(
                f"column {self.name}: {worst.message}",
                'correct the source, or set if_bad to "reject" or "null"',
            )
        rows = sorted({fault.row for fault in faults})
        return patch(values, rows, [self._bad_value] * len(rows)), []

    def _nulls(self, values: pa.Array, faults: list[Fault]) -> list[Fault]:
        known = {fault.row for fault in faults}
        message = f"{self.name} is NULL and its column is NOT NULL: set a default, or COALESCE it"
        rows = np.flatnonzero(~valid_mask(values)).tolist()
        return [Fault(row, Reason.NULL_NOT_ALLOWED, None, message) for row in rows if row not in known]


def _text_of(value: Any) -> str | None:
    """A value as databases read it from a text, a number without zeros at its end."""
    text = value_text(value)
    return text.rstrip("0").rstrip(".") if isinstance(value, Decimal) and text and "." in text else text


def convert_columns(
    frame: Frame, plans: Sequence[ColumnPlan], whole: bool = False
) -> tuple[pa.RecordBatch, list[tuple[str | None, Fault]]]:
    """The target rows, and the faults, each with its column, in the order of the mapping; CarriedRows where columns go
    on as the source sent them.

    With `whole`, equal values have the same form in all batches.
    """
    arrays: dict[str, pa.Array] = {}
    carried: dict[str, str] = {}
    faults: list[tuple[str | None, Fault]] = []
    for plan in plans:
        if plan.carried and plan.unchanged and not whole:
            nullable, any_value = plan.target.nullable, plan.own_form is not None
            if frame.batch.goes_on(plan.unchanged, nullable, any_value):
                carried[plan.name] = plan.unchanged
                continue
        values, found = plan(frame, whole)
        arrays[plan.name] = values
        faults.extend((plan.name, fault) for fault in found)
    if not carried:
        return pa.RecordBatch.from_arrays(list(arrays.values()), names=list(arrays)), faults
    types = ((plan.name, plan.type.arrow if plan.name in carried else arrays[plan.name].type) for plan in plans)
    own_forms = {plan.name: plan.own_form for plan in plans if plan.own_form is not None}
    return CarriedRows(frame.batch, pa.schema(types), arrays, carried, own_forms), faults


# --- check -------------------------------------------------------------------------------------------------------


class RowCheck(Protocol):
    """A check of converted rows: which rows fail, the column, and the message."""

    @property
    def name(self) -> str:
        """The name of the check in the job."""

    def failing(self, frame: Frame) -> list[tuple[str | None, Fault]]:
        """A fault, with its column, for each row of the frame that fails."""


def _failed(name: str, row: int, value: str | None, what: str) -> Fault:
    return Fault(row, Reason.CHECK_FAILED, value, f"check {name} fails: {what}")


class ExpectCheck(Struct, frozen=True):
    """A condition that must not be false."""

    name: str
    expect: Expression

    def failing(self, frame: Frame) -> list[tuple[str | None, Fault]]:
        """A fault for each row that does not meet the condition."""
        answer = frame.array(self.expect.node.evaluate(frame))
        faults: list[tuple[str | None, Fault]] = [(None, fault) for fault in frame.collect()]
        used = sorted(name for _, name in self.expect.uses)
        for row in np.flatnonzero(mask_of(pc.invert(answer))).tolist():
            values = {name: _shown(frame.batch.columns[name], row) for name in used}
            shown = ", ".join(f"{name} = {value}" for name, value in values.items())
            alone = values[used[0]] if len(used) == 1 else shown
            what = f"{self.expect.text}, where {shown}"
            faults.append((used[0] if len(used) == 1 else None, _failed(self.name, row, alone, what)))
        return faults


class MembershipCheck:
    """A value that must, or must not, are in a column of a table."""

    def __init__(
        self, name: str, value: Expression, label: str, values: pa.Array, wanted: bool, form: KeyForm | None = None
    ) -> None:
        """`form` converts values so that they are equal if they are equal by the column's collation."""
        self.name = name
        self.value = value
        self.label = label
        self.wanted = wanted
        values = values.unique().drop_null()
        if form is not None:  # of texts that the column holds equal, one is enough
            formed = form("value", values)
            first = (
                pa.table({"form": formed, "row": np.arange(len(values))}).group_by("form").aggregate([("row", "min")])
            )
            values = values.take(first["row_min"].combine_chunks())
        self._table = LookupTable(name, {"value": values}, ["value"], form=form)

    def failing(self, frame: Frame) -> list[tuple[str | None, Fault]]:
        """A fault for each row whose value is missing, or there when it must not be."""
        values = frame.array(self.value.node.evaluate(frame))
        faults: list[tuple[str | None, Fault]] = [(None, fault) for fault in frame.collect()]
        _, found = self._table.find([values])
        used = sorted(name for _, name in self.value.uses)
        column = used[0] if len(used) == 1 else None
        for row in np.flatnonzero((found != self.wanted) & valid_mask(values)).tolist():
            shown = _shown(values, row)
            what = f"{self.value.text} = {shown} {'is not' if self.wanted else 'is already'} in {self.label}"
            faults.append((column, _failed(self.name, row, shown, what)))
        return faults


def _shown(values: pa.Array, row: int) -> str | None:
    return value_text(values[row].as_py(), values.type)


def check_rows(
    rows: pa.RecordBatch, types: Mapping[str, SqlType], checks: Sequence[RowCheck], moment: dt.datetime
) -> list[tuple[str | None, Fault]]:
    """The faults of converted rows that fail a check; NULL passes, as in SQL."""
    columns = {name: rows.column(place) for place, name in enumerate(rows.schema.names)}
    frame = Frame(SourceBatch(rows.num_rows, columns), types, moment)
    return [fault for check in checks for fault in check.failing(frame)]


# --- rejects -----------------------------------------------------------------------------------------------------


def first_faults(faults: Sequence[tuple[str | None, Fault]]) -> dict[int, tuple[str | None, Fault]]:
    """For each bad row, by its number, the first of its faults."""
    first: dict[int, tuple[str | None, Fault]] = {}
    for column, fault in faults:
        first.setdefault(fault.row, (column, fault))
    return first


def rejects_of(
    batch: SourceBatch,
    faults: Sequence[tuple[str | None, Fault]],
    list_all: bool = False,
    would_be: Callable[[int], str | None] = lambda row: None,
) -> tuple[list[Reject], Rows]:
    """The rejects that the faults of a batch make, in order of rows, and the rows that remain.

    With `list_all`, the message of a reject continues all further faults of its row. `would_be` says which row of
    the target a row would have been.
    """
    first = first_faults(faults)
    bad = sorted(first)
    messages = {row: first[row][1].message for row in bad}
    if list_all:
        for column, fault in faults:
            if fault is not first[fault.row][1]:
                messages[fault.row] += f"; also {column or 'the row'}, {fault.reason}: {fault.message}"
    rejects = [
        Reject(
            first[row][0],
            first[row][1].reason,
            first[row][1].value,
            messages[row],
            texts,
            first[row][1].constraint,
            would_be(row),
            first[row][1].parent,
        )
        for row, texts in zip(bad, batch.row_texts(bad) if bad else [], strict=True)
    ]
    keep = np.ones(batch.rows, dtype=np.bool_)
    keep[bad] = False
    return rejects, np.flatnonzero(keep)
