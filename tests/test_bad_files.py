"""Files that cannot be read: the others of their pattern are loaded, and each bad one is named."""

from __future__ import annotations

import gzip
import json
import zipfile
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, document
from test_runs import counts


def inbox(files: Files, more: str, form: str = "") -> Path:
    folder = files.folder / "in"
    folder.mkdir()
    whole = gzip.compress(b"k\n" + b"".join(b"%d\n" % n for n in range(1000)))
    (folder / "a.csv.gz").write_bytes(whole[: len(whole) // 2])
    (folder / "b.csv.gz").write_bytes(gzip.compress(b"k\n1\n2\n"))
    (folder / "c.csv.gz").write_bytes(b"nothing packed")
    (folder / "d.csv.gz").write_bytes(gzip.compress(b"k\n3\n"))
    files.database("new.db", "CREATE TABLE t (k text)")
    return files.job(
        f'[connection.in]\nurl = "file://in"\n{form}[pipeline.t]\nsource = "in:*.csv.gz"\ntarget = "new:t"\n{more}\n'
    )


@pytest.mark.parametrize("once", ["", "files_once = true\n", "when_loaded = { delete = true }\n"])
@pytest.mark.parametrize("bad", ["fail", "leave", "move"])
def test_bad_files_do_not_hold_up_the_others(files: Files, cli: Cli, bad: str, once: str) -> None:
    path = inbox(files, once + ('bad_file = { move = "bad" }' if bad == "move" else f'bad_file = "{bad}"'))
    folder = files.folder / "in"
    if bad == "fail":
        assert cli("run", "job.toml").returncode != 0
        assert files.rows("new.db", "SELECT count(*) FROM t") == [(0,)]
        return
    step = kanal.Job.read(path).run()["t"]
    assert step.error is None
    assert counts(step) == {"read": 5, "inserted": 3, "rejected": 2}
    rejects = step.rejects().to_pylist()
    assert [reject["row"]["file.name"] for reject in rejects] == ["a.csv.gz", "c.csv.gz"]
    assert all("none of its rows is loaded" in reject["message"] for reject in rejects)
    there = {file.name for file in folder.glob("*.gz")}
    gone = {"b.csv.gz", "d.csv.gz"} if "delete" in once else set()
    if bad == "leave":
        assert there == {"a.csv.gz", "b.csv.gz", "c.csv.gz", "d.csv.gz"} - gone
    else:
        assert there == {"b.csv.gz", "d.csv.gz"} - gone
        assert {file.name for file in (folder / "bad").iterdir()} == {"a.csv.gz", "c.csv.gz"}
        assert "a.csv.gz cannot be read, and is now bad/a.csv.gz" in str(step.note)
    if once == "files_once = true\n":  # once it is whole, it is loaded
        (folder / "a.csv.gz").write_bytes(gzip.compress(b"k\n7\n"))
        assert counts(kanal.Job.read(path).run()["t"])["inserted"] == 1


def test_one_looks_at_the_readable_files(files: Files, cli: Cli) -> None:
    inbox(files, "")
    folder = files.folder / "in"
    with zipfile.ZipFile(folder / "tolls.zip", "w") as archive:
        archive.writestr("june.csv", "k\n5\n")
    (folder / "cut.zip").write_bytes(b"PK\x03\x04")
    tables = json.loads(cli("tables", "file://in", "--json").stdout)
    assert [table["table"] for table in tables if table["unreadable"] is None] == [
        "b.csv.gz", "d.csv.gz", "tolls.zip"
    ]  # fmt: skip
    assert {table["table"] for table in tables if table["unreadable"]} == {"a.csv.gz", "c.csv.gz", "cut.zip"}
    assert "c.csv.gz is damaged" in cli("tables", "file://in").stdout
    sample = json.loads(cli("sample", "file://in", "*.csv.gz", "--json").stdout)
    assert [row["k"] for row in sample["rows"]][-3:] == ["1", "2", "3"]
    assert set(sample["unreadable"]) == {"a.csv.gz", "c.csv.gz"}
    assert json.loads(cli("sample", "file://in", "tolls.zip", "--json").stdout)["rows"] == [{"k": "5"}]
    refused = cli("sample", "file://in", "cut.zip")
    assert refused.returncode == 2
    assert "cut.zip is damaged" in refused.stderr
    drafted = cli("draft", "file://in", "sqlite:///other.db", "--write", "append", "--into", "draft.toml")
    assert drafted.returncode == 0
    text = (files.folder / "draft.toml").read_text()
    assert text.count("\nsource = ") == 3
    assert "? left out: a.csv.gz is damaged" in text
    run = document(cli("run", "draft.toml", "--json"))
    assert {step["step"]: step["inserted"] for step in run["steps"]} == {
        "b_csv_gz": 2, "d_csv_gz": 1, "tolls_zip": 1
    }  # fmt: skip


def test_a_file_whose_end_is_damaged_is_sampled_up_to_there(files: Files, cli: Cli) -> None:
    folder = files.folder / "in"
    folder.mkdir()
    (folder / "a.csv.gz").write_bytes(gzip.compress(b"k\n" + b"12345678\n" * 200_000)[:-9])
    sample = json.loads(cli("sample", "file://in", "a.csv.gz", "--rows", "3", "--scan", "1000000", "--json").stdout)
    assert [row["k"] for row in sample["rows"]] == ["12345678"] * 3
    assert list(sample["unreadable"]) == ["a.csv.gz"]


def test_an_empty_folder_is_not_a_database(files: Files, cli: Cli) -> None:
    (files.folder / "in").mkdir()
    said = cli("tables", "file://in").stderr
    assert "has no files whose ending belongs to a format" in said
    assert "schema" not in said


def test_each_file_is_read_in_the_first_encoding_that_fits(files: Files, cli: Cli) -> None:
    folder = files.folder / "in"
    folder.mkdir()
    (folder / "a.csv").write_bytes("k\nJörg\n".encode())
    (folder / "b.csv").write_bytes("k\nJörg\n".encode("cp1252"))
    files.database("new.db", "CREATE TABLE t (k text)")
    form = '[format.list]\nkind = "csv"\nencoding = {}\n'
    body = '[connection.in]\nurl = "file://in"\n{}[pipeline.t]\nsource = {{ connection = "in", files = "*.csv", format = "list" }}\ntarget = "new:t"\n'
    path = files.job(body.format(form.format('["utf-8", "cp1252"]')))
    step = kanal.Job.read(path).run()["t"]
    assert step.error is None
    assert counts(step) == {"read": 2, "inserted": 2}
    assert files.rows("new.db", "SELECT DISTINCT k FROM t") == [("Jörg",)]
    files.job(body.format(form.format('["utf-8", "no-such"]')))
    outcome = cli("check", "job.toml")
    assert 'there is no encoding "no-such"' in " ".join((outcome.stdout + outcome.stderr).split())
