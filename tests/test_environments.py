"""Environments of a job, and bundles: what is different in each, what is wrong, and that what was packed is what runs."""

from __future__ import annotations

import json
import shutil
import zipfile
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files, document
from kanal.cli.entry import command_line

BODY = """
[parameters]
season = 2025
token = { env = "HOUSE_TOKEN" }
[defaults]
batch_rows = 100
[pipeline.t]
source = "old:t"
target = "new:t"
create = "missing"
where = "season = :season"
"""
HOUSES = """
[environment.test]
connection.new.url = "sqlite:///test.db"
parameters.season = 2024
[environment.production]
connection.new.url = "sqlite:///production.db"
run_log.url = "sqlite:///production-runs.db"
workers = 2
[environment.production.parameters.token]
file = "token.txt"
"""


@pytest.fixture
def house(files: Files, monkeypatch: pytest.MonkeyPatch) -> Files:
    monkeypatch.setenv("HOUSE_TOKEN", "one")
    (files.folder / "token.txt").write_text("two")
    files.database(
        "old.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, season INTEGER)", t=[(1, 2024), (2, 2025), (3, 2025)]
    )
    return files


MISTAKES = [  # the environment's lines, what is said, and the line
    ('connection.nwe.url = "sqlite:///x.db"', 'no connection "nwe"', 'Did you mean "new"', 2),
    ("parameters.seson = 1", 'no parameter "seson"', 'Did you mean "season"', 2),
    ("defaults.batch_rowz = 1", 'unknown key "batch_rowz"', 'Did you mean "batch_rows"', 2),
    ('connection.new.urll = "x"', 'unknown key "urll"', 'Did you mean "url"', 2),
    ("pipeline.t.limit = 5", 'unknown key "pipeline"', "", 2),
    ("\ndefaults.batch_rows = 0", "0 is less than 1", "Write 1 or more", 3),
    ("workers = 0", "0 is less than 1", "", 2),
    ('connection.new.password = "s3cret"', "a password does not belong in the job", "env", 2),
]


@pytest.mark.parametrize(("lines", "said", "remedy", "line"), MISTAKES, ids=[m[1] for m in MISTAKES])
def test_what_is_wrong_with_an_environment(
    house: Files, cli: Cli, lines: str, said: str, remedy: str, line: int
) -> None:
    """It is said whichever environment is chosen, with the line on which it stands."""
    path = house.job(BODY + "[environment.test]\n" + lines)
    head = len(path.read_text().split("[environment.test]")[0].splitlines())
    for arguments in ((), ("--env", "test")):
        outcome = cli("check", str(path), "--json", *arguments)
        problem = document(outcome)["problems"][0]
        assert said in problem["what"] and remedy in problem["remedy"][:1].upper() + problem["remedy"][1:]
        assert problem["line"] == head + line and problem["place"].startswith("environment test")
        assert "s3cret" not in outcome.stdout + outcome.stderr


def test_a_run_in_each_environment(house: Files, cli: Cli, monkeypatch: pytest.MonkeyPatch) -> None:
    path = str(house.job(BODY + HOUSES))
    for name, arguments, rows in (("new", (), 2), ("test", ("--env", "test"), 1)):
        outcome = cli("run", path, "--json", *arguments)
        assert outcome.returncode == 0 and document(outcome)["environment"] == (name if arguments else None)
        assert house.rows(f"{name}.db", "SELECT count(*) FROM t") == [(rows,)]
    monkeypatch.setenv("KANAL_ENV", "production")
    assert cli("run", path).returncode == 0
    assert house.rows("production.db", "SELECT count(*) FROM t") == [(2,)]
    assert cli("run", path, "--env", "prodution").stderr.endswith('Did you mean "production"?\n')
    # Its own run log, and in a shared one runs of its own.
    assert [run["environment"] for run in document(cli("runs", "--job", path, "--json"))] == ["production"]
    monkeypatch.delenv("KANAL_ENV")
    runs = document(cli("runs", "--json"))
    assert [(run["job"], run["environment"]) for run in runs] == [("test", "test"), ("test", None)]
    job = kanal.Job.read(path, environment="test")
    assert job.run().environment == "test" and kanal.Job.read(path).run().environment is None


