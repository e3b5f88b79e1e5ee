"""Conversions: a table of (types, options, value, outcome) is the specification; properties hold over generated values.

A line of the table names source and target type and options; under it stand values with what becomes of them. `!reason`
is a reject. Values and outcomes are Python literals; d"…" is a decimal.
"""

from __future__ import annotations

import datetime as dt
import decimal
import math
import re
import zoneinfo
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from kanal.core.conversions import Example, Options, all_examples, converter
from kanal.core.conversions.digits import scan_numbers
from kanal.core.errors import ConversionError, ExpressionError
from kanal.core.expressions import Scope, compile_expression
from kanal.core.frame import Frame, SourceBatch
from kanal.core.profile import guess_type
from kanal.core.reasons import Reason
from kanal.core.types import DATE, TEXT, Family, SqlType, parse_type

UTC = dt.UTC
NAMES = {"D": Decimal, "dt": dt, "UTC": UTC, "nan": math.nan, "inf": math.inf, "true": True, "false": False}


def cases() -> list[Any]:
    """The table's cases: source, target, options, value, outcome."""
    found, head = [], ()
    for number, line in enumerate((Path(__file__).parent / "conversions.txt").read_text("utf-8").splitlines(), 1):
        if not line.strip() or line.startswith("#"):
            continue
        if not line.startswith(" "):
            types, _, options = re.sub(r" with (?!time zone)", " | ", line).partition(" | ")
            source, _, target = types.partition(" -> ")
            head = (source.strip(), target.strip(), eval(f"dict({options})", dict(NAMES)))
            continue
        value, _, outcome = line.strip().rpartition(" => ")
        expected = outcome[1:] if outcome.startswith("!") else eval(outcome, dict(NAMES))
        found.append(
            pytest.param(*head, eval(value, dict(NAMES)), outcome.startswith("!"), expected, id=f"line {number}")
        )
    return found


def converted(source: str, target: str, options: dict[str, Any], values: list[Any]) -> tuple[list[Any], list[Any]]:
    conversion = converter(parse_type(source), parse_type(target), Options(**options))
    array, faults = conversion(pa.array(values, parse_type(source).arrow))
    assert array.type == parse_type(target).arrow
    return array.to_pylist(), [(fault.row, str(fault.reason)) for fault in faults]


def same(found: Any, expected: Any) -> bool:
    if isinstance(expected, float):
        return (math.isnan(found) and math.isnan(expected)) or (
            found == expected and math.copysign(1, found) == math.copysign(1, expected)
        )
    return found == expected and type(found) is type(expected) and str(found) == str(expected)


def test_the_table_is_whole() -> None:
    assert len(cases()) >= 400
    reasons = {case.values[5] for case in cases() if case.values[4]}
    assert reasons <= {str(reason) for reason in Reason}
    assert reasons >= {"not_a_number", "not_a_date", "not_a_boolean", "out_of_range", "would_round", "too_long",
                       "no_such_time", "ambiguous_time", "bad_text"}  # fmt: skip


@pytest.mark.parametrize(("source", "target", "options", "value", "rejected", "expected"), cases())
def test_each_case(source: str, target: str, options: dict, value: Any, rejected: bool, expected: Any) -> None:
    # Alone, and among others, where it goes another way through the code.
    often = [[value, None] * 4500] if source in ("text", "varchar") else []  # so often that it is converted once
    for values in ([value], [None, value, None], [value] * 200, *often):
        found, faults = converted(source, target, options, values)
        row = values.index(value) if value is not None else 0
        if rejected:
            assert found[row] is None
            assert faults[0] == (row, expected)
        else:
            assert faults == []
            assert same(found[row], expected) or (found[row] is None and expected is None), found[row]


