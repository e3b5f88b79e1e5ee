"""Expressions: a table of expressions and their values, lazily judged branches, and errors that name their place."""

from __future__ import annotations

import datetime as dt
import itertools
import operator
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

import kanal
from kanal.core.conversions import converter
from kanal.core.errors import ExpressionError
from kanal.core.expressions import Expression, Scope, compile_expression
from kanal.core.expressions.pushdown import comparisons
from kanal.core.expressions.registry import all_functions
from kanal.core.faults import Fault
from kanal.core.frame import Frame, SourceBatch
from kanal.core.types import TEXT, parse_type

D = Decimal
TYPES = {
    "i": "integer", "j": "integer", "big": "bigint", "n": "decimal(9,2)", "f": "double precision", "t": "text",
    "b": "boolean", "day": "date", "at": "timestamp", "z": "timestamp with time zone", "Odd Name": "text", "lock": "text",
    "wide": "decimal(38,18)",
}  # fmt: skip
ROW = {
    "i": 7, "j": -2, "big": 2**62, "n": D("12.50"), "f": 0.5, "t": " Sluis ", "b": True, "day": dt.date(2024, 2, 29),
    "at": dt.datetime(2024, 1, 31, 10, 11, 12, 500000), "z": dt.datetime(2024, 7, 1, 12, tzinfo=dt.UTC),
    "Odd Name": "q", "lock": "L1", "wide": D("1.000000000000000001"),
}  # fmt: skip
MOMENT = dt.datetime(2025, 6, 1, 23, 30, tzinfo=dt.UTC)


def scope() -> Scope:
    return Scope({name: parse_type(text) for name, text in TYPES.items()}, {}, {"season": 2025, "name": "Sluis"}, "row")


def evaluated(text: str, rows: list[dict[str, Any]] | None = None) -> tuple[list[Any], list[Fault], Expression]:
    """The values of an expression over rows that differ from ROW as said, and the faults."""
    expression = compile_expression(text, scope())
    filled = [ROW | row for row in rows or [{}]]
    types = scope().columns
    columns = {name: pa.array([row[name] for row in filled], types[name].arrow) for name in types}
    frame = Frame(SourceBatch(len(filled), columns), types, MOMENT)
    values = frame.array(expression.node.evaluate(frame))
    assert values.type == expression.type.arrow
    return values.to_pylist(), frame.collect(), expression


@pytest.mark.parametrize("entry", all_functions(), ids=lambda entry: entry.signature)
def test_each_function_does_what_its_example_says(entry: Any) -> None:
    text, expected = entry.example
    expression = compile_expression(text, Scope({}))
    frame = Frame(SourceBatch(3, {}), {})
    values = frame.array(expression.node.evaluate(frame))
    texts, faults = converter(expression.type, TEXT)(values)
    assert faults == frame.collect() == []
    assert texts.to_pylist() == [expected] * 3
    assert len(entry.meaning) > 10
    # NULL in, NULL out, and no fault, for whatever takes one argument.
    if entry.parameters and not entry.variadic and entry.name not in ("binary_concat",):
        nulls = ", ".join(["NULL"] * (len(entry.parameters) - entry.optional))
        null = compile_expression(f"{entry.name}({nulls})", Scope({})) if entry.name not in FORMS else None
        if null is not None:
            frame = Frame(SourceBatch(2, {}), {})
            assert frame.array(null.node.evaluate(frame)).to_pylist() == [None, None]
            assert frame.collect() == []


#: Functions whose name in SQL is a form of its own.
FORMS = {"like", "ilike", "similar_to", "concatenate", "trim", "substring", "overlay", "substr"}