def test_each_is_checked(house: Files, cli: Cli) -> None:
    path = house.job(BODY + HOUSES.replace("test.db", "nowhere/test.db"))
    outcome = cli("check", str(path), "--env", "all")
    assert outcome.returncode == 2 and "in test. Nothing was moved" in " ".join(outcome.stdout.split())
    assert "in production: 1 step, ready to run" in " ".join(outcome.stdout.split())
    found = document(cli("check", str(path), "--env", "all", "--json"))
    assert not found["ok"] and found["environments"]["production"]["ok"] and not found["environments"]["test"]["ok"]
    assert cli("check", str(house.job(BODY, "plain.toml")), "--env", "all").returncode == 2


def test_a_failed_run_goes_on_in_its_own_environment(house: Files, cli: Cli) -> None:
    """Each environment has its own lock, latest run, and run to go on with."""
    path = house.job(BODY + HOUSES + '[pipeline.u]\nsource = "old:u"\ntarget = "new:u"\ncreate = "missing"\n')
    house.database("old.db", "CREATE TABLE u (id INTEGER PRIMARY KEY)", u=[(1,)])
    assert cli("run", str(path)).returncode == 0
    house.database("old.db", "DROP TABLE u; CREATE TABLE u (id INTEGER PRIMARY KEY, season INTEGER)", u=[(1, 5)])
    house.database("test.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, season INTEGER); "
                              "CREATE TABLE u (id INTEGER PRIMARY KEY CHECK (id > 1), season INTEGER)")  # fmt: skip
    path.write_text(path.read_text().replace("[pipeline.u]", "[pipeline.u]\nmax_rejects = 0"))
    failed = document(cli("run", str(path), "--env", "test", "--json"))
    assert failed["status"] == "failed"
    wrong = cli("resume", str(failed["run"]), "--job", str(path))
    assert wrong.returncode == 2 and "was in environment test. Add --env test" in wrong.stderr
    house.database("test.db", "DROP TABLE u; CREATE TABLE u (id INTEGER PRIMARY KEY, season INTEGER)")
    again = cli("resume", "--json")
    assert document(again)["status"] == "succeeded" and document(again)["environment"] == "test"
    assert house.rows("test.db", "SELECT count(*) FROM u") == [(1,)]


def test_every_command_with_a_job_knows_environments() -> None:
    """Whatever command takes a job, or a run of one, takes --env too; and reads the job in one place."""
    commands = command_line().commands  # type: ignore[attr-defined]
    without = {name for name, command in commands.items() if "env" not in {one.name for one in command.params}}
    assert without == {"demo"}
    readers = [path.name for path in Path(kanal.__file__).parent.glob("cli/*.py") if "Job.read(" in path.read_text()]
    assert sorted(readers) == ["check.py", "demo.py", "jobs.py"]


def test_a_schedule_in_one_environment_takes_the_place_of_another(house: Files) -> None:
    path = house.job(BODY + '[schedule]\ncron = "0 2 * * *"\nmissed = "each"\n'
                            '[environment.test]\nschedule = { every = "1 hour" }\n')  # fmt: skip
    job = kanal.Job.read(path, environment="test")
    assert job.schedule is not None and (job.schedule.cron, job.schedule.every) == (None, "1 hour")
    assert job.schedule.missed == "each"
    job.write(path.with_name("copy.toml"))
    assert kanal.Job.read(path.with_name("copy.toml")).environment == job.environment


# --- bundles -----------------------------------------------------------------------------------------------------


@pytest.fixture
def packed(house: Files, cli: Cli) -> Path:
    """A bundle of a job that includes another file from a folder above, and has SQL and functions in files."""
    job = house.folder / "jobs"
    job.mkdir()
    (house.folder / "common.toml").write_text(
        '[connection.old]\nurl = "sqlite:///../old.db"\n[connection.new]\nurl = "sqlite:///new.db"\n'
    )
    (job / "empty.toml").write_text("")
    (job / "words.py").write_text(
        'import kanal\n\n@kanal.function(takes="value")\ndef doubled(n: int) -> int:\n    return 2 * n\n'
    )
    (job / "after.sql").write_text("DELETE FROM t WHERE id = 2")
    (job / "job.toml").write_text(
        'include = ["../common.toml", "empty.toml"]\njob = "packed"\nfunctions = "words.py"\n'
        '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\ncreate = "missing"\nwrite = "truncate"\n'
        'columns = { id = "id", season = "doubled(season)" }\n'
        '[command.less]\nconnection = "new"\nsql_file = "after.sql"\nafter = "t"\n'
    )
    outcome = cli("bundle", "jobs/job.toml", "--into", "jobs/house.kanal.zip", "--json")
    assert document(outcome)["files"] == [
        "jobs/job.toml",
        "common.toml",
        "jobs/empty.toml",
        "jobs/after.sql",
        "jobs/words.py",
    ]
    return job / "house.kanal.zip"


