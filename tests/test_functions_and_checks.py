"""A user's own functions in expressions, and checks against other rows and other tables."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pytest

import kanal
from conftest import Cli, Files
from kanal.core.expressions import Scope, compile_expression
from kanal.core.expressions.user import UserFunction, compile_function
from kanal.core.frame import Frame, SourceBatch
from kanal.core.types import parse_type
from test_runs import counts, load

PAGE = (Path(__file__).parent.parent / "docs" / "expressions.md").read_text(encoding="utf-8")
JOB = """
    [pipeline.v]
    source = "old:v"
    target = "new:v"
    write = "truncate"
    columns = { name = "tidy(name)", digit = "check_digit(mark)" }
"""


def test_the_example_of_the_documentation(files: Files) -> None:
    code = re.search(r"```python\n(.*?)```", PAGE, re.DOTALL)
    assert code is not None
    (files.folder / "cleaning.py").write_text(code[1], encoding="utf-8")
    files.database(
        "old.db", "CREATE TABLE v (mark TEXT, name TEXT)", v=[("SW1234", " linde  "), ("SW12", "x"), (None, None)]
    )
    files.database("new.db", "CREATE TABLE v (name TEXT, digit INTEGER)")
    job = files.job(JOB)
    job.write_text('functions = "cleaning.py"\n' + job.read_text(encoding="utf-8"), encoding="utf-8")
    run = kanal.Job.read(job).run()
    assert files.rows("new.db", "SELECT * FROM v") == [("Linde", 0), (None, None)]
    rejects = run["v"].rejects().to_pylist()
    assert [(r["column"], r["value"]) for r in rejects] == [("digit", "SW12")]
    assert rejects[0]["message"] == "check_digit: ValueError: SW12 has 2 digits, not 4"


def called(body: Any, takes: str, text: str, **columns: Any) -> tuple[list[Any], list[tuple[int, str]]]:
    types = {name: parse_type("bigint") for name in columns}
    own = compile_function(UserFunction("own", body, takes))  # type: ignore[arg-type]
    expression = compile_expression(text, Scope(types, functions={"own": own}))
    arrays = {name: pa.array(values, pa.int64()) for name, values in columns.items()}
    frame = Frame(SourceBatch(len(next(iter(arrays.values()))), arrays), types)
    values = frame.array(expression.node.evaluate(frame)).to_pylist()
    return values, [(fault.row, fault.message) for fault in frame.collect()]


def test_each_way_of_calling() -> None:
    def half(a: Any) -> Any:
        return pc.divide(a.cast(pa.float64()), 2)

    half.__annotations__ = {"a": "bigint", "return": "'decimal(20,2)'"}
    values, faults = called(half, "arrow", "own(a) + 1", a=[1, None, 4])
    assert ([str(value) for value in values], faults) == (["1.50", "None", "3.00"], [])

    def strict(a: int) -> int:
        if a == 13:
            raise ValueError("unlucky")
        return a * 2

    expected = ([2, None, None, 6], [(2, "own: ValueError: unlucky")])
    assert called(strict, "value", "own(a)", a=[1, None, 13, 3]) == expected

    def over(values: Any) -> Any:
        if 13 in values.to_pylist():
            raise ValueError("unlucky")
        return pc.multiply(values, 2)

    over.__annotations__ = {"values": int, "return": int}
    assert called(over, "arrow", "own(a)", a=[1, None, 13, 3]) == expected
    plus = lambda a: a + 1  # noqa: E731
    plus.__annotations__ = {"a": float, "return": float}
    assert called(plus, "numpy", "own(a)", a=[1, 2]) == ([2.0, 3.0], [])


@pytest.mark.parametrize(
    ("code", "said"),
    [
        ("def f(a): return a", "declares no functions"),
        ("@kanal.function\ndef tidy(a): return a", "a has no type"),
        ("@kanal.function\ndef tidy(a: str): return a", "its result has no type"),
        ("@kanal.function\ndef tidy(a: 'txt') -> str: return a", '"txt" is not a type. Did you mean "text"?'),
        ("@kanal.function\ndef upper(a: str) -> str: return a", 'a function "upper" of its own'),
        ("import no_such_module_here", "no module no_such_module_here"),
        ("def f(:", "line 2"),
        ("1 / 0", "ZeroDivisionError"),
        ("@kanal.function\ndef tidi(a: str) -> str: return a", 'Did you mean "tidi"?'),
    ],
)
def test_functions_that_cannot_be_used(files: Files, code: str, said: str) -> None:
    (files.folder / "own.py").write_text("import kanal\n" + code, encoding="utf-8")
    files.database("old.db", "CREATE TABLE v (mark TEXT, name TEXT)")
    files.database("new.db", "CREATE TABLE v (name TEXT, digit INTEGER)")
    job = files.job(JOB.replace(', digit = "check_digit(mark)"', ""))
    job.write_text('functions = ["own.py"]\n' + job.read_text(encoding="utf-8"), encoding="utf-8")
    problems = kanal.Job.read(job).check()
    assert said in problems[0], problems


@pytest.mark.parametrize("returned", ["name.slice(1)", "1", "name.cast('int64')", "None"])
def test_a_function_that_returns_something_else_fails_the_step(files: Files, returned: str) -> None:
    code = f"import kanal\n@kanal.function\ndef tidy(name: str) -> str: return {returned}"
    (files.folder / "own.py").write_text(code, encoding="utf-8")
    files.database("old.db", "CREATE TABLE v (mark TEXT, name TEXT)", v=[("a", "1"), ("b", "2")])
    files.database("new.db", "CREATE TABLE v (name TEXT, digit INTEGER)")
    job = files.job(JOB.replace(', digit = "check_digit(mark)"', ""))
    job.write_text('functions = "own.py"\n' + job.read_text(encoding="utf-8"), encoding="utf-8")
    run = kanal.Job.read(job).run()
    if returned == "name.cast('int64')":  # bigint where text is declared: its text is taken
        assert run.status == "succeeded"
    else:
        assert "function tidy" in str(run["v"].error)


def test_checks_against_other_rows_and_other_tables(files: Files) -> None:
    rows = [(1, "a"), (2, "b"), (3, "a"), (4, "z"), (5, None), (6, None), (None, "b")]
    files.database("old.db", "CREATE TABLE t (id INTEGER, class TEXT)", t=rows)
    files.database(
        "new.db",
        "CREATE TABLE t (id INTEGER, class TEXT); CREATE TABLE tariff (class TEXT); CREATE TABLE banned (id INTEGER)",
        tariff=[("A",), ("A",), ("B",), (None,)],
        banned=[(2,)],
    )
    body = """
        [pipeline.t]
        source = "old:t"
        target = "new:t"
        write = "truncate"
        batch_rows = 2
        checks = [%s]
        [check.one_a_class]
        unique = "class"
        [check.known]
        value = "upper(class)"
        exists_in = { table = "new:tariff", column = "class" }
        [check.not_banned]
        value = "id"
        absent_from = { table = "new:banned", column = "id" }
    """
    for check, rejected in [('"one_a_class"', [3, None]), ('"known"', [4]), ('"not_banned"', [2])]:
        run = load(files, body % check)
        found = [r["row"]["id"] for r in run["t"].rejects().to_pylist()]
        assert found == [None if key is None else str(key) for key in rejected], check
        assert counts(run["t"])["rejected"] == len(rejected)
    run = load(files, body % '"known", "not_banned"')
    assert {r["message"] for r in run["t"].rejects().to_pylist()} == {
        "check known fails: upper(class) = Z is not in tariff.class",
        "check not_banned fails: id = 2 is already in banned.id",
    }


def test_all_reasons_of_a_row_on_request(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE t (a TEXT, b TEXT)", t=[("x", "2025-02-30")])
    files.database("new.db", "CREATE TABLE t (a INTEGER, b DATE)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nlist_reasons = "%s"'
    first = load(files, body % "first")["t"].rejects().to_pylist()
    assert [(r["column"], r["reason"]) for r in first] == [("a", "not_a_number")]
    assert "not_a_date" not in first[0]["message"]
    both = load(files, body % "all")["t"].rejects().to_pylist()
    assert [(r["column"], r["reason"]) for r in both] == [("a", "not_a_number")]
    assert 'also b, not_a_date: "2025-02-30" is not a date' in both[0]["message"]
    assert cli("rejects").returncode == 0
