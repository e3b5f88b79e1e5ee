"""Hostile services and files: answers that unpack without end or redirect elsewhere, workbooks, bundles, broken job files."""

from __future__ import annotations

import contextlib
import gzip
import hashlib
import http.server
import json
import logging
import random
import re
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import ClassVar

import pytest
import xlsxwriter

import kanal
from conftest import Cli, Files
from kanal.connections import api_client, bodies
from kanal.connections.api_client import ApiError
from kanal.connections.api_load import _not_in_path
from kanal.connections.files import trial
from kanal.definition.bundle import unpacked, write_bundle
from test_servers import succeeded

ITEM = json.dumps({"items": [{"mark": "HV1"}]}).encode()
TWICE = gzip.compress(gzip.compress(bytes(300_000_000)))
Server = Callable[[Callable[[str], bytes]], str]


def answer(status: str, *headers: str, body: bytes = b"") -> bytes:
    head = [f"HTTP/1.1 {status}", *headers, "Connection: close", "", ""]
    return "\r\n".join(head).encode() + body


@pytest.fixture
def server() -> Iterator[Server]:
    """A server that answers each request with the bytes that a function gives for the request's first line."""
    begun: list[http.server.ThreadingHTTPServer] = []

    def begin(answers: Callable[[str], bytes]) -> str:
        class Handler(http.server.BaseHTTPRequestHandler):
            def handle(self) -> None:
                line = self.rfile.readline().decode("latin-1")
                while self.rfile.readline().strip():
                    pass
                with contextlib.suppress(ConnectionError):  # whoever asked has heard enough
                    self.wfile.write(answers(line))

            def log_message(self, *_: object) -> None:
                pass

        made = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=made.serve_forever, daemon=True).start()
        begun.append(made)
        return f"http://127.0.0.1:{made.server_address[1]}"

    yield begin
    for made in begun:
        made.shutdown()
        made.server_close()


@pytest.fixture(autouse=True)
def _quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(api_client, "_wait", lambda state: 0.01)


API = """job = "api"
[connection.new]
url = "sqlite:///new.db"
[connection.harbour]
url = "{url}"
{more}
[connection.harbour.resource.vessel]
path = "vessels"
rows = "/items"
next = {{ link = true }}
fields = {{ mark = "text" }}
[pipeline.t]
source = "harbour:vessel"
target = "new:t"
create = "missing"
retries = 0
"""

ANSWERS = {
    "packed twice": (answer("200 OK", "Content-Encoding: gzip, gzip", body=TWICE), "packed as gzip, gzip"),
    "packed as": (answer("200 OK", "Content-Encoding: br", body=ITEM), "packed as br"),
    "a bomb": (answer("200 OK", "Content-Encoding: gzip", body=gzip.compress(bytes(300_000_000))), "has more than 268,435,456 b"),
    "cut": (answer("200 OK", "Content-Encoding: gzip", body=gzip.compress(ITEM * 9)[:40]), "is not complete"),
    "not packed": (answer("200 OK", "Content-Encoding: gzip", body=ITEM), "the answer is damaged"),
    "nowhere": (answer("302 Found"), "the service answers 302"),
    "choices": (answer("300 Multiple Choices", body=b"{}"), "the service answers 300"),
    "unchanged": (answer("304 Not Modified"), "the service answers 304"),
    "to a file": (answer("302 Found", "Location: file:///etc/hostname"), "redirects to an address that is not http or https"),
    "to no host": (answer("302 Found", "Location: http://[::1"), "broke off (RemoteProtocolError)"),
    "to a bad port": (answer("302 Found", "Location: http://h:99999999/"), "redirects to an address that is not http or https"),
    "when": (answer("429 Too Many", "Retry-After: ²"), "the service answers 429"),
    "never": (answer("503 Later", "Retry-After: Thu, 32 Foo 99999 99:99:99 GMT"), "the service answers 503"),
    "not HTTP": (b"\x00\xff\xfe" * 100, "broke off (RemoteProtocolError)"),
}  # fmt: skip


@pytest.mark.parametrize("name", ANSWERS)
def test_a_hostile_answer_is_a_sentence(files: Files, server: Server, name: str) -> None:
    content, said = ANSWERS[name]
    text = API.format(url=server(lambda line: content), more="")
    (files.folder / "job.toml").write_text(text, encoding="utf-8")
    begun = time.monotonic()
    run = kanal.Job.read(files.folder / "job.toml").run()
    assert run.status == "failed" and said in str(run["t"].error)
    assert time.monotonic() - begun < 20


