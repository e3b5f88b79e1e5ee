"""HTTP APIs as sources: every way of paging and signing in, what fails and comes again, what is no answer."""

from __future__ import annotations

import json
import random
from collections.abc import Callable

import pytest

import kanal
from conftest import Cli, Files, Place, document
from kanal.connections import api
from kanal.demo.harbour import TOKEN, HarbourServer, harbour, vessels
from test_servers import succeeded

Places = Callable[[str], Place]
FIELDS = """[connection.harbour.resource.vessel.fields]
mark = "text"
tonnage = "decimal(9,2)"
owner = { pointer = "/owner/name", type = "text" }
changed_at = "timestamp with time zone"
"""


@pytest.fixture(autouse=True)
def _quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("HARBOUR_TOKEN", TOKEN)
    monkeypatch.setattr(api, "_wait", lambda state: 0.01)


def text(
    server: HarbourServer,
    following: str,
    more: str = "",
    sign_in: str = '"bearer"',
    url: str = "",
    new: str = "sqlite:///new.db",
) -> str:
    return f"""job = "api"
[connection.new]
url = "{new}"
[connection.harbour]
url = "{url or server.url}"
password = {{ env = "HARBOUR_TOKEN" }}
sign_in = {sign_in}
[connection.harbour.resource.vessel]
path = "vessels"
rows = "/items"
total = "/total"
next = {following}
{more}
[pipeline.t]
source = "harbour:vessel"
target = "new:t"
write = "merge"
key = "mark"
create = "missing"
retries = 0
"""


def made(files: Files, content: str) -> kanal.Job:
    path = files.folder / "job.toml"
    path.write_text(content, encoding="utf-8")
    return kanal.Job.read(path)


@pytest.mark.parametrize(
    "following",
    ['{ pointer = "/next" }', "{ link = true }", '{ page = "page", size = 40 }', '{ offset = "offset", size = 100 }',
     '{ cursor = "/cursor", parameter = "after", size = 7 }'],
)  # fmt: skip
def test_every_way_of_paging(files: Files, following: str) -> None:
    with harbour(230, limit_every=5, fail_every=7) as server:
        job = made(files, text(server, following, FIELDS))
        run = succeeded(job.run())
        assert (run["t"].tally.read, run["t"].tally.inserted) == (230, 230)
        assert succeeded(job.run())["t"].tally.unchanged == 230
        assert not job.compare()[0].differs()
    expected = [(row["mark"], row["tonnage"], (row["owner"] or {}).get("name")) for row in vessels(230)]
    assert files.rows("new.db", "SELECT mark, tonnage, owner FROM t ORDER BY mark") == expected


