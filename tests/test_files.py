"""Files as sources: every record is a row or a bad line, whatever the file; whole loads from a folder."""

from __future__ import annotations

import bz2
import csv
import datetime as dt
import gzip
import io
import os
import random
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kanal
from conftest import Cli, Files, Place, document
from kanal.connections.files import delimited, stores
from kanal.connections.files.delimited import DelimitedReader
from kanal.core.errors import KanalError
from kanal.definition import Format
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]


def read(content: bytes, delimiter: str = ",", **form: Any) -> tuple[list[str], list[tuple[Any, ...]], list[int]]:
    """The names, the rows with their lines, and the lines that are bad."""
    reader = DelimitedReader(io.BytesIO(content), Format(**form), delimiter, "f.csv")
    rows, bad = [], []
    for found in reader:
        columns = [column.to_pylist() for column in found.columns]
        rows += [(line, *values) for line, *values in zip(found.lines.tolist(), *columns, strict=True)]
        bad += [one.line for one in found.bad]
    return reader.names, rows, bad


@pytest.mark.parametrize("block", [1, 7, 4 * 1024 * 1024])
@pytest.mark.parametrize(
    ("content", "form", "rows", "bad"),
    [
        (b"a,b\n1,2\n3,4\n", {}, [(2, "1", "2"), (3, "3", "4")], []),
        (b"a,b\r\n1,2\r\n3,4", {}, [(2, "1", "2"), (3, "3", "4")], []),
        (b"a,b\n1,\n,\n", {}, [(2, "1", None), (3, None, None)], []),
        (b'a,b\n"",x\n1,""\n', {}, [(2, "", "x"), (3, "1", "")], []),  # nothing in quotes is a text
        (b'a,b\n"x, ""y""\nz",\n3,4\n', {}, [(2, 'x, "y"\nz', None), (4, "3", "4")], []),
        (b"a,b\n1\n2,3,4\n5,6\n", {}, [(4, "5", "6")], [2, 3]),
        (b'a,b\n"x"y,1\n5,6\n', {}, [(3, "5", "6")], [2]),
        (b"a,b\n1,caf\xc3\xa9\n2,\xff\n", {}, [(2, "1", "caf\u00e9")], [3]),
        (b"a,b\n1,caf\xe9\n", {"encoding": "cp1252"}, [(2, "1", "caf\u00e9")], []),
        (b"a,b\n1,\x81\n", {"encoding": "cp1252"}, [], [2]),
        ("a,b\n1,caf\u00e9\n".encode("utf-16"), {}, [(2, "1", "caf\u00e9")], []),
        ("a,b\n1,\u20ac\n".encode("utf-16-be"), {"encoding": "utf-16-be"}, [(2, "1", "\u20ac")], []),
        (b"\xef\xbb\xbfa,b\n1,2\n", {}, [(2, "1", "2")], []),
        (b"\xef\xbb\xbfa,b\n1,2\n", {"encoding": "utf-8"}, [(2, "1", "2")], []),
        (b"House list\n\na,b\n1,2\n", {"skip_lines": 2}, [(4, "1", "2")], []),
        (b"# made by hand\na,b\n# no row\n1,2\n", {"comment": "#"}, [(4, "1", "2")], []),
        (b"\n\na,b\n\n1,2\n\n", {}, [(5, "1", "2")], []),
        (b"a\n1\n\n3\n", {}, [(2, "1"), (3, None), (4, "3")], []),  # of one column, an empty line is a row
        (b"1,2\n", {"header": False, "columns": ["x", "y"]}, [(1, "1", "2")], []),
        (b"a,b\n'x,y',2\n", {"quote": "'"}, [(2, "x,y", "2")], []),
        (b'a,b\n"x,2\n', {"quote": ""}, [(2, '"x', "2")], []),
        (b"a,b\nx\\,y,2\n", {"escape": "\\"}, [(2, "x,y", "2")], []),
        (b'a,b\n5" pipe,2\n', {}, [(2, '5" pipe', "2")], []),
        (b"a,b\n1,x\ry\n3,4\n", {}, [(3, "3", "4")], [2]),
        (b"a,b\n", {}, [], []),
    ],
)  # fmt: skip
def test_what_stands_in_delimited_text(
    monkeypatch: pytest.MonkeyPatch, content: bytes, form: dict[str, Any], rows: list[Any], bad: list[int], block: int
) -> None:
    monkeypatch.setattr(delimited, "_BLOCK", block)
    assert read(content, **form)[1:] == (rows, bad)


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "has no header: it is empty"),
        (b"a,a\n1,2\n", 'two columns are named "a"'),
        (b"a,\n1,2\n", "column 2 has no name"),
        (b'a,b\n1,2\n3,"4', "ends in the middle of a record, which begins on line 3"),
        (b"a,b\n1,2\n3", "ends in the middle of a record, on line 3"),
        (b'"a"x,b\n1,2\n', "its header cannot be read"),
    ],
)
def test_what_is_no_delimited_text(content: bytes, said: str) -> None:
    with pytest.raises(KanalError, match=said):
        read(content)


