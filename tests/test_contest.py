"""Rows of one key: which of them is loaded, compared with a model of a few lines."""

from __future__ import annotations

import itertools
import os
import random
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Place
from test_servers import job, succeeded

Places = Callable[[str], Place]

#: By kind and name, how a target refuses the value 13: what is run first, the column's type, and what follows.
REFUSES = {
    ("sqlite", "check"): ("", "integer CHECK (v <> 13)", ""),
    ("sqlite", "nocase"): ("", "integer CHECK (v <> 13)", ""),
    ("sqlite", "foreign key"): ("CREATE TABLE p (v integer PRIMARY KEY)", "integer REFERENCES p (v)", ""),
    ("sqlite", "trigger"): (
        "",
        "integer",
        "CREATE TRIGGER tr BEFORE INSERT ON t WHEN NEW.v = 13 BEGIN SELECT RAISE(ABORT, 'no'); END\n"
        "CREATE TRIGGER tu BEFORE UPDATE ON t WHEN NEW.v = 13 BEGIN SELECT RAISE(ABORT, 'no'); END",
    ),
    ("postgresql", "check"): ("", "integer CHECK (v <> 13)", ""),
    ("postgresql", "citext"): ("", "integer CHECK (v <> 13)", ""),
    ("postgresql", "enum"): ("CREATE TYPE e AS ENUM ({values})", "e", ""),
    ("postgresql", "domain"): ("CREATE DOMAIN d AS integer CHECK (VALUE <> 13)", "d", ""),
    ("postgresql", "foreign key"): ("CREATE TABLE p (v integer PRIMARY KEY)", "integer REFERENCES p (v)", ""),
    ("postgresql", "trigger"): (
        "CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql AS "
        "'BEGIN IF NEW.v = 13 THEN RAISE EXCEPTION ''no''; END IF; RETURN NEW; END'",
        "integer",
        "CREATE TRIGGER tr BEFORE INSERT OR UPDATE ON t FOR EACH ROW EXECUTE FUNCTION no()",
    ),
    ("mariadb", "check"): ("", "integer CHECK (v <> 13)", ""),
    ("mariadb", "enum"): ("", "enum({values})", ""),
    ("mariadb", "foreign key"): (
        "CREATE TABLE p (v integer PRIMARY KEY)", "integer, FOREIGN KEY (v) REFERENCES p (v)", ""),
    ("firebird", "check"): ("", "integer CHECK (v <> 13)", ""),
    ("firebird", "domain"): ("CREATE DOMAIN d AS integer CHECK (VALUE <> 13)", "d", ""),
}  # fmt: skip
WRITES = ["append", "append without a key", "truncate", "truncate without a key", "merge", "history"]
#: How often each load is tried, with new rows; by default a part of them is tried once.
TRIES = int(os.environ.get("KANAL_TEST_CONTESTS", "0"))
NAMES = ["alpha", "beta", "gamma", "delta", "epsilon"]
LISTED = ", ".join(f"'{v}'" for v in range(10, 13))
COUNTS = ("rejected", "superseded", "inserted", "updated", "unchanged")
Row = tuple[str | None, int]


def model(rows: list[Row], duplicates: str, there: dict[str, int], write: str) -> tuple[Counter[Row], Counter[str]]:
    """The rows that the target has in the end, and what became of those that were read."""
    counts: Counter[str] = Counter()
    held: Counter[Row] = Counter() if write.startswith("truncate") else Counter(there.items())
    groups: dict[object, list[Row]] = {}
    for number, (key, v) in enumerate(rows):
        groups.setdefault(number if key is None else key.lower(), []).append((key, v))
    for group in groups.values():
        ordered = group[::-1] if duplicates == "last" else group
        key = next((old for old in there if str(group[0][0]).lower() == old), None)
        while ordered:
            name, v = ordered.pop(0)
            if v == 13 or (write == "append" and key is not None) or name is None:
                counts["rejected"] += 1
                continue
            counts["rejected" if duplicates == "reject" else "superseded"] += len(ordered)
            if write in ("merge", "history") and key is not None:
                counts["unchanged" if there[key] == v else "inserted" if write == "history" else "updated"] += 1
                held[key, there[key]] -= 1
                held[key, v] += 1
            else:
                counts["inserted"] += 1
                held[name, v] += 1
            break
    return +held, +counts


def folded(rows: Counter[Row]) -> Counter[Row]:
    """Rows whose keys are all spelt alike."""
    made: Counter[Row] = Counter()
    for (key, v), count in rows.items():
        made[key and key.lower(), v] += count
    return made


