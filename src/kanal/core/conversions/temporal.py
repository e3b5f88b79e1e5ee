"""Conversions into dates and times: no day that does not exist, no time shifted by a zone nobody named."""

from __future__ import annotations

import datetime as dt
import zoneinfo
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kanal.core.arrays import Mask, mask_of, null_where_not, text_bytes, valid_mask
from kanal.core.conversions import zones
from kanal.core.conversions.base import Conversion, Direct, Options, conversion, decided
from kanal.core.conversions.formats import (
    ISO_DATE,
    ISO_TIME,
    ISO_TIMESTAMP,
    ISO_TIMESTAMPTZ,
    MICROSECONDS_A_DAY,
    Format,
    compiled,
)
from kanal.core.conversions.text import ToText
from kanal.core.errors import ConversionError
from kanal.core.faults import Refusal
from kanal.core.reasons import Reason
from kanal.core.types import Family, SqlType

conversion(Family.DATE, Family.DATE, "2025-01-31", "2025-01-31")(Direct)
conversion(Family.TIME, Family.TIME, "10:15:00", "10:15:00")(Direct)
conversion(Family.TIMESTAMP, Family.TIMESTAMP, "2025-01-31 10:15:00", "2025-01-31 10:15:00")(Direct)
conversion(Family.TIMESTAMPTZ, Family.TIMESTAMPTZ, "2025-01-31 10:15:00Z", "2025-01-31 10:15:00+00:00")(Direct)

_EPOCH = dt.datetime(1970, 1, 1)
_UTC = dt.UTC
_LEAST = (dt.datetime.min - _EPOCH) // dt.timedelta(microseconds=1)
_GREATEST = (dt.datetime.max - _EPOCH) // dt.timedelta(microseconds=1)


def check_zone(name: str) -> str:
    """The name, if it is a time zone's; raises ConversionError else."""
    try:
        zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        raise ConversionError(
            f'There is no time zone "{name}"',
            "name one of the IANA database, such as Europe/Amsterdam or UTC",
        ) from None
    return name


def to_utc(local: dt.datetime, zone: str, ambiguous: str | None) -> dt.datetime:
    """The moment in UTC at which clocks in the zone showed a local time; raises Refusal if none or two did."""
    info = zoneinfo.ZoneInfo(zone)
    try:
        earlier = local.replace(tzinfo=info, fold=0).astimezone(_UTC)
        later = local.replace(tzinfo=info, fold=1).astimezone(_UTC)
        if earlier == later:
            return earlier
        if earlier.astimezone(info).replace(tzinfo=None) != local:
            raise Refusal(
                Reason.NO_SUCH_TIME,
                f"{local} does not exist in {zone}, the clocks went forward over it: correct it at the source",
            )
    except OverflowError:
        raise Refusal(Reason.OUT_OF_RANGE, f"{local} in {zone} lies outside the years 1 to 9999 in UTC") from None
    if ambiguous is None:
        raise Refusal(
            Reason.AMBIGUOUS_TIME,
            f'{local} came twice in {zone}, the clocks went back: set ambiguous = "earlier" or "later"',
        )
    return min(earlier, later) if ambiguous == "earlier" else max(earlier, later)


def localize(local: pa.Array, zone: str) -> tuple[pa.Array, Mask]:
    """Local timestamps as moments in UTC, and which of them represent exactly one moment."""
    numbers = local.cast(pa.timestamp("us")).cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    moments, one = zones.to_utc(numbers, zone, _LEAST, _GREATEST)
    sure = one & valid_mask(local)
    return pa.array(np.where(sure, moments, 0), mask=~sure).cast(pa.timestamp("us", "UTC")), decided(local, one)


def given_formats(options: Options) -> tuple[str, ...]:
    """The formats that were given, in the order in which they are tried."""
    given = options.format
    return (given,) if isinstance(given, str) else given or ()


def _one_format(options: Options) -> str:
    """The one format in which values are written; raises ConversionError if there are several."""
    formats = given_formats(options)
    if len(formats) != 1:
        raise ConversionError("several formats are given, and a text is written in one", "name one format")
    return formats[0]


