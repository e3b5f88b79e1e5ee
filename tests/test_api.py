"""HTTP APIs as sources: every way of paging and signing in, what fails and comes again, what is no answer."""

from __future__ import annotations

import datetime as dt
import json
import random
import re
from collections.abc import Callable
from typing import Any

import pytest

import kanal
from conftest import Cli, Files, Place, document
from kanal.connections import api_client
from kanal.connections.api import moment_text
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
    monkeypatch.setattr(api_client, "_wait", lambda state: 0.01)


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


@pytest.mark.parametrize(
    ("value", "form", "expected"),
    [
        (dt.datetime(2025, 3, 1, 8, 0, 0, 5), "rfc3339", "2025-03-01T08:00:00.000005Z"),
        (dt.datetime(2025, 3, 1, 8, tzinfo=dt.timezone(dt.timedelta(hours=2))), "rfc3339", "2025-03-01T06:00:00Z"),
        (dt.datetime(2025, 3, 1, 8), "unix", "1740816000"),
        (dt.datetime(2025, 3, 1, 8, 0, 0, 500_000), "unix", "1740816000.5"),
        (dt.datetime(2025, 3, 1, 8), "%d.%m.%Y %H:%M", "01.03.2025 08:00"),
        (dt.date(2025, 3, 1), "rfc3339", "2025-03-01"),
        (dt.date(2025, 3, 1), "unix", "1740787200"),
        (4711, "rfc3339", "4711"),
    ],
)
def test_how_a_service_is_asked_for_what_is_new(value: object, form: str, expected: str) -> None:
    assert moment_text(value, form) == expected


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


def mutated(raw: bytes, chance: random.Random) -> bytes:
    """An answer with something else in it: bytes, or a value of another kind, a page that comes again, a total."""
    if chance.random() < 0.5:
        content = bytearray(raw)
        for _ in range(chance.choice([0, 1, 1, 3])):
            place = chance.randrange(len(content))
            content[place : place + chance.choice([0, 1, 1, 30])] = chance.choice(
                [b"", b'"', b"{", b"null", b"\xff", b"9"]
            )
        return bytes(content)
    found = json.loads(raw)
    other: Any = chance.choice([None, 3, -1e400, "x", [], {}, [[]], {"a": {"b": 1}}, "x" * 100_000, True, "\ud800"])
    if not isinstance(found, dict) or not found.get("items"):
        return json.dumps(other).encode()
    place, row = chance.choice(list(found)), chance.choice(found["items"])
    kind = chance.randrange(6)
    if kind == 0:
        found[place] = other
    elif kind == 1:
        row[chance.choice(list(row))] = other
    elif kind == 2:
        found["items"][chance.randrange(len(found["items"]))] = other
    elif kind == 3:
        found["items"] *= 2
    elif kind == 4:
        found["next"], found["cursor"] = "/v1/vessels?page=1", "HV00001"
    else:
        found["total"] = chance.choice([0, 10**30, "many", None])
    return json.dumps(found).encode()


def survives(files: Files, cli: Cli, seed: int, runs: int) -> None:
    """Run on mutated answers: each run ends, and all rows are loaded or rejected, or it has failed with a sentence."""
    chance = random.Random(seed)
    following = chance.choice(['{ page = "page", size = 5 }', '{ pointer = "/next" }', "{ link = true }",
                               '{ cursor = "/cursor", parameter = "after", size = 5 }'])  # fmt: skip

    def spoiled(number: int, status: int, raw: bytes) -> tuple[int, bytes]:
        del number
        return chance.choice([status] * 9 + [500]), mutated(raw, chance)

    with harbour(12, spoiled=spoiled) as server:
        job = made(files, text(server, following, FIELDS))
        files.database(
            "new.db",
            "CREATE TABLE t (mark text PRIMARY KEY, tonnage decimal(9,2), owner text, changed_at timestamp with time zone)",
        )
        for _ in range(runs):
            run = job.run()
            tally = run["t"].tally
            kept = tally.inserted + tally.updated + tally.unchanged + tally.rejected + tally.superseded
            assert run.status == "failed" or tally.read == kept
            assert "should not happen" not in str(run["t"].error)
            assert not re.search(r"[A-Z]\w+Error:", str(run["t"].error)), run["t"].error
    assert isinstance(document(cli("runs", "--json")), list)


@pytest.mark.parametrize("seed", range(4))
def test_mutated_answers_lose_nothing(files: Files, cli: Cli, seed: int) -> None:
    survives(files, cli, seed, 8)


@pytest.mark.matrix
@pytest.mark.parametrize("seed", range(100, 120))
def test_two_thousand_mutated_answers(files: Files, cli: Cli, seed: int) -> None:
    survives(files, cli, seed, 50)