@pytest.mark.parametrize("content", [b"a,b\n1,2\n3,", b'a,b\n1,2\n3,"', b""])
def test_a_record_without_an_end(monkeypatch: pytest.MonkeyPatch, content: bytes) -> None:
    monkeypatch.setattr(delimited, "_LONGEST", 1 << 20)
    monkeypatch.setattr(delimited, "_BLOCK", 1 << 16)
    line = 3 if content else 1
    with pytest.raises(KanalError, match=f"that begins on line {line} is longer than 1 MB"):
        read(content + b"x\r" * (1 << 20))


cells = st.text(st.sampled_from("ab,;\t\"'\n\r \u00e9\u20ac0"), max_size=5)


@settings(max_examples=300, deadline=None)
@given(
    data=st.data(), delimiter=st.sampled_from(",;\t"), block=st.integers(1, 40), ends=st.sampled_from(["\n", "\r\n"])
)
def test_what_is_written_is_read(data: st.DataObject, delimiter: str, block: int, ends: str) -> None:
    width = data.draw(st.integers(2, 4))
    table = data.draw(st.lists(st.lists(cells, min_size=width, max_size=width), max_size=8))
    out = io.StringIO(newline="")
    quoting = csv.QUOTE_ALL if any("\r" in cell for row in table for cell in row) else csv.QUOTE_MINIMAL
    writer = csv.writer(out, delimiter=delimiter, lineterminator=ends, quoting=quoting)
    writer.writerows([[f"c{n}" for n in range(width)], *table])
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(delimited, "_BLOCK", block)
        _, rows, bad = read(out.getvalue().encode(), delimiter)
    assert not bad
    assert [[value or "" for value in row[1:]] for row in rows] == table


@pytest.mark.parametrize("seed", range(20))
def test_mutated_files_lose_no_line(seed: int) -> None:
    chance = random.Random(seed)
    lines = [b"a;b;c"] + [f'{n};"text {n}";{n * 1.5}'.encode() for n in range(40)]
    for _ in range(100):
        content = bytearray(b"\n".join(lines) + b"\n")
        for _ in range(chance.randrange(1, 6)):
            place = chance.randrange(len(content))
            content[place : place + chance.choice([0, 1, 1, 30])] = chance.choice(
                [b"", b'"', b";", b"\n", b"\xff", b"\0"]
            )
        try:
            names, rows, bad = read(bytes(content), ";")
        except KanalError:
            continue
        begun = sorted([row[0] for row in rows] + bad)
        assert len(set(begun)) == len(begun)
        physical = [number for number, line in enumerate(bytes(content).split(b"\n"), 1) if line.strip(b"\r")]
        # Each line begins a record, is within one, or is the header.
        for number in physical:
            assert number in begun or number == 1 or any(line < number for line in [1, *begun]), number
        for _, *values in rows:
            assert len(values) == len(names)