VALUES = [
    ("i + j", 5), ("i - j * 2", 11), ("i / j", -3), ("i % j", 1), ("-i / 2", -3), ("-7 % 2", -1), ("i / 2.0", D("3.5")),
    ("n * 2", D("25")), ("n / 3", D("4.1666666666666667")), ("-n / 3", D("-4.1666666666666667")), ("n % 5", D("2.5")),
    ("n + 0.005", D("12.505")), ("f + 1", 1.5), ("f + n", 13.0), ("0.1 + 0.2", D("0.3")), ("1e2 + 1", D("101")),
    ("9007199254740993 + 0", 9007199254740993), ("wide * wide", D("1.000000000000000002000000000000000001")),
    ("n = 12.5", True), ("n <> 12.5", False), ("f < n", True), ("i > 6.99", True), ("t = NULL", None),
    ("NULL IS NULL", True), ("i IS NOT NULL", True), ("NULL IS DISTINCT FROM i", True), ("NULL IS NOT DISTINCT FROM NULL", True),
    ("i BETWEEN 7 AND 8", True), ("i NOT BETWEEN 7 AND 8", False), ("i IN (1, 7)", True), ("i IN (1, NULL)", None),
    ("i NOT IN (1, 2)", True), ("i NOT IN (1, NULL)", None), ("i IN (7, NULL)", True), ("t IN ('a', ' Sluis ')", True),
    ("i IN (j + 9, 1)", True), ("f IN (0.5)", True), ("NULL AND FALSE", False), ("NULL AND TRUE", None), ("NULL OR TRUE", True),
    ("NULL OR FALSE", None), ("NOT NULL", None), ("b IS TRUE", True), ("NULL IS FALSE", False), ("NULL IS NOT TRUE", True),
    ("(i > 100) IS NOT TRUE", True), ("(NULL = 1) IS UNKNOWN", True),
    ("CASE WHEN i > 5 THEN 'big' ELSE 'small' END", "big"), ("CASE WHEN NULL THEN 1 END", None), ("CASE i WHEN 7 THEN 1.5 ELSE 2 END", D("1.5")),
    ("COALESCE(NULL, j, i)", -2), ("COALESCE(NULL, NULL)", None), ("NULLIF(i, 7)", None), ("NULLIF(i, 8)", 7), ("GREATEST(i, NULL, 9)", 9), ("LEAST(n, i)", D("7")),
    ("CAST('12' AS integer) + 1", 13), ("CAST(n AS integer)", 13), ("CAST(-n AS integer)", -13), ("CAST(f AS integer)", 0),
    ("CAST(1.5 AS double precision)::integer", 2), ("CAST('abcdef' AS varchar(3))", "abc"), ("CAST(i AS text) || 'x'", "7x"),
    ("CAST('1.005' AS decimal(9,2))", D("1.01")), ("i::boolean", True), ("at::date", dt.date(2024, 1, 31)), ("at::time", dt.time(10, 11, 12, 500000)),
    ("upper(trim(t))", "SLUIS"), ("trim(LEADING ' ' FROM t)", "Sluis "), ("trim(BOTH 'x' FROM 'xxax')", "a"), ("t || NULL", None), ("'a' || i || b", "a7true"),
    ("substring('Sluis' FROM 2)", "luis"), ("substring('Sluis' FROM 0 FOR 3)", "Sl"), ("substring('Sluis', -5, 3)", ""), ("substring('😀b😀', 2, 2)", "b😀"),
    ("position('é' IN 'café')", 4), ("position('' IN 'a')", 1), ("left('Sluis', -2)", "Slu"), ("right('Sluis', -2)", "uis"), ("left('Sluis', i)", "Sluis"),
    ("lpad('Sluis', 3)", "Slu"), ("lpad('1', 4, 'ab')", "aba1"), ("rpad('1', 0)", ""), ("reverse('e\u0301a')", "a\u0301e"), ("initcap('o''neil van-zijl')", "O'Neil Van-Zijl"),
    ("split_part('a,b,c', ',', -1)", "c"), ("split_part('a,b', ',', 5)", ""), ("replace('aaa', 'aa', 'b')", "ba"), ("replace('a', '', 'b')", "a"),
    ("'Sluis' LIKE 'S__is'", True), ("'a%b' LIKE 'a!%b' ESCAPE '!'", True), ("'ab' LIKE 'a!%b' ESCAPE '!'", False), ("'a\nb' LIKE 'a%b'", True), (r"'a\b' LIKE 'a\\b'", True),
    ("'x' NOT LIKE '%y%'", True), ("'Abc' ILIKE 'aB%'", True), ("'abc' SIMILAR TO '(a|b)%'", True), ("'abc' SIMILAR TO 'b'", False), ("'a.c' SIMILAR TO 'a.c'", True), ("'abc' SIMILAR TO 'a.c'", False),
    ("regexp_replace('2025-01-31', '(\\d+)-(\\d+)-(\\d+)', '\\3.\\2.\\1')", "31.01.2025"), ("regexp_like('ab', 'B')", False),
    ("floor(-n)", D("-13")), ("ceiling(n)", D("13")), ("round(n)", D("13")), ("round(1.005, 2)", D("1.010")), ("round(1250, -2)", D("1300")), ("trunc(-12.59, 1)", D("-12.50")), ("abs(j)", 2), ("sign(-n)", -1), ("mod(i, 4)", 3), ("power(2, 0.5) > 1.41", True),
    ("day + 1", dt.date(2024, 3, 1)), ("day - DATE '2024-01-01'", 59), ("day - 60", dt.date(2023, 12, 31)), ("at + INTERVAL '1 month'", dt.datetime(2024, 2, 29, 10, 11, 12, 500000)),
    ("day + INTERVAL '1 year'", dt.datetime(2025, 2, 28)), ("at - INTERVAL '1 day 02:00:00'", dt.datetime(2024, 1, 30, 8, 11, 12, 500000)), ("extract(day FROM at - TIMESTAMP '2024-01-01 00:00:00')", D(30)),
    ("INTERVAL '1 day' * 2 + day", dt.datetime(2024, 3, 2)), ("extract(year FROM day) / 4", D(506)), ("extract(second FROM at)", D("12.5")), ("extract(dow FROM day)", D(4)), ("extract(week FROM DATE '2021-01-03')", D(53)),
    ("extract(epoch FROM z)", D("1719835200")), ("date_trunc('month', at)", dt.datetime(2024, 1, 1)), ("date_trunc('week', day)", dt.datetime(2024, 2, 26)), ("date_trunc('quarter', DATE '1969-12-31')", dt.datetime(1969, 10, 1)), ("date_trunc('hour', at)", dt.datetime(2024, 1, 31, 10)),
    ("at AT TIME ZONE 'Europe/Amsterdam'", dt.datetime(2024, 1, 31, 9, 11, 12, 500000, tzinfo=dt.UTC)), ("z AT TIME ZONE 'Europe/Amsterdam'", dt.datetime(2024, 7, 1, 14)),
    ("CURRENT_DATE", dt.date(2025, 6, 1)), ("CURRENT_TIMESTAMP = CURRENT_TIMESTAMP", True), ("day = '2024-02-29'", True), ("day < at", False), ("day > DATE '2024-02-28' AND b", True),
    (":season - 1", 2024), ("trim(t) = :name", True), ('"Odd Name" || lock', "qL1"), ("LOCK", "L1"), ("'it''s'", "it's"), ("x'00ff'", b"\x00\xff"), ("md5('')", "d41d8cd98f00b204e9800998ecf8427e"),
    ("CAST('NaN' AS double precision) > 1e300", True), ("CAST('NaN' AS double precision) = CAST('NaN' AS double precision)", True), ("GREATEST(f, CAST('NaN' AS double precision)) = 'NaN'", True),
]  # fmt: skip


