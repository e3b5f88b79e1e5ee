"""PostgreSQL is the yardstick: the same expressions over the same rows, in Kanal and in a real server, agree."""

from __future__ import annotations

import datetime as dt
import itertools
import math
import random
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

from kanal.core.expressions import Scope, compile_expression
from kanal.core.frame import Frame, SourceBatch
from kanal.core.types import parse_type

TYPES = {
    "i": "integer", "j": "integer", "s": "smallint", "big": "bigint", "n": "decimal(9,2)", "m": "decimal(9,2)", "w": "decimal(30,10)",
    "f": "double precision", "g": "double precision", "t": "text", "u": "text", "b": "boolean", "c": "boolean", "d": "date", "e": "date",
    "ts": "timestamp", "z": "timestamp with time zone",
}  # fmt: skip
INTEGERS = [None, 0, 1, -1, 2, 7, -13, 100, 2**31 - 1, -(2**31)]
DECIMALS = [
    None,
    *map(Decimal, ["0", "1", "-1", "0.01", "-0.05", "12.50", "2.5", "-2.5", "3.14", "9999999.99", "-9999999.99"]),
]
FLOATS = [None, 0.0, 1.0, -1.0, 0.5, -2.5, 1e-7, 3.7, 1e15, 123456789.125, 1e300, -1e300, math.nan, math.inf]
TEXTS = [None, "", " ", "a", "A", "Sluis", " Sluis ", "sluis", "café", "e\u0301", "😀x", "ÄÖÜ ß", "a%b_c", "1", " 12 ", "-7", "1.5", "x,y,,z",
         "2025-01-31", "2025-02-30", "true", "no", "line\nbreak", "tab\t", "back\\slash", "'quoted'", "van der Zijl"]  # fmt: skip
DATES = [None, dt.date(1, 1, 1), dt.date(1969, 12, 31), dt.date(1970, 1, 1), dt.date(2000, 2, 29), dt.date(2023, 12, 31), dt.date(2024, 2, 29),
         dt.date(2021, 1, 3), dt.date(2025, 1, 31), dt.date(9999, 12, 31)]  # fmt: skip
TIMES = [None, *(dt.datetime.combine(day, dt.time(*clock)) for day, clock in zip(
    DATES[1:], [(0, 0), (23, 59, 59, 999999), (0, 0), (12, 30), (1, 2, 3, 4), (6, 0), (23, 0), (0, 0, 1), (23, 59, 59)], strict=True))]  # fmt: skip


def rows() -> list[dict[str, Any]]:
    chance = random.Random(4)
    pools: dict[str, list[Any]] = {
        "integer": INTEGERS, "smallint": [None, 0, 1, -1, 32767, -32768], "bigint": [None, 0, 5, 2**53 + 1, 2**63 - 1, -(2**63)],
        "decimal(9,2)": DECIMALS, "decimal(30,10)": [*DECIMALS, Decimal("12345678901234567890.0123456789")], "double precision": FLOATS,
        "text": TEXTS, "boolean": [None, True, False], "date": DATES, "timestamp": TIMES,
        "timestamp with time zone": [None, *(t.replace(tzinfo=dt.UTC) for t in TIMES[1:])],
    }  # fmt: skip
    made = [{name: chance.choice(pools[kind]) for name, kind in TYPES.items()} for _ in range(60)]
    for place, text in enumerate(TEXTS):  # every text, number and date at least once
        made[place]["t"] = text
    for name, pool in (("i", INTEGERS), ("n", DECIMALS), ("f", FLOATS), ("d", DATES), ("ts", TIMES)):
        for place, value in enumerate(pool):
            made[place][name] = value
    return made


