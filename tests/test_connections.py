"""Kinds of connections: another package's, what each can do, which troubles pass; and how batches are bounded."""

from __future__ import annotations

import os
import re
import socket
import struct
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import get_args

import pytest
import sqlalchemy as sa

import kanal
from conftest import Files, Place
from kanal.connections.roles import Reads, Writes, lacks
from kanal.connections.sql.mariadb import MariaDB
from kanal.connections.sql.postgresql import PostgreSQL
from kanal.connections.sql.sqlite import SQLite
from kanal.core.errors import KanalError
from kanal.definition.commits import COMMIT_MODES
from kanal.runner.write_rules import WRITE_RULES
from test_runs import counts
from test_servers import job, succeeded

Places = Callable[[str], Place]

TINY = """
from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.plain import PlainCatalogue, PlainConnection, PlainLoad
from kanal.connections.roles import Reads, Writes
from kanal.core.frame import SourceBatch
from kanal.core.types import BIGINT, TEXT
import pyarrow as pa

LOCK = TableInfo(None, "lock", (ColumnInfo("code", "text", TEXT, TEXT), ColumnInfo("reach", "bigint", BIGINT, BIGINT)))

class Catalogue(PlainCatalogue):
    def tables(self):
        return {"lock": LOCK}

class Load(PlainLoad):
    def __init__(self, target):
        super().__init__(target)
        self.rows = []
    def insert(self, table, encoded): self.rows += encoded.to_pylist()
    def commit(self): (self.target.folder / "lock.txt").write_text(repr(self.rows))

class Tiny(PlainConnection):
    reads = frozenset({Reads.ROWS})
    writes = frozenset({Writes.APPEND})
    catalogue = property(lambda self: Catalogue(self.name))

    @classmethod
    def opened(cls, name, url, folder):
        made = cls(name)
        made.folder = folder
        return made

    def batches(self, reading):
        rows = {"code": pa.array(["L1", "L2", None]), "reach": pa.array([10, 20, 30])}
        yield SourceBatch(3, {name: rows[name] for name in reading.columns})

    def load(self):
        import contextlib
        return contextlib.nullcontext(Load(self))
"""


@pytest.fixture
def tiny(tmp_path: Path) -> dict[str, str]:
    """An environment in which a package is installed that brings the kind `tiny`."""
    site = tmp_path / "site"
    info = site / "kanal_tiny-0.1.dist-info"
    info.mkdir(parents=True)
    (site / "kanal_tiny.py").write_text(TINY)
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: kanal-tiny\nVersion: 0.1\n")
    (info / "entry_points.txt").write_text("[kanal.connections]\ntiny = kanal_tiny:Tiny\nbroken = kanal_nowhere:Kind\n")
    return os.environ | {"PYTHONPATH": str(site)}


def command(folder: Path, environment: dict[str, str], *arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "kanal", *arguments], cwd=folder, env=environment, capture_output=True, text=True,
        timeout=120, check=False,
    )  # fmt: skip


def test_a_package_brings_a_kind(files: Files, tiny: dict[str, str]) -> None:
    files.database("new.db", "CREATE TABLE lock (code text NOT NULL, reach integer)")
    body = """
        job = "tiny"
        [connection.t]
        url = "tiny://anywhere"
        [connection.new]
        url = "sqlite:///new.db"
        [pipeline.there]
        source = "t:lock"
        target = "new:lock"
    """
    (files.folder / "job.toml").write_text(body)
    back = body.replace('"t:lock"', '"x"').replace('"new:lock"', '"t:lock"').replace('"x"', '"new:lock"')
    (files.folder / "back.toml").write_text(back.replace("pipeline.there", "pipeline.back"))
    for file in ("job.toml", "back.toml"):
        done = command(files.folder, tiny, "run", file)
        assert done.returncode == 0, done.stdout + done.stderr
    assert files.rows("new.db", "SELECT * FROM lock") == [("L1", 10), ("L2", 20)]
    assert (files.folder / "lock.txt").read_text() == "[{'code': 'L1', 'reach': 10}, {'code': 'L2', 'reach': 20}]"
    (files.folder / "wide.toml").write_text((files.folder / "back.toml").read_text() + "[pipeline.back.columns]\ncode = \"code\"\n"
                                            "reach = { from = \"reach * 1.5\", type = \"decimal(20,2)\" }\n")  # fmt: skip
    said = command(files.folder, tiny, "check", "wide.toml")
    assert (said.returncode, "reach (decimal(21,2) into bigint)" in " ".join(said.stdout.split())) == (0, True), said
    assert "✓ t" in command(files.folder, tiny, "ping", "job.toml").stdout
    shown = command(files.folder, tiny, "tables", "tiny://x").stdout
    assert "lock" in shown
    assert "L1" in command(files.folder, tiny, "sample", "tiny://x", "lock").stdout
    assert command(files.folder, tiny, "compare", "job.toml", "--only", "there").returncode in (0, 1)