CARDS = "book_no;mark;passed;toll;remark\n{}"
MAPPING = """
[format.house]
kind = "csv"
delimiter = ";"
[pipeline.passages]
source = {{ connection = "inbox", files = "{files}", format = "house" }}
target = "new:passage"
write = "{write}"
key = "book_no"
batch_rows = 2
[pipeline.passages.columns]
book_no = "CAST(book_no AS bigint)"
mark = "mark"
passed = {{ from = "passed", type = "timestamp", format = "%d.%m.%Y %H:%M" }}
toll = {{ from = "toll", decimal_mark = "," }}
origin = "file.name || ':' || file.line"
"""


def folder_job(files: Files, new: Place, body: str) -> kanal.Job:
    (files.folder / "inbox").mkdir(exist_ok=True)
    text = f'[connection.inbox]\nurl = "file:inbox"\n{body}'
    return job(files.folder, text, new=new)


@pytest.mark.parametrize("write", ["append", "truncate", "merge"])
@pytest.mark.parametrize("kind", KINDS)
def test_a_folder_into_a_table(places: Places, files: Files, cli: Cli, kind: str, write: str) -> None:
    new = places(kind)
    moment = "datetime" if kind == "mariadb" else "timestamp"
    new.sql(f"CREATE TABLE passage (book_no bigint PRIMARY KEY, mark varchar(9), passed {moment}, toll decimal(9,2), "
            "origin varchar(60))")  # fmt: skip
    made = folder_job(files, new, MAPPING.format(files="cards-*.csv", write=write))
    inbox = files.folder / "inbox"
    (inbox / "cards-1.csv").write_text(
        CARDS.format('1;a;01.03.2025 10:00;12,50;x\n2;b;31.02.2025 10:00;1;"y\nz"\n3;c;d\n')
    )
    with gzip.open(inbox / "cards-2.csv.gz", "wt") as packed:
        packed.write("mark;remark;book_no;toll;passed\nd;;4;;02.03.2025 11:00\n")
    (inbox / "cards-3.txt").write_text("not meant")
    made = kanal.Job.read(files.folder / "job.toml")
    assert cli("check", "job.toml").returncode == 0
    run = succeeded(kanal.Job.read(files.folder / "job.toml").run())
    tally = run["passages"].tally
    assert (tally.read, tally.inserted, tally.rejected) == (3, 1, 2)  # a packed file has another ending
    made.write(files.folder / "same.toml")
    assert kanal.Job.read(files.folder / "same.toml") == made
    text = (files.folder / "job.toml").read_text().replace("cards-*.csv", "cards-*.{csv,csv.gz}")
    (files.folder / "job.toml").write_text(text)
    if write == "append":
        new.sql("DELETE FROM passage")
    run = succeeded(kanal.Job.read(files.folder / "job.toml").run())
    tally = run["passages"].tally
    assert (tally.read, tally.inserted + tally.unchanged, tally.rejected) == (4, 2, 2)
    found = [tuple(map(str, row)) for row in new.rows("SELECT book_no, toll, origin FROM passage ORDER BY book_no")]
    assert found in ([("1", f"12.5{zero}", "cards-1.csv:2"), ("4", "None", "cards-2.csv.gz:2")] for zero in ("", "0"))
    reasons = sorted(reject["reason"] for reject in document(cli("rejects", "--json")))
    assert reasons == ["bad_line", "not_a_date"]
    assert "3;c;d" in cli("rejects").stdout and "cards-1.csv, line 5" in cli("rejects").stdout
    assert kanal.Job.read(files.folder / "job.toml").compare()[0].differs() is False
    # What was rejected can be tried again; a bad line only with its file.
    again = kanal.Job.read(files.folder / "job.toml").replay()
    assert (again["passages"].tally.read, again["passages"].tally.rejected) == (1, 1)


