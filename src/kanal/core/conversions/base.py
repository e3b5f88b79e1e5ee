"""What a conversion is: a quick way for values that surely fit, and an exact one that decides all others."""

from __future__ import annotations

import inspect
from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from kanal.core.arrays import Mask, null_where_not, patch, valid_mask
from kanal.core.errors import ConversionError
from kanal.core.faults import Fault, Refusal, value_text
from kanal.core.types import TEXT, Family, SqlType


class Options(Struct, frozen=True):
    """How values are to be converted; None means that nothing was said.

    `rounding` is one of floor, ceiling, half_up, half_even, toward_zero; `too_long` reject or cut; `ambiguous`
    earlier or later; `format` is written with the directives of C's strftime: one, or several to be tried in order.
    """

    format: str | tuple[str, ...] | None = None
    decimal_mark: str | None = None
    grouping_mark: str | None = None
    rounding: str | None = None
    too_long: str | None = None
    time_zone: str | None = None
    ambiguous: str | None = None
    true_values: tuple[str, ...] | None = None
    false_values: tuple[str, ...] | None = None
    null_values: tuple[str, ...] | None = None
    encoding: str | None = None

    def given(self) -> set[str]:
        """The names of the options that say something."""
        return {name for name in self.__struct_fields__ if getattr(self, name) is not None}


NO_OPTIONS = Options()
#: How many of a batch's texts tell whether the same ones recur.
_SAMPLE = 500


class Conversion(ABC):
    """Converts arrays of one type into another.

    `quick` does what Arrow and NumPy can do at once and says which values it is sure of; `exact` decides one value,
    in Python, and is the definition: if both apply they agree.
    """

    #: The options that say something to this conversion; null_values does to each whose values have a text.
    options: ClassVar[frozenset[str]] = frozenset()
    #: True if to convert a value costs more than to find out that it recurs.
    dear: bool = True

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        self.source = source
        self.target = target
        self.given = options

    @abstractmethod
    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        """The converted array, NULL where unsure, and the mask of the values that are decided (NULLs are)."""

    @abstractmethod
    def exact(self, value: Any) -> Any:
        """The converted value; raises Refusal if it does not fit."""

    def retry(self, values: pa.Array) -> pa.Array | None:
        """The values that `quick` was not sure of in a form in which it may be, or None."""
        return None

    def __call__(self, values: pa.Array) -> tuple[pa.Array, list[Fault]]:
        """The converted array and a fault for each value that does not fit, in order of rows."""
        values = self._with_nulls(values)
        return self._each_once(values) if self.dear and _repeats(values) else self._each(values)

    def _each_once(self, values: pa.Array) -> tuple[pa.Array, list[Fault]]:
        """Convert values that recur, such as dates and codes, each one once."""
        encoded = values.dictionary_encode()
        converted, found = self._each(encoded.dictionary)
        if not found:
            return converted.take(encoded.indices), []
        by_code = {fault.row: fault for fault in found}
        codes = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        rows = np.flatnonzero(np.isin(codes, list(by_code))).tolist()
        faults = [replace(by_code[int(codes[row])], row=row) for row in rows]
        return converted.take(encoded.indices), faults

    def _each(self, values: pa.Array) -> tuple[pa.Array, list[Fault]]:
        converted, sure = self.quick(values)
        if sure.all():
            return converted, []
        left = np.flatnonzero(~sure)
        remaining = values.take(pa.array(left))
        again = self.retry(remaining) if len(left) > 100 else None
        if again is not None:
            late, late_sure = self.quick(again)
            mask = np.zeros(len(values), dtype=np.bool_)
            mask[left[late_sure]] = True
            converted = pc.replace_with_mask(converted, pa.array(mask), late.filter(pa.array(late_sure)))
            left, remaining = left[~late_sure], remaining.filter(pa.array(~late_sure))
        faults: list[Fault] = []
        decided: list[Any] = []
        for row, value in zip(left.tolist(), remaining.to_pylist(), strict=True):
            try:
                decided.append(self.exact(value))
            except Refusal as refusal:
                decided.append(None)
                faults.append(Fault(row, refusal.reason, value_text(value, values.type), refusal.message))
        return patch(converted, left, decided), faults

    def _with_nulls(self, values: pa.Array) -> pa.Array:
        if self.given.null_values is None:
            return values
        texts = values if pa.types.is_string(values.type) else converter(self.source, TEXT)(values)[0]
        meant = pc.is_in(texts, pa.array(self.given.null_values, pa.string()))
        return pc.if_else(meant, pa.scalar(None, values.type), values)