CANNOT = [
    ('source = "t:lock"', 'target = "new:lock"', 'order_by = "code"', Reads.ORDER),
    ('source = "t:lock"', 'target = "new:lock"', 'commit = "batch"\norder_by = "reach"', Reads.SEEK),
    ('source = "t:lock"', 'target = "new:lock"', "split = 2", Reads.SPLIT),
    ('source = { connection = "t", query = "SELECT 1" }', 'target = "new:lock"', "", Reads.QUERY),
    ('source = "new:lock"', 'target = "t:lock"', 'write = "truncate"', Writes.EMPTY),
    ('source = "new:lock"', 'target = "t:lock"', 'write = "merge"\nkey = "code"', Writes.MERGE),
    ('source = "new:lock"', 'target = "t:lock"', 'write = "merge"\nkey = "code"\nmissing = "delete"', Writes.DELETE),
    ('source = "new:lock"', 'target = "t:lock"', 'since = "reach"', Writes.REMEMBER),
    ('source = "new:lock"', 'target = "t:lock"', 'commit = "job"', Writes.SHARE),
    ('source = "new:lock"', 'target = "t:lock"', 'commit = "batch"\norder_by = "reach"', Writes.REMEMBER),
    ('source = "new:lock"', 'target = "t:lock"', 'first_sql = "SELECT 1"', Writes.SQL),
    ('source = "new:lock"', 'target = "t:lock"', 'last_sql = "SELECT 1"', Writes.SQL),
    ('source = "new:lock"', 'target = "t:other"', 'create = "missing"', Writes.CREATE),
    ('source = "new:lock"', 'target = "t:lock"\n[command.c]\nconnection = "t"\nsql = "SELECT 1"', "", Writes.SQL),
]  # fmt: skip


def test_what_a_connection_cannot_do_is_told_by_check(files: Files, tiny: dict[str, str]) -> None:
    files.database("new.db", "CREATE TABLE lock (code text PRIMARY KEY, reach integer NOT NULL)")
    head = 'job = "tiny"\n[connection.t]\nurl = "tiny://"\n[connection.new]\nurl = "sqlite:///new.db"\n'
    for number, (source, target, settings, _) in enumerate(CANNOT):
        (files.folder / f"{number}.toml").write_text(f"{head}[pipeline.p]\n{source}\n{settings}\n{target}\n")
    code = f"import kanal\nfor n in range({len(CANNOT)}): print(kanal.Job.read(f'{{n}}.toml').check())"
    done = subprocess.run(
        [sys.executable, "-c", code], cwd=files.folder, env=tiny, capture_output=True, text=True, check=True
    )
    for line, (*_, ability) in zip(done.stdout.splitlines(), CANNOT, strict=True):
        error = lacks("t", ability)
        assert error.what in line, (ability, line)
        assert error.remedy[1:] in line.replace("\\", ""), (ability, line)


def test_a_kind_that_cannot_be_had(files: Files, tiny: dict[str, str]) -> None:
    for scheme, said in (
        ("broken", "kanal-tiny, which brings broken, cannot be imported: ModuleNotFoundError"),
        ("tinny", 'there is no kind of connection "tinny". Did you mean "tiny"?'),
    ):
        done = command(files.folder, tiny, "ping", f"{scheme}://x")
        assert done.returncode == 2
        assert said in " ".join(done.stderr.split())


def test_rules_and_ways_to_commit_are_those_of_the_job_file() -> None:
    fields = kanal.Settings.model_fields
    assert set(get_args(fields["write"].annotation)) == set(WRITE_RULES)
    assert set(get_args(fields["commit"].annotation)) == set(COMMIT_MODES)
    named = re.compile(r"\b(write|commit)\s*([!=]=|in)\s*['\"(]|[!=]=\s*['\"](append|truncate|merge|history)['\"]")
    source = Path(kanal.__file__).parent
    found = [f"{path.name}: {line.strip()}" for path in source.rglob("*.py")
             for line in path.read_text(encoding="utf-8").splitlines() if named.search(line)]  # fmt: skip
    assert found == [], "rules and commits state their facts; nobody compares their names"


# --- which troubles pass ----------------------------------------------------------------------------------------------


