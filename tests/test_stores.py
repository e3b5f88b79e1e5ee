"""Files on other machines: buckets, signed addresses, and what fsspec knows. Each against a real server of its own."""

from __future__ import annotations

import asyncio
import gzip
import os
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from msgspec.structs import replace

import kanal
from conftest import Cli, Files
from kanal.connections.files import remote
from kanal.connections.files.s3 import S3Store
from kanal.connections.files.stores import LocalStore
from kanal.connections.urls import FILESYSTEMS
from kanal.demo.server import FileServer
from test_servers import succeeded


@pytest.fixture(scope="module")
def bucket_server() -> Iterator[str]:
    os.environ["S3_UPLOAD_PART_MIN_SIZE"] = "1"
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    yield f"http://{host}:{port}"
    server.stop()


@pytest.fixture
def bucket(bucket_server: str, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Any:
    import boto3

    name = "sillerwater-" + str(abs(hash(request.node.name)))
    client = boto3.client("s3", endpoint_url=bucket_server, region_name="us-east-1", aws_access_key_id="lock",
                          aws_secret_access_key="lockkey")  # fmt: skip
    client.create_bucket(Bucket=name)
    monkeypatch.setenv("BUCKET_KEY", "lockkey")
    return client, name, f"s3://lock@{name}/house?endpoint_url={bucket_server}"


@pytest.fixture(scope="module")
def sftp(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Path]]:
    import asyncssh

    folder = tmp_path_factory.mktemp("sftp")
    loop, ready, port = asyncio.new_event_loop(), threading.Event(), []

    class Server(asyncssh.SSHServer):
        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password: str) -> bool:
            return (username, password) == ("keeper", "s3cret word")

    async def start() -> None:
        key = asyncssh.generate_private_key("ssh-ed25519")
        made = await asyncssh.listen(
            "127.0.0.1", 0, server_host_keys=[key], server_factory=Server,
            sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=str(folder)),
        )  # fmt: skip
        port.append(made.get_port())
        ready.set()

    def run() -> None:
        loop.run_until_complete(start())
        loop.run_forever()

    threading.Thread(target=run, daemon=True).start()
    assert ready.wait(20)
    yield f"sftp://keeper@127.0.0.1:{port[0]}/", folder
    loop.call_soon_threadsafe(loop.stop)


def there_and_back(files: Files, url: str, password: str) -> None:
    """Files are written, read back, loaded once and moved away, on whatever store."""
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY, v text)", t=[(n, f"v{n}") for n in range(5)])
    place = f'[connection.box]\nurl = "{url}"\npassword = {{ env = "{password}" }}\n'
    out = (
        place
        + """
[pipeline.csv]
source = "old:t"
target = "box:out/t-{run}.csv.gz"
[pipeline.parquet]
source = "old:t"
target = "box:out/t.parquet"
write = "truncate"
file_rows = 2
"""
    )
    job = kanal.Job.read(files.job(out))
    for _ in range(2):
        succeeded(job.run())
    assert [(one.table, one.differs()) for one in job.compare()] == [
        ("box:out/t-{run}.csv.gz", True), ("box:out/t.parquet", False)]  # fmt: skip
    back = (
        place
        + """
[defaults]
create = "missing"
[pipeline.all]
source = "box:out/*.parquet"
target = "new:all_rows"
write = "truncate"
[pipeline.once]
source = "box:out/*.csv.gz"
target = "new:once"
files_once = "name"
when_loaded = { move = "done" }
"""
    )
    job = kanal.Job.read(files.job(back, "back.toml"))
    run = succeeded(job.run())
    assert (run["all"].tally.inserted, run["once"].tally.inserted) == (5, 10)
    assert [state.state for state in job.files()] == ["moved", "moved"]
    run = succeeded(job.run())
    assert (run["all"].tally.inserted, run["once"].tally.read) == (5, 0)
    assert files.rows("new.db", "SELECT count(*), count(DISTINCT id) FROM once") == [(10, 5)]


def test_a_bucket(files: Files, bucket: Any, monkeypatch: pytest.MonkeyPatch, cli: Cli) -> None:
    client, name, url = bucket
    monkeypatch.setattr("kanal.connections.files.s3._PART", 300)
    monkeypatch.setattr(remote, "RANGE", 2000)
    there_and_back(files, url, "BUCKET_KEY")
    keys = {found["Key"] for found in client.list_objects_v2(Bucket=name)["Contents"]}
    assert keys - {key for key in keys if "/.kanal/" in key} == {
        *(f"house/done/out/t-00000{n}.csv.gz" for n in (1, 2)), *(f"house/out/t-000{n}.parquet" for n in (1, 2, 3))}  # fmt: skip
    assert client.list_multipart_uploads(Bucket=name).get("Uploads", []) == []
    outcome = cli("tables", url.replace("lock@", "lock:lockkey@"))
    assert "out/t-0001.parquet" in outcome.stdout and "lockkey" not in outcome.stdout + outcome.stderr