@pytest.mark.parametrize(("text", "expected"), VALUES, ids=[text for text, _ in VALUES])
def test_the_value_of_each_expression(text: str, expected: Any) -> None:
    values, faults, _ = evaluated(text, [{}, {}])
    assert faults == []
    assert values == [expected, expected]
    assert type(values[0]) is type(expected) or isinstance(expected, dt.datetime)


FAULTS = [
    ("i / 0", "out_of_range", "division by zero"), ("n / (i - 7)", "out_of_range", "division by zero"), ("f / 0", "out_of_range", "division by zero"), ("i % 0", "out_of_range", "zero"),
    ("big * 4", "out_of_range", "outside bigint"), ("i * 2147483647", "out_of_range", "outside integer"), ("big + big", "out_of_range", "outside bigint"), ("f * 1e308 * 1e10", "out_of_range", "outside double"),
    ("CAST(t AS integer)", "not_a_number", "is not a number"), ("CAST(big AS smallint)", "out_of_range", "smallint"), ("CAST(t AS date)", "not_a_date", "not a date"),
    ("sqrt(-f)", "out_of_range", "negative"), ("ln(0 * f)", "out_of_range", "logarithm"), ("power(-f, f)", "out_of_range", "real number"), ("exp(1000)", "out_of_range", "outside double"),
    ("substring(t, 1, j)", "out_of_range", "negative"), ("day + 10000000", "out_of_range", "years 1 to 9999"), ("at + INTERVAL '9000 years'", "out_of_range", "years 1 to 9999"), ("split_part(t, ',', 0)", "out_of_range", "from 1"),
    ("regexp_like(t, left('(' || t, 1))", "bad_text", "regular expression"), ("(TIMESTAMP '2024-03-31 02:30:00' + (at - at)) AT TIME ZONE 'Europe/Amsterdam'", "no_such_time", "does not exist"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "reason", "said"), FAULTS, ids=[text[:40] for text, _, _ in FAULTS])