@pytest.mark.matrix
def test_a_value_of_a_hundred_megabytes(files: Files) -> None:
    rows = vessels(3)
    rows[1]["owner"] = {"name": "x" * 100_000_000}
    with HarbourServer(rows) as server:
        run = succeeded(made(files, text(server, '{ page = "page", size = 100 }', FIELDS)).run())
        assert run["t"].tally.inserted == 3
    assert files.rows("new.db", "SELECT max(length(owner)) FROM t") == [(100_000_000,)]


# --- as targets -----------------------------------------------------------------------------------------------------

SEND = """job = "api"
[connection.old]
url = "sqlite:///old.db"
[connection.harbour]
url = "{url}"
password = {{ env = "HARBOUR_TOKEN" }}
sign_in = "bearer"
[connection.harbour.resource.arrival]
path = "{path}"
send = {send}
fields = {{ number = "integer", mark = {{ pointer = "/vessel/mark" }}, tonnes = "decimal(9,2)", at = "timestamp" }}
[pipeline.t]
source = "old:t"
target = "harbour:arrival"
{more}
"""
WAYS = {
    "one": ("arrivals", '{ method = "POST" }'),
    "one-again": ("arrivals", '{ method = "POST", repeatable = true }'),
    "put": ("arrivals/{number}", '{ method = "PUT" }'),
    "list": ("arrivals", '{ rows = 20, list = "" }'),
    "items": ("arrivals", '{ rows = 20, list = "/items", repeatable = true, refused = { rows = "/errors" } }'),
}
each_way = pytest.mark.parametrize("way", WAYS)


def arrivals(files: Files, server: HarbourServer, way: str, count: int = 50, bad: int = 0, more: str = "") -> kanal.Job:
    if not (files.folder / "old.db").exists():
        rows = [(n, f"HV'{n}", "-1" if n < bad else f"{n}.25", "2025-03-01 10:00:00" if n % 3 else None)
                for n in range(count)]  # fmt: skip
        files.database("old.db", "CREATE TABLE t (number integer, mark text, tonnes text, at timestamp)", t=rows)
    path, send = WAYS[way]
    return made(files, SEND.format(url=server.url, path=path, send=send, more=more))


@each_way
def test_rows_are_sent_and_refused_ones_are_rejects(files: Files, way: str) -> None:
    with harbour(0, limit_every=7, fail_every=11) as server:
        job = arrivals(files, server, way, bad=3)
        run = succeeded(job.run(batch_rows=30))
        assert (run["t"].tally.read, run["t"].tally.inserted, run["t"].tally.rejected) == (50, 47, 3)
        rejects = run["t"].rejects().to_pylist()
        assert {reject["reason"] for reject in rejects} == {"refused_by_target"}
        assert sorted(int(reject["row"]["number"]) for reject in rejects) == [0, 1, 2]
        assert all("-1.0 tonnes" in reject["message"] for reject in rejects), rejects[0]["message"]
        taken = sorted(server.arrivals, key=lambda row: row["number"])
    assert taken[0] == {"number": 3, "vessel": {"mark": "HV'3"}, "tonnes": 3.25, "at": None}
    assert [row["number"] for row in taken] == list(range(3, 50))


@each_way
def test_an_answer_that_is_lost_doubles_nothing(files: Files, way: str) -> None:
    with harbour(0, lose_every=4) as server:
        run = arrivals(
            files, server, way, count=30 if way[0] in "op" else 300, more="retries = 1\nretry_wait = 0.01"
        ).run()
        numbers = [row["number"] for row in server.arrivals]
        assert len(numbers) == len(set(numbers))
        if way in ("one", "list"):  # which may not be sent again
            assert "whether it has taken the rows is not known" in str(run["t"].error)
            assert "rows were sent before, and stay there" in str(run["t"].error)
        else:
            assert succeeded(run)["t"].tally.inserted == len(numbers)


