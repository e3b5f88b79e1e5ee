"""Formats beside CSV: JSON, fixed width, workbooks, packed files; and thousands of damaged files of each."""

from __future__ import annotations

import datetime as dt
import gzip
import io
import json
import random
import zipfile
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import xlsxwriter
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kanal
from conftest import Cli, Files, document
from kanal.connections.files import packing, text
from kanal.connections.files.formats import format_of
from kanal.connections.files.stores import LocalStore
from kanal.core.errors import KanalError
from test_servers import succeeded


def read(path: Path, at_once: int = 3, **form: Any) -> tuple[list[str], list[tuple[Any, ...]], list[tuple[int, str]]]:
    """The columns of a file, its rows with their lines, and what is wrong with which line."""
    file = LocalStore(path.parent).look_up(path.name)
    assert file is not None
    made = format_of(file, kanal.Format(**form) if form else None)
    names = [column.name for column in made.columns_of(file)]
    found, bad = [], []
    for part in made.parts(file, names, at_once):
        columns = [part.columns[name].to_pylist() for name in names]
        found += [(int(line), *values) for line, *values in zip(part.lines, *columns, strict=True)]
        bad += [(one.line, one.wrong) for one in part.bad]
    return names, found, bad


FIXED = {"kind": "fixed", "columns": {"card": [1, 4], "name": [5, 9], "toll": [10, 14]}}


@pytest.mark.parametrize(
    ("content", "form", "rows", "bad"),
    [
        (b"0001Anna 12.50\n0002Bo       1\n", {}, [(1, "0001", "Anna", "12.50"), (2, "0002", "Bo", "1")], []),
        (b"0001          \r\n\n0002Bo   1.00\x20more\r\n\x1a", {}, [(1, "0001", None, None), (3, "0002", "Bo", "1.00")], [(2, "the line is blank")]),
        (b"0001Anna\n0002Bo   12.50\n", {}, [(2, "0002", "Bo", "12.50")], [(1, "it has 8 characters")]),
        (b"0001Anna\n0002", {"pad_lines": True}, [(1, "0001", "Anna", None), (2, "0002", None, None)], []),
        ("0001J\u00f6rg  2.00\n".encode("cp850"), {"encoding": "cp850"}, [(1, "0001", "J\u00f6rg", "2.00")], []),
        (b"0001J\xf6rg  2.00\n", {}, [], [(1, "it is not text in UTF-8")]),
        (b"Old house\n* note\n0001Anna 12.50\n", {"skip_lines": 1, "comment": "*"}, [(3, "0001", "Anna", "12.50")], []),
    ],
)  # fmt: skip
def test_fixed_width(tmp_path: Path, content: bytes, form: dict[str, Any], rows: Any, bad: Any) -> None:
    (tmp_path / "cards.dat").write_bytes(content)
    names, found, wrong = read(tmp_path / "cards.dat", **FIXED, **form)
    assert (names, found) == (["card", "name", "toll"], rows)
    assert [(line, said) for line, said in bad] == [
        (line, said[: len(want)]) for (line, said), (_, want) in zip(wrong, bad, strict=True)
    ]


def test_a_file_of_fixed_width_that_is_cut_off(tmp_path: Path) -> None:
    (tmp_path / "cards.dat").write_bytes(b"0001Anna 12.50\n0002Bo")
    with pytest.raises(KanalError, match="ends in the middle of a record, on line 2"):
        read(tmp_path / "cards.dat", **FIXED)


JSON = '{"a": 1.50, "b": "x\\ny", "c": {"d": [1, 2.0]}}'
#: What a value becomes.
VALUES = [("1.50", "1.50"), ("12345678901234567890", "12345678901234567890"), ("1e5", "1e5"), ('"007"', "007"),
          ('""', ""), ("null", None), ("true", "true"), ("[1, 2.0]", "[1, 2.0]"),
          ('{"k": "\\u00e9", "n": 1.0}', '{"k": "\u00e9", "n": 1.0}')]  # fmt: skip


@pytest.mark.parametrize(("written", "value"), VALUES)
@pytest.mark.parametrize("ending", [".json", ".jsonl"])
def test_a_value_of_json(tmp_path: Path, ending: str, written: str, value: str | None) -> None:
    content = f'{{"v": {written}, "w": 1}}'
    (tmp_path / f"a{ending}").write_text(f"[{content}]" if ending == ".json" else content + "\n", encoding="utf-8")
    assert read(tmp_path / f"a{ending}")[1] == [(1, value, "1")]