class Arena:
    """A source of rows and a target that refuses some, in one place for all write rules."""

    def __init__(self, places: Places, folder: Path, case: tuple[str, str]) -> None:
        self.folder = folder
        self.kind, self.how = case
        self.old, self.new = places("sqlite"), places(self.kind)
        self.first, self.declared, self.after = (text.format(values=LISTED) for text in REFUSES[case])
        self.old.sql("CREATE TABLE s (n integer PRIMARY KEY, k text, v integer)")
        if self.how == "citext":
            self.new.sql("CREATE EXTENSION citext")
        if self.first:
            self.new.sql(self.first)
        if "TABLE p" in self.first:
            self.new.sql(*(f"INSERT INTO p VALUES ({v})" for v in range(10, 13)))

    def target(self, write: str) -> None:
        """Create the target of a write rule, with a primary key unless it is to have none."""
        names = {"nocase": "text COLLATE NOCASE", "citext": "citext"}.get(self.how, "varchar(9)")
        moment = {"mariadb": "datetime(6)"}.get(self.kind, "timestamp")
        versions = f", since {moment} NOT NULL, ended {moment}" if write == "history" else ""
        keyed = not write.endswith("without a key")
        key = f", PRIMARY KEY (k{', since' if versions else ''})" if keyed else ""
        column, foreign, rest = self.declared.partition(", FOREIGN")
        null = " NOT NULL" if keyed else ""
        self.new.sql(f"CREATE TABLE t (k {names}{null}, v {column}{versions}{key}{foreign}{rest})")
        if self.after:
            self.new.sql(*self.after.split("\n"))

    def load(self, rows: list[Row], there: dict[str, int], write: str, more: str) -> tuple[Counter[Row], Any]:
        """Load rows into a target that has others; what it has in the end, and the step."""
        self.old.sql("DELETE FROM s", *(
            f"INSERT INTO s VALUES ({n}, {'NULL' if k is None else repr(k)}, {v})" for n, (k, v) in enumerate(rows)))  # fmt: skip
        begun = ", '2020-01-01 00:00:00', NULL" if write == "history" else ""
        self.new.sql("DELETE FROM t", *(f"INSERT INTO t VALUES ('{k}', '{v}'{begun})" for k, v in there.items()))
        body = (
            f'[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nwrite = "{write}"\nkey = "k"\nskip = ["n"]\n'
            f'order_by = "n"\n{more}' + ('history = { from = "since", until = "ended" }\n' if begun else "")
        )
        step = succeeded(job(self.folder, body, old=self.old, new=self.new).run())["t"]
        current = " WHERE ended IS NULL" if begun else ""
        return Counter((k, int(v)) for k, v in self.new.rows(f"SELECT k, v FROM t{current}")), step


@pytest.mark.parametrize("case", REFUSES, ids="-".join)
def test_rows_of_one_key(places: Places, tmp_path: Path, case: tuple[str, str]) -> None:
    chance = random.Random(repr(case))
    arena = Arena(places, tmp_path, case)
    folds, early = arena.how in ("nocase", "citext"), arena.how in ("enum", "domain")
    for write in WRITES:
        arena.target(write)
        rule, keyed = write.split(" ", maxsplit=1)[0], not write.endswith("without a key")
        commits = ["step"] if write == "history" else ["step", "batch"]
        loads = [*itertools.product(("first", "last", "reject"), commits)]
        for duplicates, commit in loads * TRIES if TRIES else chance.sample(loads, 3):
            if (write, duplicates, commit) == ("append without a key", "last", "batch"):
                continue  # rows that were there before have the key too, so the step fails
            names: list[str | None] = [*NAMES, *(name.upper() for name in NAMES if folds)]
            names += [None] if write == "append" or not keyed else []
            rows = [(chance.choice(names), chance.randint(10, 13)) for _ in range(chance.randint(1, 30))]
            there = {name: chance.randint(10, 12) for name in chance.sample(NAMES, chance.randint(0, 3))}
            size = chance.choice([1, 2, 3, 7, 50])
            more = f'duplicates = "{duplicates}"\ncommit = "{commit}"\nbatch_rows = {size}\n'
            found, step = arena.load(rows, there, rule, more)
            said = repr((write, more, rows, there))
            expected, counts = model(rows, duplicates, there, write)
            if rule in ("merge", "history") and folds:  # which leave a key as it was spelt
                found, expected = folded(found), folded(expected)
            assert found == expected, said
            tally = {name: getattr(step.tally, name) for name in COUNTS}
            assert len(step.rejects()) == tally["rejected"], said
            if duplicates == "last" and (commit == "batch" or early):
                # Rows are tried that a later row follows: those of earlier batches, and those that cannot even wait.
                assert tally["inserted"] == counts["inserted"], said
            else:
                assert Counter({name: count for name, count in tally.items() if count}) == counts, said
        arena.new.sql("DROP TABLE t")