class _FromText(Conversion):
    """Text by its format, or by ISO 8601 if none is given."""

    iso: tuple[str, ...]
    what: str
    options = frozenset({"format"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.formats: list[Format] = [compiled(text) for text in given_formats(options) or self.iso]
        for layout in self.formats:
            self.check_format(layout)

    def check_format(self, layout: Format) -> None:
        """Raise ConversionError where the format names no whole day."""
        if not layout.has_date:
            raise ConversionError(
                f'format "{layout.text}" names no whole day', "name year, month and day, such as %d.%m.%Y"
            )

    def retry(self, values: pa.Array) -> pa.Array:
        return pc.ascii_trim_whitespace(values)

    def microseconds(self, values: pa.Array) -> tuple[np.ndarray[Any, np.dtype[np.int64]], Mask]:
        """Microseconds since 1970 of texts written in full width, and which texts are."""
        result = np.zeros(len(values), dtype=np.int64)
        sure = np.zeros(len(values), dtype=np.bool_)
        content, starts = text_bytes(values)
        lengths = np.diff(starts)
        lengths[~valid_mask(values)] = -1
        for place, layout in enumerate(self.formats):
            if self.given.format and not all(layout.excludes(before) for before in self.formats[:place]):
                continue  # what could be read by a format before it is left to be read in order
            for width in layout.widths if layout.vector else ():
                rows = np.flatnonzero((lengths == width) & ~sure)
                if not len(rows):
                    continue
                places: NDArray[Any] = starts[rows].astype(np.int32) if len(content) < 2**31 else starts[rows]
                steps: NDArray[Any] = np.arange(width, dtype=places.dtype)
                moments, good = layout.read_many(content[places[None, :] + steps[:, None]])
                result[rows[good]] = moments[good]
                sure[rows[good]] = True
        return result, sure

    def fields(self, value: str) -> tuple[dt.datetime, int | None]:
        """The local moment that one text represents, and its offset in minutes; raises Refusal."""
        text = value.strip(" \t\r\n")
        if len(self.formats) > 1 and self.given.format:
            return self._by_the_first(text)
        for layout in self.formats[1:]:
            if layout.pattern.fullmatch(text):
                found = layout.read(text, self.what)
                return found.moment, found.offset_minutes
        found = self.formats[0].read(text, self.what)
        return found.moment, found.offset_minutes

    def _by_the_first(self, text: str) -> tuple[dt.datetime, int | None]:
        """What a text represents by the first of several formats that can read it."""
        refusal: Refusal | None = None
        for layout in self.formats:
            if layout.pattern.fullmatch(text):
                try:
                    found = layout.read(text, self.what)
                    return found.moment, found.offset_minutes
                except Refusal as error:  # a 13th month, by another format a day
                    refusal = refusal or error
        if refusal is not None:
            raise refusal
        forms = " or ".join(layout.text for layout in self.formats)
        raise Refusal(Reason.NOT_A_DATE, f'"{text[:40]}" is not a {self.what} as {forms}: add its format')


@conversion(Family.TEXT, Family.DATE, "31.12.2025", "2025-12-31", format="%d.%m.%Y")
class TextToDate(_FromText):
    """Text to a date; if the format also has a time, it must be midnight."""

    iso = ISO_DATE
    what = "date"

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        moments, sure = self.microseconds(values)
        sure = sure & (moments % MICROSECONDS_A_DAY == 0)
        days = (moments // MICROSECONDS_A_DAY).astype(np.int32)
        return pa.array(days, mask=~sure).cast(pa.date32()), decided(values, sure)

    def exact(self, value: str) -> dt.date:
        moment, _ = self.fields(value)
        if moment.time() != dt.time():
            raise Refusal(
                Reason.WOULD_ROUND,
                f'"{value[:40]}" has a time of day: load it as a timestamp, or CAST that to date',
            )
        return moment.date()


@conversion(Family.TEXT, Family.TIMESTAMP, "2025-01-31T10:15", "2025-01-31 10:15:00")
class TextToTimestamp(_FromText):
    """Text to a timestamp without zone; a text with an offset from UTC is refused."""

    iso = ISO_TIMESTAMP
    what = "timestamp"

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        moments, sure = self.microseconds(values)
        return pa.array(moments, mask=~sure).cast(pa.timestamp("us")), decided(values, sure)

    def exact(self, value: str) -> dt.datetime:
        moment, offset = self.fields(value)
        if offset is not None:
            raise Refusal(
                Reason.NOT_A_DATE,
                f'"{value[:40]}" has an offset from UTC: load it as timestamp with time zone',
            )
        return moment


@conversion(
    Family.TEXT, Family.TIMESTAMPTZ, "2025-07-01 12:00", "2025-07-01 10:00:00+00:00", time_zone="Europe/Amsterdam"
)
class TextToTimestamptz(_FromText):
    """Text to a moment: by the offset written in it, else by `time_zone`."""

    iso = ISO_TIMESTAMP + ISO_TIMESTAMPTZ
    what = "timestamp with time zone"
    options = frozenset({"format", "time_zone", "ambiguous"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.zone = check_zone(options.time_zone) if options.time_zone else None
        for layout in self.formats if options.format and self.zone is None else ():
            if "z" not in layout.letters:
                raise ConversionError(
                    f'format "{layout.text}" has no offset from UTC', 'set time_zone, such as "Europe/Amsterdam"'
                )

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        if self.zone is None:
            return self._in_utc(values)
        moments, sure = self.microseconds(values)
        local = pa.array(moments, mask=~sure).cast(pa.timestamp("us"))
        utc, known = localize(local, self.zone)
        return utc, decided(values, sure & known)

    def _in_utc(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        """Texts that end in Z or +00:00, in which form moments are mostly stored."""
        trimmed = pc.replace_substring_regex(values, r"(?:Z|\+00:00)$", "")
        marked = mask_of(pc.not_equal(pc.binary_length(trimmed), pc.binary_length(values)))
        moments, sure = self.microseconds(trimmed)
        sure &= marked & mask_of(pc.greater(pc.binary_length(trimmed), 10))
        return pa.array(moments, mask=~sure).cast(pa.timestamp("us", "UTC")), decided(values, sure)

    def exact(self, value: str) -> dt.datetime:
        moment, offset = self.fields(value)
        if offset is not None:
            try:
                return (moment - dt.timedelta(minutes=offset)).replace(tzinfo=_UTC)
            except OverflowError:
                raise Refusal(Reason.OUT_OF_RANGE, f'"{value[:40]}" lies outside the years 1 to 9999 in UTC') from None
        if self.zone is None:
            raise Refusal(
                Reason.NOT_A_DATE,
                f'"{value[:40]}" has no offset from UTC: set time_zone, such as "Europe/Amsterdam"',
            )
        return to_utc(moment, self.zone, self.given.ambiguous)


@conversion(Family.TEXT, Family.TIME, "1:05 pm", "13:05:00", format="%I:%M %p")
class TextToTime(_FromText):
    """Text to a time of day."""

    iso = ISO_TIME
    what = "time"

    def check_format(self, layout: Format) -> None:
        if not layout.has_time or layout.has_date:
            raise ConversionError(
                f'format "{layout.text}" is not one of a time of day',
                "name hours and minutes, such as %H:%M",
            )

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        undecided = np.zeros(len(values), dtype=np.bool_)
        return pa.nulls(len(values), pa.time64("us")), decided(values, undecided)

    def exact(self, value: str) -> dt.time:
        return self.fields(value)[0].time()


conversion(Family.DATE, Family.TIMESTAMP, "2025-01-31", "2025-01-31 00:00:00")(Direct)


@conversion(Family.TIMESTAMP, Family.DATE, "2025-01-31 10:15:00", "2025-01-31", rounding="floor")
class TimestampToDate(Conversion):
    """A timestamp to its day; a time of day other than midnight is refused unless rounding allows dropping it."""

    options = frozenset({"rounding"})

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        days = values.cast(pa.date32(), safe=False)
        if self.given.rounding in ("floor", "toward_zero"):
            return days, np.ones(len(values), dtype=np.bool_)
        midnight = mask_of(pc.equal(days.cast(values.type), values))
        return null_where_not(days, midnight), decided(values, midnight)

    def exact(self, value: dt.datetime) -> dt.date:
        raise Refusal(
            Reason.WOULD_ROUND,
            f'{value} has a time of day that a date cannot hold: set rounding = "floor" to drop it',
        )


class _Zoned(Conversion):
    """Between local times and moments: the zone must be named."""

    options = frozenset({"time_zone"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        if options.time_zone is None:
            raise ConversionError(
                f"A conversion from {source} to {target} needs a time zone",
                'set time_zone, such as "Europe/Amsterdam"',
            )
        self.zone = check_zone(options.time_zone)


@conversion(
    Family.TIMESTAMP, Family.TIMESTAMPTZ, "2025-07-01 12:00", "2025-07-01 10:00:00+00:00", time_zone="Europe/Amsterdam"
)
@conversion(Family.DATE, Family.TIMESTAMPTZ, "2025-07-01", "2025-06-30 22:00:00+00:00", time_zone="Europe/Amsterdam")
class TimestampToTimestamptz(_Zoned):
    """A local time to the moment at which clocks in the zone showed it."""

    options = frozenset({"time_zone", "ambiguous"})

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        return localize(values, self.zone)

    def exact(self, value: dt.datetime | dt.date) -> dt.datetime:
        local = value if isinstance(value, dt.datetime) else dt.datetime.combine(value, dt.time())
        return to_utc(local, self.zone, self.given.ambiguous)


@conversion(
    Family.TIMESTAMPTZ, Family.TIMESTAMP, "2025-07-01 10:00:00Z", "2025-07-01 12:00:00", time_zone="Europe/Amsterdam"
)
class TimestamptzToTimestamp(_Zoned):
    """A moment to the time that clocks in the zone showed."""

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        numbers = values.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
        local = numbers + zones.offsets_at(numbers, self.zone)
        inside = (local >= _LEAST) & (local <= _GREATEST)
        keep = inside & valid_mask(values)
        return pa.array(np.where(keep, local, 0), mask=~keep).cast(pa.timestamp("us")), decided(values, inside)

    def exact(self, value: dt.datetime) -> dt.datetime:
        try:
            return value.astimezone(zoneinfo.ZoneInfo(self.zone)).replace(tzinfo=None)
        except OverflowError:
            raise Refusal(
                Reason.OUT_OF_RANGE, f"{value} lies outside the years 1 to 9999 by the clocks of {self.zone}"
            ) from None


@conversion(Family.TIMESTAMPTZ, Family.DATE, "2025-06-30 22:00:00Z", "2025-07-01", time_zone="Europe/Amsterdam")
class TimestamptzToDate(_Zoned):
    """A moment to the day in the zone; a time of day other than midnight is refused unless rounding drops it."""

    options = frozenset({"time_zone", "rounding"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        stamp = SqlType("timestamp")
        self.local = TimestamptzToTimestamp(source, stamp, Options(time_zone=options.time_zone))
        self.day = TimestampToDate(stamp, target, Options(rounding=options.rounding))

    def quick(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        local, inside = self.local.quick(values)
        days, sure = self.day.quick(local)
        return days, sure & inside

    def exact(self, value: dt.datetime) -> dt.date:
        return self.day.exact(self.local.exact(value))


class _MomentToText(ToText):
    """Dates and times as ISO 8601, or by a format of strftime's directives."""

    options = frozenset({"too_long", "format"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        if options.format is not None:
            compiled(_one_format(options))

    def write(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        sure = np.ones(len(values), dtype=np.bool_)
        if self.given.format is None:
            return self.iso(values), sure
        return pa.nulls(len(values), pa.string()), np.zeros(len(values), dtype=np.bool_)

    def iso(self, values: pa.Array) -> pa.Array:
        """The values as ISO 8601, fractions of a second without trailing zeros."""
        if pa.types.is_date(values.type):
            return values.cast(pa.string())
        whole = values.cast(pa.time32("s") if pa.types.is_time(values.type) else pa.timestamp("s"), safe=False)
        if pc.all(pc.equal(whole.cast(values.type), values)).as_py() is not False:
            return whole.cast(pa.string())
        return _trim_fraction(values.cast(pa.string()))

    def write_exactly(self, value: Any) -> str:
        if self.given.format is None:
            return str(self.iso(pa.array([value], self.source.arrow))[0].as_py())
        layout = compiled(_one_format(self.given))
        moment = value if not isinstance(value, dt.time) else dt.datetime.combine(_EPOCH.date(), value)
        if not isinstance(moment, dt.datetime):
            moment = dt.datetime.combine(moment, dt.time())
        parts = {
            "Y": f"{moment.year:04d}",
            "z": moment.strftime("%z") or "+0000",
            "f": f"{moment.microsecond:06d}",
        }
        return "".join(
            text if kind == "literal" else parts.get(text) or moment.strftime("%" + text)
            for kind, text in layout.tokens
        )


def _trim_fraction(texts: pa.Array) -> pa.Array:
    shorter = pc.replace_substring_regex(texts, r"(\.[0-9]*[1-9])0+$", r"\1")
    return pc.replace_substring_regex(shorter, r"\.0+$", "")


conversion(Family.DATE, Family.TEXT, "2025-12-31", "31.12.2025", format="%d.%m.%Y")(_MomentToText)
conversion(Family.TIME, Family.TEXT, "10:15:30.5", "10:15:30.5")(_MomentToText)
conversion(Family.TIMESTAMP, Family.TEXT, "2025-01-31 10:15:00", "2025-01-31 10:15:00")(_MomentToText)


@conversion(
    Family.TIMESTAMPTZ, Family.TEXT, "2025-07-01 10:00:00Z", "2025-07-01 12:00:00+02:00", time_zone="Europe/Amsterdam"
)
class TimestamptzToText(_MomentToText):
    """Moments in UTC with +00:00, or as the zone's clocks showed them, with the offset."""

    options = frozenset({"too_long", "format", "time_zone"})

    def __init__(self, source: SqlType, target: SqlType, options: Options) -> None:
        super().__init__(source, target, options)
        self.zone = check_zone(options.time_zone or "UTC")

    def write(self, values: pa.Array) -> tuple[pa.Array, Mask]:
        if self.given.format or self.zone != "UTC":
            return pa.nulls(len(values), pa.string()), np.zeros(len(values), dtype=np.bool_)
        texts = super().iso(pc.local_timestamp(values))
        return pc.binary_join_element_wise(texts, "+00:00", ""), np.ones(len(values), dtype=np.bool_)

    def write_exactly(self, value: dt.datetime) -> str:
        there = value.astimezone(zoneinfo.ZoneInfo(self.zone))
        return super().write_exactly(there) if self.given.format else there.isoformat(sep=" ")