@pytest.mark.parametrize("block", [1, 5, 1 << 20])
@pytest.mark.parametrize(
    ("ending", "content", "form", "rows", "bad"),
    [
        (".jsonl", f'{JSON}\n\n{{"a": 2, "b": null}}\n', {}, [(1, "1.50", "x\ny", '{"d": [1, 2.0]}'), (3, "2", None, None)], []),
        (".jsonl", '{"a": 1}\n[1]\n{"a": NaN}\n{"a": 1, "a": 2}\n{"a": }\n5\n{"a": "\\ud800"}\n', {}, [(1, "1")], [2, 3, 4, 5, 6, 7]),
        (".ndjson", f"{JSON}\n", {"kind": "jsonl", "columns": {"d": "/c/d/1", "e": "/c/x", "f": "/c/d/9"}}, [(1, "2.0", None, None)], []),
        (".json", f'[{JSON}, 7, {{"a": 2}}]', {}, [(1, "1.50", "x\ny", '{"d": [1, 2.0]}'), (3, "2", None, None)], [2]),
        (".json", f'{{"n": [1, {{}}], "data": {{"x~/y": [0, [{JSON}]]}}, "z": 1}}',
         {"kind": "json", "rows": "/data/x~0~1y/1", "columns": {"a": "/a"}}, [(1, "1.50")], []),
        (".json", "[ ]", {"kind": "json", "columns": {"a": "/a"}}, [], []),
        (".json", "\ufeff[{\"a\": \"\u20ac\"}]\n", {}, [(1, "\u20ac")], []),
    ],
)  # fmt: skip
def test_json(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    ending: str,
    content: str,
    form: Any,
    rows: Any,
    bad: Any,
    block: int,
) -> None:
    monkeypatch.setattr(text.in_utf8, "__defaults__", (block,))
    (tmp_path / f"a{ending}").write_text(content, encoding="utf-8")
    _, found, wrong = read(tmp_path / f"a{ending}", **form)
    assert (found, [line for line, _ in wrong]) == (rows, bad)


@pytest.mark.parametrize(
    ("name", "content", "form", "said"),
    [
        ("a.json", '[{"a": 1}, {"a"', {}, "ends in the middle of a record"),
        ("a.json", '[{"a": "x', {}, "ends in the middle of a record"),
        ("a.json", '[{"a": 1}', {}, "ends in the middle of a record"),
        ("a.json", '[{"a": 1} {"a": 2}]', {}, "is no JSON"),
        ("a.json", '[{"a": 1}] x', {}, "more follows after its list"),
        ("a.json", '{"a": 1}', {}, "has no list at its beginning"),
        ("a.json", '{"a": 1}', {"kind": "json", "rows": "/items"}, "has nothing at /items"),
        ("a.json", "", {}, "has no list at its beginning"),
        ("a.json", "[" * 100_000, {}, "nested too deeply"),
        ("a.jsonl", '{"a": 1}\n{"a": 2', {}, "ends in the middle of a record, on line 2"),
        ("a.jsonl", "", {}, "has no rows, so its columns are not known"),
    ],
)  # fmt: skip
def test_what_is_no_json(tmp_path: Path, name: str, content: str, form: Any, said: str) -> None:
    (tmp_path / name).write_text(content)
    with pytest.raises(KanalError, match=said):
        read(tmp_path / name, **form)


def test_columns_that_come_late(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("kanal.connections.files.json_text._LOOKED_AT", 2)
    (tmp_path / "a.jsonl").write_text('{"a": 1}\n{"b": 2}\n{"c": 3}\n')
    names, found, bad = read(tmp_path / "a.jsonl")
    assert (names, found, bad[0][0]) == (["a", "b"], [(1, "1", None), (2, None, "2")], 3)


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3),
    max_leaves=5,
)


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    rows=st.lists(st.fixed_dictionaries({"a": json_values, "b": st.text(max_size=5)}), min_size=1, max_size=6),
    block=st.integers(1, 30),
)
def test_any_json_is_read(tmp_path: Path, rows: list[Any], block: int) -> None:
    (tmp_path / "a.json").write_text(json.dumps({"items": rows, "n": 1}, ensure_ascii=False), encoding="utf-8")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(text.in_utf8, "__defaults__", (block,))
        _, found, bad = read(tmp_path / "a.json", kind="json", rows="/items", columns={"a": "/a", "b": "/b"})
    assert not bad and [row[2] for row in found] == [row["b"] for row in rows]
    for (_, value, _), row in zip(found, rows, strict=True):
        assert value == row["a"] if isinstance(row["a"], str) or value is None else json.loads(value) == row["a"]


