"""Files that are loaded once: told apart by name, time and content, moved after the commit, and after a crash."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, Place, document
from kanal.connections.files.folder import Folder
from kanal.connections.journal import LoadedFile
from kanal.core.errors import KanalError
from test_servers import job, succeeded

Places = Callable[[str], Place]
KINDS = ["sqlite", "postgresql", "mariadb"]
BODY = """
[connection.inbox]
url = "file:inbox"
[pipeline.cards]
source = "inbox:cards-*.csv"
target = "new:cards"
files_once = true
"""


def inbox(files: Files, new: Place, body: str) -> tuple[kanal.Job, Path]:
    new.sql("CREATE TABLE cards (id integer PRIMARY KEY, v varchar(9))")
    folder = files.folder / "inbox"
    folder.mkdir()
    (folder / "cards-1.csv").write_text("id,v\n1,a\n2,b\n")
    (folder / "cards-2.csv").write_text("id,v\n3,c\n4,d,e\n")
    return job(files.folder, BODY + body, new=new), folder


def read(made: kanal.Job) -> int:
    return succeeded(made.run())["cards"].tally.read


@pytest.mark.parametrize(
    ("kind", "body"),
    [("sqlite", 'write = "append"'), ("sqlite", 'write = "append"\ncommit = "job"'),
     ("postgresql", 'write = "merge"\nkey = "id"'), ("mariadb", 'write = "append"\ncommit = "job"')],
)  # fmt: skip
def test_each_file_is_loaded_once(places: Places, files: Files, cli: Cli, kind: str, body: str) -> None:
    new = places(kind)
    made, folder = inbox(files, new, body)
    assert [(one.name, one.state) for one in made.files()] == [("cards-1.csv", "new"), ("cards-2.csv", "new")]
    assert (read(made), read(made)) == (4, 0)
    found = document(cli("files", "job.toml", "--json"))
    assert [(one["name"], one["state"], one["run"], one["rows"], one["rejected"]) for one in found] == [
        ("cards-1.csv", "loaded", 1, 2, 0), ("cards-2.csv", "loaded", 1, 2, 1)]  # fmt: skip
    os.utime(folder / "cards-1.csv", (1, 1))  # touched
    (folder / "cards-2.csv").rename(folder / "cards-3.csv")  # renamed
    (folder / "cards-4.csv").write_text("id,v\n5,e\n")
    (folder / "cards-5.csv").write_text("id,v\n5,e\n")  # the same as another new one
    run = succeeded(made.run())
    assert run["cards"].tally.read == 1 and "cards-5.csv is left out: its content is that of cards-4.csv" in str(
        run["cards"].note
    )
    assert "cards-3.csv is left out: its content is that of cards-2.csv" in str(run["cards"].note)
    assert len(new.rows("SELECT * FROM cards")) == 4 and read(made) == 0
    (folder / "cards-1.csv").write_text("id,v\n7,a\n8,b\n")  # rewritten, of the same size
    run = succeeded(made.run())
    assert run["cards"].tally.read == 2 and "cards-1.csv is loaded again: it has changed" in str(run["cards"].note)
    made.forget_file("cards", "cards-1.csv")
    new.sql("DELETE FROM cards WHERE id >= 7")
    assert read(made) == 2
    assert cli("files", "job.toml", "cards", "--forget", "cards-9.csv").returncode == 2
    new.sql("DELETE FROM cards")
    assert succeeded(made.run(everything=True))["cards"].tally.inserted == 4  # of two equal rows, one
    (folder / "cards-6.csv").write_text('id,v\n9,"x\n')
    assert made.run().status == "failed" and "cards-6.csv" not in [one.name for one in made.files() if one.run]


def test_a_file_that_may_still_be_written_is_left_for_the_next_run(places: Places, files: Files, cli: Cli) -> None:
    new = places("sqlite")
    made, folder = inbox(files, new, "min_age = 60")
    os.utime(folder / "cards-1.csv", (1, 1))
    run = succeeded(made.run())
    assert run["cards"].tally.read == 2 and "cards-2.csv is left for the next run: it was modified" in str(
        run["cards"].note
    )
    os.utime(folder / "cards-2.csv", (1, 1))
    assert read(made) == 2
    job(files.folder, BODY.replace("files_once = true", "min_age = 60"), new=new)
    assert "Set files_once = true" in " ".join(cli("check", "job.toml").stdout.split())


@pytest.mark.parametrize("once", [True, False])
@pytest.mark.parametrize("kind", KINDS)
def test_what_becomes_of_a_loaded_file(
    places: Places, files: Files, kind: str, once: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    new = places(kind)
    body = BODY.replace("files_once = true", f'files_once = {str(once).lower()}\nwhen_loaded = {{ move = "done" }}')
    made, folder = inbox(files, new, "")
    made = job(files.folder, body, new=new)
    real, tried = Folder.after_load, []

    def broken(self: Folder, file: LoadedFile) -> str | None:
        tried.append(file.name)
        if len(tried) == 2:
            raise KanalError("it cannot be moved just now")
        return real(self, file)

    monkeypatch.setattr(Folder, "after_load", broken)
    run = succeeded(made.run())
    assert "the next run tries it again" in str(run["cards"].note) and run["cards"].tally.inserted == 3
    assert sorted(path.name for path in folder.rglob("*.csv")) == ["cards-1.csv", "cards-2.csv"]
    monkeypatch.undo()
    assert (folder / "cards-2.csv").exists() and (folder / "done" / "cards-1.csv").exists()
    assert [one.pending for one in made.files()] == [*([None] if once else []), "move done/cards-2.csv"]
    assert read(made) == 0 and (folder / "done" / "cards-2.csv").exists()
    run = succeeded(made.run())
    assert "no file of connection inbox fits" in str(run["cards"].note)
    (folder / "cards-1.csv").write_text("id,v\n9,i\n")
    assert read(made) == 1
    assert (folder / "done" / "cards-1-000004.csv").read_text() == "id,v\n9,i\n"
    assert (folder / "done" / "cards-1.csv").read_text() == "id,v\n1,a\n2,b\n"
    text = (files.folder / "job.toml").read_text().replace('{ move = "done" }', '"delete"')
    (files.folder / "job.toml").write_text(text)
    (folder / "cards-1.csv").write_text("id,v\n10,k\n")
    assert read(kanal.Job.read(files.folder / "job.toml")) == 1 and list(folder.glob("*.csv")) == []


def test_a_file_with_other_columns(files: Files, places: Places, cli: Cli) -> None:
    new = places("sqlite")
    made, folder = inbox(files, new, 'columns_differ = "reject"\nwhen_loaded = "delete"')
    (folder / "cards-2.csv").write_text("v,id,more\nc,3,x\n")
    (folder / "cards-3.csv").write_text("v,id\nd,4\n")
    run = succeeded(made.run())
    assert (run["cards"].tally.read, run["cards"].tally.inserted, run["cards"].tally.rejected) == (4, 3, 1)
    reject = document(cli("rejects", "--json"))[0]
    assert (reject["reason"], reject["row"]["file.name"]) == ("bad_file", "cards-2.csv")
    assert "it has more, other than cards-1.csv; none of its rows is loaded" in reject["message"]
    assert [path.name for path in folder.glob("*.csv")] == ["cards-2.csv"] and read(made) == 1  # tried again
    made = job(files.folder, BODY + 'columns_differ = "null"', new=new)
    (folder / "cards-1.csv").write_text("id,v\n1,a\n")
    (folder / "cards-2.csv").write_text("id,w\n9,x\n")
    new.sql("DELETE FROM cards")
    assert read(made) == 2 and new.rows("SELECT id, v FROM cards ORDER BY id") == [(1, "a"), (9, None)]


@pytest.mark.parametrize(
    ("source", "settings", "said"),
    [
        ('"inbox:cards-*.csv"', 'files_once = true\nwrite = "truncate"', "cannot be combined with files_once"),
        ('"inbox:cards-*.csv"', "files_once = true\nlimit = 5", "cannot be combined with files_once"),
        ('"inbox:**/*.csv"', 'when_loaded = { move = "done" }', "would be found again by **/*.csv"),
        ('"inbox:cards-*.csv"', 'when_loaded = { move = "../done" }', "leads out of the folder"),
        ('"inbox:cards-*.csv"', 'when_loaded = "keep"', '"keep" is not known'),
        ('"new:cards"', "files_once = true", "connection new has no files"),
    ],
)  # fmt: skip
def test_what_does_not_go_with_it(
    places: Places, files: Files, cli: Cli, source: str, settings: str, said: str
) -> None:
    new = places("sqlite")
    inbox(files, new, "")
    body = f'[connection.inbox]\nurl = "file:inbox"\n[pipeline.t]\nsource = {source}\ntarget = "new:cards"\n{settings}'
    (files.folder / "job.toml").write_text(f'job = "t"\n[connection.new]\nurl = "{new.url}"\n{body}')
    outcome = cli("check", "job.toml")
    assert outcome.returncode == 2 and said in " ".join(outcome.stdout.split()), outcome


@pytest.mark.parametrize("workers", [1, 4])
def test_files_load_in_the_order_of_their_names(places: Places, files: Files, workers: int) -> None:
    new = places("sqlite")
    new.sql("CREATE TABLE cards (id integer PRIMARY KEY, v varchar(9))")
    (files.folder / "inbox").mkdir()
    for number in range(30):
        rows = "".join(f"{number % 7},{number}\n" for _ in range(1 + (number * 7919) % 400))
        (files.folder / "inbox" / f"cards-{number:02}.csv").write_text(f"id,v\n{rows}")
    body = BODY.replace("[connection.inbox]", f"workers = {workers}\n[connection.inbox]", 1)
    text = f'job = "t"\n{body}write = "merge"\nkey = "id"\nduplicates = "last"\n[connection.new]\nurl = "{new.url}"\n'
    (files.folder / "job.toml").write_text(text)
    run = succeeded(kanal.Job.read(files.folder / "job.toml").run())
    assert run["cards"].tally.inserted == 7
    assert new.rows("SELECT id, v FROM cards ORDER BY id") == [(n, str(28 + n if n < 2 else 21 + n)) for n in range(7)]
    (files.folder / "inbox" / "cards-31.csv").write_text('id,v\n1,"x\n')
    (files.folder / "inbox" / "cards-30.csv").write_text("id,v\n1,y\n" * 1)
    assert kanal.Job.read(files.folder / "job.toml").run().status == "failed"
    assert new.rows("SELECT v FROM cards WHERE id = 1") == [("29",)]
