"""Values at the edges: of expressions, and of formats that cannot hold all of them."""

from __future__ import annotations

import datetime as dt
import json
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kanal
from conftest import Files
from kanal.connections.files.writers import WorkbookWriter
from kanal.core.conversions import converter
from kanal.core.conversions.formats import compiled
from kanal.core.errors import ExpressionError
from kanal.core.expressions import Scope, compile_expression
from kanal.core.frame import Frame, SourceBatch
from kanal.core.profile import guess_type
from kanal.core.types import TEXT, parse_type
from kanal.definition import Format
from test_runs import counts


def value_of(text: str, **columns: tuple[str, Any]) -> Any:
    """The value of an expression over one row, or the message of its fault."""
    types = {name: parse_type(kind) for name, (kind, _) in columns.items()}
    arrays = {name: pa.array([value], types[name].arrow) for name, (_, value) in columns.items()}
    frame = Frame(SourceBatch(1, arrays), types)
    found = frame.array(compile_expression(text, Scope(types)).node.evaluate(frame)).to_pylist()[0]
    faults = frame.collect()
    return faults[0].message if faults else found


@pytest.mark.parametrize(
    ("text", "pattern", "by", "flags", "expected"),  # as PostgreSQL 15 has it
    [
        ("a/b/c", "/", "\\", "g", "a\\b\\c"),
        ("a/b", "/", "\\q", "", "a\\qb"),
        ("a/b", "/", "\\0", "", "a\\0b"),
        ("a/b", "/", "\\\\", "", "a\\b"),
        ("a/b", "/", "[\\&]", "", "a[/]b"),
        ("aé", "\\y", "#", "", "#aé"),
        ("é a", "\\ya", "#", "", "é #"),
        ("ab", "a$|(a)", "<\\1>", "", "<a>b"),
        ("ba", "\\Ba", "#", "", "b#"),
        ("aab", "^a", "#", "", "#ab"),
        ("x1y2", "([a-z])([0-9])$", "\\2\\1", "", "x12y"),
        ("abcdefghij", "(a)(b)(c)(d)(e)(f)(g)(h)(i)", "\\9\\8", "", "ihj"),
        ("", "^", "#", "", "#"),
    ],
)
def test_regexp_replace(text: str, pattern: str, by: str, flags: str, expected: str) -> None:
    columns = {"t": ("text", text), "p": ("text", pattern), "b": ("text", by), "f": ("text", flags)}
    assert value_of("regexp_replace(t, p, b, f)" if flags else "regexp_replace(t, p, b)", **columns) == expected


@pytest.mark.parametrize("text", ["9" * 401, "1e400", "-1e5000", "1e-400", "0." + "1" * 401, "1e999999"])
@pytest.mark.parametrize("kind", ["decimal", "decimal(38,10)", "decimal(76,3)", "integer", "double precision"])
def test_a_number_of_any_length_has_a_value_or_a_reason(text: str, kind: str) -> None:
    values, faults = converter(TEXT, parse_type(kind))(pa.array([text]))
    assert faults or values.to_pylist()[0] is not None


def test_expressions_that_ended_a_step() -> None:
    big = {"l": ("bigint", 9223372036854775807), "n": ("decimal(38,0)", Decimal(10) ** 30)}
    assert value_of("round(n, l)", **big) == Decimal(10) ** 30
    assert value_of("round(n * n, -70)", **big) == 0
    with pytest.raises(ExpressionError, match="has no type"):
        value_of("(NULL + NULL)")


JOB = 'job = "t"\n[connection.old]\nurl = "sqlite:///old.db"\n[connection.f]\nurl = "file://f"\n[connection.new]\nurl = "sqlite:///new.db"\n'