def test_a_bucket_is_listed_in_pages(files: Files, bucket: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    client, name, url = bucket
    monkeypatch.setattr("kanal.connections.files.s3._PAGE", 10)
    for number in range(25):
        client.put_object(Bucket=name, Key=f"house/in/{number:04}.csv", Body=f"id\n{number}\n".encode())
    client.put_object(Bucket=name, Key="house/in/folder/", Body=b"")
    client.put_object(Bucket=name, Key="other/in/x.csv", Body=b"id\n9999\n")
    body = f'[connection.box]\nurl = "{url}"\npassword = {{ env = "BUCKET_KEY" }}\n'
    body += '[pipeline.t]\nsource = "box:in/*.csv"\ntarget = "new:t"\ncreate = "missing"'
    assert succeeded(kanal.Job.read(files.job(body)).run())["t"].tally.inserted == 25


def test_a_bucket_that_changes_or_loses_a_commit(files: Files, bucket: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    client, name, url = bucket
    place = f'[connection.box]\nurl = "{url}"\npassword = {{ env = "BUCKET_KEY" }}\n'
    files.database("old.db", "CREATE TABLE t (id integer PRIMARY KEY)", t=[(n,) for n in range(9)])
    path = files.job(place + '[pipeline.t]\nsource = "old:t"\ntarget = "box:t-{run}.csv"\nfile_rows = 4')
    real, count = S3Store.publish, []

    def broken(self: S3Store, receipt: Any, again: bool = False) -> None:
        count.append(receipt)
        if len(count) == 2:
            raise kanal.KanalError("it is gone for a moment")
        real(self, receipt, again)

    monkeypatch.setattr(S3Store, "publish", broken)
    run = kanal.Job.read(path).run()
    assert run.status == "failed" and "committed, but not all of it is visible yet" in str(run["t"].error)
    monkeypatch.undo()
    monkeypatch.setenv("BUCKET_KEY", "lockkey")
    run = succeeded(kanal.Job.read(path).resume())
    assert run["t"].tally.inserted == 9
    keys = [found["Key"] for found in client.list_objects_v2(Bucket=name, Prefix="house/t-")["Contents"]]
    assert keys == [f"house/t-000001-000{n}.csv" for n in (1, 2, 3)]
    assert client.list_multipart_uploads(Bucket=name).get("Uploads", []) == []


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("lock@", "lock@no-"), "there is no bucket no-"),
        (("127.0.0.1:", "127.0.0.2:"), "gives no answer"),
        (("/house", "/nothing"), 'no file of connection box fits "*.csv"'),
    ],
)  # fmt: skip
def test_what_is_said_of_a_bucket(files: Files, bucket: Any, cli: Cli, change: tuple[str, str], said: str) -> None:
    url = bucket[2].replace(*change)
    body = f'[connection.box]\nurl = "{url}"\npassword = {{ env = "BUCKET_KEY" }}\n[pipeline.t]\nsource = "box:*.csv"\ntarget = "new:t"'
    files.job(body)
    outcome = cli("check", "job.toml")
    shown = " ".join((outcome.stdout + outcome.stderr).split())
    assert outcome.returncode == 2 and said in shown and "lockkey" not in shown, shown


def test_a_folder_by_sftp(files: Files, sftp: tuple[str, Path], monkeypatch: pytest.MonkeyPatch, cli: Cli) -> None:
    url, folder = sftp
    monkeypatch.setenv("SFTP_WORD", "s3cret word")
    there_and_back(files, url + "house", "SFTP_WORD")
    left = sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file())
    assert [name for name in left if "/.kanal/" not in name] == [
        *(f"house/done/out/t-00000{n}.csv.gz" for n in (1, 2)), *(f"house/out/t-000{n}.parquet" for n in (1, 2, 3))]  # fmt: skip
    outcome = cli("ping", url.replace("keeper@", "keeper:wr%40ng@"))
    assert outcome.returncode != 0 and "wr@ng" not in outcome.stdout + outcome.stderr
    assert "Authentication failed" in " ".join(outcome.stdout.split())