def expressions() -> list[str]:
    made = [f"{a} {op} {b}" for op in "+-*/%" for a, b in
            [("i", "j"), ("s", "i"), ("i", "big"), ("n", "m"), ("n", "i"), ("w", "n"), ("i", "2"), ("n", "0.3"), ("big", "3"), ("n", "7")]]  # fmt: skip
    made += [f"{a} {op} {b}" for op in "+-*/" for a, b in [("f", "g"), ("f", "i"), ("n", "f"), ("f", "2")]]
    comparable = [("i", "j"), ("i", "n"), ("n", "f"), ("f", "g"), ("t", "u"), ("t", "'a'"), ("d", "e"), ("d", "ts"), ("b", "c"),
                  ("d", "'2024-02-29'"), ("big", "i"), ("z", "z"), ("w", "n")]  # fmt: skip
    made += [
        f"{a} {op} {b}"
        for op in ("=", "<>", "<", "<=", ">", ">=", "IS DISTINCT FROM", "IS NOT DISTINCT FROM")
        for a, b in comparable
    ]
    logic = ["b", "c", "NULL", "i > 0", "TRUE"]
    made += [
        f"({a}) {op} ({b})" for op in ("AND", "OR") for a, b in itertools.product(logic, logic) if {a, b} != {"NULL"}
    ]
    made += [
        "NOT b",
        "b IS TRUE",
        "b IS NOT TRUE",
        "b IS FALSE",
        "b IS UNKNOWN",
        "(i > 0) IS NOT UNKNOWN",
        "i IS NULL",
        "t IS NOT NULL",
    ]
    made += ["i IN (1, 7, 100)", "i IN (1, NULL)", "i NOT IN (1, 2)", "i NOT IN (1, NULL)", "t IN ('a', 'A', u)", "n IN (1, 2.5)", "f IN (0.5, 1)",
             "i BETWEEN 0 AND 100", "i NOT BETWEEN j AND 7", "t BETWEEN 'A' AND 'b'", "d BETWEEN '2000-01-01' AND e", "n BETWEEN m AND f"]  # fmt: skip
    patterns = ["a%", "%s", "_", "%", "", "a!%b!_c", "S__is", "%\\\\%", "%a%b%", "Sl%", "😀_"]
    made += [f"t LIKE '{p}'" for p in patterns if "!" not in p] + [
        "t LIKE 'a!%b!_c' ESCAPE '!'",
        "t NOT LIKE '%a%'",
        "t ILIKE 'SL%'",
        "t LIKE u",
    ]
    made += [
        "t SIMILAR TO '(S|s)luis'",
        "t SIMILAR TO '[a-z]+'",
        "t SIMILAR TO '%(a|x)%'",
        "t SIMILAR TO '[0-9]{1,2}'",
        "t NOT SIMILAR TO '_'",
    ]
    made += ["CASE WHEN i > 5 THEN 'big' WHEN i < 0 THEN 'minus' ELSE 'small' END", "CASE i WHEN 1 THEN n WHEN 2 THEN 7 END", "CASE WHEN j = 0 THEN 0 ELSE i / j END",
             "CASE WHEN b THEN d ELSE e END", "CASE WHEN b THEN i ELSE n END", "COALESCE(i, j, 0)", "COALESCE(t, u, '-')", "COALESCE(n, i)", "COALESCE(d, '2000-01-01')",
             "NULLIF(i, j)", "NULLIF(t, 'a')", "i / NULLIF(j, 0)", "GREATEST(i, j)", "LEAST(i, n, 3)", "GREATEST(t, u)", "LEAST(d, e)", "GREATEST(f, g)", "LEAST(f, g, 1)"]  # fmt: skip
    casts = [("i", "text"), ("i", "smallint"), ("i", "bigint"), ("i", "decimal(9,2)"), ("i", "decimal(12,2)"), ("i", "double precision"), ("i", "boolean"), ("big", "integer"), ("big", "double precision"),
             ("n", "integer"), ("n", "decimal(9,1)"), ("n", "decimal(4,1)"), ("n", "text"), ("n", "double precision"), ("f", "integer"), ("f", "bigint"), ("f", "text"), ("f", "decimal(20,2)"),
             ("t", "varchar(3)"), ("t", "text"), ("b", "text"), ("b", "integer"), ("d", "text"), ("d", "timestamp"), ("ts", "date"), ("ts", "time"), ("ts", "text"), ("u", "varchar(40)")]  # fmt: skip
    made += [f"CAST({a} AS {kind})" for a, kind in casts]
    made += [
        f"CAST('{text}' AS {kind})"
        for text, kind in [
            ("12", "integer"),
            (" -7 ", "smallint"),
            ("1.005", "decimal(9,2)"),
            ("1e3", "decimal(9,2)"),
            ("yes", "boolean"),
            ("2024-02-29", "date"),
            ("0.1", "double precision"),
        ]
    ]
    made += [
        f"{name}(t)"
        for name in (
            "upper",
            "lower",
            "trim",
            "btrim",
            "ltrim",
            "rtrim",
            "char_length",
            "length",
            "octet_length",
            "reverse",
            "initcap",
            "md5",
        )
    ]
    made += [f"trim({how} FROM t)" for how in ("LEADING 'Sa '", "TRAILING 's '", "BOTH ' a'", "BOTH '1'")]
    made += [f"substring(t FROM {a} FOR {b})" for a, b in [(1, 2), (2, 3), (0, 2), (-1, 4), (3, 0), (100, 2)]]
    made += ["substring(t FROM 2)", "substring(t FROM -3)", "substring(t, i)", "substring(t FROM 1 FOR i)", "position('s' IN t)", "position('' IN t)", "position(u IN t)", "strpos(t, 'é')", "left(t, 2)", "left(t, -1)", "right(t, 2)",
             "right(t, -2)", "left(t, i)", "lpad(t, 6)", "lpad(t, 3, 'xy')", "lpad(t, 8, 'xy')", "rpad(t, 6, '*')", "rpad(t, 2)", "lpad(t, 5, '')", "replace(t, 'a', 'bb')", "replace(t, '', 'x')", "replace(t, 's', '')",
             "overlay(t PLACING 'XX' FROM 2)", "overlay(t PLACING 'XX' FROM 2 FOR 0)", "overlay(t PLACING 'X' FROM 1 FOR 3)", "split_part(t, ',', 2)", "split_part(t, ',', -1)", "split_part(t, ',', 9)", "split_part(t, '', 1)",
             "translate(t, 'as', 'A')", "repeat(t, 2)", "repeat(t, -1)", "concat(t, u, 'x')", "concat(t, i)", "concat_ws('-', t, u)", "t || u", "t || i", "i || t", "t || b", "t || d",
             "regexp_replace(t, '[aeiou]', '#')", "regexp_replace(t, '[aeiou]', '#', 'g')", "regexp_replace(t, '([a-z])([a-z])', '\\2\\1')", "regexp_replace(t, 'S', 'z', 'gi')", "regexp_like(t, '^S')", "regexp_like(t, 's', 'i')",
             "md5(u)"]  # fmt: skip
    made += [
        f"{name}({a})"
        for name in ("abs", "sign", "floor", "ceiling", "ceil", "round", "trunc")
        for a in ("n", "f", "w")
    ] + ["abs(i)", "abs(big)", "floor(i)", "round(i)"]
    made += [f"{name}(n, {digits})" for name in ("round", "trunc") for digits in (0, 1, 2, 3, -1, -3)] + [
        "mod(i, j)",
        "mod(n, m)",
        "mod(big, 7)",
    ]
    made += [
        "sqrt(f)",
        "ln(f)",
        "exp(f)",
        "power(f, 2)",
        "power(f, 0.5)",
        "power(f, g)",
        "-i",
        "-n",
        "-f",
        "-big",
        "- s",
        "i * -1",
    ]
    made += [
        f"d {op} {b}"
        for op in "+-"
        for b in ("1", "i", "INTERVAL '1 month'", "INTERVAL '1 day'", "INTERVAL '-13 months'", "INTERVAL '36 hours'")
    ] + ["d - e", "1 + d"]
    made += [
        f"ts {op} INTERVAL '{b}'"
        for op in "+-"
        for b in ("1 month", "1 year 2 days", "1 day 02:03:04.5", "90 minutes", "1 week")
    ]
    fields = (
        "year",
        "quarter",
        "month",
        "day",
        "hour",
        "minute",
        "second",
        "week",
        "isoyear",
        "dow",
        "isodow",
        "doy",
        "epoch",
    )
    made += [f"extract({field} FROM ts)" for field in fields] + [f"extract({field} FROM z)" for field in fields]
    made += [
        f"extract({field} FROM d)"
        for field in ("year", "quarter", "month", "day", "week", "isoyear", "dow", "isodow", "doy", "epoch")
    ]
    made += [
        f"extract({field} FROM ts - TIMESTAMP '2000-01-01 12:00:00')"
        for field in ("day", "hour", "minute", "second", "epoch")
    ]
    made += [
        f"date_trunc('{unit}', ts)" for unit in ("year", "quarter", "month", "week", "day", "hour", "minute", "second")
    ]
    made += [
        "z AT TIME ZONE 'Europe/Amsterdam'",
        "z AT TIME ZONE 'America/New_York'",
        "ts AT TIME ZONE 'Asia/Kathmandu'",
        "d + 1 > e",
        "ts < d",
        "ts - INTERVAL '1 day' < ts",
    ]
    return list(dict.fromkeys(made))