@pytest.mark.parametrize("link", ["<file:///etc/hostname>", "<http://[::1>", "<http://h:x/>", "<//>", "<\\\\h\\x>"])
def test_a_next_page_that_is_no_address_is_a_sentence(files: Files, server: Server, link: str) -> None:
    content = answer("200 OK", f'Link: {link}; rel="next"', body=ITEM)
    (files.folder / "job.toml").write_text(API.format(url=server(lambda line: content), more=""), encoding="utf-8")
    run = kanal.Job.read(files.folder / "job.toml").run()
    assert run.status == "failed"
    assert not re.search(r"should not happen|[A-Z]\w+Error:", str(run["t"].error)), run["t"].error


def test_a_total_that_no_service_has_fails_the_step(files: Files, server: Server) -> None:
    content = answer("200 OK", body=b'{"total": %d, "items": [{"mark": "HV1"}]}' % (10**30))
    text = API.format(url=server(lambda line: content), more="").replace(
        'rows = "/items"', 'rows = "/items"\ntotal = "/total"'
    )
    (files.folder / "job.toml").write_text(text, encoding="utf-8")
    assert kanal.Job.read(files.folder / "job.toml").run().status == "failed"


def test_an_answer_packed_once_is_read(files: Files, server: Server) -> None:
    content = answer("200 OK", "Content-Encoding: gzip", body=gzip.compress(ITEM[:9]) + gzip.compress(ITEM[9:]))
    (files.folder / "job.toml").write_text(API.format(url=server(lambda line: content), more=""), encoding="utf-8")
    assert succeeded(kanal.Job.read(files.folder / "job.toml").run())["t"].tally.inserted == 1


def test_a_token_of_fifty_megabytes_is_not_read(files: Files, server: Server, monkeypatch: pytest.MonkeyPatch) -> None:
    token = answer("200 OK", body=b'{"access_token": "' + b"x" * 50_000_000 + b'"}')
    url = server(lambda line: token if "token" in line else answer("200 OK", body=ITEM))
    monkeypatch.setenv("HARBOUR_TOKEN", "s3cret")
    more = f'password = {{ env = "HARBOUR_TOKEN" }}\nsign_in = {{ token_url = "{url}/token" }}'
    text = API.format(url=url.replace("//", "//keeper@"), more=more)
    (files.folder / "job.toml").write_text(text, encoding="utf-8")
    run = kanal.Job.read(files.folder / "job.toml").run()
    assert "the answer has more than 1,000,000 bytes" in str(run["t"].error)


def test_a_body_that_drips_is_given_up(server: Server, monkeypatch: pytest.MonkeyPatch) -> None:
    class Dripping:
        headers: ClassVar[dict[str, str]] = {}

        def iter_raw(self) -> Iterator[bytes]:
            while True:
                time.sleep(0.01)
                yield b"x"

    monkeypatch.setattr(bodies, "_PATIENCE", 0.05)
    monkeypatch.setattr(bodies, "_SLOWEST", 1000)
    with pytest.raises(ApiError, match="bytes came in"):
        list(bodies.blocks(Dripping(), "/slow", 1000, ApiError))


FILES = {
    "endless": (answer("206 Partial", "Content-Range: bytes 0-0/20", body=b"a\n" * 500_000), "more than 20 bytes"),
    "no range": (answer("206 Partial", "Content-Range: bytes ²/²", body=b"a\n1\n"), ""),
    "astray": (answer("302 Found", "Location: file:///etc/hostname"), "redirects to something that is not a file"),
    "in circles": (answer("302 Found", "Location: /a.csv"), "redirects to something that is not a file"),
    "choices": (answer("300 Multiple Choices"), "the server answers 300"),
    "expired": (answer("403 Forbidden", body=b"the link has expired" + b" " * 5_000_000), "the address has expired"),
}


@pytest.mark.parametrize("name", FILES)
def test_a_hostile_file_is_a_sentence(files: Files, cli: Cli, server: Server, name: str) -> None:
    content, said = FILES[name]
    begun = time.monotonic()
    outcome = cli("sample", server(lambda line: content) + "/a.csv", "a.csv")
    shown = " ".join((outcome.stdout + outcome.stderr).split())
    assert said in shown and "should not happen" not in shown and "Traceback" not in shown
    assert (outcome.returncode != 0) == bool(said)
    assert time.monotonic() - begun < 20