@pytest.mark.parametrize("ending", [".parquet", ".arrow", ".arrows"])
@pytest.mark.parametrize("kind", KINDS)
def test_files_with_types(places: Places, files: Files, cli: Cli, kind: str, ending: str) -> None:
    new = places(kind)
    folder_job(files, new, f'[pipeline.t]\nsource = "inbox:*{ending}"\ntarget = "new:t"\ncreate = "missing"')
    for number in range(2):
        table = pa.table({
            "id": pa.array([2 * number, 2 * number + 1], pa.int32()), "n": pa.array([Decimal("1.25"), None]),
            "d": pa.array([dt.date(2024, 2, 29), None]), "v": pa.array(["caf\u00e9", ""]).dictionary_encode(),
        })  # fmt: skip
        path = files.folder / "inbox" / f"t{number}{ending}"
        if ending == ".parquet":
            pq.write_table(table, path, row_group_size=1)
        else:
            make = pa.ipc.new_file if ending == ".arrow" else pa.ipc.new_stream
            with make(str(path), table.schema) as out:
                out.write_table(table, max_chunksize=1)
    assert succeeded(kanal.Job.read(files.folder / "job.toml").run())["t"].tally.inserted == 4
    found = [tuple(map(str, row)) for row in new.rows("SELECT id, n, d, v FROM t ORDER BY id")]
    assert found == [("0", "1.25", "2024-02-29", "caf\u00e9"), ("1", "None", "None", ""),
                     ("2", "1.25", "2024-02-29", "caf\u00e9"), ("3", "None", "None", "")]  # fmt: skip
    (files.folder / "inbox" / f"t1{ending}").write_bytes(path.read_bytes()[:-20])
    broken = kanal.Job.read(files.folder / "job.toml").run()
    assert broken.status == "failed" and "t1" in str(broken["t"].error), broken["t"].error
    assert len(new.rows("SELECT * FROM t")) == 4


@pytest.mark.parametrize(
    ("name", "content", "said"),
    [
        ("b.csv", b"id,w\n1,2\n", "b.csv lacks v and has w, other than a.csv"),
        ("b.csv", b'id,v\n1,"2\n', "ends in the middle of a record"),
        ("b.csv.gz", gzip.compress(b"id,v\n" + os.urandom(9000).hex().encode())[:-400], "damaged, or not complete"),
        ("b.csv.bz2", bz2.compress(b"id,v\n1,2\n")[:-4], "damaged, or not complete"),
        ("b.csv.gz", b"id,v\n1,2\n", "damaged, or not complete"),
    ],
)
def test_a_file_that_is_not_right_fails_the_step(
    places: Places, files: Files, name: str, content: bytes, said: str
) -> None:
    new = places("sqlite")
    new.sql("CREATE TABLE t (id text, v text)")
    made = folder_job(files, new, '[pipeline.t]\nsource = "inbox:*.{csv,csv.gz,csv.bz2}"\ntarget = "new:t"')
    (files.folder / "inbox" / "a.csv").write_bytes(b"id,v\n1,2\n")
    (files.folder / "inbox" / name).write_bytes(content)
    run = made.run()
    assert run.status == "failed" and said in str(run["t"].error), run["t"].error
    assert new.rows("SELECT * FROM t") == []