@pytest.mark.parametrize("ending", ["jsonl", "json"])
def test_json_keeps_every_character(files: Files, ending: str) -> None:
    document = json.dumps({"a": "\u2028\u2029\u0085\x0b", "b": [1]}, ensure_ascii=False, indent=1)
    files.database("old.db", "CREATE TABLE s (k integer PRIMARY KEY, j json)", s=[(1, document)])
    (files.folder / "f").mkdir()
    (files.folder / "job.toml").write_text(f'{JOB}[pipeline.t]\nsource = "old:s"\ntarget = "f:t-{{run}}.{ending}"\n')
    assert kanal.Job.read(files.folder / "job.toml").run()["t"].error is None
    (path,) = (files.folder / "f").glob("*.json*")
    found = json.loads(path.read_text(encoding="utf-8"))
    assert (found if ending == "jsonl" else found[0])["j"] == json.loads(document)


EDGES = [0.1 + 0.2, 1 / 3, 1.7976931348623157e308, 5e-324, 1e15, 123456789.125]
MOMENTS = [dt.datetime(1900, 1, 1), dt.datetime(1900, 2, 28, 12), dt.datetime(1900, 3, 1), dt.datetime(2024, 2, 29, 1, 2, 3, 4000),
           dt.datetime(9999, 12, 31, 23, 59, 59), dt.datetime(2024, 1, 1, 0, 0, 0, 1)]  # fmt: skip


@settings(max_examples=30, deadline=None)
@given(
    rows=st.lists(
        st.tuples(
            st.one_of(st.sampled_from(EDGES), st.floats(allow_nan=False)),
            st.one_of(st.sampled_from(MOMENTS), st.datetimes(dt.datetime(1890, 1, 1), dt.datetime(9999, 12, 31))),
            st.times(),
            st.integers(-(2**60), 2**60),
        ),
        min_size=1,
        max_size=8,
    )
)
def test_a_workbook_gives_back_what_it_takes(tmp_path_factory: pytest.TempPathFactory, rows: list[Any]) -> None:
    pytest.importorskip("xlsxwriter")
    folder = tmp_path_factory.mktemp("book")
    kinds = [("x", pa.float64()), ("m", pa.timestamp("us")), ("t", pa.time64("us")), ("n", pa.int64())]
    table = pa.RecordBatch.from_arrays(
        [pa.array([row[place] for row in rows], kind) for place, (_, kind) in enumerate(kinds)],
        names=[n for n, _ in kinds],
    )
    _, faults = WorkbookWriter.stored(table, Format(kind="excel"))
    bad = {fault.row for _, fault in faults}
    good = [row for number, row in enumerate(rows) if number not in bad]
    source = table.take(pa.array([number for number in range(len(rows)) if number not in bad], pa.int64()))
    (folder / "job.toml").write_text(
        JOB + '[pipeline.t]\nsource = "f:b.xlsx"\ntarget = "new:t"\ncolumns = { x = "x", m = "m", t = "t", n = "n" }\n'
    )
    if not good:
        return
    (folder / "f").mkdir()
    types = [parse_type(kind) for kind in ("double precision", "timestamp", "time", "bigint")]
    with (folder / "f" / "b.xlsx").open("wb") as stream:
        writer = WorkbookWriter(stream, source.schema.names, types, Format(kind="excel"))
        writer.add(WorkbookWriter.encoded(source, types, Format(kind="excel")))
        writer.finish()
    files = Files(folder)
    files.database("new.db", "CREATE TABLE t (x double precision, m timestamp, t time, n bigint)")
    files.database("old.db", "")
    step = kanal.Job.read(folder / "job.toml").run()["t"]
    assert step.error is None
    assert not step.rejects().to_pylist()
    found = files.rows("new.db", "SELECT x, m, t, n FROM t")
    shown = [(x, dt.datetime.fromisoformat(m), dt.time.fromisoformat(t), n) for x, m, t, n in found]
    assert shown == good


