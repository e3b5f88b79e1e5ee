"""Thirty secrets, each where users have put one, looked for in all that every command prints, writes and logs."""

from __future__ import annotations

import contextlib
import logging
import re
from pathlib import Path

import pytest

import kanal
from conftest import Cli, Files
from kanal.definition.shown import shown_job
from test_page import PATHS, ask, page_of

SECRET = "pl4nted-word"
#: Port 9 answers nobody.
GONE = "127.0.0.1:9"
PIPELINE = """
[defaults]
retries = 0
[pipeline.t]
source = "old:t"
target = "new:t"
write = "truncate"
"""


def source(url: str, more: str = "") -> str:
    """A job whose source is at a URL that nobody answers."""
    return f'[connection.old]\nurl = "{url}"\nconnect_timeout = 1\n{more}[connection.new]\nurl = "sqlite:///new.db"\n{PIPELINE}'


def here(more: str, columns: str = 'columns = { id = "id" }') -> str:
    """A job between files that exist, with something more."""
    return (
        '[connection.old]\nurl = "sqlite:///old.db"\n[connection.new]\nurl = "sqlite:///new.db"\n'
        f"{PIPELINE}{columns}\n{more}"
    )


#: Of jobs, by what is secret in them.
JOBS = {
    "url": source(f"postgresql://keeper:{SECRET}@{GONE}/book"),
    "url with @": source(f"mariadb://keeper:half@{SECRET}@{GONE}/book"),
    "url with /": source(f"postgresql://keeper:half/{SECRET}@{GONE}/book"),
    "url of two users": source(f"oracle://keeper/lock:{SECRET}@{GONE}/book"),
    "url without scheme": source(f"keeper:{SECRET}@{GONE}/book"),
    "url of an unknown kind": source(f"waterdb://keeper:{SECRET}@{GONE}/book"),
    "url whose port is none": source(f"postgresql://keeper@127.0.0.1:{SECRET}/book"),
    "setting": source(f"postgresql://keeper@{GONE}/book?password={SECRET}"),
    "setting of MariaDB": source(f"mariadb://{GONE}/book?user=keeper&passwd={SECRET}"),
    "odbc": source(f"odbc:DRIVER=SQLite3;DATABASE=none/x.db;PWD={SECRET}"),
    "odbc with a name": source(f"odbc:dsn=book;UID=keeper;PWD={SECRET}"),
    "odbc in braces": source(f"odbc:///?driver=SQLite3&pwd={{{SECRET}}}"),
    "sftp": source(f"sftp://keeper:{SECRET}@{GONE}/in"),
    "s3": source(f"s3://book/in?endpoint_url=http://keeper:{SECRET}@{GONE}"),
    "s3 keys": source(f"s3://keeper:{SECRET}@book/in?endpoint_url=http://{GONE}"),
    "signed address": source(f"http://{GONE}/in/t.csv?sig={SECRET}"),
    "api": source(f"http://keeper:{SECRET}@{GONE}/api", 'resource.t = { path = "t" }\n'),
    "token address": source(
        f"http://{GONE}/api",
        f'resource.t = {{ path = "t" }}\nsign_in = {{ token_url = "http://keeper:{SECRET}@{GONE}/token" }}\n'
        'password = { env = "HARMLESS" }\n',
    ),
    "query of a resource": source(
        f"http://{GONE}/api", f'resource.t = {{ path = "t", query = {{ api_key = "{SECRET}" }} }}\n'
    ),
    "openapi": source(f"http://{GONE}/api", f'openapi = "http://keeper:{SECRET}@{GONE}/openapi.json"\n'),
    "firebird": source(f"firebird://keeper:{SECRET}@{GONE}/book"),
    "duckdb": source(f"duckdb:///none/x.db?motherduck_token={SECRET}"),
    "environment variable": source(f"postgresql://keeper@{GONE}/book", 'password = { env = "PLANTED" }\n'),
    "file": source(f"mariadb://keeper@{GONE}/book", 'password = { file = "word.txt" }\n'),
    "plain password": source(f"mariadb://keeper@{GONE}/book", f'password = "{SECRET}"\n'),
    "parameter": here(
        '[parameters]\nword = { env = "PLANTED" }\n', 'columns = { id = { from = ":word", type = "integer" } }'
    ),
    "parameter in a filter": here(
        '[parameters]\nword = { env = "PLANTED" }\n', 'where = "CAST(:word AS integer) = id"'
    ),
    "run log": here(f'[run_log]\nurl = "postgresql://keeper:{SECRET}@{GONE}/log"\n'),
    "receiver": here('[notify.keeper]\nto = { env = "ADDRESS" }\nwhen = ["failed"]\n'),
    "environment": here(f'[environment.test.connection.old]\nurl = "postgresql://keeper:{SECRET}@{GONE}/book"\n'),
    "SQL": here(
        f'[command.c]\nconnection = "new"\nsql = "CREATE USER keeper IDENTIFIED BY \'{SECRET}\'"\nafter = ["t"]\n'
    ),
    "SQL of another kind": here(f'[command.c]\nconnection = "new"\nsql = "ALTER ROLE keeper PASSWORD \'{SECRET}\'"\n'),
}
COMMANDS = [
    ["check", "job.toml"], ["check", "job.toml", "--sample", "5", "--json"], ["check", "job.toml", "--env", "all"],
    ["ping", "job.toml"], ["ping", "job.toml", "--json"], ["tables", "old", "--job", "job.toml"],
    ["sample", "old", "t", "--job", "job.toml"], ["order", "job.toml"], ["order", "job.toml", "--json"],
    ["lineage", "job.toml"], ["create", "job.toml", "--show"], ["run", "job.toml", "--events", "events.jsonl"],
    ["run", "job.toml", "--env", "test", "--json"], ["run", "job.toml", "--dry-run"], ["run", "job.toml", "--rehearse"],
    ["runs", "--job", "job.toml"], ["runs", "1", "--job", "job.toml", "--json"], ["rejects", "--job", "job.toml", "--json"],
    ["rejects", "--job", "job.toml", "--export", "rejects.csv"], ["resume", "--job", "job.toml"],
    ["replay", "--job", "job.toml"], ["compare", "job.toml"], ["watermarks", "job.toml"], ["next", "job.toml"],
    ["notify", "job.toml"], ["bundle", "job.toml", "--into", "job.kanal.zip"], ["clean", "job.toml"],
    ["report", "--job", "job.toml", "--into", "report.html"],
]  # fmt: skip


