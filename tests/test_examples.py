"""The examples run as they stand, on real servers."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, Place, document
from kanal.demo.cards import write_cards
from kanal.demo.harbour import TOKEN, harbour
from kanal.demo.server import FileServer
from test_runs import counts

EXAMPLES = Path(__file__).parent.parent / "examples"
EXPECTED = {
    "sqlite-to-sqlite": {"read": 6, "rejected": 2, "inserted": 4},
    "sqlite-to-postgresql": {"read": 6, "rejected": 2, "inserted": 4},
    "sqlite-to-mariadb": {"read": 6, "inserted": 6},
    "postgresql-to-sqlite": {"read": 2, "filtered": 1, "inserted": 1},
    "postgresql-to-postgresql": {"read": 6, "rejected": 2, "inserted": 4},
    "postgresql-to-mariadb": {"read": 6, "rejected": 2, "inserted": 4},
    "mariadb-to-sqlite": {"read": 5, "rejected": 2, "inserted": 3},
    "mariadb-to-postgresql": {"read": 6, "rejected": 3, "inserted": 3},
    "mariadb-to-mariadb": {"read": 6, "rejected": 2, "inserted": 4},
}


@pytest.mark.parametrize("path", sorted(EXAMPLES.glob("*-to-*.toml")), ids=lambda path: path.stem)
def test_each_example(
    places: Callable[[str], Place], tmp_path: Path, monkeypatch: pytest.MonkeyPatch, path: Path
) -> None:
    shutil.copytree(EXAMPLES, tmp_path / "examples")
    statements = [text for text in (EXAMPLES / "tables.sql").read_text(encoding="utf-8").split(";") if text.strip()]
    for kind in path.stem.split("-to-"):
        place = places(kind)
        place.sql(*statements)
        url = str(place.engine.url.database) if kind == "sqlite" else place.url
        monkeypatch.setenv(f"KANAL_EXAMPLE_{kind.upper()}", url)
        if path.stem == f"{kind}-to-{kind}":
            break
    job = kanal.Job.read(tmp_path / "examples" / path.name)
    run = job.run()
    assert [step.error for step in run] == [None]
    assert counts(run["passages"]) == EXPECTED[path.stem]
    again = counts(job.run()["passages"])
    assert again.get("unchanged", 0) + again.get("deleted", 0) == EXPECTED[path.stem]["inserted"]


def test_the_exchange_in_both_ways(tmp_path: Path) -> None:
    shutil.copytree(EXAMPLES, tmp_path, dirs_exist_ok=True)
    ends = [Place("sqlite", f"sqlite:///{tmp_path / f'exchange-{end}.db'}") for end in ("lower", "upper")]
    for end in ends:
        end.sql("CREATE TABLE vessel (mark varchar(9) PRIMARY KEY, name varchar(40), changed_at timestamp NOT NULL)")
    ends[0].sql("INSERT INTO vessel VALUES ('a', 'Old', '2025-03-01 10:00:00'), ('b', 'B', '2025-03-01 11:00:00')")
    ends[1].sql("INSERT INTO vessel VALUES ('a', 'New', '2025-03-02 10:00:00')")
    job = kanal.Job.read(tmp_path / "exchange.toml")

    def exchanged() -> tuple[kanal.Run, list[tuple[object, ...]]]:
        run = job.run()
        assert run.status == "succeeded"
        found = [end.rows("SELECT mark, name FROM vessel ORDER BY mark") for end in ends]
        assert found[0] == found[1]
        return run, found[0]

    assert exchanged()[1] == [("a", "New"), ("b", "B")]
    ends[0].sql("UPDATE vessel SET name = 'Lower', changed_at = '2025-03-03 10:00:00' WHERE mark = 'a'",
                "DELETE FROM vessel WHERE mark = 'b'")  # fmt: skip
    ends[1].sql("UPDATE vessel SET name = 'Upper', changed_at = '2025-03-03 09:00:00' WHERE mark = 'a'")
    run, rows = exchanged()
    assert rows == [("a", "Lower")]
    assert [(step.tally.conflicts, step.tally.deleted) for step in run] == [(1, 1), (0, 0)]


def test_a_signed_address_and_an_api(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    shutil.copytree(EXAMPLES, tmp_path, dirs_exist_ok=True)
    write_cards(tmp_path)
    with FileServer(tmp_path / "inbox") as server, harbour(30) as service:
        monkeypatch.setenv("KANAL_EXAMPLE_ADDRESS", server.address("cards-2025-05.csv"))
        monkeypatch.setenv("KANAL_EXAMPLE_HARBOUR", service.url)
        monkeypatch.setenv("HARBOUR_TOKEN", TOKEN)
        run = kanal.Job.read(tmp_path / "signed-address.toml").run()
        assert counts(run["cards"]) == {"read": 200, "inserted": 200}
        job = kanal.Job.read(tmp_path / "api.toml")
        assert [counts(job.run()["vessels"]).get("inserted", 0) for _ in range(2)] == [30, 0]
        sent = counts(kanal.Job.read(tmp_path / "arrivals.toml").run()["arrivals"])
        assert sent["read"] == 30 and sent["inserted"] == len(service.arrivals) > 0
        assert {"vessel", "tonnes", "at"} == set(service.arrivals[0])


def test_the_nightly_example(files: Files, cli: Cli, process: Cli, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each command of its pipeline definition, unit and container file is one that Kanal knows, and the job runs."""
    for path in (EXAMPLES / "nightly").iterdir():
        shutil.copy(path, files.folder)
    monkeypatch.setenv("KEEPER_MAIL", "json://127.0.0.1/kanal")
    rows = [(f"P{n}", "sw1 ", f"2026-01-0{1 + n % 3} 10:00:00") for n in range(9)]
    files.database(
        "house.db", "CREATE TABLE vessel (mark TEXT PRIMARY KEY); CREATE TABLE passage (passage_no TEXT PRIMARY KEY, "
        "mark TEXT, arrived_at TIMESTAMP)", vessel=[("SW1",)], passage=rows,
    )  # fmt: skip
    commands = re.findall(r"run: kanal (.*)", (files.folder / "check-and-bundle.yml").read_text())
    assert [command.split()[0] for command in commands] == ["check", "create", "run", "bundle"]
    for command in commands:
        outcome = process(*shlex.split(command))
        assert outcome.returncode == 0, (command, outcome.stdout, outcome.stderr)
    assert files.rows("register-test.db", "SELECT count(*) FROM passage") == [(0,)]  # a rehearsal leaves nothing
    unit = re.search(r"^ExecStart=\S*kanal (.*)$", (files.folder / "kanal.service").read_text(), re.MULTILINE)
    image = re.search(r"^CMD (\[.*\])$", (files.folder / "Containerfile").read_text(), re.MULTILINE)
    assert unit is not None and image is not None
    for arguments in (shlex.split(unit[1]), json.loads(image[1])[1:]):
        assert (files.folder / arguments[1]).exists() and cli(*arguments, "--help").returncode == 0
    assert len(document(cli("next", "nightly.kanal.zip", "--env", "production", "--json"))[0]["next"]) == 5
    span = ("--since", "2026-01-01", "--until", "2026-01-04", "--by", "1 day")
    assert cli("run", "nightly.kanal.zip", "--env", "production", *span).returncode == 0
    assert files.rows("register-production.db", "SELECT count(*) FROM passage") == [(9,)]


def test_the_cluster_example(places: Callable[[str], Place], tmp_path: Path) -> None:
    pytest.importorskip("distributed")
    target = places("postgresql")
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    environment = {**os.environ, "PATH": path, "KANAL_EXAMPLE_POSTGRESQL": target.url}
    told = subprocess.run(
        [EXAMPLES / "cluster" / "run.sh"],
        check=False,
        cwd=tmp_path,
        env=environment,
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert told.returncode == 0, told.stdout + told.stderr
    assert "Which worker did what" in told.stdout
    (passages,) = target.rows("SELECT count(*) FROM passage")
    assert target.rows("SELECT count(*) FROM passage_archive") == [passages] != [(0,)]