def workbook(path: Path, fill: Callable[[Any, Any], None], **options: Any) -> None:
    made = xlsxwriter.Workbook(str(path), options)
    fill(made, made.add_worksheet("Cards"))
    made.add_worksheet("Empty")
    made.close()


def cards(made: Any, sheet: Any) -> None:
    """A title, an empty row, a header in B3; dates, numbers, texts, errors, merged and empty rows."""
    moment, day = made.add_format({"num_format": "yyyy-mm-dd hh:mm"}), made.add_format({"num_format": "dd.mm.yyyy"})
    clock = made.add_format({"num_format": "hh:mm"})
    sheet.write(0, 0, "House list")
    sheet.write_row(2, 1, ["no", "name", "at", "day", "clock", "ok", "toll"])
    sheet.write_row(3, 1, [1, "007"])
    sheet.write_datetime(3, 3, dt.datetime(2024, 2, 29, 12, 30), moment)
    sheet.write_datetime(3, 4, dt.datetime(1904, 1, 2) if made.date_1904 else dt.datetime(1900, 3, 1), day)
    sheet.write_datetime(3, 5, dt.time(7, 5), clock)
    sheet.write_boolean(3, 6, True)
    sheet.write_number(3, 7, 12.5)
    sheet.write_row(5, 1, [2**53, "1,50"])
    sheet.merge_range(6, 1, 6, 2, 3)
    sheet.write_formula(7, 1, "=1/0", None, "#DIV/0!")
    sheet.write_number(8, 1, 2**53 + 4)
    sheet.write_row(9, 1, [5, "x", "", "", "", "", "", "beyond"])


@pytest.mark.parametrize("old", [False, True])
def test_a_workbook(tmp_path: Path, old: bool) -> None:
    workbook(tmp_path / "cards.xlsx", cards, date_1904=old)
    names, found, bad = read(tmp_path / "cards.xlsx", kind="excel", skip_lines=2, range="B1:H")
    assert names == ["no", "name", "at", "day", "clock", "ok", "toll"]
    nothing = (None,) * 5
    assert found == [
        (4, "1", "007", "2024-02-29 12:30:00", "1904-01-02" if old else "1900-03-01", "07:05:00", "true", "12.5"),
        (6, "9007199254740992", "1,50", *nothing), (7, "3", None, *nothing), (10, "5", "x", *nothing),
    ]  # fmt: skip
    assert bad == [(8, "its cell no has the error #DIV/0!"),
                   (9, "its cell no has 9007199254740996, and a workbook holds whole numbers up to "
                       "9,007,199,254,740,992 exactly: have it sent as text")]  # fmt: skip
    workbook(tmp_path / "cards.xlsx", lambda _, sheet: [sheet.write_row(n, 0, row) for n, row in enumerate(
        [["a", "b"], [1, 2, 3], [4, 5]])])  # fmt: skip
    assert read(tmp_path / "cards.xlsx") == (
        ["a", "b"],
        [(3, "4", "5")],
        [(2, "it has values beyond the 2 columns of the header")],
    )


def test_a_workbook_in_another_place(tmp_path: Path) -> None:
    workbook(tmp_path / "cards.xlsx", cards)
    by_number = read(tmp_path / "cards.xlsx", kind="excel", sheet=1, range="B3:C6")
    assert by_number == (["no", "name"], [(4, "1", "007"), (6, "9007199254740992", "1,50")], [])
    assert read(tmp_path / "cards.xlsx", kind="excel", sheet="Cards", range="B4:C4", header=False, columns=["x", "y"])[
        1
    ] == [(4, "1", "007")]
    for form, said in (
        ({"sheet": "Crads"}, "has no sheet Crads; it has Cards and Empty"),
        ({"sheet": 3}, "has no sheet 3"),
        ({"sheet": "Empty"}, "has no header: the sheet is empty there"),
        ({}, "its header, row 1, has 1 column, and most rows below it have more"),
    ):
        with pytest.raises(KanalError, match=said):
            read(tmp_path / "cards.xlsx", kind="excel", **form)


