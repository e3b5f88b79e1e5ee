"""PostgreSQL judges random, well-typed expressions over random rows; what differs stands in docs/expressions.md."""

from __future__ import annotations

import os
import random
import re
from pathlib import Path
from typing import Any

import pyarrow as pa

from kanal.core.errors import ExpressionError
from kanal.core.expressions import Scope, compile_expression
from kanal.core.frame import Frame, SourceBatch
from kanal.core.types import parse_type
from test_matrix import SEED
from test_yardstick import STRICTER, TYPES, agree, in_postgresql, rows, yard

__all__ = ["yard"]

COUNT = int(os.environ.get("KANAL_TEST_EXPRESSIONS", "3000"))
#: What docs/expressions.md says under "Known differences", by a phrase that stands there, and where it shows.
KNOWN = {
    "at most 76 digits": r"more digits than|does not fit decimal",
    "has no value, such as `1 / 0`": r"$^",  # see constant_fails
    "is a constant NULL, such as `nullif(2, 2)`": r"$^",  # see folded
}


class Maker:
    """Makes expressions of a type, each level from the rules that give it."""

    def __init__(self, chance: random.Random) -> None:
        self.chance = chance

    def make(self, kind: str, depth: int) -> str:
        if depth == 0 or self.chance.random() < 0.15:
            return self.chance.choice(LEAVES[kind])
        form = self.chance.choice(RULES[kind])
        return re.sub(r"\{(\w)\}", lambda found: self.make(found[1], depth - 1), form)


LEAVES = {
    "i": ["i", "j", "s", "2", "7", "-3", "0"], "n": ["n", "m", "2.5", "-0.05", "12.34"], "t": ["t", "u", "'a'", "'Sluis'", "''"], "b": ["b", "c", "TRUE", "FALSE"],
    "d": ["d", "e", "DATE '2024-02-29'"], "p": ["ts", "TIMESTAMP '2024-02-29 12:30:00'"],
}  # fmt: skip
RULES = {
    "i": ["({i} + {i})", "({i} - {i})", "({i} * {i})", "({i} / {i})", "({i} % {i})", "abs({i})", "char_length({t})", "octet_length({t})", "strpos({t}, {t})", "CASE WHEN {b} THEN {i} ELSE {i} END",
          "coalesce({i}, {i})", "nullif({i}, {i})", "greatest({i}, {i})", "least({i}, {i})", "({d} - {d})", "CAST({b} AS integer)", "CAST(extract(year FROM {p}) AS integer)", "(- {i})"],
    "n": ["({n} + {n})", "({n} - {n})", "({n} * {i})", "round({n}, 1)", "round({n}, 0)", "trunc({n}, 1)", "abs({n})", "coalesce({n}, {n})", "CASE WHEN {b} THEN {n} ELSE {i} END", "CAST({i} AS decimal(14,2))",
          "least({n}, {i})", "floor({n})", "ceiling({n})", "extract(month FROM {d})", "mod({n}, {n})"],
    "t": ["upper({t})", "lower({t})", "({t} || {t})", "({t} || {i})", "substring({t} FROM 2 FOR 3)", "left({t}, 3)", "right({t}, 2)", "replace({t}, 'a', 'o')", "trim({t})", "concat({t}, {b}, {i})",
          "concat_ws('-', {t}, {t}, {i})", "coalesce({t}, {t})", "nullif({t}, {t})", "CASE WHEN {b} THEN {t} ELSE {t} END", "lpad({t}, 6, '*')", "CAST({i} AS text)", "CAST(n AS text)", "CAST({d} AS text)",
          "CAST({b} AS text)", "CAST({p} AS text)", "regexp_replace({t}, '[aeiou]+', '#', 'g')", "split_part({t}, 'u', 1)", "reverse({t})", "initcap({t})", "translate({t}, 'Su', 'zo')", "greatest({t}, {t})"],
    "b": ["({i} = {i})", "({i} < {n})", "({t} <> {t})", "({t} <= {t})", "({d} > {d})", "({p} >= {d})", "({b} AND {b})", "({b} OR {b})", "(NOT {b})", "({i} IS NULL)", "({t} IS NOT NULL)", "({b} IS TRUE)",
          "({i} IN ({i}, {i}, 7))", "({t} IN ({t}, 'a'))", "({i} BETWEEN {i} AND {i})", "({i} BETWEEN SYMMETRIC {i} AND {i})", "({t} LIKE '%a%')", "({t} ILIKE 's%')", "({n} IS DISTINCT FROM {n})",
          "regexp_like({t}, '^[A-Z]')", "({t} SIMILAR TO '[a-zA-Z]+')"],
    "d": ["({d} + 3)", "({d} - 40)", "CAST({p} AS date)", "coalesce({d}, {d})", "CASE WHEN {b} THEN {d} ELSE {d} END", "least({d}, {d})"],
    "p": ["({p} + INTERVAL '1 month')", "({p} - INTERVAL '36 hours')", "date_trunc('month', {p})", "CAST({d} AS timestamp)", "coalesce({p}, {p})", "({d} + INTERVAL '1 day')", "greatest({p}, {p})"],
}  # fmt: skip


