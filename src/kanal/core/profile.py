"""Says what is in a column: how full it is, its bounds, and what its texts could be converted to."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from kanal.core.conversions import Options, converter
from kanal.core.conversions.formats import compiled
from kanal.core.faults import value_text
from kanal.core.types import BIGINT, DATE, TEXT, TIMESTAMP, WIDE_DECIMAL, SqlType

#: Forms of dates and times that are tried on texts; of those that fit as many, the first is taken.
_DATES = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%Y/%m/%d", "%Y%m%d", "%d.%m.%y")
_TIMES = ("%H:%M", "%H:%M:%S")
#: The number of different texts, spread over a column, that decide which conversions are tried on all of it.
_TRIED = 300
#: From this share of its texts on, a conversion is worth proposing.
_WORTH = 0.5
#: The share of these texts from which a conversion is tried on all texts.
_LIKELY = 0.4
#: From this share on, a form of dates among others is worth naming.
_MIXED = 0.05


#: What represents a value that there is not, in small letters.
_NOTHING = frozenset(
    {"-", "--", "---", ".", "?", "n/a", "na", "n.a.", "none", "null", "nil", "nan", "unknown", "00000000"}
    | {f"{day}{time}" for day in ("0000-00-00", "00.00.0000", "00/00/0000", "0000/00/00")
       for time in ("", " 00:00", " 00:00:00")}
)  # fmt: skip


class Guess(Struct, frozen=True):
    """A type that texts could be converted to, the options for it, and which share of them fits. `also` is another
    form that fits as many: which is meant is not known. `nothing` are texts that seem to represent no value; these
    and blank ones are not in the share."""

    type: SqlType
    options: Options
    share: float
    also: str | None = None
    #: Of several formats, the share that each fits.
    shares: tuple[float, ...] = ()
    nothing: tuple[str, ...] = ()

    @property
    def shown(self) -> str:
        """The guess for people."""
        return "; ".join([self._fitting(), *([f"no value: {self.texts_of_nothing}"] if self.nothing else [])])

    @property
    def texts_of_nothing(self) -> str:
        """The texts that seem to represent no value, for people."""
        return ", ".join(f'"{text}"' for text in self.nothing)

    def _fitting(self) -> str:
        given = {name: getattr(self.options, name) for name in sorted(self.options.given())}
        if self.shares:
            forms = zip(self.options.format or (), self.shares, strict=True)
            listed = ", ".join(f'"{form}" {int(share * 1000) / 10:g} %' for form, share in forms)
            return f"{self.type} in several formats: {listed}"
        how = ", ".join(f'{name} = "{value}"' for name, value in given.items())
        share = "all" if self.share == 1 else f"{int(self.share * 1000) / 10:g} %"
        name = "decimal" if self.type == WIDE_DECIMAL else str(self.type)
        return f"{name}{f' ({how})' if how else ''}: {share}" + (f"; or {self.also}" if self.also else "")


class Profile(Struct, frozen=True):
    """A column of `rows` rows: how many are NULL, how many values differ, the least and greatest, the longest text's
    characters, and what texts could be converted to."""

    name: str
    rows: int
    nulls: int
    distinct: int
    least: str | None
    greatest: str | None
    longest: int | None
    guess: Guess | None


def profile_column(name: str, parts: Iterable[pa.Array]) -> Profile:
    """The profile of a column from its arrays, all of one type."""
    arrays = list(parts)
    if len({array.type for array in arrays}) > 1:
        arrays = [array.cast(pa.string()) for array in arrays]
    values = pa.chunked_array(arrays)
    present = values.drop_null()
    if pa.types.is_binary(values.type):
        longest = pc.max(pc.binary_length(present)).as_py()
        different = pc.count_distinct(present).as_py()
        return Profile(name, len(values), values.null_count, different, None, None, longest, None)
    bounds = pc.min_max(present).as_py() if len(present) else {"min": None, "max": None}
    text = pa.types.is_string(values.type)
    longest = pc.max(pc.utf8_length(present)).as_py() if text else None
    return Profile(
        name,
        len(values),
        values.null_count,
        pc.count_distinct(present).as_py(),
        value_text(bounds["min"], values.type),
        value_text(bounds["max"], values.type),
        longest,
        guess_type(present) if text else None,
    )


def guess_type(values: Any) -> Guess | None:
    """What most of the texts could be converted to; None if they are just texts.

    Blank ones are left aside, and such as seem to represent no value.
    """
    small = pc.utf8_lower(pc.utf8_trim_whitespace(values))
    aside = pc.is_in(small, pa.array(sorted(_NOTHING)))
    guess = _guess(values.filter(pc.invert(aside)))
    if guess is None:
        return None
    texts = pa.array(sorted(values.filter(aside).unique().to_pylist()), pa.string())
    _, faults = converter(TEXT, guess.type, guess.options)(texts)
    return replace(guess, nothing=tuple(texts[fault.row].as_py() for fault in faults))


def _guess(values: Any) -> Guess | None:
    counted = pc.utf8_trim_whitespace(values).value_counts()
    counted = counted.filter(pc.not_equal(counted.field("values"), ""))
    if not len(counted):
        return None
    every = counted.field("values"), counted.field("counts").to_numpy(zero_copy_only=False)
    some = counted.take(pa.array(_spread(len(counted), _TRIED)))
    tried, counts = some.field("values"), some.field("counts").to_numpy(zero_copy_only=False)
    likely = [(sql_type, options) for sql_type, options in _candidates(tried)
              if _share(tried, counts, sql_type, options) >= _LIKELY]  # fmt: skip
    best: Guess | None = None
    for sql_type, options in likely:  # of those that some texts suggest, all texts decide
        share = _share(*every, sql_type, options)
        if share < _WORTH:
            continue
        if best is None or share > best.share + 1e-9:
            best = Guess(sql_type, options, share)
        elif share == best.share and options.format and best.options.format and best.also is None:
            best = Guess(best.type, best.options, best.share, f'format = "{options.format}"')
    if best is None or best.share < 1:
        mixed = _mixed(*every)
        if mixed is not None and mixed.share > (best.share if best is not None else 0) + _MIXED:
            return mixed
    return best


def _spread(count: int, wanted: int) -> list[int]:
    """So many places, or all, evenly spread over a count."""
    return sorted({place * count // wanted for place in range(wanted)}) if count > wanted else list(range(count))


def _share(texts: pa.Array, counts: Any, sql_type: SqlType, options: Options) -> float:
    """The share of rows whose texts can be converted."""
    _, faults = converter(TEXT, sql_type, options)(texts)
    return float(1 - sum(int(counts[fault.row]) for fault in faults) / counts.sum())


def _mixed(texts: pa.Array, counts: Any) -> Guess | None:
    """Dates written in several forms that cannot be taken for each other, with the share of each."""
    chosen: list[tuple[float, str]] = []
    for form in _DATES:
        alike = pc.match_substring_regex(texts, f"^(?:{_look(form)})$").to_numpy(zero_copy_only=False)
        if counts[alike].sum() < _MIXED * counts.sum():  # what does not look so is none, and to find that out is dear
            continue
        share = _share(texts, counts, DATE, Options(format=form))
        if share >= _MIXED and all(compiled(form).excludes(compiled(other)) for _, other in chosen):
            chosen.append((share, form))
    if len(chosen) < 2:
        return None
    chosen.sort(reverse=True)
    options = Options(format=tuple(form for _, form in chosen))
    share = _share(texts, counts, DATE, options)
    return Guess(DATE, options, share, shares=tuple(share for share, _ in chosen)) if share >= _WORTH else None


def _candidates(texts: pa.Array) -> Iterable[tuple[SqlType, Options]]:
    """What texts are tried as, by their look; the narrower first."""

    some = [text for text in texts.take(pa.array(_spread(len(texts), 100))).to_pylist() if text is not None]

    def share(pattern: str) -> float:
        matches = re.compile(pattern).fullmatch
        return sum(1 for text in some if matches(text)) / len(some)

    if share(r".*\d.*") < _WORTH or share(r".*[^\d\W].*") > _WORTH:
        return
    # Whole numbers that begin with 0 are codes, which would lose it.
    if share(r"0\d+") < 0.05:
        for sql_type, options, pattern in _NUMBERS:
            if share(pattern) >= _WORTH:
                yield sql_type, options
    for form in _DATES:
        look = r"(19|20)\d{6}" if form == "%Y%m%d" else _look(form)  # other digits are rather a number
        if share(look) >= _WORTH:
            yield DATE, Options(format=form)
        elif share(f"{look} .*") >= _WORTH:
            for time in _TIMES:
                if share(f"{look} {_look(time)}") >= _WORTH:
                    yield TIMESTAMP, Options(format=f"{form} {time}")


_NUMBERS = (
    (BIGINT, Options(), r"[+-]?\d+"),
    (WIDE_DECIMAL, Options(), r"[+-]?\d*\.?\d+"),
    (WIDE_DECIMAL, Options(decimal_mark=","), r"[+-]?\d*,?\d+"),
    (WIDE_DECIMAL, Options(decimal_mark=",", grouping_mark="."), r"[+-]?\d{1,3}(\.\d{3})*(,\d+)?"),
    (WIDE_DECIMAL, Options(grouping_mark=","), r"[+-]?\d{1,3}(,\d{3})*(\.\d+)?"),
)
_LOOKS = {"%Y": r"\d{4}", "%y": r"\d\d", "%m": r"\d\d?", "%d": r"\d\d?", "%H": r"\d\d?", "%M": r"\d\d", "%S": r"\d\d"}


def _look(form: str) -> str:
    """A pattern that every date or time of a format matches."""
    pattern = form.replace(".", r"\.")
    for directive, digits in _LOOKS.items():
        pattern = pattern.replace(directive, digits)
    return pattern