@pytest.mark.parametrize(
    ("source", "target", "options", "said"),
    [
        ("integer", "date", {}, "no conversion from integer to date"),
        ("text", "integer", {"format": "x"}, "format has no effect"),
        ("text", "date", {"format": "%H:%M"}, "names no whole day"),
        ("text", "date", {"format": "%d.%m.%Y %d"}, "one of them twice"),
        ("text", "date", {"format": "%d.%K"}, '"%K" in format'),
        ("text", "time", {"format": "%d.%m.%Y"}, "time of day"),
        ("text", "timestamp with time zone", {"format": "%d.%m.%Y"}, "no offset from UTC"),
        ("timestamp", "timestamp with time zone", {}, "needs a time zone"),
        ("timestamp with time zone", "date", {}, "needs a time zone"),
        ("text", "timestamp with time zone", {"time_zone": "Mars/Olympus"}, "no time zone"),
        ("text", "decimal(9,2)", {"decimal_mark": ",", "grouping_mark": ","}, "both"),
        ("text", "decimal(9,2)", {"decimal_mark": "1"}, "one character"),
        ("text", "boolean", {"true_values": ("x",), "false_values": ("X",)}, "stands for true and for false"),
        ("binary", "text", {"encoding": "klingon"}, "no encoding"),
        ("date", "text", {"format": "%Q"}, '"%Q" in format'),
        ("boolean", "date", {}, "no conversion"),
    ],
)
def test_a_conversion_that_does_not_exist_is_an_error_with_a_way_out(
    source: str, target: str, options: dict[str, Any], said: str
) -> None:
    with pytest.raises(ConversionError, match=said) as error:
        converter(parse_type(source), parse_type(target), Options(**options))
    assert error.value.remedy


numbers = st.one_of(
    st.decimals(allow_nan=False, allow_infinity=False, places=3),
    st.decimals(min_value=-(10**9), max_value=10**9, places=2),
    st.decimals(min_value=-10, max_value=10, places=7),
    st.integers(-(10**18), 10**18).map(Decimal),
)
rounding = st.sampled_from([None, "floor", "ceiling", "half_up", "half_even", "toward_zero"])
MODES = {
    "floor": decimal.ROUND_FLOOR,
    "ceiling": decimal.ROUND_CEILING,
    "half_up": decimal.ROUND_HALF_UP,
    "half_even": decimal.ROUND_HALF_EVEN,
    "toward_zero": decimal.ROUND_DOWN,
}
EXACT = decimal.Context(prec=200)


@settings(max_examples=300, deadline=None)
@given(values=st.lists(numbers, min_size=1, max_size=8), precision=st.integers(1, 38), data=st.data(), mode=rounding)
def test_numbers_are_kept_exactly_or_rejected(
    values: list[Decimal], precision: int, data: st.DataObject, mode: str | None
) -> None:
    """Text, decimals and integers into decimals: what is accepted is what Python's decimal makes of it."""
    scale = data.draw(st.integers(0, precision))
    target = f"decimal({precision},{scale})"
    for source in ("text", "decimal(60,9)"):
        given_values = (
            [format(v, "f") for v in values]
            if source == "text"
            else [v.quantize(Decimal("1e-9"), context=EXACT) for v in values]
        )
        found, faults = converted(source, target, {"rounding": mode} if mode else {}, given_values)
        bad = dict(faults)
        for row, text in enumerate(given_values):
            number = Decimal(text)
            kept = number.quantize(Decimal(1).scaleb(-scale), rounding=MODES[mode or "toward_zero"], context=EXACT)
            if mode is None and kept != number:
                assert bad[row] == "would_round"
            elif abs(kept) >= Decimal(10) ** (precision - scale):
                assert bad[row] == "out_of_range"
            else:
                assert row not in bad
                assert found[row] == kept


@settings(max_examples=200, deadline=None)
@given(
    values=st.lists(
        st.floats(allow_nan=False, allow_infinity=False) | st.sampled_from([0.5, 2.5, -2.5, 1e15]), min_size=1
    ),
    mode=rounding,
)
def test_floating_values_to_whole_numbers(values: list[float], mode: str | None) -> None:
    found, faults = converted("double precision", "bigint", {"rounding": mode} if mode else {}, values)
    bad = dict(faults)
    for row, value in enumerate(values):
        exact = Decimal(repr(value))
        kept = exact.to_integral_value(MODES[mode or "toward_zero"], context=EXACT)
        if mode is None and kept != exact:
            assert bad[row] == "would_round"
        elif not -(2**63) <= kept < 2**63:
            assert bad[row] == "out_of_range"
        else:
            assert found[row] == int(kept)