def _repeats(values: pa.Array) -> bool:
    """True for many texts of which, by a sample, few differ."""
    if not pa.types.is_string(values.type) or len(values) < 16 * _SAMPLE:
        return False
    sample = values.take(pa.array(np.arange(_SAMPLE) * (len(values) // _SAMPLE)))
    return len(sample.unique()) < 0.6 * _SAMPLE


class Direct(Conversion):
    """Every value of the source type is one of the target type; Arrow's cast does it."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        return values.cast(self.target.arrow), np.ones(len(values), dtype=np.bool_)

    def exact(self, value: Any) -> Any:
        return value


Factory = Callable[[SqlType, SqlType, Options], Conversion]
_CONVERSIONS: dict[tuple[Family, Family], Factory] = {}


class Example(Struct, frozen=True):
    """A value, as text, that a conversion takes, with the options, and what becomes of it, as text."""

    source: Family
    target: Family
    value: str
    result: str
    options: Options
    meaning: str


_EXAMPLES: list[Example] = []


def conversion(source: Family, target: Family, value: str, result: str, **options: Any) -> Callable[[Factory], Factory]:
    """Register what converts the one family into the other, with an example that its documentation shows."""

    def register(factory: Factory) -> Factory:
        _CONVERSIONS[source, target] = factory
        meaning = "The value is unchanged." if factory is Direct else inspect.getdoc(factory) or ""
        _EXAMPLES.append(Example(source, target, value, result, Options(**options), meaning))
        return factory

    return register


def all_examples() -> list[Example]:
    """An example of every conversion there is."""
    return list(_EXAMPLES)


def converter(source: SqlType, target: SqlType, options: Options = NO_OPTIONS) -> Conversion:
    """The conversion from one type to another.

    Raises ConversionError if there is none, or an option has no effect on it.
    """
    made: Conversion
    if source.family is Family.NULL or source.family is target.family is Family.INTERVAL:
        made = Direct(source, target, options)
    else:
        factory = _CONVERSIONS.get((source.family, target.family))
        if factory is None:
            raise ConversionError(
                f"There is no conversion from {source} to {target}",
                "convert in steps with CAST, or choose another type",
            )
        made = factory(source, target, options)
    applicable = made.options | ({"null_values"} if (source.family, Family.TEXT) in _CONVERSIONS else set())
    for name in sorted(options.given() - applicable):
        known = ", ".join(sorted(applicable)) or "no option"
        raise ConversionError(
            f"{name} has no effect on a conversion from {source} to {target}", f"remove it; it takes {known}"
        )
    return made


def taken_options(source: SqlType, target: SqlType) -> frozenset[str]:
    """The options that say something to a conversion, as far as there is one."""
    found: frozenset[str] = getattr(_CONVERSIONS.get((source.family, target.family)), "options", frozenset())
    return found | {"null_values"}


def decided(values: pa.Array, sure: Mask) -> Mask:
    """The mask of decided values: those that are sure, and NULLs."""
    if not values.null_count:
        return sure
    mask: Mask = sure | ~valid_mask(values)
    return mask


def only(values: pa.Array, sure: Mask) -> pa.Array:
    """The values with NULL if it is not sure, so that a cast of the whole array cannot fail."""
    return null_where_not(values, sure)