def prepare(files: Files, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PLANTED", SECRET)
    monkeypatch.setenv("HARMLESS", "harmless")
    monkeypatch.setenv("ADDRESS", f"json://keeper:{SECRET}@{GONE}/kanal")
    monkeypatch.setenv("KANAL_TRACEBACK", "1")
    monkeypatch.setattr("tenacity.nap.time.sleep", lambda seconds: None)  # between tries
    monkeypatch.setenv("AWS_MAX_ATTEMPTS", "1")
    (files.folder / "word.txt").write_text(SECRET)
    files.database("old.db", "CREATE TABLE t (id integer)", t=[(1,), (2,)])
    files.database("new.db", "CREATE TABLE t (id integer)")


def holders(folder: Path) -> list[str]:
    """The files that contain the secret, besides those that were written with it."""
    own = ("job.toml", "word.txt", "job.kanal.zip")
    return [path.name for path in folder.rglob("*") if path.is_file() and path.name not in own
            and SECRET.encode() in path.read_bytes()]  # fmt: skip


@pytest.mark.parametrize("place", JOBS)
def test_no_command_shows_a_secret(
    files: Files, cli: Cli, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture, place: str
) -> None:
    prepare(files, monkeypatch)
    caplog.set_level(logging.DEBUG)
    (files.folder / "job.toml").write_text(f'job = "planted"\n{JOBS[place]}')
    for command in COMMANDS:
        done = cli(*command)
        assert SECRET not in done.stdout + done.stderr, (command, done.stdout, done.stderr)
        assert "should not happen" not in done.stderr, (command, done.stderr)
    assert holders(files.folder) == []
    assert [record for record in caplog.records if SECRET in record.getMessage()] == []
    with contextlib.suppress(kanal.KanalError):
        job = kanal.Job.read(files.folder / "job.toml")
        assert SECRET not in repr(job) + str(job) + repr(list(job.connection.values()))
    with page_of(files, "job.toml") as (_, address):
        paths = {re.sub("/jobs/[^/]*", "/jobs/planted", path) for path in PATHS} | {"/metrics", "/health"}
        for path in sorted(paths):
            assert SECRET not in ask(address, path)[2], path


SHOWN = [
    ('url = "odbc:driver=x;PWD=word"', 'url = "odbc:driver=x;PWD=***"'),
    ('old.url = "odbc:driver=x;PWD={a;b}"', 'old.url = "odbc:driver=x;PWD=***"'),
    ('url = "sqlite:///token=x/a.db"  # where', 'url = "sqlite:///token=***"  # where'),
    ('query = { api_key = "word", page = "2" }', 'query = { api_key = "***", page = "***" }'),
    ("[connection.a.resource.r.query]\ncode = 'word'", '[connection.a.resource.r.query]\ncode = "***"'),
    ('source = { connection = "a", query = "SELECT token FROM t" }',) * 2,
    ('[parameters]\npassword = "word"\nseason = 2025', '[parameters]\npassword = "***"\nseason = 2025'),
    ('password = { env = "WORD" }',) * 2,
    ("sql = \"CREATE USER a IDENTIFIED BY 'word'\"", "sql = \"CREATE USER a IDENTIFIED BY '***'\""),
    ('sql = """\nALTER ROLE a\nPASSWORD \'it\'\'s\'"""', 'sql = """\nALTER ROLE a\nPASSWORD \'***\'"""'),
    ('key = "mark"\ncolumns = { token_no = "token_no" }', 'key = "mark"\ncolumns = { token_no = "***" }'),
    ('url = "postgresql://a:word@h/d', 'url = "postgresql://a:***@h/d'),
]


@pytest.mark.parametrize(("text", "shown"), SHOWN)
def test_a_job_file_is_shown_without_secrets(text: str, shown: str) -> None:
    assert shown_job(text) == shown


GIVEN = [f"postgresql://keeper:{SECRET}@{GONE}/book", f"keeper:{SECRET}@{GONE}/book", f"keeper/lock:{SECRET}@{GONE}",
         f"mysql://keeper:half@{SECRET}@{GONE}/book", f"odbc:dsn=book;PWD={SECRET}", f"sqlite:///none.db?key={SECRET}",
         f"http://{GONE}/t.csv?sig={SECRET}", f"s3://book?endpoint_url=http://keeper:{SECRET}@{GONE}"]  # fmt: skip


@pytest.mark.parametrize("url", GIVEN)
def test_no_command_shows_a_secret_that_it_was_given(
    files: Files, cli: Cli, monkeypatch: pytest.MonkeyPatch, url: str
) -> None:
    prepare(files, monkeypatch)
    (files.folder / "job.toml").write_text(f'job = "planted"\n{here("")}')
    for command in (
        ["ping", url], ["tables", url], ["sample", url, "t"], ["draft", url, "sqlite:///new.db"], ["runs", "--run-log", url],
        ["draft", "sqlite:///old.db", url, "--into", "drafted.toml"], ["compare", url, "sqlite:///new.db", "t"],
        ["check", url], ["run", url], ["runs", url], ["run", "job.toml", "--set", f"word={SECRET}"],
    ):  # fmt: skip
        done = cli(*command)
        assert SECRET not in done.stdout + done.stderr, (command, done.stdout, done.stderr)
        assert "should not happen" not in done.stderr, (command, done.stderr)
    assert holders(files.folder) == []
