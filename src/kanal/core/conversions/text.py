"""Conversions into text, and from text into booleans, UUIDs, JSON and bytes."""

from __future__ import annotations

import codecs
import json
import re
import uuid
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import Mask, mask_of, null_where_not
from kanal.core.conversions.base import Conversion, Direct, Options, conversion, decided, only
from kanal.core.conversions.numbers import shortest
from kanal.core.errors import ConversionError
from kanal.core.faults import Refusal
from kanal.core.reasons import Reason
from kanal.core.types import Family, SqlType


class ToText(Conversion):
    """Anything to text or varchar(n): the text is written out, then measured in characters."""

    options = frozenset({"too_long"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.dear = source.family is not Family.TEXT

    def write(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        """The values as texts, and which of them are surely right."""
        return values.cast(pa.string()), np.ones(len(values), dtype=np.bool_)

    def write_exactly(self, value: Any) -> str:
        """One value as text."""
        return str(value)

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        texts, sure = self.write(values)
        length = self.target.length
        if length is not None:
            if self.given.too_long == "cut":
                return pc.utf8_slice_codeunits(texts, 0, length), decided(values, sure)
            # Bytes are never fewer than characters: only if they exceed the length are characters counted.
            most = pc.max(pc.binary_length(texts)).as_py()
            if most is not None and most > length:
                fits = mask_of(pc.less_equal(pc.utf8_length(texts), length))
                sure = sure & fits
                texts = null_where_not(texts, fits)
        return texts, decided(values, sure)

    def exact(self, value: Any) -> str:
        text = self.write_exactly(value)
        length = self.target.length
        if length is not None and len(text) > length:
            if self.given.too_long == "cut":
                return text[:length]
            raise Refusal(
                Reason.TOO_LONG,
                f"the text has {len(text):,} characters, the column takes {length:,}: "
                'widen the column, or set too_long = "cut"',
            )
        return text


conversion(Family.TEXT, Family.TEXT, "Sluis", "Slu", too_long="cut")(ToText)
conversion(Family.INTEGER, Family.TEXT, "-7", "-7")(ToText)
conversion(Family.UUID, Family.TEXT, "12345678-1234-1234-1234-123456789abc", "12345678-1234-1234-1234-123456789abc")(
    ToText
)
conversion(Family.JSON, Family.TEXT, '{"a": 1}', '{"a": 1}')(ToText)


@conversion(Family.DECIMAL, Family.TEXT, "12.30", "12.30")
class DecimalToText(ToText):
    """Decimals with all decimals of their scale."""

    def write(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        texts = values.cast(pa.string())
        if values.type.scale <= 6:
            return texts, np.ones(len(values), dtype=np.bool_)
        # Arrow writes small numbers of a large scale with an exponent.
        return texts, ~mask_of(pc.match_substring(texts, "E"))

    def write_exactly(self, value: Decimal) -> str:
        return format(value, "f")


def double_text(value: float, source: SqlType) -> str:
    """A floating value in the shortest text that reads back as it, written as PostgreSQL writes it.

    Plain between 1e-4 and 1e15 (1e6 for real), with an exponent of two digits or more outside.
    """
    if value != value:  # noqa: PLR0124
        return "NaN"
    if value in (float("inf"), float("-inf")):
        return "Infinity" if value > 0 else "-Infinity"
    if value == 0:
        return "-0" if str(value).startswith("-") else "0"
    number = Decimal(shortest(value, source)).normalize()
    exponent = number.adjusted()
    if -4 <= exponent < (6 if source.name == "real" else 15):
        return format(number, "f")
    sign, digits, _ = number.as_tuple()
    mantissa = str(digits[0]) + ("." + "".join(map(str, digits[1:])) if len(digits) > 1 else "")
    return f"{'-' if sign else ''}{mantissa}e{'-' if exponent < 0 else '+'}{abs(exponent):02d}"


@conversion(Family.DOUBLE, Family.TEXT, "2.50", "2.5")
class DoubleToText(ToText):
    """Floating values by their shortest text."""

    def write(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        texts = values.cast(pa.string())
        plain = mask_of(pc.match_substring_regex(texts, r"^-?[0-9]{1,6}(\.[0-9]*[1-9])?$"))
        plain &= ~mask_of(pc.match_substring_regex(texts, r"^-?0\.0000"))
        return texts, plain & ~mask_of(pc.match_substring_regex(texts, r"^-?0(\.0)?$"))

    def write_exactly(self, value: float) -> str:
        return double_text(value, self.source)


@conversion(Family.BOOLEAN, Family.TEXT, "yes", "true")
class BooleanToText(ToText):
    """true and false."""

    def write_exactly(self, value: bool) -> str:
        return "true" if value else "false"


def _codec(options: Options) -> str:
    name = options.encoding or "utf-8"
    try:
        found = codecs.lookup(name)
        if not found._is_text_encoding:
            raise LookupError
        return found.name
    except (LookupError, ValueError):
        raise ConversionError(f'There is no encoding "{name}"', "name one such as utf-8, latin1 or cp1252") from None


@conversion(Family.BINARY, Family.TEXT, "caf\u00e9", "caf\u00e9")
class BinaryToText(ToText):
    """Bytes decoded as UTF-8 or in the encoding named."""

    options = frozenset({"encoding", "too_long"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.codec = _codec(options)

    def write(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        if self.codec == "utf-8":
            try:
                return super().write(values)
            except pa.ArrowInvalid:
                pass
        return pa.nulls(len(values), pa.string()), np.zeros(len(values), dtype=np.bool_)

    def write_exactly(self, value: bytes) -> str:
        try:
            return value.decode(self.codec)
        except UnicodeDecodeError as error:
            raise Refusal(
                Reason.BAD_TEXT,
                f"byte {error.start + 1:,} is not {self.codec}: name the encoding the text is in (encoding = …)",
            ) from None


@conversion(Family.TEXT, Family.BINARY, "caf\u00e9", "caf\u00e9")
class TextToBinary(Conversion):
    """Text encoded as UTF-8 or in the encoding named."""

    options = frozenset({"encoding"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.codec = _codec(options)

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        if self.codec == "utf-8":
            return values.cast(pa.binary()), np.ones(len(values), dtype=np.bool_)
        return pa.nulls(len(values), pa.binary()), decided(values, np.zeros(len(values), dtype=np.bool_))

    def exact(self, value: str) -> bytes:
        try:
            return value.encode(self.codec)
        except UnicodeEncodeError as error:
            raise Refusal(
                Reason.BAD_TEXT,
                f'"{value[error.start]}" cannot be written in {self.codec}: choose another encoding',
            ) from None


#: What text is read as a boolean when nothing else is said, in any case, blanks around it ignored.
TRUE_VALUES = ("true", "t", "yes", "y", "on", "1")
FALSE_VALUES = ("false", "f", "no", "n", "off", "0")


@conversion(Family.TEXT, Family.BOOLEAN, "ja", "true", true_values=("ja",), false_values=("nee",))
class TextToBoolean(Conversion):
    """Words to booleans, regardless of case."""

    options = frozenset({"true_values", "false_values"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.true = tuple(word.lower() for word in options.true_values or TRUE_VALUES)
        self.false = tuple(word.lower() for word in options.false_values or FALSE_VALUES)
        both = set(self.true) & set(self.false)
        if both:
            raise ConversionError(
                f'"{min(both)}" stands for true and for false',
                "give true_values and false_values without a common word",
            )

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        words = pc.utf8_lower(values)
        true = pc.is_in(words, pa.array(self.true, words.type))
        false = pc.is_in(words, pa.array(self.false, words.type))
        known = mask_of(pc.or_(true, false))
        return null_where_not(true, known), decided(values, known)

    def exact(self, value: str) -> bool:
        word = value.strip(" \t\r\n").lower()
        if word in self.true or value.lower() in self.true:
            return True
        if word in self.false or value.lower() in self.false:
            return False
        raise Refusal(
            Reason.NOT_A_BOOLEAN,
            f'"{value[:40]}" is neither true ({", ".join(self.true)}) nor false ({", ".join(self.false)}): '
            "set true_values and false_values",
        )


@conversion(Family.INTEGER, Family.BOOLEAN, "1", "true")
@conversion(Family.DECIMAL, Family.BOOLEAN, "0.00", "false")
class NumberToBoolean(Conversion):
    """1 is true and 0 is false; no other number is either."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        numbers = values.cast(pa.string()) if self.source.family is Family.DECIMAL else values.cast(pa.int64())
        one, zero = ("1", "0") if self.source.family is Family.DECIMAL else (1, 0)
        true = pc.equal(numbers, one)
        known = mask_of(pc.or_(true, pc.equal(numbers, zero)))
        return null_where_not(true, known), decided(values, known)

    def exact(self, value: int | Decimal) -> bool:
        if value in (0, 1):
            return value == 1
        raise Refusal(
            Reason.NOT_A_BOOLEAN,
            f'{value} is neither 0 nor 1: write a comparison, for instance from = "amount > 0"',
        )


conversion(Family.BOOLEAN, Family.BOOLEAN, "true", "true")(Direct)
conversion(Family.BINARY, Family.BINARY, "a", "a")(Direct)
conversion(Family.UUID, Family.UUID, "12345678-1234-1234-1234-123456789abc", "12345678-1234-1234-1234-123456789abc")(
    Direct
)
conversion(Family.JSON, Family.JSON, '{"a": 1}', '{"a": 1}')(Direct)


@conversion(Family.TEXT, Family.UUID, "{12345678123412341234123456789ABC}", "12345678-1234-1234-1234-123456789abc")
class TextToUuid(Conversion):
    """The 32 hexadecimal digits of a UUID, hyphens and braces or not, in the canonical form."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        canonical = r"^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$"
        lower = pc.ascii_lower(values)
        sure = mask_of(pc.match_substring_regex(lower, canonical))
        return only(lower, sure), decided(values, sure)

    def exact(self, value: str) -> str:
        body = value.strip(" \t\r\n").removeprefix("{").removesuffix("}")
        if not re.fullmatch(r"[0-9a-fA-F]{4}(?:-?[0-9a-fA-F]{4}){7}", body, re.ASCII):
            raise Refusal(Reason.BAD_TEXT, f'"{value[:60]}" is not a UUID of 32 hexadecimal digits')
        return str(uuid.UUID(body))


@conversion(Family.BINARY, Family.UUID, "sixteen bytes is", "73697874-6565-6e20-6279-746573206973")
class BinaryToUuid(Conversion):
    """The 16 bytes of a UUID."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        return pa.nulls(len(values), pa.string()), decided(values, np.zeros(len(values), dtype=np.bool_))

    def exact(self, value: bytes) -> str:
        if len(value) != 16:
            raise Refusal(Reason.BAD_TEXT, f"a UUID has 16 bytes, this value {len(value):,}")
        return str(uuid.UUID(bytes=value))


@conversion(Family.TEXT, Family.JSON, '{"a": 1.10}', '{"a": 1.10}')
class TextToJson(Conversion):
    """Text that must be one JSON document (RFC 8259); it is not changed."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        return only(values, np.zeros(len(values), dtype=np.bool_)), decided(values, np.zeros(len(values), np.bool_))

    def exact(self, value: str) -> str:
        try:
            json.loads(value, parse_constant=_no_constant)
        except (ValueError, RecursionError) as error:
            raise Refusal(Reason.BAD_TEXT, f"the text is not JSON: {error}") from None
        return value


def _no_constant(name: str) -> None:
    raise ValueError(f"{name} is no JSON value")