there_and_back = st.one_of(
    st.tuples(st.just("bigint"), st.integers(-(2**63), 2**63 - 1)),
    st.tuples(st.just("double precision"), st.floats(allow_nan=False)),
    st.tuples(st.just("real"), st.floats(width=32, allow_nan=False).map(lambda value: float(np.float32(value)))),
    st.tuples(st.just("boolean"), st.booleans()),
    st.tuples(st.just("date"), st.dates()),
    st.tuples(st.just("time"), st.times()),
    st.tuples(st.just("timestamp"), st.datetimes()),
    st.tuples(
        st.just("timestamp with time zone"), st.datetimes(dt.datetime(2, 1, 1), dt.datetime(9998, 1, 1), timezones=st.just(UTC))
    ),
    st.tuples(st.just("binary"), st.binary()),
    st.tuples(st.just("uuid"), st.uuids().map(str)),
    st.tuples(st.just("decimal(20,6)"), st.decimals(-(10**13), 10**13, places=6)),
    st.tuples(st.just("decimal(38,30)"), st.decimals(-(10**7), 10**7, places=30)),
)  # fmt: skip


@settings(max_examples=300, deadline=None)
@given(case=there_and_back)
def test_a_value_written_as_text_reads_back_the_same(case: tuple[str, Any]) -> None:
    name, value = case
    if name == "binary":
        try:
            value.decode()
        except UnicodeDecodeError:
            assert converted("binary", "text", {}, [value])[1] == [(0, "bad_text")]
            return
    texts, faults = converted(name, "text", {}, [value, None])
    assert faults == []
    assert texts[1] is None
    back, faults = converted("text", name, {}, texts)
    assert faults == []
    assert back[0] == value
    assert str(back[0]) == str(value) or name == "timestamp with time zone"


FORMATS = [
    "%d.%m.%Y %H:%M:%S",
    "%m/%d/%y %I:%M %p",
    "%Y%m%d%H%M",
    "%d %b %Y %H.%M.%S.%f",
    "%B %d, %Y %H:%M",
    "%Y-%j %H:%M",
]


@settings(max_examples=300, deadline=None)
@given(moment=st.datetimes(dt.datetime(1969, 1, 1), dt.datetime(2068, 12, 31)), form=st.sampled_from(FORMATS))
def test_dates_by_a_format_are_what_python_makes_of_them(moment: dt.datetime, form: str) -> None:
    text = moment.strftime(form)
    assert converted("text", "timestamp", {"format": form}, [text]) == ([dt.datetime.strptime(text, form)], [])
    assert converted("timestamp", "text", {"format": form}, [moment]) == ([text], [])


@settings(max_examples=200, deadline=None)
@given(year=st.integers(0, 9999), month=st.integers(0, 13), day=st.integers(0, 32))
def test_no_day_is_made_up(year: int, month: int, day: int) -> None:
    found, faults = converted("text", "date", {}, [f"{year:04d}-{month:02d}-{day:02d}"])
    try:
        assert found == [dt.date(year, month, day)]
    except ValueError:
        assert faults == [(0, "not_a_date")]