def test_a_bundle_runs_as_the_job_does(packed: Path, house: Files, cli: Cli) -> None:
    for name in ("words.py", "after.sql", "job.toml", "empty.toml"):
        (packed.parent / name).unlink()
    (house.folder / "common.toml").unlink()
    first = document(cli("run", str(packed), "--json"))
    assert first["status"] == "succeeded" and first["steps"][0]["inserted"] == 3, first
    assert house.rows("jobs/new.db", "SELECT id, season FROM t ORDER BY 1") == [(1, 4048), (3, 4050)]
    record = document(cli("runs", "--job", str(packed), "--json"))[0]
    assert record["job"] == "packed"
    for command in ("check", "order", "lineage", "compare", "ping"):
        assert cli(command, str(packed)).returncode in (0, 1), command  # 1: the command has deleted a row
    assert kanal.Job.read(packed).run().status == "succeeded"


def test_a_bundle_is_the_same_bytes_each_time(packed: Path, cli: Cli) -> None:
    before = packed.read_bytes()
    assert cli("bundle", "jobs/job.toml", "--into", str(packed)).returncode == 0 and packed.read_bytes() == before
    assert cli("bundle", "jobs/job.toml", "--into", "x.zip").returncode == 2


def _rewritten(path: Path, change: dict[str, bytes | None]) -> None:
    with zipfile.ZipFile(path) as archive:
        contents: dict[str, bytes | None] = {name: archive.read(name) for name in archive.namelist()}
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in (contents | change).items():
            if content is not None:
                archive.writestr(name, content)


def _listing(main: str, files: dict[str, str]) -> bytes:
    return json.dumps({"kanal": "0", "job": main, "files": files}).encode()


EVIL = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"  # of no bytes
TAMPERED = [
    ({"jobs/after.sql": b"DELETE FROM t"}, "jobs/after.sql is not as it was packed"),
    ({"jobs/after.sql": None}, "jobs/after.sql is not as it was packed"),
    ({"more.toml": b"x"}, "more.toml is not as it was packed"),
    ({"bundle.json": None}, "it is no bundle, or is damaged"),
    ({"bundle.json": b"[]"}, "it is no bundle, or is damaged"),
    ({"../evil.toml": b"", "bundle.json": _listing("../evil.toml", {"../evil.toml": EVIL})}, "is not as it was packed"),
]


@pytest.mark.parametrize(("change", "said"), TAMPERED, ids=[str(place) for place in range(len(TAMPERED))])
def test_a_bundle_that_was_changed_does_not_run(
    packed: Path, cli: Cli, change: dict[str, bytes | None], said: str
) -> None:
    _rewritten(packed, change)
    outcome = cli("run", str(packed))
    assert outcome.returncode == 2 and said in outcome.stderr


def test_a_bundle_never_writes_beside_its_folder(packed: Path, cli: Cli) -> None:
    for name in ("../evil.toml", "/tmp/evil.toml", "a\\..\\evil.toml", "C:evil.toml"):
        gone = dict.fromkeys(zipfile.ZipFile(packed).namelist())
        _rewritten(packed, {**gone, name: b"", "bundle.json": _listing(name, {name: EVIL})})
        outcome = cli("run", str(packed))
        assert outcome.returncode == 2 and "is not a file of a bundle" in outcome.stderr, name
    packed.write_bytes(packed.read_bytes()[:50])
    assert "is no bundle, or is damaged" in cli("check", str(packed)).stdout
    shutil.rmtree(packed.parent)
    assert "There is no file" in cli("check", str(packed)).stdout
