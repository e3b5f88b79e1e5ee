"""Symbolic links in folders: those that lead out are an error unless the connection follows them."""

from __future__ import annotations

from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files

JOB = """job = "links"
[connection.inbox]
url = "file:inbox"{links}
[connection.out]
url = "file:out"{links}
[connection.register]
url = "sqlite:///register.db"
[pipeline.cards]
source = {{ connection = "inbox", files = "{pattern}" }}
target = "register:card"
write = "truncate"
columns = {{ no = "no" }}
"""


@pytest.fixture
def inbox(files: Files) -> Path:
    """A folder with a file, and links to a file and a folder outside, to a file inside, and in circles."""
    folder = files.folder / "inbox"
    outside = files.folder / "outside"
    for made in (folder / "sub", outside, files.folder / "out"):
        made.mkdir(parents=True)
    (folder / "a.csv").write_text("no\n1\n")
    (folder / "sub" / "b.csv").write_text("no\n2\n")
    (outside / "c.csv").write_text("no\n3\n")
    (folder / "round").symlink_to(folder)
    files.database("register.db", "CREATE TABLE card (no INTEGER)")
    return folder


def job(files: Files, pattern: str, follow: bool = False) -> kanal.Job:
    path = files.folder / "job.toml"
    path.write_text(JOB.format(links='\nlinks = "follow"' if follow else "", pattern=pattern))
    return kanal.Job.read(path)


@pytest.mark.parametrize(
    ("link", "to", "pattern", "loaded"),
    [
        ("c.csv", "outside/c.csv", "*.csv", [1, 3]),
        ("c.csv", "outside/c.csv", "c.csv", [3]),
        ("far", "outside", "**/*.csv", [1, 2, 3]),
        ("far", "outside", "far/*.csv", [3]),
        ("far", "outside", "*/*.csv", [2, 3]),
        ("sub/c.csv", "outside/c.csv", "**/*.csv", [1, 2, 3]),
    ],
)
def test_a_link_that_leads_out_is_followed_only_if_asked(
    files: Files, inbox: Path, cli: Cli, link: str, to: str, pattern: str, loaded: list[int]
) -> None:
    (inbox / link).symlink_to(files.folder / to)
    refused = job(files, pattern)
    with pytest.raises(kanal.KanalError, match=r'leads out of .*inbox.*links = "follow"'):
        refused.run()
    assert files.rows("register.db", "SELECT no FROM card") == []
    shown = cli("tables", "inbox", "--job", "job.toml")  # looking at the rest stays possible
    assert shown.returncode == 0 and "a.csv" in shown.stdout, shown.stderr
    run = job(files, pattern, follow=True).run()
    assert run.status == "succeeded"
    assert files.rows("register.db", "SELECT no FROM card ORDER BY no") == [(no,) for no in loaded]


def test_a_link_within_the_folder_is_a_file_of_it(files: Files, inbox: Path) -> None:
    (inbox / "c.csv").symlink_to("sub/b.csv")
    assert job(files, "*.csv").run().status == "succeeded"
    assert files.rows("register.db", "SELECT no FROM card ORDER BY no") == [(1,), (2,)]


def test_nothing_is_written_or_moved_through_a_link(files: Files, inbox: Path) -> None:
    (files.folder / "out" / "far").symlink_to(files.folder / "outside")
    (inbox / "done").symlink_to(files.folder / "outside")
    text = job(files, "a.csv") and (files.folder / "job.toml").read_text()
    path = files.folder / "job.toml"
    path.write_text(text.replace('target = "register:card"', 'target = { connection = "out", files = "far/x.csv" }'))
    run = kanal.Job.read(path).run()
    assert run.status == "failed" and "leads out of" in str(run["cards"].error)
    path.write_text(
        text.replace('write = "truncate"', 'write = "append"\nfiles_once = true\nwhen_loaded = { move = "done" }')
    )
    run = kanal.Job.read(path).run()
    assert (inbox / "a.csv").exists() and "leads out of" in f"{run['cards'].error} {run['cards'].note}"
    assert sorted(one.name for one in (files.folder / "outside").iterdir()) == ["c.csv"]


def test_links_are_those_of_folders(files: Files) -> None:
    path = files.job('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n')
    path.write_text(path.read_text().replace("[connection.new]", '[connection.new]\nlinks = "follow"'))
    with pytest.raises(kanal.KanalError, match="links is for folders of this machine"):
        kanal.Job.read(path).run()


def test_a_name_with_nul_is_a_sentence(files: Files, inbox: Path) -> None:
    with pytest.raises(kanal.KanalError, match="the character NUL"):
        job(files, "a\\u0000.csv").run()
