"""Names drawn at random from what breaks SQL, expressions, TOML, files and pages: rows arrive under each of them."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
import xlsxwriter

import kanal
from conftest import Cli, Files, Place
from test_matrix import SEED
from test_page import ask, page_of

Places = Callable[[str], Place]
PIECES = ["select", "order", "'", '"', "`", "\\", ";", "--", "/*", "*/", "%s", "%(x)s", ":x", "?", "{}", "${HOME}", "$1", "@", "#", ".", "..",
          "/", "(", ")", "[", "]", "<b>", "&amp;", "=1+1", " ", "\t", "\u00e9", "\u00df", "\u0130", "\U0001f600", "\u202e", "\u0645", "a", "Z", "0", "_", "NULL", "TRUE",
          "kanal_row", "file.name", "e\u0301", "\n", "\x7f"]  # fmt: skip


def names(chance: random.Random, count: int, longest: int = 50, basic: bool = False) -> list[str]:
    """Different names, `basic` ones without what MariaDB does not take, also for engines that take letters of both cases, accents and blanks at the end for the same."""
    found: dict[str, str] = {}
    while len(found) < count:
        pieces = [piece for piece in PIECES if piece < "\U00010000" and piece != "\n"] if basic else PIECES
        name = "".join(chance.choice(pieces) for _ in range(chance.randint(1, 6)))[:longest].strip() + f"_{len(found)}"
        found[name] = name
    return list(found)


def written(name: str) -> str:
    """A name as TOML writes it."""
    return json.dumps(name, ensure_ascii=False).replace("\x7f", "\\u007f")


def copied(places: Places, tmp_path: Path, kind: str, chance: random.Random, tables: int, columns: int) -> None:
    """Tables with such names and columns are created in the target and copied, by each way to write."""
    old, new = places(kind), places(kind)
    mark = "`" if kind == "mariadb" else '"'

    def quoted(name: str) -> str:
        return mark + name.replace(mark, 2 * mark) + mark

    body, made = "", {}
    for number, table in enumerate(names(chance, tables, basic=kind == "mariadb")):
        inside = names(chance, columns, basic=kind == "mariadb")
        made[table] = inside
        parts = ", ".join(f"{quoted(name)} integer" for name in inside)
        values = ", ".join(map(str, range(columns)))
        old.sql(f"CREATE TABLE {quoted(table)} ({parts})", f"INSERT INTO {quoted(table)} VALUES ({values})")
        table_of = written(table)
        body += (
            f'[pipeline.p{number}]\nsource = {{ connection = "old", table = {table_of} }}\n'
            f'target = {{ connection = "new", table = {table_of} }}\ncreate = "missing"\n'
            f'write = "{chance.choice(["append", "truncate", "merge"])}"\nkey = {written(inside[0])}\n'
        )
    from test_servers import job

    run = job(tmp_path, body, old=old, new=new).run()
    assert run.status == "succeeded", [(step.step, step.error) for step in run if step.error]
    for table, inside in made.items():
        (row,) = new.rows(f"SELECT * FROM {quoted(table)}")
        assert list(row) == list(range(columns)), (table, inside)


KINDS = ["sqlite", "postgresql", "mariadb", "duckdb"]


@pytest.mark.parametrize("kind", KINDS)
def test_tables_and_columns(places: Places, tmp_path: Path, kind: str) -> None:
    print(f"seed {SEED}: set KANAL_TEST_SEED to repeat it")
    copied(places, tmp_path, kind, random.Random(f"{SEED} {kind}"), 3, 12)


@pytest.mark.matrix
@pytest.mark.parametrize("seed", range(8))
@pytest.mark.parametrize("kind", KINDS)
def test_two_thousand_tables_and_columns(places: Places, tmp_path: Path, kind: str, seed: int) -> None:
    copied(places, tmp_path, kind, random.Random(f"{SEED} {kind} {seed}"), 5, 12)


def test_fields_sheets_files_steps_and_pages(files: Files, cli: Cli) -> None:
    """The same for fields of JSON, sheets, files and their headers, and the names of a job and its steps."""
    chance = random.Random(SEED)
    folder = files.folder / "inbox"
    folder.mkdir()
    files.database("new.db", "CREATE TABLE other (x)")
    fields, headers = names(chance, 12), [name.replace("\n", "") for name in names(chance, 12)]
    file_names = [name.translate({ord(sign): "_" for sign in "/\0*?{}\\"}).lstrip(".") for name in names(chance, 6)]
    (folder / "a.json").write_text(json.dumps([dict(zip(fields, range(12), strict=True))]))
    body = '[pipeline.json]\nsource = "inbox:a.json"\ntarget = "new:fields"\ncreate = "missing"\nwrite = "truncate"\n'
    for number, name in enumerate(file_names):
        row = ",".join('"' + header.replace('"', '""') + '"' for header in headers)
        (folder / f"{name}.csv").write_text(f"{row}\n{','.join(map(str, range(12)))}\n", encoding="utf-8")
        body += (
            f'[pipeline.f{number}]\nsource = {{ connection = "inbox", files = {written(f"{name}.csv")} }}\n'
            f'target = "new:f{number}"\ncreate = "missing"\nwrite = "truncate"\n'
        )
    sheets = [
        name.translate({ord(sign): "_" for sign in "[]:*?/\\\n\x7f\t"}).strip("'")[:31] for name in names(chance, 6, 20)
    ]
    with xlsxwriter.Workbook(folder / "b.xlsx") as book:
        for number, name in enumerate(sheets):
            sheet = book.add_worksheet(name)
            sheet.write_row(0, 0, ["no"])
            sheet.write_row(1, 0, [number])
            body += (
                f"[format.s{number}]\nsheet = {written(name)}\n[pipeline.s{number}]\n"
                f'source = {{ connection = "inbox", files = "b.xlsx", format = "s{number}" }}\n'
                f'target = "new:s{number}"\ncreate = "missing"\nwrite = "truncate"\n'
            )
    path = files.folder / "job.toml"
    title = names(chance, 1)[0].replace("\n", "") + "<script>alert(1)</script>"
    path.write_text(
        f'job = {written(title)}\n[connection.inbox]\nurl = "file:inbox"\n[connection.new]\nurl = "sqlite:///new.db"\n{body}',
        encoding="utf-8",
    )
    run = kanal.Job.read(path).run()
    assert run.status == "succeeded", [(step.step, step.error) for step in run if step.error]
    found: list[Any] = [
        list(files.rows("new.db", f"SELECT * FROM {table}")[0]) for table in ["fields", *(f"f{n}" for n in range(6))]
    ]
    assert [[int(value) for value in row] for row in found] == [list(range(12))] * 7
    assert [int(files.rows("new.db", f"SELECT * FROM s{number}")[0][0]) for number in range(6)] == list(range(6))
    with page_of(files, "job.toml") as (_, address):
        for path_of in ("/", f"/jobs/{quote(title, safe='')}", f"/jobs/{quote(title, safe='')}/runs/1"):
            status, _, text = ask(address, path_of)
            assert status == 200 and "<script>alert" not in text


def page_requests(chance: random.Random, count: int) -> list[tuple[str, str, dict[str, str] | None]]:
    """Requests that no page of its own makes."""
    parts = ["jobs", "test", "runs", "1", "rejects", "rejects.csv", "act", "text", "lineage", "changes2", "..", "%2e%2e", "%00", "", "9" * 30,
             "-1", "²", "<b>", "'", "%", "{}", "a" * 3000, "metrics", "sign-in", "sign-out"]  # fmt: skip
    queries = ["page", "reason", "step", "column", "x", "page%00"]
    values = ["1", "0", "-1", "²", "9" * 23, "x", "", "%00", "' OR 1=1 --", "<script>", "\u202e", "null", "1e9"]
    found = []
    for _ in range(count):
        path = "/" + "/".join(quote(chance.choice(parts), safe="%") for _ in range(chance.randint(1, 6)))
        query = "&".join(
            f"{chance.choice(queries)}={quote(chance.choice(values), safe='%')}" for _ in range(chance.randint(0, 3))
        )
        form = {chance.choice(["form", "act", "run", "token"]): chance.choice(values) for _ in range(2)}
        method = chance.choice(["GET", "GET", "GET", "POST", "PUT", "HEAD", "DELETE"])
        found.append((method, f"{path}?{query}" if query else path, form if method == "POST" else None))
    return found


def test_two_hundred_hostile_requests_of_the_page(files: Files, cli: Cli) -> None:
    print(f"seed {SEED}: set KANAL_TEST_SEED to repeat it")
    files.database("old.db", "CREATE TABLE t (v TEXT)", t=[("<script>",)])
    files.database("new.db", "CREATE TABLE t (v INTEGER)")
    files.job('[pipeline.t]\nsource = "old:t"\ntarget = "new:t"\nmax_rejects = "100%"\n')
    assert cli("run", "job.toml").returncode == 0
    rows = files.rows("new.db", "SELECT count(*) FROM t")
    with page_of(files, "job.toml", token=True) as (_, address):
        for method, path, form in page_requests(random.Random(SEED), 200):
            status, _, text = ask(address, path, method, form)
            assert status < 500 and "should not happen" not in text, (method, path, form, status)
            assert "<script>" not in text.replace('<script src="/page.js" defer></script>', "")
        assert ask(address, "/")[0] == 200
    assert files.rows("new.db", "SELECT count(*) FROM t") == rows