@pytest.mark.parametrize("scheme", ["sftp", "ftp", "abfs", "az", "gs", "gcs", "memory"])
def test_a_library_is_there_for(scheme: str) -> None:
    """Azure and Google have no server here: that fsspec knows them, and that what is installed can be imported."""
    import fsspec

    assert scheme in FILESYSTEMS and scheme in fsspec.available_protocols()
    assert scheme in ("gs", "gcs") or fsspec.get_filesystem_class(scheme) is not None


def test_files_of_a_program(files: Files) -> None:
    there_and_back(files, "memory://box/house", "HOME")


@pytest.mark.parametrize("in_parts", [True, False])
def test_a_signed_address(files: Files, cli: Cli, in_parts: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(remote, "RANGE", 1000)
    folder = files.folder / "served"
    folder.mkdir()
    (folder / "cards.csv").write_text("id,v\n" + "".join(f"{n},v{n}\n" for n in range(500)))
    (folder / "packed.csv.gz").write_bytes(gzip.compress(b"id,v\n1,a\n"))
    pq.write_table(pa.table({"id": [1, 2], "v": ["a", "b"]}), folder / "cards.parquet")
    with FileServer(folder, in_parts=in_parts) as server:
        for name, rows in (("cards.csv", 500), ("packed.csv.gz", 1), ("cards.parquet", 2)):
            body = f'[connection.web]\nurl = "{server.address(name)}"\n'
            path = files.job(
                f'{body}[pipeline.t]\nsource = "web:{name}"\ntarget = "new:t"\ncreate = "missing"\nwrite = "truncate"'
            )
            assert succeeded(kanal.Job.read(path).run())["t"].tally.inserted == rows
        assert "cards.csv" in cli("tables", server.address("cards.csv")).stdout
        assert "v499" in cli("sample", server.address("cards.csv"), "cards.csv", "--rows", "500").stdout
        for address, said in (
            (server.address("cards.csv", -5), "the address has expired, on 20"),
            (server.address("cards.csv") + "0", "does not let it be read (403)"),
            (server.address("nothing.csv"), "there is no nothing.csv"),
            ("http://127.0.0.1:9/cards.csv", "nothing answers at 127.0.0.1:9"),
        ):
            outcome = cli("ping", address)
            shown = " ".join((outcome.stdout + outcome.stderr).split())
            assert said in shown and ("signature=" not in shown or "signature=***" in shown), shown
        path = files.job(
            f'[connection.web]\nurl = "{server.address("cards.csv")}"\n[pipeline.t]\nsource = "web:*.csv"\ntarget = "new:t"'
        )
        assert "an address has no list of its files" in " ".join(kanal.Job.read(path).check())
        path = files.job(
            f'[connection.web]\nurl = "{server.address("cards.csv")}"\n[pipeline.t]\nsource = "old:t"\ntarget = "web:t-{{run}}.csv"'
        )
        assert "takes no rows" in cli("check", "job.toml").stdout


def test_a_file_that_changes_behind_an_address(files: Files, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(remote, "RANGE", 1000)
    folder = files.folder / "served"
    folder.mkdir()
    (folder / "cards.csv").write_text("id,v\n" + "".join(f"{n},v{n}\n" for n in range(900)))
    with FileServer(folder) as server:
        path = files.job(
            f'[connection.web]\nurl = "{server.address("cards.csv")}"\n[pipeline.t]\nsource = "web:cards.csv"\ntarget = "new:t"\ncreate = "missing"'
        )
        kanal.Job.read(path).create()
        real = remote._Ranged.readinto

        def grows(self: Any, room: Any) -> int:
            loads = threading.current_thread() is not threading.main_thread()  # which has looked at it before
            if loads and self.tell() > 2000:
                with (folder / "cards.csv").open("a") as file:
                    file.write("1000,x\n")
            return real(self, room)

        monkeypatch.setattr(remote._Ranged, "readinto", grows)
        run = kanal.Job.read(path).run()
        assert run.status == "failed" and "has changed while it was read" in str(run["t"].error)


def test_a_file_is_the_same_whoever_tells_of_it(tmp_path: Path) -> None:
    """The store that tells of a file is none of what says whether it has changed; all else of it is."""
    (tmp_path / "cards.csv").write_text("id\n1\n")
    found, again = (LocalStore(tmp_path).look_up("cards.csv") for _ in range(2))
    assert found is not None and again is not None and found.store is not again.store
    assert (found == again, found != again, len({found, again})) == (True, False, 1)
    changed = replace(again, tag="x")
    assert (found == changed, found != changed, len({found, changed})) == (False, True, 2)
