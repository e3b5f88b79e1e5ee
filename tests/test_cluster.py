"""Jobs run by the workers of a cluster, on hosts whose links are cut and whose processes are killed."""

from __future__ import annotations

import datetime as dt
import io
import os
import pickle
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import distributed
import pytest

import kanal
from conftest import Cli, Place, document
from hosts import ENVIRONMENT, Gate, Network, can_make_hosts
from kanal.connections import open_database
from kanal.runlog import RunLogStore, clock
from test_servers import job

Places = Callable[[str], Place]
ROWS = 12_000
HOSTS = ("hub", "one", "two", "desk", "other")


@pytest.fixture(scope="module")
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A scheduler and two workers on this machine; the address of the scheduler."""
    pytest.importorskip("distributed")
    folder = tmp_path_factory.mktemp("cluster")
    with (folder / "log").open("w") as log:

        def start(*command: str) -> subprocess.Popen[bytes]:
            environment = {**os.environ, **ENVIRONMENT, "KANAL_TEST_SECRET": "kept-by-the-worker"}
            return subprocess.Popen([sys.executable, "-m", "dask", *command], cwd=folder, stdout=log, stderr=log, env=environment)  # fmt: skip

        started = [
            start("scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", "s.json")
        ]
        while not (folder / "s.json").exists():
            assert started[0].poll() is None
            time.sleep(0.1)
        address = str(document(subprocess.CompletedProcess((), 0, (folder / "s.json").read_text()))["address"])
        started += [start("worker", address, "--name", name, "--nthreads", "1", "--no-nanny", "--no-dashboard", "--resources", f"{name}-site=1")
                    for name in ("one", "two")]  # fmt: skip
        try:
            yield address
        finally:
            for process in started:
                process.kill()
                process.wait(10)


def filled(
    places: Places, source: str = "postgresql", targets: tuple[str, ...] = ("postgresql", "mariadb")
) -> list[Place]:
    old, *news = [places(kind) for kind in (source, *targets)]
    old.sql("CREATE TABLE t (id integer PRIMARY KEY, tons varchar(9))")
    values = [f"({n}, '{'x' if n % 100 == 0 else n}')" for n in range(ROWS)]
    old.sql(f"INSERT INTO t VALUES {', '.join(values)}")
    for new in news:
        new.sql(*(f"CREATE TABLE {name} (id integer PRIMARY KEY, tons integer)" for name in "abcd"))
        new.sql("INSERT INTO c VALUES (-1, 1), (5, 0)")
    return [old, *news]


#: Every write rule and way to commit, divided and whole, into two kinds of databases.
STEPS = """
[defaults]
retry_wait = 0.5
batch_rows = 1000
[pipeline.a]
source = "old:t"
target = "new:a"
write = "append"
split = 4
[pipeline.b]
source = "old:t"
target = "far:b"
write = "append"
commit = "batch"
[pipeline.c]
source = "old:t"
target = "far:c"
write = "merge"
key = "id"
split = { parts = 3, snapshot = "none" }
[pipeline.d]
source = "old:t"
target = "new:d"
write = "truncate"
after = "a"
"""


def check_all_is_there(new: Place, far: Place, log: Place, run: int = 1) -> None:
    """Target, books and rejects are as after an undisturbed run, and nothing else is left."""
    good = ROWS - ROWS // 100
    for place, name in ((new, "a"), (far, "b"), (new, "d")):
        assert place.rows(f"SELECT count(*), count(DISTINCT id), sum(tons - id) FROM {name}") == [(good, good, 0)], name
    assert far.rows("SELECT count(*), sum(CASE WHEN id = tons THEN 1 ELSE 0 END) FROM c") == [(good + 1, good)]
    books = log.rows(
        f"SELECT step, status, read, inserted + updated, rejected FROM kanal_step WHERE run = {run} ORDER BY step"
    )
    assert books == [(name, "succeeded", ROWS, good, ROWS // 100) for name in "abcd"]
    counted = log.rows(f"SELECT step, count(*) FROM kanal_reject WHERE run = {run} GROUP BY step ORDER BY step")
    assert counted == [(name, ROWS // 100) for name in "abcd"]
    for place, schema in ((new, "current_schema()"), (far, "database()")):
        tables = {
            str(row[0])
            for row in place.rows(f"SELECT table_name FROM information_schema.tables WHERE table_schema = {schema}")
        }
        assert tables == {*"abcd", "kanal_progress"}


def test_a_job_by_a_cluster_and_what_is_told_of_it(places: Places, tmp_path: Path, cluster: str, cli: Cli) -> None:
    old, new, far = filled(places)
    log = places("postgresql")
    job(tmp_path, f'[run_log]\nurl = "{log.url}"\n{STEPS}', old=old, new=new, far=far)
    told = cli("run", "job.toml", "--cluster", cluster)
    assert told.returncode == 0, told.stderr + told.stdout
    check_all_is_there(new, far, log)
    shown = cli("runs", "1", "--job", "job.toml").stdout
    assert "Which worker did what" in shown
    assert {task["worker"] for task in document(cli("runs", "1", "--job", "job.toml", "--json"))["tasks"]} == {
        "one",
        "two",
    }
    parts = [
        task["part"]
        for task in document(cli("runs", "1", "--job", "job.toml", "--json"))["tasks"]
        if task["step"] == "a"
    ]
    assert parts == ["range 1 of 4", "range 2 of 4", "range 3 of 4", "range 4 of 4", "publishing"]
    assert cli("ping", "job.toml", "--cluster", cluster).stdout.count("✓") == 6
    assert cli("clean", "job.toml").stdout.startswith("Nothing is left")


def test_a_command_and_a_step_by_the_executor_of_a_client(places: Places, tmp_path: Path, cluster: str) -> None:
    distributed = pytest.importorskip("distributed")
    old, new = places("postgresql"), places("mariadb")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY)", "INSERT INTO t VALUES (1), (2)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n'
    body += '[command.more]\nconnection = "new"\nsql = "INSERT INTO t VALUES (3)"\nafter = "t"\n'
    with distributed.Client(cluster, set_as_default=False) as client:
        run = job(tmp_path, body, old=old, new=new).run(executor=client.get_executor())
        assert client.status == "running"
    assert [str(step.status) for step in run] == ["succeeded", "succeeded"]
    assert new.rows("SELECT sum(id) FROM t") == [(6,)]


def test_what_a_cluster_cannot_do_is_said_before(places: Places, tmp_path: Path, cluster: str, cli: Cli) -> None:
    old, new = places("mariadb"), places("postgresql")
    for place in (old, new):
        place.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nsplit = 2\n'
    job(tmp_path, body, old=old, new=new)
    said = " ".join(cli("check", "job.toml", "--cluster", cluster).stdout.split())
    assert "one worker reads all of it, for old cannot show one state to readers on several machines" in said
    text = (tmp_path / "job.toml").read_text()
    (tmp_path / "job.toml").write_text(text.replace("root@", "root:secret@"))
    assert "which would be sent to the workers" in " ".join(
        cli("check", "job.toml", "--cluster", cluster).stdout.split()
    )
    (tmp_path / "job.toml").write_text(text.replace("[connection.new]", '[connection.new]\nreached_from = "nowhere"'))
    assert "no worker of the cluster carries that tag" in " ".join(
        cli("check", "job.toml", "--cluster", cluster).stdout.split()
    )
    said = cli("run", "job.toml", "--cluster", "tcp://127.0.0.1:9").stderr
    assert "the scheduler tcp://127.0.0.1:9 cannot be reached" in said


def test_a_place_that_one_worker_reaches(
    places: Places, tmp_path: Path, cluster: str, cli: Cli, monkeypatch: pytest.MonkeyPatch
) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY)", "INSERT INTO t VALUES (1), (2)")
    # Only workers know the password, and nobody else even whether it is needed.
    text = old.url.replace("postgres@", "${KANAL_TEST_SECRET_USER:-postgres}@")
    job(
        tmp_path,
        '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\ncreate = "missing"\n',
        old=Place("postgresql", text),
        new=new,
    )
    file = tmp_path / "job.toml"
    file.write_text(
        file.read_text().replace(
            "[connection.new]", 'reached_from = "two-site"\npassword = { env = "KANAL_TEST_SECRET" }\n[connection.new]'
        )
    )
    monkeypatch.delenv("KANAL_TEST_SECRET", raising=False)
    answers = document(cli("ping", "job.toml", "--cluster", cluster, "--json"))
    assert [answer["worker"] for answer in answers if answer["connection"] == "old"] == ["two"]
    told = cli("run", "job.toml", "--cluster", cluster)
    assert told.returncode == 0, told.stderr + told.stdout
    assert new.rows("SELECT sum(id) FROM t") == [(3,)]
    assert {task["worker"] for task in document(cli("runs", "1", "--job", "job.toml", "--json"))["tasks"]} == {"two"}
    assert "KANAL_TEST_SECRET is not set" in cli("check", "job.toml").stdout
    # What only this machine knows, a worker misses, and says so.
    file.write_text(
        file.read_text().replace('reached_from = "two-site"\n', "").replace("KANAL_TEST_SECRET", "KANAL_HERE")
    )
    monkeypatch.setenv("KANAL_HERE", "x")
    said = " ".join(cli("run", "job.toml", "--cluster", cluster).stdout.split())
    assert "connection old: the environment variable KANAL_HERE is not set" in said.replace("job.toml:4: ", "")


class Planted:
    """What creates a file when it is unpickled."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __reduce__(self) -> tuple[Any, ...]:
        return Path.touch, (self.path,)


