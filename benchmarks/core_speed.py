"""The core alone: how many rows a second a mapping computes, and how long an expression takes to compile.

Ten columns, four of them text conversions, one look-up in a table of 1,000,000 rows, and a filter; one row in a hundred
is bad. One thread of one core. Run it with

    python benchmarks/core_speed.py [--rows 1000000] [--runs 5]
"""

from __future__ import annotations

import argparse
import datetime as dt
import os
import statistics
import time
from collections.abc import Callable

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.columns import TargetColumn
from kanal.core.conversions import Options
from kanal.core.expressions import Scope, compile_expression
from kanal.core.frame import Frame, SourceBatch
from kanal.core.lookups import LookupTable
from kanal.core.transformation import (
    ColumnPlan,
    ColumnRule,
    convert_columns,
    filter_rows,
    look_up,
    plan_lookup,
    rejects_of,
)
from kanal.core.types import SqlType, parse_type

TYPES = {
    "no": "bigint", "season": "integer", "code": "text", "mark": "text", "toll": "text", "draught": "text",
    "day": "text", "at": "text", "name": "text",
    "length": "double precision", "tonnage": "decimal(9,2)", "key": "bigint",
}  # fmt: skip
TARGETS = {
    "no": ("no", "bigint", Options()),
    "toll": ("toll", "decimal(9,2)", Options(decimal_mark=",", grouping_mark=".")),
    "draught": ("draught", "smallint", Options()),
    "day": ("day", "date", Options(format="%d.%m.%Y")),
    "at": ("at", "timestamp", Options()),
    "name": ("upper(trim(name))", "varchar(40)", Options()),
    "mark": ("coalesce(mark, 'none')", "varchar(20)", Options()),
    "length_cm": ("length * 100", "integer", Options(rounding="half_up")),
    "dues": ("tonnage * 0.125", "decimal(12,5)", Options()),
    "lock_id": ("lock.id", "bigint", Options()),
}
LOOKED_UP = 1_000_000


def batch(rows: int, bad: int, seed: int) -> SourceBatch:
    chance = np.random.default_rng(seed)
    numbers = chance.integers(0, 10**6, rows)
    columns: dict[str, list[object]] = {
        "no": list(range(rows)),
        "season": [2025 if n % 10 else 2024 for n in range(rows)],
        "code": ["x"] * rows,
        "mark": [None if n % 7 == 0 else f"SW{n % 9999:04d}" for n in range(rows)],
        "toll": [f"{n // 1000}.{n % 1000:03d},{n % 100:02d}" if n >= 1000 else f"{n},50" for n in numbers.tolist()],
        "draught": [str(n % 30_000) for n in numbers.tolist()],
        "day": [f"{n % 28 + 1:02d}.{n % 12 + 1:02d}.2025" for n in range(rows)],
        "at": [f"2025-{n % 12 + 1:02d}-{n % 28 + 1:02d} {n % 24:02d}:{n % 60:02d}:00" for n in range(rows)],
        "name": [f" Vessel {n} " for n in range(rows)],
        "length": (numbers / 1000).tolist(),
        "tonnage": [None] * rows,
        "key": chance.integers(0, LOOKED_UP, rows).tolist(),
    }
    for place in range(bad):
        row = place * (rows // bad) + 1
        name, text = [("toll", "free"), ("draught", "40000"), ("day", "31.02.2025"), ("at", "noon")][place % 4]
        columns[name][row] = text
    arrays = {
        name: pa.array(values, parse_type(TYPES[name]).arrow) for name, values in columns.items() if name != "tonnage"
    }
    arrays["tonnage"] = pa.array(numbers).cast(pa.decimal128(19, 0)).cast(parse_type("decimal(9,2)").arrow)
    return SourceBatch(rows, arrays)


def _timed(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def main() -> None:  # noqa: PLR0915
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=5)
    options = parser.parse_args()
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    pa.set_cpu_count(1)

    types = {name: parse_type(text) for name, text in TYPES.items()}
    lookup_types: dict[str, SqlType] = {"key": parse_type("bigint"), "id": parse_type("bigint")}
    scope = Scope(types, {"lock": lookup_types}, {"season": 2025})
    started = time.perf_counter()
    table = LookupTable("lock", {"key": pa.array(range(LOOKED_UP)), "id": pa.array(range(7, LOOKED_UP + 7))}, ["key"])
    building = time.perf_counter() - started
    where = compile_expression("season = :season AND code IS NOT NULL", scope)
    lookup = plan_lookup("lock", {"key": "key"}, lookup_types, "reject", scope)
    columns = [
        ColumnPlan(ColumnRule(text, None, how), TargetColumn(name, parse_type(kind)), scope, {})
        for name, (text, kind, how) in TARGETS.items()
    ]
    size = 50_000
    moment = dt.datetime.now(dt.UTC)

    def work(one: SourceBatch) -> int:
        wanted, _ = filter_rows(Frame(one, types, moment), where)
        kept = one.take(wanted)
        frame = Frame(kept, types, moment)
        faults = look_up(frame, lookup, table)
        _, misfits = convert_columns(frame, columns)
        rejects, _ = rejects_of(kept, faults + misfits)
        return len(rejects)

    def seconds(batches: list[SourceBatch]) -> float:
        began = time.perf_counter()
        for one in batches:
            work(one)
        return time.perf_counter() - began

    distinct = [batch(size, size // 100, seed) for seed in range(4)]
    batches = [distinct[place % 4] for place in range(max(1, options.rows // size))]
    rejected = sum(map(work, batches))
    times = [seconds(batches) for _ in range(options.runs)]
    rows = len(batches) * size
    median = statistics.median(times)
    print(f"{rows:,} rows, {rejected:,} rejected: {median:.2f} s, {rows / median:,.0f} rows a second on one core")
    print(f"look-up of {LOOKED_UP:,} rows built in {building:.2f} s")

    texts_of_scale = pa.array([str(number) for number in range(100_000)])
    pattern = r"^-?[0-9]{1,9}$"
    scale = min(_timed(lambda: pc.match_substring_regex(texts_of_scale, pattern)) for _ in range(20))
    print(f"for scale: Arrow matches a regular expression {0.1 / scale:.0f} million times a second on this machine")

    clean, dirty = [batch(size, 1, 9)], [batch(size, 1000, 9)]
    work(clean[0])
    one = statistics.median(seconds(clean) for _ in range(9))
    bad = statistics.median(seconds(dirty) for _ in range(9))
    print(f"a batch with 1,000 bad values takes {bad / one:.2f} × the time of a clean one")

    texts = [text for text, _, _ in TARGETS.values()] + [
        "season = :season AND code IS NOT NULL",
        "CASE WHEN length > 10 THEN upper(trim(name)) || '-' || mark ELSE substring(code FROM 1 FOR 3) END",
    ]
    took = []
    for _ in range(20):
        for text in texts:
            began = time.perf_counter()
            compile_expression(text, scope)
            took.append(time.perf_counter() - began)
    print(f"compiling an expression takes {statistics.median(took) * 1000:.2f} ms, at most {max(took) * 1000:.2f} ms")


if __name__ == "__main__":
    main()