def test_what_has_no_value_is_a_fault_of_its_row_alone(text: str, reason: str, said: str) -> None:
    nothing = dict.fromkeys(ROW)
    values, faults, _ = evaluated(text, [nothing, {}])
    assert values[1] is None
    assert [(fault.row, str(fault.reason)) for fault in faults if fault.row == 1] == [(1, reason)]
    assert said in faults[-1].message


LAZY = [
    ("CASE WHEN i = 0 THEN 0 ELSE 10 / i END", [0, 5]), ("i <> 0 AND 10 / i > 1", [False, True]), ("i = 0 OR 10 / i > 1", [True, True]),
    ("COALESCE(NULLIF(i, 0) - NULLIF(i, 0), 10 / (i - 2))", [-5, 0]), ("CASE WHEN t = 'x' THEN -1 ELSE CAST(t AS integer) END", [-1, 12]), ("10 / NULLIF(i, 0)", [None, 5]),
    ("CASE i WHEN 0 THEN NULL WHEN 10 / i THEN 1 ELSE 2 END", [None, 2]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "expected"), LAZY)
def test_a_branch_not_taken_rejects_nothing(text: str, expected: list[Any]) -> None:
    values, faults, _ = evaluated(text, [{"i": 0, "t": "x"}, {"i": 2, "t": "12"}])
    assert (values, faults) == (expected, [])


ERRORS = [
    ("voidd + 1", 0, 'no column "voidd" in row'), ("i + uper(t)", 4, 'no function "uper"'), ("upper(i)", 0, "upper(integer) is not defined"), ("i +", 3, "ends too early"),
    ("i b", None, "not a scalar expression"), ("", None, "is empty"), ("(SELECT 1)", None, "not one expression"), ("i IN (SELECT 1)", None, "subquery"), ("sum(i)", 0, 'no function "sum"'),
    ("i; j", None, "cannot be read"), ("'abc", None, "not closed"), ("i = 'x'", None, "is not a number"), ("day = '2024-02-30'", None, "is not a date"), ("t > 1", None, "do not go together"), ("t * 2", None, "stands between"),
    ("NOT i", None, "takes a condition"), ("i AND b", None, "takes a condition"), (":seasn", None, 'no parameter "seasn"'), ("q.i", None, 'no look-up "q"'), ('"I"', 0, 'no column "I"'), ("CAST(i AS smalint)", None, "not a type"),
    ("CAST(i AS date)", None, "no conversion"), ("at AT TIME ZONE 'Mars'", None, "no time zone"), ("extract(fortnight FROM at)", None, 'no field "fortnight"'), ("date_trunc('eon', at)", None, "unit"), ("INTERVAL '1 eon'", None, "not a unit"),
    ("CASE WHEN b THEN 1 ELSE 'x' END", None, "is not a number"), ("CASE WHEN b THEN i ELSE day END", None, "do not go together"), ("day + at", None, "stands between"), ("z = at", None, "do not go together"), ("left(t)", 0, "left(text) is not defined"),
    ("count(*)", None, "not a scalar"), ("i ^ 2", None, "not a scalar"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "position", "said"), ERRORS, ids=[text or "nothing" for text, _, _ in ERRORS])
def test_an_error_names_its_place_and_a_way_out(text: str, position: int | None, said: str) -> None:
    with pytest.raises(ExpressionError) as caught:
        evaluated(text)
    assert said in caught.value.what
    assert caught.value.remedy or "is not" in caught.value.what
    if position is not None:
        assert caught.value.position == position