def test_every_line_of_a_fixed_width_file_is_accounted_for(files: Files) -> None:
    (files.folder / "f").mkdir()
    (files.folder / "f" / "t.txt").write_text("1a\n\n2b\n   \n3c\n\n\n")
    files.database("new.db", "CREATE TABLE t (n integer, v text)")
    files.job(
        '[connection.f]\nurl = "file://f"\n[format.fw]\nkind = "fixed"\ncolumns = { n = [1, 1], v = [2, 2] }\n'
        '[pipeline.t]\nsource = { connection = "f", files = "t.txt", format = "fw" }\ntarget = "new:t"\n'
    )
    step = kanal.Job.read(files.folder / "job.toml").run()["t"]
    assert counts(step) == {"read": 5, "inserted": 3, "rejected": 2}
    assert [(r["row"]["file.line"], "blank" in r["message"]) for r in step.rejects().to_pylist()] == [
        ("2", True),
        ("4", True),
    ]


def test_an_object_without_any_of_the_columns_is_no_row(files: Files) -> None:
    (files.folder / "f").mkdir()
    lines = [{"a": 1, "b": {"c": 2}}, {"zz": 1}, {"a": None}, {"b": {}}]
    (files.folder / "f" / "t.jsonl").write_text("".join(json.dumps(line) + "\n" for line in lines))
    files.database("new.db", "CREATE TABLE t (x integer, y integer)")
    files.job(
        '[connection.f]\nurl = "file://f"\n[format.j]\nkind = "jsonl"\ncolumns = { x = "/a", y = "/b/c" }\n'
        '[pipeline.t]\nsource = { connection = "f", files = "t.jsonl", format = "j" }\ntarget = "new:t"\n'
    )
    step = kanal.Job.read(files.folder / "job.toml").run()["t"]
    assert counts(step) == {"read": 4, "inserted": 2, "rejected": 2}
    assert {"zz" in str(r["row"]) for r in step.rejects().to_pylist()} == {True, False}


def dates(form: str, count: int, start: dt.date = dt.date(2000, 1, 1)) -> list[str]:
    return [f"{start + dt.timedelta(days=day):{form}}" for day in range(count)]


@pytest.mark.parametrize(
    ("texts", "shown"),
    [
        (dates("%Y-%m-%d", 300) + dates("%d.%m.%Y", 200), 'date in several formats: "%Y-%m-%d" 60 %, "%d.%m.%Y" 40 %'),
        (dates("%Y-%m-%d", 400) + dates("%d-%m-%Y", 200), 'date in several formats: "%Y-%m-%d" 66.6 %, "%d-%m-%Y" 33.3 %'),
        ([str(n) for n in range(300)] + [f"x{n}" for n in range(200)], "bigint: 60 %"),
        ([str(n) for n in range(300)] + [f"x{n}" for n in range(700)], None),
        ([str(n) for n in range(1000)], "bigint: all"),
        (dates("%d/%m/%Y", 10, dt.date(2000, 1, 1)) + dates("%d/%m/%Y", 500), "date (format = \"%d/%m/%Y\"): all"),
    ],
)  # fmt: skip
def test_what_is_said_of_a_sample_is_true_of_all_of_it(texts: list[str], shown: str | None) -> None:
    guess = guess_type(pa.chunked_array([pa.array(texts)]))
    assert (None if guess is None else guess.shown) == shown


FORMS = ["%Y-%m-%d", "%d-%m-%Y", "%y-%m-%d", "%m-%d-%Y", "%d.%m.%y", "%d.%m.%Y", "%Y%m%d", "%d%m%y", "%Y-%j", "%Y-%m-%d %H:%M",
         "%H:%M", "%M:%S", "%S.%f", "%Y-%m"]  # fmt: skip


@settings(max_examples=300, deadline=None)
@given(one=st.sampled_from(FORMS), other=st.sampled_from(FORMS), moment=st.datetimes(dt.datetime(2000, 1, 1)))
def test_formats_that_exclude_each_other_read_no_text_both(one: str, other: str, moment: dt.datetime) -> None:
    forms = compiled(one), compiled(other)
    text = moment.strftime(one)
    if forms[0].excludes(forms[1]):
        assert forms[0].pattern.fullmatch(text)
        assert not forms[1].pattern.fullmatch(text)
    assert compiled("%Y-%m-%d").excludes(compiled("%d-%m-%Y"))
    assert not compiled("%d-%m-%y").excludes(compiled("%m-%d-%y"))
