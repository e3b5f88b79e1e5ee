"""A password is planted everywhere one can be, and then looked for in everything that comes out."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from urllib.parse import quote, quote_plus

import pytest
import sqlalchemy as sa

import kanal
from conftest import Cli, Place

Places = Callable[[str], Place]
PLANTED = "Hidden/@:%20 'Wörd"
FORMS = {
    PLANTED,
    quote(PLANTED, safe=""),
    quote_plus(PLANTED),
    quote(PLANTED, safe=" +"),
    PLANTED.replace("'", "''"),
    "Hidden/@",
}
BACKEND = f"""
from keyring.backend import KeyringBackend
class Backend(KeyringBackend):
    priority = 1
    def get_password(self, service, user):
        return {PLANTED!r} if (service, user) == ("waterway", "keeper") else None
    def set_password(self, *a): ...
    def delete_password(self, *a): ...
"""
PIPELINE = """
[defaults]
retry_wait = 0.1
[pipeline.t]
source = "old:t"
target = "new:t"
{settings}
"""


def leaks(text: str) -> list[str]:
    return [form for form in FORMS if form in text]


@pytest.fixture
def secret_places(places: Places, tmp_path: Path) -> dict[str, Place]:
    made = {"postgresql": places("postgresql"), "mariadb": places("mariadb")}
    for place in made.values():
        place.sql("CREATE TABLE t (n integer, v varchar(20))", "INSERT INTO t VALUES (1, 'a'), (2, 'b')")
    (tmp_path / "secrets").mkdir()
    (tmp_path / "secrets" / "word.txt").write_text(PLANTED + "\n", encoding="utf-8")
    (tmp_path / "secrets" / "planted_backend.py").write_text(BACKEND, encoding="utf-8")
    return made


WAYS = {
    "url": None,
    "setting": None,
    "env": '{ env = "PLANTED" }',
    "file": '{ file = "secrets/word.txt" }',
    "keyring": '{ keyring = "waterway", user = "keeper" }',
}


@pytest.mark.parametrize("way", WAYS)
def test_no_password_comes_out(
    secret_places: dict[str, Place], tmp_path: Path, cli: Cli, monkeypatch: pytest.MonkeyPatch, way: str
) -> None:
    environment = os.environ | {
        "PLANTED": PLANTED, "PYTHONPATH": str(tmp_path / "secrets"), "PYTHON_KEYRING_BACKEND": "planted_backend.Backend",
        "KANAL_TRACEBACK": "1",
    }  # fmt: skip
    for name in ("PLANTED", "KANAL_TRACEBACK"):
        monkeypatch.setenv(name, environment[name])
    good, other = secret_places["postgresql"], secret_places["mariadb"]

    def connection(name: str, place: Place, user: str, port: int | None = None) -> str:
        url = sa.make_url(place.url).set(username=user, password=PLANTED if way == "url" else None)
        url = url.set(port=port) if port else url
        url = url.update_query_dict({"password": PLANTED}) if way == "setting" else url
        password = f"password = {WAYS[way]}\n" if WAYS[way] else ""
        return f'[{name}]\nurl = "{url.render_as_string(hide_password=False)}"\n{password}'

    jobs = {
        "works": connection("connection.old", good, "postgres") + connection("connection.new", good, "postgres")
        + connection("run_log", good, "postgres") + PIPELINE.format(settings='where = "n < 2"'),
        "fails": connection("connection.old", good, "postgres") + connection("connection.new", good, "postgres")
        + PIPELINE.format(settings="first_sql = 'SELECT * FROM nowhere'"),
        "wrong": connection("connection.old", other, "root") + connection("connection.new", other, "nobody")
        + PIPELINE.format(settings=""),
        "closed": connection("connection.old", good, "postgres", 1) + connection("connection.new", other, "root", 1)
        + PIPELINE.format(settings=""),
    }  # fmt: skip
    (tmp_path / "jobs").mkdir()
    (tmp_path / "out").mkdir()
    said = []
    for name, body in jobs.items():
        if way != "url" and name in ("fails", "closed"):
            continue
        path = tmp_path / "jobs" / f"{name}.toml"
        path.write_text(f'job = "{name}"\n{body}'.replace("secrets/", "../secrets/"), encoding="utf-8")
        for arguments in (
            ["check", f"jobs/{name}.toml"], ["run", f"jobs/{name}.toml", "--events", "out/events.jsonl"],
            ["runs", "1", "--job", f"jobs/{name}.toml"], ["resume", "--job", f"jobs/{name}.toml"],
            ["rejects", "--job", f"jobs/{name}.toml", "--export", f"out/{name}.csv"],
        ):  # fmt: skip
            if way == "keyring":  # which is asked once in a process where it keeps them
                outcome = subprocess.run(
                    [sys.executable, "-m", "kanal", *arguments], cwd=tmp_path, env=environment, capture_output=True,
                    text=True, check=False, timeout=120,
                )  # fmt: skip
            else:
                outcome = cli(*arguments)
            assert "Traceback" not in outcome.stderr, outcome.stderr
            found = outcome.stdout + outcome.stderr
            said.append(found)
            assert not leaks(found), f"kanal {' '.join(arguments)}: {found}"
        job = kanal.Job.read(path)
        assert not leaks(repr(job) + str(job.connection) + repr(job.run_log))
        kept = sorted(
            file for file in tmp_path.rglob("*") if file.is_file() and tmp_path / "secrets" not in file.parents
        )
        for file in kept:
            if file.parent.name == "jobs" and file.suffix == ".toml":
                continue
            assert not leaks(file.read_bytes().decode("utf-8", "ignore")), file
        for file in tmp_path.rglob("*.db*"):
            file.unlink()
        for file in (tmp_path / "out").iterdir():
            file.unlink()
    assert "succeeded" in "".join(said)
    assert "Access denied" in "".join(said)
    logged = [row for table in ("run", "step", "reject") for row in good.rows(f"SELECT * FROM kanal_{table}")]
    assert logged
    assert not leaks(str(logged))


def test_a_keyring_that_has_no_such_password(tmp_path: Path) -> None:
    (tmp_path / "planted_backend.py").write_text(BACKEND, encoding="utf-8")
    (tmp_path / "job.toml").write_text(
        'job = "t"\n[connection.old]\nurl = "postgresql://u@localhost/x"\npassword = { keyring = "elsewhere" }\n'
        '[command.c]\nconnection = "old"\nsql = "SELECT 1"'
    )
    environment = os.environ | {"PYTHONPATH": str(tmp_path), "PYTHON_KEYRING_BACKEND": "planted_backend.Backend"}
    command = [sys.executable, "-m", "kanal", "check", "job.toml"]
    outcome = subprocess.run(command, cwd=tmp_path, env=environment, capture_output=True, text=True, check=False)
    assert outcome.returncode == 2
    assert 'has no password of the service "elsewhere" for the user "u"' in " ".join(outcome.stdout.split())