def test_the_known_differences_stand_in_the_documentation() -> None:
    text = Path("docs/expressions.md").read_text(encoding="utf-8").partition("## Known differences")[2]
    for phrase in KNOWN:
        assert phrase in text, phrase


def constant_fails(yard: Any, text: str) -> bool:
    """Whether a part that is the same for all rows has no value, which PostgreSQL tells even where there are no rows."""
    import psycopg

    try:
        yard.execute(f"SELECT {text} FROM yard WHERE false")
    except psycopg.Error:
        return True
    return False


def test_random_expressions_agree_with_postgresql(yard: Any) -> None:
    print(f"seed {SEED}: set KANAL_TEST_SEED to repeat it")
    maker = Maker(random.Random(SEED))
    count = 14
    generated, types = rows()[:count], {name: parse_type(kind) for name, kind in TYPES.items()}
    columns = {name: pa.array([row[name] for row in generated], types[name].arrow) for name in TYPES}
    yard.execute(f"DROP VIEW IF EXISTS few; CREATE TEMP VIEW few AS SELECT * FROM yard WHERE no < {count}")
    compared, refused, wrong = 0, 0, []
    for _ in range(COUNT):
        text = maker.make(maker.chance.choice(list(RULES)), maker.chance.choice([1, 2, 2, 3]))
        theirs, errors = in_postgresql(yard, text, count)
        try:
            expression = compile_expression(text, Scope(types))
        except ExpressionError as error:
            if len(errors) < count:
                wrong.append(f"{text}: refused: {error}")
            refused += 1
            continue
        if errors and constant_fails(yard, text):
            continue
        frame = Frame(SourceBatch(count, columns), types)
        ours = frame.array(expression.node.evaluate(frame)).to_pylist()
        faults = {fault.row: fault.message for fault in frame.collect()}
        for row in range(count):
            compared += 1
            # PostgreSQL drops the other side of an operator with a constant NULL, and an error there with it.
            folded = theirs[row] is None and re.search(r"nullif\((-?\w+|'\w*'), \1\)", text)
            if row in faults and (
                row in errors
                or folded
                or any(said in faults[row] for said in STRICTER)
                or re.search("|".join(KNOWN.values()), faults[row])
            ):
                continue
            if row in errors or row in faults or not agree(ours[row], theirs[row], "/" in text):
                said = f"rejects: {faults[row]}" if row in faults else repr(ours[row])
                wrong.append(
                    f"{text} of row {row}: PostgreSQL {'an error' if row in errors else repr(theirs[row])}, Kanal {said}"
                )
    print(f"{COUNT} expressions, {compared} cells, {refused} refused, {len(wrong)} differ")
    assert compared > 0.9 * COUNT * count
    assert not wrong, f"{len(wrong)} of {compared} differ:\n" + "\n".join(wrong[:40])