def test_a_run_that_is_gone_on_with_sends_the_same_requests(files: Files, cli: Cli) -> None:
    with harbour(0) as server:
        broken: list[int] = []
        server.spoiled = lambda number, status, content: (status, content) if number < 4 or broken else (401, b"{}")
        run = arrivals(files, server, "items", count=200).run()
        assert run.status == "failed" and len(server.arrivals) == 80
        broken.append(1)
        assert cli("resume").returncode == 0
        assert sorted(row["number"] for row in server.arrivals) == list(range(200))


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('send = { method = "POST" }', "", "the resource arrival takes no rows"),
        ('send = { method = "POST" }', "send = { rows = 5 }", "several rows need a list"),
        ('"arrivals"', '"arrivals/{mark}"', "several rows need a list"),
        ('target = "harbour:arrival"', 'target = "harbour:arrival"\nwrite = "truncate"', "cannot be emptied"),
        ('target = "harbour:arrival"', 'target = "harbour:arrival"\ncommit = "batch"', "cannot commit batch by batch"),
    ],
)
def test_what_does_not_go_with_sending(files: Files, cli: Cli, old: str, new: str, said: str) -> None:
    with harbour(0) as server:
        arrivals(files, server, "one")
        path = files.folder / "job.toml"
        text = path.read_text().replace(old, new)
        if "{mark}" in new:
            text = text.replace('{ method = "POST" }', "{ rows = 5 }")
        path.write_text(text)
        outcome = cli("check", "job.toml")
        assert outcome.returncode != 0
        assert said in " ".join((outcome.stdout + outcome.stderr).split())


# --- what is there --------------------------------------------------------------------------------------------------

VESSEL = {
    "type": "object",
    "properties": {
        "mark": {"type": "string", "maxLength": 12},
        "tonnage": {"type": "number"},
        "owner": {"allOf": [{"$ref": "#/components/schemas/Owner"}]},
        "changed_at": {"type": ["string", "null"], "format": "date-time"},
        "calls": {"type": "array", "items": {"type": "object"}},
    },
}
LIST = {"type": "object", "properties": {"total": {"type": "integer"}, "items": {
    "type": "array", "items": {"$ref": "#/components/schemas/Vessel"}}}}  # fmt: skip
GET = {
    "parameters": [{"name": "limit", "in": "query"}, {"$ref": "#/components/parameters/Offset"}],
    "responses": {"200": {"content": {"application/json": {"schema": LIST}}}},
}
DOCUMENT = {
    "openapi": "3.1.0",
    "paths": {
        "/vessels": {"get": GET}, "/vessels/{mark}": {"get": {}}, "/arrivals": {"post": {}}, "/odd": 3,
        "/loop": {"get": {"responses": {"200": {"$ref": "#/paths/~1loop/get/responses/200"}}}},
    },
    "components": {
        "schemas": {"Vessel": VESSEL, "Owner": {"properties": {"name": {"type": "string"}}}},
        "parameters": {"Offset": {"name": "offset", "in": "query"}},
    },
}  # fmt: skip


@pytest.mark.parametrize("where", ["openapi", "page"])
def test_a_draft_names_resources_fields_and_types(files: Files, cli: Cli, where: str) -> None:
    with harbour(230) as server:
        text = f'job = "api"\n[connection.new]\nurl = "sqlite:///new.db"\n[connection.harbour]\nurl = "{server.url}"\n'
        text += 'sign_in = "bearer"\npassword = { env = "HARBOUR_TOKEN" }\n'
        if where == "openapi":
            (files.folder / "api.json").write_text(json.dumps(DOCUMENT))
            text += 'openapi = "api.json"\n'
        else:
            text += '[connection.harbour.resource.vessels]\npath = "vessels"\nrows = "/items"\nnext = { link = true }\n'
        (files.folder / "job.toml").write_text(text)
        assert "vessels" in cli("tables", "harbour", "--job", "job.toml").stdout
        drafted = cli("draft", "harbour", "new", "--job", "job.toml", "--into", "drafted.toml")
        assert drafted.returncode == 0, drafted.stderr
        made = (files.folder / "drafted.toml").read_text()
        assert TOKEN not in made
        assert 'changed_at = "timestamp with time zone"' in made and 'calls = "json"' in made
        assert 'owner_name = {type = "text", pointer = "/owner/name"}' in made
        assert ('mark = "varchar(12)"' in made) == (where == "openapi")
        run = succeeded(kanal.Job.read(files.folder / "drafted.toml").run())
        assert run["vessels"].tally.inserted == 230
    expected = [(row["mark"], (row["owner"] or {}).get("name")) for row in vessels(230)]
    assert files.rows("new.db", "SELECT mark, owner_name FROM vessels ORDER BY mark") == expected


@pytest.mark.parametrize("content", ["", "[1]", "{}", '{"paths": 3}', '{"paths": {"/a": {"get": {"responses": []}}}}'])
def test_a_document_that_is_none_is_a_sentence(files: Files, cli: Cli, content: str) -> None:
    (files.folder / "api.json").write_text(content)
    (files.folder / "job.toml").write_text(
        'job = "api"\n[connection.harbour]\nurl = "http://127.0.0.1:1/v1"\nopenapi = "api.json"\n'
    )
    outcome = cli("tables", "harbour", "--job", "job.toml")
    said = " ".join((outcome.stdout + outcome.stderr).split())
    assert outcome.returncode != 0
    assert "is no JSON" in said or "no list of objects" in said, said