ZONES = ["Europe/Amsterdam", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Apia"]


@settings(max_examples=200, deadline=None)
@given(
    local=st.datetimes(dt.datetime(1975, 1, 1), dt.datetime(2036, 1, 1)).map(
        lambda t: t.replace(second=0, microsecond=0)
    ),
    near=st.sampled_from([None, dt.datetime(2025, 3, 30, 2, 30), dt.datetime(2025, 10, 26, 2, 30)]),
    zone=st.sampled_from(ZONES),
    ambiguous=st.sampled_from([None, "earlier", "later"]),
)
def test_local_times_are_one_moment_or_rejected(local: Any, near: Any, zone: str, ambiguous: str | None) -> None:
    local = near or local
    options = {"time_zone": zone} | ({"ambiguous": ambiguous} if ambiguous else {})
    found, faults = converted("timestamp", "timestamp with time zone", options, [local])
    info = zoneinfo.ZoneInfo(zone)
    moments = {local.replace(tzinfo=info, fold=fold).astimezone(UTC) for fold in (0, 1)}
    real = {moment for moment in moments if moment.astimezone(info).replace(tzinfo=None) == local}
    if not real:
        assert faults == [(0, "no_such_time")]
    elif len(real) == 2 and ambiguous is None:
        assert faults == [(0, "ambiguous_time")]
    else:
        assert found == [min(real) if ambiguous == "earlier" else max(real)]


@settings(max_examples=150, deadline=None)
@given(
    text=st.text(max_size=12) | st.text(" +-.,0123456789eE:TZ/", max_size=12),
    target=st.sampled_from(["integer", "decimal(9,2)", "double precision", "date", "boolean"]),
)
def test_any_text_is_a_value_or_a_reject_and_never_an_error(text: str, target: str) -> None:
    found, faults = converted("text", target, {}, [text] * 150)
    assert (found[0] is None) == bool(faults)
    assert faults or text.strip().isascii()


@pytest.mark.parametrize("example", all_examples(), ids=lambda one: f"{one.source.value} to {one.target.value}")
def test_the_example_that_each_conversion_shows(example: Example) -> None:
    plain = {Family.INTEGER: "integer", Family.DECIMAL: "decimal(9,2)", Family.TEXT: "text"}
    source, target = (parse_type(plain.get(family, family.value)) for family in (example.source, example.target))
    target = parse_type("varchar(3)") if example.options.too_long else target
    values, faults = converter(TEXT, source)(pa.array([example.value]))
    assert faults == []
    values, faults = converter(source, target, example.options)(values)
    assert faults == []
    assert converter(target, TEXT)(values)[0].to_pylist() == [example.result]
    assert len(example.meaning) > 10


def test_both_ways_through_a_conversion_agree() -> None:
    """What the quick way is sure of, the exact way decides alike."""
    texts = ["1", "-7", "0012", "3.0", "1.50", "99999", "2025-01-31", "2024-02-29", "0.1", "123456.789", "true"]
    for target in ("smallint", "integer", "bigint", "decimal(9,2)", "double precision", "real", "date", "boolean"):
        for options in (Options(), Options(rounding="half_up")):
            try:
                conversion = converter(TEXT, parse_type(target), options)
            except ConversionError:
                continue
            array, sure = conversion.quick(pa.array(texts))
            for text, found, is_sure in zip(texts, array.to_pylist(), sure, strict=True):
                if is_sure:
                    expected = conversion.exact(text)
                    if target == "real":
                        expected = float(np.float32(expected))
                    assert found == expected, (text, target)


def test_types_by_name() -> None:
    assert parse_type("NUMERIC ( 9 , 2 )") == SqlType("decimal", precision=9, scale=2)
    assert parse_type("character varying(7)") == parse_type("varchar(7)")
    assert str(parse_type("timestamp(6) with time zone")) == "timestamp with time zone"


@pytest.mark.parametrize(
    "formats", [("%d.%m.%Y", "%Y-%m-%d"), ("%d.%m.%Y", "%m.%d.%Y", "%Y%m%d"), ("%m/%d/%y", "%d/%m/%y")]
)
def test_of_several_formats_the_first_that_fits_counts(formats: tuple[str, ...]) -> None:
    """Whole batches are read as each text by itself is."""
    texts = ["31.12.2025", "12.31.2025", "1.2.2025", "01.02.2025", "2025-12-31", "20251231", "31.02.2025", "x", "", None,
             " 31.12.2025 ", "02/28/25", "28/02/25", "13/13/25"]  # fmt: skip
    made, faults = converter(TEXT, DATE, Options(format=formats))(pa.array(texts))
    for row, text in enumerate(texts):
        expected = None
        for form in formats:
            one, bad = converter(TEXT, DATE, Options(format=form))(pa.array([text], pa.string()))
            if not bad and one[0].as_py() is not None:
                expected = one[0].as_py()
                break
        assert made[row].as_py() == expected, text
        assert (
            any(fault.row == row for fault in faults) == (expected is None and bool((text or "").strip())) or text == ""
        )


def test_dates_of_several_forms_are_found_with_their_shares_of_rows() -> None:
    texts = pa.array(["31.12.2025"] * 60 + ["2025-11-30"] * 30 + [f"{n}.1.2024" for n in range(1, 11)])
    guess = guess_type(texts)
    assert guess is not None
    assert guess.options.format == ("%d.%m.%Y", "%Y-%m-%d")
    assert guess.shown == 'date in several formats: "%d.%m.%Y" 70 %, "%Y-%m-%d" 30 %'


@pytest.mark.parametrize(
    ("texts", "shown", "nothing"),
    [
        (["31.12.2025", "0000-00-00", "", "01.02.2024"], 'date (format = "%d.%m.%Y"): all; no value: "0000-00-00"', ("0000-00-00",)),
        (["5", "N/A", " - ", "7"], 'bigint: all; no value: " - ", "N/A"', (" - ", "N/A")),
        (["5", "x", "6", "-"], 'bigint: 66.6 %; no value: "-"', ("-",)),
        (["5", "00000000"] + ["7"] * 30, "bigint: all", ()),  # it is a number
        (["a", "n/a", "-"], None, ()),
        (["-", "n/a"], None, ()),
    ],
)  # fmt: skip
def test_texts_that_stand_for_no_value_are_told_apart(texts: list[str], shown: str | None, nothing: Any) -> None:
    guess = guess_type(pa.chunked_array([texts]))
    assert (guess and guess.shown) == shown
    if guess is not None:
        assert guess.nothing == nothing
        options = replace(guess.options, null_values=(*nothing, ""))
        made, faults = converter(TEXT, guess.type, options)(pa.array(texts))
        assert {texts[fault.row] for fault in faults} <= {"x"}
        assert [texts[row] for row in range(len(texts)) if not made[row].is_valid] == [
            text for text in texts if text in (*nothing, "", "x")
        ]


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("to_date(t, 'DD.MM.YYYY')", [dt.date(2025, 12, 31), None, "fault"]),
        ("CAST(t AS date FORMAT 'DD.MM.YYYY')", [dt.date(2025, 12, 31), None, "fault"]),
        ("to_timestamp(t || ' 13:05', 'DD.MM.YYYY HH24:MI')", [dt.datetime(2025, 12, 31, 13, 5), None, "fault"]),
        ("CAST('2025/01/02' AS date FORMAT 'YYYY/MM/DD')", [dt.date(2025, 1, 2)] * 3),
        ("to_date(t)", "a format is missing"),
        ("to_date(t, t)", "a format is missing"),
        ("to_date(t, 'DD Mon YYYY')", 'the format has "Mon"'),
        ("to_date(t, 'HH24:MI')", "no whole day"),
        ("to_date(5, 'DD.MM.YYYY')", "this is integer"),
    ],
)
def test_texts_are_dates_by_a_format_in_an_expression(text: str, value: Any) -> None:
    scope = Scope({"t": TEXT}, {}, {}, "the source")
    if isinstance(value, str):
        with pytest.raises(ExpressionError) as raised:
            compile_expression(text, scope)
        assert value in raised.value.what
        return
    frame = Frame(SourceBatch(3, {"t": pa.array(["31.12.2025", None, "31.02.2025"])}), {"t": TEXT})
    made = frame.array(compile_expression(text, scope).node.evaluate(frame)).to_pylist()
    bad = {fault.row for fault in frame.collect()}
    assert ["fault" if row in bad else found for row, found in enumerate(made)] == value


def test_a_thread_computes_as_the_main_one_does() -> None:
    """Rows are computed in threads, in which some versions of NumPy count otherwise."""
    texts = pa.array(["11999"])
    with ThreadPoolExecutor(1) as threads:
        numbers, sure = threads.submit(scan_numbers, texts, 18, 0, ".", None).result()
    assert (numbers.tolist(), sure.tolist()) == ([11999], [True])