def test_a_file_that_changes_while_it_is_read(places: Places, files: Files, monkeypatch: pytest.MonkeyPatch) -> None:
    new = places("sqlite")
    new.sql("CREATE TABLE t (id text, v text)")
    made = folder_job(files, new, '[pipeline.t]\nsource = "inbox:a.csv"\ntarget = "new:t"')
    path = files.folder / "inbox" / "a.csv"
    path.write_bytes(b"id,v\n" + b"1,2\n" * 1000)
    real = stores.FoundFile.check_unchanged

    def grows(found: stores.FoundFile) -> None:
        with path.open("ab") as file:
            file.write(b"3,4\n")
        real(found)

    monkeypatch.setattr(stores.FoundFile, "check_unchanged", grows)
    assert "has changed while it was read" in " ".join(made.check())
    monkeypatch.undo()
    assert succeeded(made.run())["t"].tally.inserted == 1001


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ('[pipeline.t]\nsource = "inbox:b*.csv"\ntarget = "new:t"', 'no file of connection inbox fits "b*.csv"'),
        ('[pipeline.t]\nsource = "inbox:../a.csv"\ntarget = "new:t"', "leads out of the folder"),
        ('[pipeline.t]\nsource = { connection = "inbox", files = "a.csv", format = "f" }\ntarget = "new:t"',
         'there is no format "f"'),
        ('[pipeline.t]\nsource = { connection = "new", files = "a.csv" }\ntarget = "new:t"', "connection new has no files"),
        ('[pipeline.t]\nsource = { connection = "inbox", query = "SELECT 1" }\ntarget = "new:t"', "cannot run a query"),
        ('[pipeline.t]\nsource = "inbox:a.csv"\ntarget = "inbox:b.csv"', "would be written again by the next run"),
        ('[pipeline.t]\nsource = "inbox:c.csv"\ntarget = "new:t"', "has one column only"),
        ('[pipeline.t]\nsource = "inbox:e.csv"\ntarget = "new:t"', "3 of its first 4 records do not fit its header"),
        ('[pipeline.t]\nsource = "inbox:d.dat"\ntarget = "new:t"', "its ending does not say its format"),
        ('[pipeline.t]\nsource = "inbox:a.csv"\ntarget = "new:t"\norder_by = "id"', "in an order that is asked for"),
        ('[pipeline.t]\nsource = "inbox:a.csv"\ntarget = "new:t"\ncommit = "batch"', "cannot go on reading"),
        ('[format.f]\nkind = "xml"', "csv"),
        ('[format.f]\nheader = false', "needs the names of its columns"),
        ('[format.f]\ncolumns = ["a"]', "Set header = false"),
        ('[format.f]\ndelimiter = ";;"', "delimiter"),
        ('[format.f]\nencoding = "latin-99"', 'there is no encoding "latin-99"'),
        ('[format.f]\nquote = ","\ndelimiter = ","', "three different characters"),
    ],
)  # fmt: skip
def test_what_check_says_of_files(places: Places, files: Files, cli: Cli, body: str, said: str) -> None:
    new = places("sqlite")
    new.sql("CREATE TABLE t (id text, v text)")
    (files.folder / "inbox").mkdir()
    for name, content in (
        ("a.csv", "id,v\n"),
        ("c.csv", "id;v\n"),
        ("e.csv", "House list\n\nid,v\n1,2\n3,4\n"),
        ("d.dat", "id,v\n"),
    ):
        (files.folder / "inbox" / name).write_text(content)
    (files.folder / "job.toml").write_text(
        f'job = "t"\n[connection.inbox]\nurl = "file:inbox"\n[connection.new]\nurl = "{new.url}"\n{body}\n'
    )
    outcome = cli("check", "job.toml")
    assert outcome.returncode == 2 and said in " ".join((outcome.stdout + outcome.stderr).split()), outcome
    assert "Traceback" not in outcome.stderr


def test_looking_at_a_folder(files: Files, cli: Cli, tmp_path: Path) -> None:
    (tmp_path / "inbox").mkdir()
    (tmp_path / "inbox" / "cards.csv").write_text("id,passed,toll\n1,01.03.2025,2.5\n2,15.03.2025,3.5\n")
    assert "folder with 1 file" in " ".join(cli("ping", "file:inbox").stdout.split())
    assert "is not there" in " ".join(cli("ping", "file:nowhere").stdout.split())
    assert "cards.csv" in cli("tables", "file:inbox").stdout
    assert "15.03.2025" in cli("sample", "file:inbox", "cards.csv").stdout
    assert cli("draft", "file:inbox", "sqlite:///register.db", "--into", "job.toml").returncode == 0
    text = (tmp_path / "job.toml").read_text()
    assert 'passed = { from = "passed", type = "date", format = "%d.%m.%Y" }' in text and '"register:cards"' in text
    assert cli("run", "job.toml").returncode == 0