def test_types_and_columns_are_known_before_a_row_is_seen() -> None:
    for text, expected in [
        ("i + j", "integer"), ("i + big", "bigint"), ("n * n", "decimal(18,4)"), ("n + i", "decimal(13,2)"), ("f + n", "double precision"),
        ("t || i", "text"), ("i > j", "boolean"), ("day + 1", "date"), ("day + INTERVAL '1 day'", "timestamp"), ("at - at", "interval"),
        ("coalesce(i, n)", "decimal(12,2)"), ("CASE WHEN b THEN 1 ELSE 1.5 END", "decimal(11,1)"), ("CAST(t AS varchar(3))", "varchar(3)"),
    ]:  # fmt: skip
        assert str(compile_expression(text, scope()).type) == expected, text
    assert compile_expression("i + length(t)", scope()).uses == {(None, "i"), (None, "t")}


TERMS = ["n = 2", "n <> 2", "3 > n", "n <= :most", "n BETWEEN -1 AND 2", "n NOT BETWEEN 0 AND 1", "d >= 1.5", "-2 < d",
         "n IS NULL", "n IS NOT NULL", "NOT n IS NULL", "NOT (n IS NOT NULL)", "NOT n = 1", "n IN (1, 2)", "n + 1 = 2",
         "n IS NOT DISTINCT FROM 1", "n BETWEEN SYMMETRIC 2 AND 0", "s = 'a'", "s IS NOT NULL", "(n = 1)"]  # fmt: skip
VALUES = {
    "n": [None, -1, 0, 1, 2, 3],
    "d": [None, Decimal("-2.0"), Decimal("1.5"), Decimal("9.9")],
    "s": [None, "a", "A"],
}


@given(st.lists(st.sampled_from(TERMS), min_size=1, max_size=3), st.sampled_from(["AND", "OR"]))
def test_what_is_asked_of_the_source_holds_for_every_wanted_row(terms: list[str], between: str) -> None:
    condition = f" {between} ".join(terms)
    found = comparisons(condition, {"n", "d"}, {"n", "d", "s"}, {"most": 2})
    assert found or between == "OR" or not set(terms) & set(TERMS[:5])
    rows = [dict(zip(VALUES, values, strict=True)) for values in itertools.product(*VALUES.values())]
    columns = {"n": pa.array([row["n"] for row in rows], pa.int32()), "s": pa.array([row["s"] for row in rows]),
               "d": pa.array([row["d"] for row in rows], pa.decimal128(2, 1))}  # fmt: skip
    types = {"n": parse_type("integer"), "d": parse_type("decimal(2,1)"), "s": parse_type("text")}
    where = compile_expression(condition, Scope(types, {}, {"most": 2}))
    frame = Frame(SourceBatch(len(rows), columns), types)
    wanted = frame.array(where.node.evaluate(frame)).to_pylist()
    tests = {
        "=": operator.eq,
        "<>": operator.ne,
        "<": operator.lt,
        "<=": operator.le,
        ">": operator.gt,
        ">=": operator.ge,
    }
    for row, is_wanted in zip(rows, wanted, strict=True):
        for name, sign, number in found if is_wanted else []:
            value = row[name]
            assert (value is None) if sign == "IS NULL" else value is not None
            assert sign not in tests or tests[sign](value, number)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("IF(2 > 1, 1, 2)", "Write CASE WHEN"), ("IIF(2 > 1, 1, 2)", "Write CASE WHEN"), ("NVL(1, 2)", "Write coalesce("),
        ("ISNULL(1, 2)", "Write coalesce("), ("GETDATE()", "Write CURRENT_TIMESTAMP"), ("[season]", "in double quotes"),
        ("`season`", "in double quotes"), ("LEN('a')", "Write length(text)"), ("trim(1)", "trim(integer) is not defined"),
        ("lenght('a')", 'Did you mean "length"'),
    ],
)  # fmt: skip
def test_what_other_databases_write_is_answered_with_the_standard(text: str, said: str) -> None:
    with pytest.raises(kanal.KanalError) as caught:
        compile_expression(text, Scope({}))
    assert said in str(caught.value)