@pytest.mark.parametrize(
    ("sign_in", "user"),
    [('"bearer"', ""), ('"basic"', "keeper@"), ('{ header = "X-Key" }', ""), ('{ token_url = "TOKENS" }', "keeper@")],
)  # fmt: skip
def test_every_way_of_signing_in(
    files: Files, cli: Cli, sign_in: str, user: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    with harbour(30) as server:
        url = server.url.replace("//", f"//{user}")
        content = text(
            server, '{ page = "page", size = 10 }', FIELDS, sign_in.replace("TOKENS", server.url + "/token"), url
        )
        assert succeeded(made(files, content).run())["t"].tally.inserted == 30
        shown = cli("ping", "harbour", "--job", "job.toml").stdout
        assert "HTTP API" in shown and TOKEN not in shown
        monkeypatch.setenv("HARBOUR_TOKEN", "wrong-s3cret")
        outcome = cli("run", "job.toml")
        said = " ".join((outcome.stdout + outcome.stderr).split())
        assert outcome.returncode != 0 and "wrong-s3cret" not in said
        assert "does not let it be read (401)" in said or "no token was given" in said, said


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_only_what_is_new_is_asked_for(places: Places, files: Files, kind: str) -> None:
    new = places(kind)
    with harbour(50) as server:
        more = 'query = { changed_after = "{watermark}" }\n' + FIELDS
        content = text(server, '{ pointer = "/next" }', more, new=new.url).replace(
            'create = "missing"', 'since = "changed_at"\ncreate = "missing"'
        )
        content = content.replace('mark = "text"', 'mark = "varchar(20)"')
        job = made(files, content)
        assert succeeded(job.run())["t"].tally.inserted == 50
        server.rows += [row | {"changed_at": "2025-06-01T08:00:00+00:00"} for row in vessels(53)[50:]]
        server.requests.clear()
        run = succeeded(job.run())
        assert run["t"].tally.inserted == 3
        assert "changed_after=" in server.requests[-1][0] and new.rows("SELECT count(*) FROM t") == [(53,)]


def test_lists_in_rows_and_guessed_fields(files: Files, cli: Cli) -> None:
    with harbour(30) as server:
        more = 'each = "/calls"\n[connection.harbour.resource.vessel.fields]\nmark = { pointer = "/mark", parent = true }\nquay = "text"\ntonnes = "integer"\n'
        content = text(server, '{ pointer = "/next" }', more).replace('write = "merge"\nkey = "mark"\n', "")
        run = succeeded(made(files, content).run())
        expected = [(row["mark"], call["quay"], call["tonnes"]) for row in vessels(30) for call in row["calls"]]
        assert run["t"].tally.inserted == len(expected)
        assert files.rows("new.db", "SELECT mark, quay, tonnes FROM t") == expected
        made(files, text(server, '{ pointer = "/next" }'))
        shown = cli("sample", "harbour", "vessel", "--job", "job.toml").stdout
        assert "HV00030" in shown and "tonnage" in shown
        assert "vessel" in cli("tables", "harbour", "--job", "job.toml").stdout
        drafted = cli("draft", "harbour", "new", "--job", "job.toml").stdout
        assert 'source = "harbour:vessel"' in drafted and "tonnage" in drafted and TOKEN not in drafted


@pytest.mark.parametrize(
    ("following", "more", "rows", "said"),
    [
        ('{ page = "pages", size = 10 }', "", 30, "page 2 has the rows of page 1"),
        ('{ cursor = "/total", parameter = "none", size = 30 }', "", 30, "page 2 has the rows of page 1"),
        ('{ pointer = "/next" }', 'query = { limit = 10, loop = "yes" }', 30, ""),
        ('{ page = "page", size = 10 }', "", 31, "says that there are 31 rows, and gave 10"),
        ('{ pointer = "/next" }', "", 30, "the answer is no list at /items"),
    ],
)  # fmt: skip
def test_what_goes_wrong_with_pages(files: Files, following: str, more: str, rows: int, said: str) -> None:
    def spoiled(number: int, status: int, raw: bytes) -> tuple[int, bytes]:
        if "no list" in said:
            return status, raw.replace(b'"items"', b'"itens"')
        return status, raw if "gave 10" not in said else json.dumps(
            json.loads(raw) | {"items": json.loads(raw)["items"][: 10 if number % 2 else 0]}
        ).encode()

    with harbour(rows, spoiled=spoiled) as server:
        job = made(files, text(server, following, f"{more}\n{FIELDS}"))
        if not said:
            assert succeeded(job.run())["t"].tally.inserted == rows
            return
        run = job.run()
        assert run.status == "failed" and said in str(run["t"].error), run["t"].error
        assert files.rows("new.db", "SELECT count(*) FROM t") == [(0,)]


def test_a_secret_is_told_to_no_other_host(files: Files) -> None:
    with harbour(3) as other, harbour(3) as server:
        page = other.url.replace("127.0.0.1", "localhost") + "/vessels"

        def spoiled(number: int, status: int, raw: bytes) -> tuple[int, bytes]:
            del number
            found = json.loads(raw)
            return status, json.dumps(found | {"next": page}).encode() if "items" in found else raw

        server.spoiled = spoiled
        run = made(files, text(server, '{ pointer = "/next" }', FIELDS)).run()
        assert run.status == "failed" and "(401)" in str(run["t"].error)
        assert [secret for _, secret in other.requests] == [None]


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (('sign_in = "bearer"', 'sign_in = "digest"'), "bearer"),
        (('sign_in = "bearer"', 'sign_in = { scope = "x" }'), "it says no one way"),
        (('next = { link = true }', "next = { link = true, page = \"p\" }"), "it says no one way"),
        (('next = { link = true }', 'next = { cursor = "/c" }'), "cursor and parameter go together"),
        (('next = { link = true }', 'next = { page = "p" }'), "how many rows a page has is not said"),
        (('rows = "/items"', 'rows = "items"'), "is no JSON Pointer"),
        (('mark = "text"', 'mark = "txt"'), "txt"),
        (('"harbour:vessel"', '"harbour:vesel"'), 'There is no table "vesel"'),
        (('write = "merge"', 'order_by = "mark"\nwrite = "merge"'), "in an order that is asked for"),
        (('target = "new:t"', 'target = "harbour:vessel"'), "takes no rows"),
        (('path = "vessels"', 'path = "vesels"'), ""),
    ],
)  # fmt: skip
def test_what_check_says_of_an_api(files: Files, cli: Cli, change: tuple[str, str], said: str) -> None:
    with harbour(3) as server:
        content = text(server, "{ link = true }", FIELDS).replace(*change)
        assert change[1] in content
        (files.folder / "job.toml").write_text(content)
        outcome = cli("check", "job.toml")
        shown = " ".join((outcome.stdout + outcome.stderr).split())
        if said:
            assert outcome.returncode == 2 and said in shown, shown
            return
        run = kanal.Job.read(files.folder / "job.toml").run()
        assert "/v1/vesels: the service answers 404" in str(run["t"].error)


@pytest.mark.parametrize("seed", range(1))
def test_spoiled_answers_lose_nothing(files: Files, seed: int, cli: Cli) -> None:
    """Of answers with bytes changed anywhere, a run ends, and all rows are loaded, rejected, or the run has failed."""
    chance = random.Random(seed)

    def spoiled(number: int, status: int, raw: bytes) -> tuple[int, bytes]:
        del number
        content = bytearray(raw)
        for _ in range(chance.choice([0, 0, 1, 1, 3])):
            place = chance.randrange(len(content))
            content[place : place + chance.choice([0, 1, 1, 30])] = chance.choice(
                [b"", b'"', b"{", b"null", b"\xff", b"9"]
            )
        return chance.choice([status] * 9 + [500]), bytes(content)

    with harbour(12, spoiled=spoiled) as server:
        job = made(files, text(server, '{ page = "page", size = 5 }', FIELDS))
        files.database(
            "new.db",
            "CREATE TABLE t (mark text PRIMARY KEY, tonnage decimal(9,2), owner text, changed_at timestamp with time zone)",
        )
        for _ in range(12):
            run = job.run()
            tally = run["t"].tally
            assert (
                run.status == "failed"
                or tally.read == tally.inserted + tally.updated + tally.unchanged + tally.rejected
            )
            assert "should not happen" not in str(run["t"].error)
    assert cli("runs", "--json").returncode == 0
    assert isinstance(document(cli("runs", "--json")), list)