#: What Kanal rejects on purpose and PostgreSQL lets pass; docs/expressions.md says so.
STRICTER = (
    "lies outside the years 1 to 9999",
    "does not exist in",
    "came twice in",
    "nan is not a number that",
    "inf is not a number that",
)
ROUGH = ("sqrt", "ln", "exp", "power", "/ m", "/ n", "/ 0.3", "/ 7", "/ i", "/ j", "/ 2", "/ 3")


def in_postgresql(connection: Any, text: str, count: int) -> tuple[list[Any], set[int]]:
    """The values of an expression, and the rows for which it is an error."""
    import psycopg

    try:
        found = connection.execute(f"SELECT {text} FROM yard WHERE no < {count} ORDER BY no").fetchall()
        return [row[0] for row in found], set()
    except psycopg.Error:
        values: list[Any] = []
        bad = set()
        for number in range(count):
            try:
                values.append(connection.execute(f"SELECT {text} FROM yard WHERE no = {number}").fetchone()[0])
            except psycopg.Error:
                values.append(None)
                bad.add(number)
        return values, bad


def agree(ours: Any, theirs: Any, rough: bool) -> bool:
    if ours is None or theirs is None:
        return ours is theirs
    if isinstance(ours, float) or isinstance(theirs, float):
        ours, theirs = float(ours), float(theirs)
        if math.isnan(ours) or math.isnan(theirs):
            return math.isnan(ours) and math.isnan(theirs)
        return ours == theirs or (rough and math.isclose(ours, theirs, rel_tol=1e-14))
    if isinstance(ours, Decimal | int) and not isinstance(ours, bool):
        return ours == theirs or (
            rough
            and abs(Decimal(ours) - Decimal(theirs)) <= max(Decimal("1e-15"), abs(Decimal(theirs)) * Decimal("1e-15"))
        )
    return bool(ours == theirs)