def test_the_log_of_the_http_library_shows_no_signature(
    cli: Cli, server: Server, caplog: pytest.LogCaptureFixture
) -> None:
    address = server(lambda line: answer("200 OK", "Content-Length: 4", body=b"a\n1\n"))
    with caplog.at_level(logging.DEBUG):
        assert cli("sample", address + "/a.csv?signature=pl4nted", "a.csv").returncode == 0
    assert "HTTP Request" in caplog.text and "signature=***" in caplog.text
    assert "pl4nted" not in caplog.text


# --- rows that would lead to other resources -------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ('"a b"', ""), ('"ä?#%2e%2e"', ""), ("12", ""), ("-1.5", ""), ("true", ""), ('"...“"', ""),
        ('".."', "would lead"), ('"."', "would lead"), ('"1/x"', "would lead"), ('"1\\\\x"', "would lead"),
        ('"a\\nb"', "would lead"), ('"\\u0000"', "would lead"), ("null", "is NULL"), ('""', "is empty"),
    ],
)  # fmt: skip
def test_a_value_in_a_path_is_one_part_of_it(text: str, why: str) -> None:
    found = _not_in_path("arrivals/{v}", {"v": text, "other": "null"})
    assert why in found if why else not found


# --- workbooks -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("cells", "fits"),
    [({"XFD1048576": 1}, False), ({"A1": "v", "A2": 1, "XFD900000": 2}, False), ({"A1": "v", "A2": 1}, True),
     ({"A1": "v", "A2": 1, "ZZ1": "w", "ZZ2": 2}, True)],
)  # fmt: skip
def test_cells_far_apart_end_no_process(files: Files, cli: Cli, cells: dict[str, object], fits: bool) -> None:
    book = xlsxwriter.Workbook(str(files.folder / "far.xlsx"))
    sheet = book.add_worksheet()
    for place, value in cells.items():
        sheet.write(place, value)
    book.close()
    outcome = cli("sample", f"file:{files.folder}", "far.xlsx")
    assert (outcome.returncode == 0) == fits, outcome.stderr
    if not fits:
        assert "the sheet Sheet1 takes more than 4,000,000,000 bytes of memory" in " ".join(outcome.stderr.split())


@pytest.mark.parametrize(
    ("cell", "far"),
    [(b'<c r="A1"><v>1</v></c>', False), (b'<c r="DO99999"><v>1</v></c>', False), (b'<c r="DP1"/>', True),
     (b'<c r="A100000"/>', True), (b"<c><v>1</v></c>", True), (b'<c s="1" r="A1"/>', True), (b"<c r='XFD1'/>", True),
     (b'<x:c r="XFD1"/>', True), (b'<row r="100000">', True), (b'<c\tr="A1"/>', True), (b'<c r="xfd1"/>', True),
     (b'<a:sysClr lastClr="000000"/>', False)],
)  # fmt: skip
def test_which_sheets_are_tried_first(cell: bytes, far: bool) -> None:
    assert trial._is_far(b'<row r="1">' + cell + b"</row>") is far


# --- job files and bundles -------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('job = "x"\ninclude = ["nowhere.toml"]\n', "job.toml:2  include nowhere.toml cannot be included"),
        ('job = "x"\ninclude = ["."]\n', "job.toml:2  include . cannot be included: that is a folder"),
        ('job = "x"\njob = "y"\n', "job.toml:2 a key stands there twice"),
        ("x = { a = 1, a = 2 }\n", "job.toml:1 a key stands there twice"),
        ("[a]\n[b]\n[a] # again\n", "job.toml:3 the table a stands there twice, first in line 1"),
        ("a = True\n", "true and false are written in small letters"),
        ("a = null\n", "TOML has no null"),
        ("a = “x”\n", "the quotation marks are curly"),
        ('a = "“x”" y\n', "the file is not TOML"),
        ("a = x.db\n", "a text stands without quotation marks"),
        ("a = sqlite:///x.db\n", "a text stands without quotation marks"),
        ('a: "x"\n', "a key and its value have a colon between them"),
        ('a = "c:\\harbour"\n', "a backslash in a text begins a special character"),
        ("a =\n", "the key has no value"),
        ("[a\n", "a table's name has no closing bracket"),
    ],
)
def test_what_is_wrong_with_a_job_file_is_said_with_its_line(files: Files, cli: Cli, text: str, said: str) -> None:
    (files.folder / "job.toml").write_text(text, encoding="utf-8")
    outcome = cli("check", "job.toml")
    assert outcome.returncode != 0
    assert said in " ".join((outcome.stdout + outcome.stderr).split()).replace(
        "job.toml:2 include", "job.toml:2  include"
    )


