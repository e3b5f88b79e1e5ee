"""Date and time formats: what strftime's directives mean when text is read by them, strictly."""

from __future__ import annotations

import datetime as dt
import re
from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from kanal.core.errors import ConversionError
from kanal.core.faults import Refusal
from kanal.core.reasons import Reason

#: Directive: (digits when written in full, pattern by which text is read). Zero digits: no fixed width.
_DIRECTIVES: dict[str, tuple[int, str]] = {
    "Y": (4, r"[0-9]{4}"),
    "y": (2, r"[0-9]{2}"),
    "m": (2, r"[0-9]{1,2}"),
    "d": (2, r"[0-9]{1,2}"),
    "H": (2, r"[0-9]{1,2}"),
    "I": (2, r"[0-9]{1,2}"),
    "M": (2, r"[0-9]{1,2}"),
    "S": (2, r"[0-9]{1,2}"),
    "f": (0, r"[0-9]{1,6}"),
    "j": (3, r"[0-9]{3}"),
    "b": (0, r"[A-Za-z]{3}"),
    "B": (0, r"[A-Za-z]{3,9}"),
    "p": (0, r"[AaPp][Mm]"),
    "z": (0, r"[Zz]|[+-][0-9]{2}(?::?[0-9]{2})?"),
}
_MONTHS = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
]
_VECTOR = frozenset("YmdHMSf")
MICROSECONDS_A_DAY = 86_400_000_000


class Fields(Struct, frozen=True):
    """What a text said: a local moment and, if the format has one, its offset from UTC in minutes."""

    moment: dt.datetime
    offset_minutes: int | None