@pytest.fixture
def answering() -> Iterator[Callable[[bytes, bool], int]]:
    """Starts a server that sends an answer to whoever connects, at once or once it was spoken to; gives its port."""
    servers: list[socket.socket] = []

    def start(answer: bytes, waits: bool) -> int:
        server = socket.create_server(("127.0.0.1", 0))
        servers.append(server)

        def serve() -> None:
            while True:
                try:
                    connection, _ = server.accept()
                except OSError:
                    return
                with connection:
                    if waits:
                        first = connection.recv(1024)
                        if first[4:8] == struct.pack("!i", 80877103):  # TLS is asked for
                            connection.sendall(b"N")
                            connection.recv(1024)
                    connection.sendall(answer)

        threading.Thread(target=serve, daemon=True).start()
        return int(server.getsockname()[1])

    yield start
    for server in servers:
        server.close()


@pytest.mark.parametrize(
    ("state", "passing"),
    [("57P03", True), ("53300", True), ("28P01", False), ("3D000", False), ("28000", False)],
)
def test_what_postgresql_says_passes_by_its_state_in_any_language(
    answering: Callable[[bytes, bool], int], state: str, passing: bool
) -> None:
    fields = b"SFATAL\0VFATAL\0C" + state.encode() + "\0Mdas Datenbanksystem fährt hoch\0\0".encode()
    port = answering(b"E" + struct.pack("!i", len(fields) + 4) + fields, True)
    database = PostgreSQL("old", sa.make_url(f"postgresql://u@127.0.0.1:{port}/d"))
    with pytest.raises(KanalError, match="Datenbanksystem") as caught:
        database.catalogue.about()
    assert caught.value.passing is passing  # type: ignore[attr-defined]


@pytest.mark.parametrize(("number", "passing"), [(1040, True), (1053, True), (1045, False), (1049, False)])
def test_what_mariadb_says_passes_by_its_number(
    answering: Callable[[bytes, bool], int], number: int, passing: bool
) -> None:
    body = b"\xff" + struct.pack("<H", number) + b"#HY000zu viele Verbindungen"
    port = answering(len(body).to_bytes(3, "little") + b"\0" + body, False)
    database = MariaDB("old", sa.make_url(f"mariadb://u@127.0.0.1:{port}/d"))
    with pytest.raises(KanalError, match="Verbindungen") as caught:
        database.catalogue.about()
    assert caught.value.passing is passing  # type: ignore[attr-defined]


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
@pytest.mark.parametrize(("host", "passing"), [("127.0.0.1", True), ("no-such-host.invalid", False)])
def test_a_closed_port_passes_and_a_name_that_is_none_does_not(kind: str, host: str, passing: bool) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
    made = {"postgresql": PostgreSQL, "mariadb": MariaDB}[kind]
    with pytest.raises(KanalError) as caught:
        made("old", sa.make_url(f"{kind}://u@{host}:{port}/d")).catalogue.about()
    assert caught.value.passing is passing  # type: ignore[attr-defined]


def test_a_locked_file_passes(files: Files) -> None:
    files.database("old.db", "CREATE TABLE t (a integer)")
    code = "import sqlite3, sys\nc = sqlite3.connect('old.db', isolation_level=None)\nc.execute('BEGIN EXCLUSIVE')\nprint(flush=True)\nsys.stdin.read()"  # fmt: skip
    with subprocess.Popen(
        [sys.executable, "-c", code], cwd=files.folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE
    ) as holder:
        assert holder.stdout is not None and holder.stdin is not None
        holder.stdout.readline()
        database = SQLite("old", sa.make_url(f"sqlite:///{files.folder}/old.db"))
        database.lock_timeout = 0.1
        for use in (lambda: database.run_command("INSERT INTO t VALUES (1)"), database.catalogue.table_names):
            with pytest.raises(KanalError, match="locked") as caught:
                use()
            assert caught.value.passing is True  # type: ignore[attr-defined]
        holder.stdin.close()


# --- batches are bounded in bytes -------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb", "other"])
@pytest.mark.parametrize("commit", ["step", "batch"])
def test_a_batch_ends_where_it_comes_to_so_many_bytes(places: Places, tmp_path: Path, kind: str, commit: str) -> None:
    old, new = places(kind), places("sqlite")
    text = {"mariadb": "longtext"}.get(kind, "text")
    old.sql(f"CREATE TABLE t (id integer PRIMARY KEY, note {text})")
    note = {"sqlite": "replace(hex(zeroblob(10000)), '0', 'x')"}.get(kind, "repeat('x', 20000)")
    old.sql(*(f"INSERT INTO t VALUES ({number}, {note})" for number in range(60)))
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, note text)")
    body = f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\ncommit = "{commit}"\nbatch_bytes = 100000\n'
    step = succeeded(job(tmp_path, body, old=old, new=new).run())["t"]
    assert counts(step) == {"read": 60, "inserted": 60}
    assert step.batches >= 4
    assert new.rows("SELECT count(*), min(length(note)), max(length(note)) FROM t") == [(60, 20_000, 20_000)]