def test_functions_go_along_and_secrets_do_not(
    places: Places, tmp_path: Path, cluster: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All that client, scheduler and workers say to each other is heard here."""
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY)", "INSERT INTO t VALUES (1), (2)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY, place text)")
    (tmp_path / "mine.py").write_text(
        'import kanal\n@kanal.function(takes="value")\ndef place(id: int) -> str:\n    return __file__\n'
    )
    body = '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\ncolumns = { id = "id", place = "place(id) || :word" }\n'
    body = '[parameters]\nword = { env = "KANAL_TEST_WORD" }\n' + body
    secret = '\npassword = { env = "KANAL_TEST_SECRET" }\n'
    job(tmp_path, body, old=old, new=new)
    file = tmp_path / "job.toml"
    file.write_text(
        'functions = ["mine.py"]\n' + file.read_text().replace("\n[connection.new]", f"{secret}[connection.new]")
    )
    # Of this process and of the workers it is the same here, which changes nothing about who may hear it.
    monkeypatch.setenv("KANAL_TEST_SECRET", "kept-by-the-worker")
    monkeypatch.setenv("KANAL_TEST_WORD", "kept-as-well")
    heard = io.BytesIO()
    host, port = cluster.removeprefix("tcp://").split(":")
    gate = Gate("127.0.0.1", int(port), heard=heard, to=host)
    command = [sys.executable, "-m", "dask", "worker", f"tcp://127.0.0.1:{gate.own_port}", "--name", "heard", "--nthreads",
               "1", "--no-nanny", "--no-dashboard", "--resources", "heard=1"]  # fmt: skip
    environment = {**os.environ, **ENVIRONMENT, "DASK_DISTRIBUTED__COMM__COMPRESSION": "null"}
    worker = subprocess.Popen(
        command, cwd=tmp_path, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        text = file.read_text()
        file.write_text(text.replace("[connection.new]", '[connection.new]\nreached_from = "heard"'))
        from kanal.runner.elsewhere.cluster import Cluster

        crew = Cluster(f"tcp://127.0.0.1:{gate.own_port}")
        while not crew.with_tags(["heard"]):
            time.sleep(0.1)
        # Whoever reaches the scheduler can write to the queue that the run reads.
        distributed.Queue(crew._inbox_name, client=crew.client).put(pickle.dumps(Planted(tmp_path / "planted")))
        run = kanal.Job.read(file).run(executor=crew)  # type: ignore[arg-type]
        with pytest.raises(kanal.KanalError, match="secret parameter word would be sent to the workers"):
            kanal.Job.read(file).run(executor=crew, parameters={"word": "by hand"})  # type: ignore[arg-type]
        crew.close()
    finally:
        worker.kill()
        worker.wait(10)
        gate.close()
    assert [step.error for step in run] == [None]
    assert not (tmp_path / "planted").exists()
    assert all("kanal-texts" in row[0] and row[0].endswith("kept-as-well") for row in new.rows("SELECT place FROM t"))
    assert b"kanal_run" not in heard.getvalue()  # nor anything of the run log
    assert b"mine.py" in heard.getvalue()
    assert b"kept-by-the-worker" not in heard.getvalue()
    assert b"kept-as-well" not in heard.getvalue()


def test_another_version_is_a_sentence(
    places: Places, tmp_path: Path, cluster: str, cli: Cli, monkeypatch: pytest.MonkeyPatch
) -> None:
    old, new = places("sqlite"), places("sqlite")
    for place in (old, new):
        place.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    job(tmp_path, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n', old=old, new=new)
    monkeypatch.setattr("kanal.runner.elsewhere.cluster.VERSIONS", ("9.9", "3.99"))
    said = " ".join(cli("run", "job.toml", "--cluster", cluster).stdout.split())
    assert f"there is Kanal {kanal.__version__} with Python" in said
    assert "Install the same there" in said


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
@pytest.mark.parametrize("minutes", [-10, 10])
def test_a_clock_that_is_wrong_takes_no_living_run_for_dead(
    places: Places, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str, minutes: int
) -> None:
    place = places(kind)
    log = RunLogStore(open_database("log", kanal.RunLog(url=place.url), tmp_path))
    log.prepare()
    log.runs.begin_run("nightly", None, [])
    # Another machine, whose clock is wrong.
    there = clock.now
    monkeypatch.setattr("kanal.runlog.clock.now", lambda: there() + dt.timedelta(minutes=minutes))
    monkeypatch.setattr("kanal.runlog.liveness.socket.gethostname", lambda: "elsewhere")
    other = RunLogStore(open_database("log", kanal.RunLog(url=place.url), tmp_path))
    other.runs.end_dead_runs()
    assert log.past.run(1).status == "running"
    with pytest.raises(kanal.KanalError, match="is under way"):
        other.runs.begin_run("nightly", None, [])
    place.sql("UPDATE kanal_run SET sign = sign - INTERVAL '3' MINUTE")
    other.runs.end_dead_runs()
    assert log.past.run(1).status == "failed"


# --- faults -----------------------------------------------------------------------------------------------------------

FAULTS = ["kill one", "stop one", "kill hub", "kill desk", "cut", "cut", "cut"]


@pytest.fixture(scope="module")
def network(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Network]:
    pytest.importorskip("distributed")
    if not can_make_hosts():
        if os.environ.get("KANAL_TEST_SERVERS") == "required":
            pytest.fail("network namespaces are needed: run as root, with iproute2 and iptables")
        pytest.skip("network namespaces need root, iproute2 and iptables")
    made = Network(tmp_path_factory.mktemp("hosts"), *HOSTS)
    try:
        scheduler = made.scheduler("hub")
        made.worker("one", scheduler)
        made.worker("two", scheduler)
        yield made
    finally:
        made.close()


def disturb(network: Network, chance: random.Random, client: subprocess.Popen[str]) -> str:
    """Do some harm, for a while; what it was."""
    time.sleep(chance.uniform(0.5, 7))
    fault, seconds = chance.choice(FAULTS), chance.choice([1, 4, 12, 25])
    if fault == "kill desk":
        os.killpg(client.pid, signal.SIGKILL)
    elif fault == "cut":
        one, other = chance.sample(["hub", "one", "two", "desk", "database"], 2)
        network.cut(one, other)
        fault = f"cut {one} from {other} for {seconds} s"
        time.sleep(seconds)
        network.heal()
    elif fault == "stop one":
        host = chance.choice(["one", "two"])
        network.signal(host, signal.SIGSTOP)
        time.sleep(seconds)
        network.signal(host, signal.SIGCONT)
        fault = f"stop {host} for {seconds} s"
    else:
        host = "hub" if fault == "kill hub" else chance.choice(["one", "two"])
        network.signal(host, signal.SIGKILL)
        fault = f"kill {host}"
    return fault


def go_through(network: Network, places: Places, folder: Path, chance: random.Random) -> str:
    """Run a job while harm is done, resume it from another host until it is through; what the harm was."""
    old, new, far = filled(places)
    log = places("postgresql")
    # The source is slow enough for the harm to meet a load.
    there = {
        "old": Place(old.kind, network.database(old.url, rate=60_000)),
        "new": Place(new.kind, network.database(new.url)),
        "far": Place(far.kind, network.database(far.url)),
    }
    job(folder, f'[run_log]\nurl = "{network.database(log.url)}"\n{STEPS}', **there)
    file, cluster = str(folder / "job.toml"), f"tcp://{network.addresses['hub']}:8786"
    command = [sys.executable, "-m", "kanal"]

    def ended(process: subprocess.Popen[str]) -> int:
        try:
            return process.wait(150)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            return process.wait(10)

    def runs() -> list[tuple[int, str]]:
        found = log.rows("SELECT 1 FROM information_schema.tables WHERE table_name = 'kanal_step'")
        return log.rows("SELECT run, status FROM kanal_run ORDER BY run") if found else []

    client = network.start("desk", *command, "run", file, "--cluster", cluster)
    fault = disturb(network, chance, client)
    status = ended(client)
    for _ in range(5):
        if status == 0 or any(state == "succeeded" for _, state in runs()):
            break
        time.sleep(1)
        # A run that failed before a step could begin is begun anew.
        begun = log.rows("SELECT count(*) FROM kanal_step") if runs() else [(0,)]
        act = ["resume", "--job", file] if begun != [(0,)] else ["run", file]
        status = ended(network.start("other", *command, *act, "--cluster", cluster))
    cleaned = network.start("other", *command, "clean", file)
    assert cleaned.wait(60) == 0, fault
    told = "".join(path.read_text()[-3000:] for path in network.folder.glob("*.log"))
    assert [state for _, state in runs()][-1:] == ["succeeded"], f"{fault}\n{told}"
    check_all_is_there(new, far, log, runs()[-1][0])
    return fault


@pytest.mark.parametrize("number", [0, 1, pytest.param(2, marks=pytest.mark.matrix)])
def test_whatever_happens_to_it_a_run_ends_as_if_nothing_had(
    network: Network, places: Places, tmp_path: Path, number: int
) -> None:
    seed = int(os.environ.get("KANAL_TEST_FAULTS") or time.strftime("%Y%m%d")) * 1000 + number
    print("seed", seed, go_through(network, places, tmp_path, random.Random(seed)))


@pytest.mark.matrix
@pytest.mark.parametrize("number", range(100))
def test_a_hundred_faults(network: Network, places: Places, tmp_path: Path, number: int) -> None:
    print(go_through(network, places, tmp_path, random.Random(7_000 + number)))


def test_a_worker_to_which_nobody_can_connect(network: Network, places: Places, tmp_path: Path) -> None:
    old, new = places("postgresql"), places("postgresql")
    old.sql("CREATE TABLE t (id integer PRIMARY KEY)", "INSERT INTO t VALUES (1), (2)")
    new.sql("CREATE TABLE t (id integer PRIMARY KEY)")
    network.heal()
    for host in ("one", "two"):
        network.close_inwards(host)
    there = {name: Place(place.kind, network.database(place.url)) for name, place in (("old", old), ("new", new))}
    job(tmp_path, '[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n', **there)
    cluster = f"tcp://{network.addresses['hub']}:8786"
    try:
        client = network.start(
            "desk", sys.executable, "-m", "kanal", "run", str(tmp_path / "job.toml"), "--cluster", cluster
        )
        assert client.wait(60) == 0
    finally:
        network.heal()
    assert new.rows("SELECT sum(id) FROM t") == [(3,)]