class Format:
    """One format, ready to read texts: one at a time by `read`, many of full width by `read_many`."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens: list[tuple[str, str]] = []  # ("directive", letter) or ("literal", text)
        place = 0
        while place < len(text):
            if text[place] != "%":
                self.tokens.append(("literal", text[place]))
                place += 1
                continue
            letter = text[place + 1 : place + 2]
            if letter == "%":
                self.tokens.append(("literal", "%"))
            elif letter in _DIRECTIVES:
                self.tokens.append(("directive", letter))
            else:
                known = " ".join("%" + name for name in _DIRECTIVES)
                raise ConversionError(f'"%{letter}" in format "{text}" is not known', f"use {known} or %%")
            place += 2
        letters = [value for kind, value in self.tokens if kind == "directive"]
        if not letters or len(set(letters)) != len(letters):
            raise ConversionError(
                f'format "{text}" has no date directives, or one of them twice', 'write one such as "%d.%m.%Y"'
            )
        self.letters = frozenset(letters)
        self.pattern = re.compile(
            "".join(
                f"(?P<{value}>{_DIRECTIVES[value][1]})" if kind == "directive" else re.escape(value)
                for kind, value in self.tokens
            ),
            re.ASCII,
        )
        fraction_last = "f" not in self.letters or self.tokens[-1] == ("directive", "f")
        self.vector = self.letters <= _VECTOR and text.isascii() and {"Y", "m", "d"} <= self.letters and fraction_last

    @property
    def has_date(self) -> bool:
        """True if the format names a whole day."""
        year = self.letters & {"Y", "y"}
        return bool(year) and ("j" in self.letters or ("d" in self.letters and bool(self.letters & {"m", "b", "B"})))

    @property
    def has_time(self) -> bool:
        """True if the format names an hour."""
        return bool(self.letters & {"H", "I"})

    @property
    def width(self) -> int:
        """Bytes of a text in which every part is written in full (only for `vector` formats)."""
        return sum(_DIRECTIVES[value][0] if kind == "directive" else 1 for kind, value in self.tokens)

    def excludes(self, other: Format) -> bool:
        """True if no text can be read by both: both consist of digits, and the characters between these differ, or the
        numbers of digits do, as in %Y-%m-%d and %d-%m-%Y."""
        numeric = not (self.letters | other.letters) & {"b", "B", "p", "z"}
        between = [[text for kind, text in form.tokens if kind == "literal"] for form in (self, other)]
        plain = all(not text.isdigit() for texts in between for text in texts)
        if not (numeric and plain):
            return False
        sizes = zip(self._digits, other._digits, strict=False)
        return between[0] != between[1] or any(one[1] < two[0] or two[1] < one[0] for one, two in sizes)

    @property
    def _digits(self) -> list[tuple[int, int]]:
        """Before, between and after the other characters, the least and the greatest number of digits."""
        found = [(0, 0)]
        for kind, value in self.tokens:
            if kind == "literal":
                found.append((0, 0))
                continue
            least, _, most = _DIRECTIVES[value][1].partition("{")[2].rstrip("}").partition(",")
            found[-1] = found[-1][0] + int(least), found[-1][1] + int(most or least)
        return found

    def read(self, text: str, what: str) -> Fields:
        """The fields of one text; raises Refusal. `what` is the type's name, for the message."""
        match = self.pattern.fullmatch(text)
        if match is None:
            remedy = "set the format in which it is written"
            if not any(character.isdigit() for character in text):
                remedy = "name it in null_values if it stands for none"
            raise Refusal(Reason.NOT_A_DATE, f'"{text[:40]}" is not a {what} as {self.text}: {remedy}')
        part = match.groupdict()
        year = int(part["Y"]) if "Y" in part else 1970
        if "y" in part:
            # POSIX: 69 to 99 are the twentieth century, 00 to 68 the twenty-first.
            year = int(part["y"]) + (1900 if int(part["y"]) >= 69 else 2000)
        month = int(part.get("m") or 1)
        name = (part.get("b") or part.get("B") or "").lower()
        if name:
            found = [number for number, full in enumerate(_MONTHS, 1) if name in (full, full[:3])]
            if not found:
                raise Refusal(Reason.NOT_A_DATE, f'"{name}" is not the English name of a month')
            month = found[0]
        hour = int(part.get("H") or part.get("I") or 0)
        if "I" in part:
            if not 1 <= hour <= 12:
                raise Refusal(Reason.NOT_A_DATE, f'"{text[:40]}" is not a {what}: hours by %I are 1 to 12')
            hour = hour % 12 + (12 if (part.get("p") or "").lower() == "pm" else 0)
        try:
            moment = dt.datetime(
                year,
                month,
                int(part.get("d") or 1),
                hour,
                int(part.get("M") or 0),
                int(part.get("S") or 0),
                int((part.get("f") or "0").ljust(6, "0")),
            )
            if "j" in part:
                moment += dt.timedelta(days=int(part["j"]) - 1)
                if moment.year != year or int(part["j"]) < 1:
                    raise ValueError("day of year is out of range")
        except (ValueError, OverflowError) as error:
            raise Refusal(Reason.NOT_A_DATE, f'"{text[:40]}" is not a {what}: {error}') from None
        offset = None
        if "z" in part:
            digits = part["z"].replace(":", "")
            offset = 0 if digits in ("Z", "z") else int(digits[1:3]) * 60 + int(digits[3:] or 0)
            if offset >= 24 * 60 or int(digits[3:] or 0) >= 60:
                raise Refusal(Reason.NOT_A_DATE, f'"{text[:40]}" is not a {what}: its offset is out of range')
            offset = -offset if digits.startswith("-") else offset
        return Fields(moment, offset)

    @property
    def widths(self) -> list[int]:
        """The lengths of texts that `read_many` reads: the full width, with one to six digits of a fraction."""
        return [self.width + digits for digits in range(1, 7)] if "f" in self.letters else [self.width]

    def read_many(self, columns: NDArray[np.uint8]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """Microseconds since 1970 of texts of one of the widths, and which of them are right.

        `columns` has a row for each place of the text, in it the byte that each text has there.
        """
        digits = columns - np.uint8(48)
        good = np.ones(columns.shape[1], dtype=np.bool_)
        values: dict[str, NDArray[np.int64]] = {}
        place = 0
        for kind, value in self.tokens:
            if kind == "literal":
                good &= columns[place] == ord(value)
                place += 1
                continue
            if value == "f":
                continue
            width = _DIRECTIVES[value][0]
            # Two digits at a time fit a byte.
            number = np.zeros(columns.shape[1], dtype=np.int64)
            for start in range(place, place + width, 2):
                good &= (digits[start] <= 9) & (digits[start + 1] <= 9)
                number = number * 100 + (digits[start] * np.uint8(10) + digits[start + 1])
            values[value] = number
            place += width
        year, month, day = values["Y"], values["m"], values["d"]
        good &= (year >= 1) & (month >= 1) & (month <= 12) & (day >= 1)
        first, last = _calendar()
        index = np.where(good, year * 12 + month, 12 + 1)
        good &= day <= last[index]
        microseconds = (first[index] + day) * MICROSECONDS_A_DAY
        for letter, limit, unit in (("H", 24, 3_600_000_000), ("M", 60, 60_000_000), ("S", 60, 1_000_000)):
            if letter in values:
                good &= values[letter] < limit
                microseconds = microseconds + values[letter] * unit
        for unit, digit in zip((100_000, 10_000, 1_000, 100, 10, 1), digits[place:], strict=False):
            good &= digit <= 9
            microseconds = microseconds + digit.astype(np.int64) * unit
        return microseconds, good


@lru_cache(maxsize=1)
def _calendar() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """By year times 12 plus month, years 0 to 9999: the day since 1970 before its first, and how many days it has."""
    months = np.arange(np.datetime64("0000-12", "M"), np.datetime64("0001-01", "M") + 9999 * 12)
    months = np.concatenate([np.repeat(months[:1], 12), months])
    first = months.astype("datetime64[D]").astype(np.int64)
    following = (months + 1).astype("datetime64[D]").astype(np.int64)
    return first - 1, following - first


@lru_cache(maxsize=256)
def compiled(text: str) -> Format:
    """The format of a text, made once; raises ConversionError if a directive is not known."""
    return Format(text)


#: How dates and times are read if no format is given: ISO 8601, the time after a blank or a T.
ISO_DATE = ("%Y-%m-%d",)
ISO_TIME = ("%H:%M:%S", "%H:%M", "%H:%M:%S.%f")
ISO_TIMESTAMP = tuple([f"%Y-%m-%d{separator}{time}" for time in ISO_TIME for separator in (" ", "T")] + ["%Y-%m-%d"])
ISO_TIMESTAMPTZ = tuple(f"{moment}{gap}%z" for moment in ISO_TIMESTAMP[:-1] for gap in ("", " "))