@pytest.fixture(scope="module")
def yard(postgresql: Any) -> Any:
    columns = ", ".join(f"{name} {kind}" for name, kind in TYPES.items())
    postgresql.execute("SET timezone TO 'UTC'; SET extra_float_digits TO 1")
    postgresql.execute("DROP TABLE IF EXISTS yard CASCADE")
    postgresql.execute(f"CREATE TABLE yard (no integer, {columns})")
    with postgresql.cursor() as cursor:
        marks = ", ".join(["%s"] * (len(TYPES) + 1))
        cursor.executemany(f"INSERT INTO yard VALUES ({marks})", [(no, *row.values()) for no, row in enumerate(rows())])
    return postgresql


def test_expressions_agree_with_postgresql(yard: Any) -> None:
    generated, types = rows(), {name: parse_type(kind) for name, kind in TYPES.items()}
    columns = {name: pa.array([row[name] for row in generated], types[name].arrow) for name in TYPES}
    compared, wrong = 0, []
    for text in expressions():
        theirs, errors = in_postgresql(yard, text, len(generated))
        expression = compile_expression(text, Scope(types))
        frame = Frame(SourceBatch(len(generated), columns), types)
        ours = frame.array(expression.node.evaluate(frame)).to_pylist()
        faults = {fault.row: fault.message for fault in frame.collect()}
        for row in range(len(generated)):
            if row in faults and (row in errors or any(said in faults[row] for said in STRICTER)):
                compared += 1
                continue
            if row in errors or row in faults or not agree(ours[row], theirs[row], any(part in text for part in ROUGH)):
                given = {
                    name: generated[row][name]
                    for name in TYPES
                    if name in text.replace("(", " ").replace(")", " ").replace(",", " ").split()
                }
                theirs_said = "an error" if row in errors else repr(theirs[row])
                ours_said = f"rejects: {faults[row]}" if row in faults else repr(ours[row])
                wrong.append(f"{text} of {given}: PostgreSQL {theirs_said}, Kanal {ours_said}")
            compared += 1
    assert compared > 20_000
    assert len(expressions()) > 400
    assert not wrong, f"{len(wrong)} of {compared} differ:\n" + "\n".join(wrong[:60])