ODS = """<?xml version="1.0" encoding="UTF-8"?><office:document-content
 xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"
 xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" office:version="1.2"><office:body><office:spreadsheet>
<table:table table:name="Cards">{}</table:table></office:spreadsheet></office:body></office:document-content>"""

MANIFEST = """<?xml version="1.0" encoding="UTF-8"?><manifest:manifest
 xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><manifest:file-entry manifest:full-path="/"
 manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/></manifest:manifest>"""


def test_an_open_document(tmp_path: Path) -> None:
    def row(*cells: str) -> str:
        return f"<table:table-row>{''.join(cells)}</table:table-row>"

    def cell(kind: str, value: str, shown: str) -> str:
        attribute = {"float": "value", "date": "date-value", "boolean": "boolean-value"}.get(kind)
        given = f' office:{attribute}="{value}"' if attribute else ""
        return f'<table:table-cell office:value-type="{kind}"{given}><text:p>{shown}</text:p></table:table-cell>'

    content = row(cell("string", "", "no"), cell("string", "", "day"), cell("string", "", "name"))
    content += row(cell("float", "1", "1"), cell("date", "2024-02-29", "29.02.2024"), cell("string", "", "007"))
    with zipfile.ZipFile(tmp_path / "cards.ods", "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("META-INF/manifest.xml", MANIFEST)
        archive.writestr("content.xml", ODS.format(content))
    names, found, bad = read(tmp_path / "cards.ods")
    assert (names, bad) == (["no", "day", "name"], [])
    assert found[0][1] == "1" and str(found[0][2]).startswith("2024-02-29") and found[0][3] == "007"


def zipped(content: bytes, *names: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in names:
            archive.writestr(zipfile.ZipInfo(name), content, zipfile.ZIP_DEFLATED)  # which has no time of now
    return out.getvalue()


@pytest.mark.parametrize(
    ("name", "content", "said"),
    [
        ("a.csv.zip", zipped(b"a\n1\n", "a.csv"), ""),
        ("a.csv.zst", pa.compress(b"a\n1\n", "zstd", asbytes=True), ""),
        ("a.csv.zip", zipped(b"a\n1\n", "a.csv", "b.csv"), "holds 2 files: a.csv and b.csv"),
        ("a.csv.zip", zipped(b"a\n1\n", "a.csv")[:-30], "damaged, or not complete"),
        ("a.csv.zst", pa.compress(b"a\n1\n" * 999, "zstd", asbytes=True)[:-9], "damaged, or not complete"),
        ("a.csv.gz", gzip.compress(b"a\n" + b"\n" * 3_000_000, mtime=0), "unpacks to more than 1,000,000"),
        ("a.csv.zip", zipped(b"a\n" + b"\n" * 3_000_000, "a.csv"), "unpacks to more than 1,000,000"),
        ("a.xlsx", zipped(b"a\n" + b"\n" * 9_000_000, "xl/workbook.xml"), "unpacks to 9,000,002, more than 4,000,000"),
    ],
)  # fmt: skip
def test_packed_files(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str, content: bytes, said: str) -> None:
    monkeypatch.setattr(packing, "_HARMLESS", 1_000_000)
    monkeypatch.setattr("kanal.connections.files.workbook._MOST", 4_000_000)
    (tmp_path / name).write_bytes(content)
    if not said:
        assert read(tmp_path / name)[1] == [(2, "1")]
        return
    with pytest.raises(KanalError, match=said):
        read(tmp_path / name, at_once=100_000)
    if "more than 1" in said:
        assert len(read(tmp_path / name, at_once=10_000_000, unpacked_bytes=4_000_000)[1]) == 3_000_000


# --- damaged files --------------------------------------------------------------------------------------------------

ROWS = 40


def sound(folder: Path, ending: str) -> bytes:
    path = folder / f"sound{ending}"
    table = pa.table(
        {"a": list(range(ROWS)), "b": [f"text {n}" for n in range(ROWS)], "c": [n * 1.5 for n in range(ROWS)]}
    )
    if ending == ".jsonl":
        path.write_text("".join(json.dumps(row) + "\n" for row in table.to_pylist()))
    elif ending == ".json":
        path.write_text(json.dumps(table.to_pylist()))
    elif ending == ".dat":
        path.write_text("".join(f"{row['a']:4}{row['b']:<10}{row['c']:6}\n" for row in table.to_pylist()))
    elif ending == ".parquet":
        pq.write_table(table, path, row_group_size=10)
    elif ending == ".arrow":
        with pa.ipc.new_file(str(path), table.schema) as out:
            out.write_table(table, max_chunksize=10)
    elif ending == ".csv.gz":
        path.write_bytes(
            gzip.compress("".join(f"{row['a']},{row['b']},{row['c']}\n" for row in table.to_pylist()).encode())
        )
    else:
        made = xlsxwriter.Workbook(str(path))
        sheet = made.add_worksheet()
        sheet.write_row(0, 0, table.schema.names)
        for number, row in enumerate(table.to_pylist(), 1):
            sheet.write_row(number, 0, list(row.values()))
        made.close()
    return path.read_bytes()


def damaged(folder: Path, ending: str, times: int, seed: int) -> tuple[int, int]:
    """Read so many damaged files; how many were refused as a whole, and how many rows were bad."""
    chance, content = random.Random(seed), sound(folder, ending)
    form: dict[str, Any] = (
        {"kind": "fixed", "columns": {"a": [1, 4], "b": [5, 14], "c": [15, 20]}} if ending == ".dat" else {}
    )
    form = {"header": False, "columns": ["a", "b", "c"]} if ending == ".csv.gz" else form
    refused = bad_rows = 0
    path = folder / f"damaged{ending}"
    for _ in range(times):
        made = bytearray(content)
        for _ in range(chance.randrange(1, 4)):
            place = chance.randrange(len(made))
            made[place : place + chance.choice([0, 1, 1, 20])] = chance.choice(
                [b"", b'"', b"{", b"\n", b"\xff", b"\0", b",", bytes([chance.randrange(256)])]
            )
        path.write_bytes(made)
        try:
            _, rows, bad = read(path, at_once=7, **form)
        except KanalError:
            refused += 1
            continue
        lines = [row[0] for row in rows] + [line for line, _ in bad]
        assert len(set(lines)) == len(lines)
        if ending in (".jsonl", ".dat"):
            written = [n for n, line in enumerate(bytes(made).split(b"\n"), 1) if line.strip(b" \r\x1a")]
            assert sorted(lines) == (list(range(1, max(written) + 1)) if ending == ".dat" else written)
        elif ending == ".json":
            assert len(lines) == len(json.loads(bytes(made).decode("utf-8", "surrogateescape"), strict=True))
        elif ending == ".parquet":
            assert len(lines) == pq.read_metadata(path).num_rows
        bad_rows += len(bad)
    return refused, bad_rows


ENDINGS = [".jsonl", ".json", ".dat", ".csv.gz", ".parquet", ".arrow", ".xlsx"]


@pytest.mark.parametrize("ending", ENDINGS)
def test_damaged_files(tmp_path: Path, ending: str) -> None:
    refused, _ = damaged(tmp_path, ending, 60, 1)
    assert refused < 60 or ending == ".csv.gz"


@pytest.mark.matrix
@pytest.mark.parametrize("ending", ENDINGS)
def test_many_damaged_files(tmp_path: Path, ending: str) -> None:
    refused, bad = damaged(tmp_path, ending, 2000, 2)
    print(f"{ending}: {refused} of 2,000 refused, {bad} bad rows in the others")


def test_all_formats_of_a_pattern_go_as_one(files: Files, cli: Cli) -> None:
    """From files of each format to a table, with rejects, in one job."""
    inbox = files.folder / "inbox"
    inbox.mkdir()
    workbook(inbox / "cards.xlsx", cards)
    (inbox / "c.jsonl").write_text('{"a": 1.50, "b": "x"}\n{"a": "y"}\n[1]\n')
    (inbox / "c.dat").write_text("0001Anna 12.50\n0002\n")
    files.job("""
[connection.inbox]
url = "file:inbox"
[format.list]
kind = "excel"
range = "B3:C"
[format.cards]
kind = "fixed"
columns = { card = [1, 4], name = [5, 9], toll = [10, 14] }
[defaults]
create = "missing"
[pipeline.list]
source = { connection = "inbox", files = "*.xlsx", format = "list" }
target = "new:list"
[pipeline.list.columns]
no = { from = "no", type = "bigint" }
name = "name"
[pipeline.json]
source = "inbox:*.jsonl"
target = "new:json"
[pipeline.json.columns]
a = { from = "a", type = "decimal(9,2)" }
[pipeline.cards]
source = { connection = "inbox", files = "*.dat", format = "cards" }
target = "new:cards"
""")
    run = succeeded(kanal.Job.read(files.folder / "job.toml").run())
    assert {step.step: (step.tally.read, step.tally.inserted) for step in run} == {
        "list": (6, 4), "json": (3, 1), "cards": (2, 1)}  # fmt: skip
    said = sorted((reject["step"], reject["reason"]) for reject in document(cli("rejects", "--json")))
    assert said == [
        ("cards", "bad_line"),
        ("json", "bad_line"),
        ("json", "not_a_number"),
        ("list", "bad_line"),
        ("list", "bad_line"),
    ]
    assert Decimal(str(files.rows("new.db", "SELECT a FROM json")[0][0])) == Decimal("1.5")


# --- what a file seems to be ----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("content", "keys", "said"),
    [
        (b"id,name\n1,a\n2,b\n", {}, ["the header is id, name (certain)"]),
        (b"name,place\na,x\n", {}, ["the header is name, place (likely)"]),
        (b"id;toll\n1;1,5\n2;2,5\n", {"delimiter": ";"}, ["a semicolon divides the values (certain)", "the header is id, toll (certain)"]),
        (b"id\ttoll\n1\t5\n", {"delimiter": "\t"}, ["a tab divides the values (certain)", "the header is id, toll (certain)"]),
        (b"1,a\n2,b\n", {"header": False, "columns": ("column_1", "column_2")}, ["it has no header (likely)"]),
        (b"List\n\nid|n\n1|a\n", {"delimiter": "|", "skip_lines": 2},
         ["a bar divides the values (likely)", "2 lines come before the header (certain)", "the header is id, n (certain)"]),
        ("id;name\n1;J\u00f6rg\n".encode("cp1252"), {"encoding": "cp1252", "delimiter": ";"},
         ["it is text in cp1252, and not in UTF-8 (likely)", "a semicolon divides the values (certain)", "the header is id, name (certain)"]),
        ("id,name\n1,\u20ac\n".encode("utf-16-le"), {"encoding": "utf-16-le"}, ["it is text in utf-16-le (likely)", "the header is id, name (certain)"]),
        (b"\xef\xbb\xbfid,name\n1,a\n", {}, ["the header is id, name (certain)"]),
        (b"one\ntwo\n", {}, []),
        (b"", {}, []),
    ],
)  # fmt: skip
def test_what_a_file_seems_to_be(content: bytes, keys: dict[str, Any], said: list[str]) -> None:
    from kanal.connections.files.sniffing import sniff_text

    found = sniff_text(content, True, ".csv")
    given = {} if found.form is None else {name: value for name, value in found.form.given().items() if name != "kind"}
    assert (given, list(found.said)) == (keys, said)


def test_a_draft_of_files_runs(files: Files, cli: Cli) -> None:
    inbox = files.folder / "inbox"
    inbox.mkdir()
    (inbox / "cards.csv").write_bytes(
        "List\n\nno;name;passed;toll\n1;J\u00f6rg;01.03.2025;12,50\n2;Bo;15.03.2025;1,00\n".encode("cp1252")
    )
    workbook(inbox / "cards.xlsx", cards)
    (inbox / "plain.jsonl").write_text('{"a": 1}\n')
    shown = cli("sample", "file:inbox", "cards.xlsx").stdout
    assert "the table is in B3:H" in " ".join(shown.split())
    assert cli("draft", "file:inbox", "sqlite:///new.db", "--into", "job.toml").returncode == 0
    assert (
        "has all of these tables already" in cli("draft", "file:inbox", "sqlite:///new.db", "--into", "job.toml").stderr
    )
    run = succeeded(kanal.Job.read(files.folder / "job.toml").run())
    assert {step.step: step.tally.inserted for step in run} == {"cards_csv": 2, "cards_xlsx": 4, "plain_jsonl": 1}
    assert files.rows("new.db", "SELECT name, passed, toll FROM cards ORDER BY no") == [
        ("J\u00f6rg", "2025-03-01", 12.5), ("Bo", "2025-03-15", 1)]  # fmt: skip