@pytest.mark.parametrize(
    ("place", "said"),
    [("jdbc:postgresql://h/d", "without jdbc:, as postgresql://USER@HOST/DATABASE"), ("s.db", "Write sqlite:///s.db."),
     ("jdbc:sqlite:s.db", "as sqlite:///FILE"), ("a b", "There is no file a b")],
)  # fmt: skip
def test_what_is_no_url_is_told_as_one(cli: Cli, place: str, said: str) -> None:
    assert said in " ".join(cli("ping", place).stderr.split())


def test_a_step_does_not_wait_for_itself(files: Files, cli: Cli) -> None:
    files.database("old.db", "CREATE TABLE t (id integer)")
    files.database("new.db", "CREATE TABLE t (id integer)")
    after = '[command.c]\nconnection = "new"\nsql = "SELECT 1"\nafter = ["c"]\n'
    files.job(f'[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nafter = "t"\n{after}')
    shown = " ".join(cli("check", "job.toml").stdout.split())
    assert "t would wait for itself" in shown and "c would wait for itself" in shown


def test_a_certificate_that_is_missing_is_a_sentence(cli: Cli) -> None:
    outcome = cli("ping", "mariadb://root@127.0.0.1:1/x?ssl_ca=/nowhere.pem")
    assert "should not happen" not in outcome.stdout + outcome.stderr and outcome.returncode == 1


def damaged_bundles(files: Files, seed: int, count: int) -> None:
    """Read bundles with bytes changed, cut out or put in: each is refused in a sentence, or gives the same job."""
    chance = random.Random(seed)
    files.database("old.db", "CREATE TABLE t (id integer)")
    job = kanal.Job.read(files.job('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\n'))
    whole = files.folder / "whole.kanal.zip"
    write_bundle(job, whole)
    content = whole.read_bytes()
    for _ in range(count):
        made = bytearray(content)
        for _ in range(chance.randint(1, 4)):
            place = chance.randrange(len(made))
            made[place : place + chance.choice([0, 1, 1, 1, 40])] = chance.randbytes(chance.choice([0, 1, 1, 1, 9]))
        path = files.folder / "damaged.kanal.zip"
        path.write_bytes(made)
        try:
            read = unpacked(path)
        except kanal.KanalError as error:
            assert "should not happen" not in str(error)
        else:
            assert read.read_bytes() == (files.folder / "job.toml").read_bytes()


def test_a_damaged_bundle_is_a_sentence(files: Files) -> None:
    damaged_bundles(files, 1, 300)


@pytest.mark.matrix
@pytest.mark.parametrize("seed", range(10, 14))
def test_two_thousand_damaged_bundles(files: Files, seed: int) -> None:
    damaged_bundles(files, seed, 500)


@pytest.mark.parametrize(
    "names", [[""], ["."], ["a", "a/b"], ["a/../b"], ["/a"], ["a//b"], ["a\\b"], ["c:a"], ["a\0b"], ["a/./b"]]
)
def test_entries_that_are_no_files_of_a_bundle(tmp_path: Path, names: list[str]) -> None:
    contents = {"job.toml": b'job = "x"\n'} | dict.fromkeys(names, b"")
    listed = {"kanal": "1", "job": "job.toml",
              "files": {name: hashlib.sha256(content).hexdigest() for name, content in contents.items()}}  # fmt: skip
    path = tmp_path / "x.kanal.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("bundle.json", json.dumps(listed))
        for name, content in contents.items():
            info = zipfile.ZipInfo("x")
            info.filename = name
            archive.writestr(info, content)
    with pytest.raises(kanal.KanalError, match="cannot be used"):
        unpacked(path)


def test_a_field_without_a_name_creates_no_column(files: Files, cli: Cli) -> None:
    (files.folder / "inbox").mkdir()
    (files.folder / "inbox" / "a.json").write_text('[{"": 1, "a": 2}]')
    files.database("new.db", "CREATE TABLE other (id integer)")
    path = files.folder / "job.toml"
    body = (
        'job = "j"\n[connection.inbox]\nurl = "file:inbox"\n[connection.new]\nurl = "sqlite:///new.db"\n'
        '[pipeline.t]\nsource = "inbox:a.json"\ntarget = "new:t"\ncreate = "missing"\nwrite = "truncate"\n'
    )
    path.write_text(body)
    done = cli("run", "job.toml")
    said = " ".join((done.stdout + done.stderr).split())
    assert done.returncode == 2 and "a column of the source has an empty name" in said, said
    path.write_text(body + 'skip = [""]\n')
    assert cli("run", "job.toml").returncode == 0
    assert files.rows("new.db", "SELECT a FROM t") == [("2",)]
