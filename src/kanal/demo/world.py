"""Makes the demo's databases: seeded, so that every run of it is the same; every name is made up."""

from __future__ import annotations

import datetime as dt
import random
import sqlite3
from collections.abc import Iterator
from importlib import resources
from pathlib import Path
from typing import Any

from kanal.core.errors import KanalError
from kanal.demo.cards import JOB_FILE as CARDS_FILE
from kanal.demo.cards import write_cards

JOB_FILE = "lock-register.toml"
_UPPER = """
CREATE TABLE lock (code TEXT PRIMARY KEY, name TEXT, reach TEXT, chamber_m REAL);
CREATE TABLE tariff (class TEXT, per_tonne TEXT, valid_from TEXT);
CREATE TABLE skipper (licence TEXT, first_name TEXT, last_name TEXT, born TEXT);
CREATE TABLE vessel (mark TEXT, name TEXT, length_m REAL, tonnage INTEGER, licence TEXT);
CREATE TABLE passage_book (
    book_no INTEGER PRIMARY KEY, season INTEGER, lock_code TEXT, vessel_mark TEXT, toll_txt TEXT, draught_m REAL,
    arrived TEXT, departed TEXT, remark TEXT, voided TEXT);
CREATE TABLE cargo (book_no INTEGER, item INTEGER, goods TEXT, tonnes_txt TEXT, PRIMARY KEY (book_no, item));
"""
_LOWER = """
CREATE TABLE passage (
    no INTEGER PRIMARY KEY, season INTEGER, lock_code TEXT, vessel_mark TEXT, toll NUMERIC, draught_cm INTEGER,
    arrived TEXT, departed TEXT, remark TEXT);
"""
_REGISTER = """
CREATE TABLE lock (
    id INTEGER PRIMARY KEY, code VARCHAR(4) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL, reach VARCHAR(10),
    chamber_cm INTEGER);
CREATE TABLE tariff (class VARCHAR(20) PRIMARY KEY, per_tonne DECIMAL(7,3) NOT NULL, valid_from DATE NOT NULL);
CREATE TABLE skipper (
    id INTEGER PRIMARY KEY, licence VARCHAR(10) NOT NULL UNIQUE, name VARCHAR(80) NOT NULL, born DATE);
CREATE TABLE vessel (
    id INTEGER PRIMARY KEY, mark VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL, length_cm INTEGER,
    tonnage SMALLINT, skipper_id INTEGER REFERENCES skipper (id));
CREATE TABLE passage (
    passage_no VARCHAR(12) PRIMARY KEY, lock_id INTEGER NOT NULL REFERENCES lock (id),
    vessel_id INTEGER NOT NULL REFERENCES vessel (id), toll DECIMAL(9,2) NOT NULL CHECK (toll >= 0),
    draught_cm SMALLINT, arrived_at TIMESTAMP WITH TIME ZONE NOT NULL, left_at TIMESTAMP WITH TIME ZONE,
    remark VARCHAR(120));
CREATE TABLE cargo (
    passage_no VARCHAR(12) NOT NULL REFERENCES passage (passage_no), item SMALLINT NOT NULL, goods VARCHAR(30) NOT NULL,
    tonnes DECIMAL(9,3), PRIMARY KEY (passage_no, item));
CREATE TABLE toll_by_lock (lock TEXT PRIMARY KEY, passages INTEGER NOT NULL, toll DECIMAL(12,2));
"""
_LOCKS = [
    "Oosterbrink",
    "Wendelsluis",
    "Grote Kolk",
    "Mirrebrug",
    "Halderpoort",
    "Sint Aldert",
    "Vlietmond",
    "Kromme Zijl",
]
_GIVEN = [
    "Aldo",
    "Berit",
    "Corven",
    "Dieuwke",
    "Ebbo",
    "Famke",
    "Gerlof",
    "Hilke",
    "Ivo",
    "Jorina",
    "Kalle",
    "Lubbe",
]
_FAMILY = [
    "Terwisga",
    "Oldenbrook",
    "van Zijl",
    "Murkens",
    "Haverdal",
    "Quispel",
    "Rinnema",
    "Sollering",
    "Uitendaal",
]
_SHIPS = [
    "morgenstond",
    "zwarte zwaan",
    "goede hoop ii",
    "stille stroom",
    "wilgentak",
    "koperen ploeg",
    "noorderlicht",
]
_GOODS = ["gravel", "barley", "scrap iron", "peat", "roof tiles", "salt", "timber"]
_LONG = "Held at the lower gate; " * 18
_START = dt.datetime(2025, 1, 2, 5, 0)


def write_demo(folder: Path, passages: int = 6_000, seed: int = 2025) -> Path:
    """Write the demo's databases, files and jobs into a folder, with so many passages in each lock house.

    Returns the main job's file. Raises KanalError if the folder cannot be used.
    """
    job = folder / JOB_FILE
    try:
        if folder.exists() and any(folder.iterdir()) and not job.exists():
            raise KanalError(f"{folder} holds other files", "name an empty folder, or one that a demo was written to")
        folder.mkdir(parents=True, exist_ok=True)
        for name in ("upper_house.db", "lower_house.db", "register.db", "kanal-runs.db"):
            (folder / name).unlink(missing_ok=True)
        chance = random.Random(seed)
        _write(folder / "register.db", _REGISTER, {})
        _write(folder / "upper_house.db", _UPPER, _upper_house(chance, passages))
        _write(folder / "lower_house.db", _LOWER, {"passage": _lower_passages(chance, passages)})
        write_cards(folder)
        for name in (JOB_FILE, CARDS_FILE):
            text = resources.files("kanal.demo").joinpath(name).read_text(encoding="utf-8")
            (folder / name).write_text(text, encoding="utf-8")
    except OSError as error:
        raise KanalError(f"The demo cannot be written to {folder}: {error.strerror}", "name another folder") from None
    return job


def _write(path: Path, schema: str, tables: dict[str, Any]) -> None:
    connection = sqlite3.connect(path)
    try:
        connection.executescript(schema)
        for table, rows in tables.items():
            width = len(connection.execute(f"SELECT * FROM {table}").description)
            connection.executemany(f"INSERT INTO {table} VALUES ({', '.join('?' * width)})", rows)
        connection.commit()
    finally:
        connection.close()


def _mark(number: int) -> str:
    return f"SW{number:04d}"


def _vessel_count(passages: int) -> int:
    return max(40, passages // 50)


def _upper_house(chance: random.Random, passages: int) -> dict[str, Iterator[tuple[Any, ...]]]:
    return {
        "lock": (
            (
                f"L{number}{chance.choice(['', ' ', '  '])}",
                f"{name} ",
                "upper" if number < 5 else "lower",
                38.5 + number,
            )
            for number, name in enumerate(_LOCKS, 1)
        ),
        "tariff": iter(
            [
                ("dry bulk ", "0,125", "01.01.2025"),
                ("liquid", "0,240", "01.01.2025"),
                ("general", "0,180", "01.03.2025"),
                ("passengers", "1,000", "31.02.2025"),
            ]  # no such day
        ),
        "skipper": _skippers(chance, _vessel_count(passages)),
        "vessel": _vessels(chance, _vessel_count(passages)),
        "passage_book": _upper_passages(chance, passages),
        "cargo": _cargo(chance, passages),
    }


def _skippers(chance: random.Random, count: int) -> Iterator[tuple[Any, ...]]:
    for number in range(1, count + 1):
        first, last = chance.choice(_GIVEN), chance.choice(_FAMILY)
        born = f"{chance.randint(1, 28):02d}.{chance.randint(1, 12):02d}.{chance.randint(1955, 2003)}"
        if number % 25 == 0:
            born = chance.choice(["", "unknown"])
        row = (f"K{number:05d} ", first.upper() if number % 3 == 0 else first, f"{last}  ", born)
        yield row
        if number % 20 == 0:
            yield row  # listed twice


def _vessels(chance: random.Random, count: int) -> Iterator[tuple[Any, ...]]:
    for number in range(1, count + 1):
        name = f"{chance.choice(_SHIPS)} {number}"
        tonnage: Any = chance.randint(80, 3200)
        if number == 7:
            tonnage = "ca. 900"  # a text in a column of numbers
        if number == 11:
            tonnage = 41_000  # more than the register's smallint holds
        licence = f"K{number:05d}" if number % 17 else "K99999"
        mark = _mark(number).lower() if number % 4 == 0 else _mark(number)
        yield (
            mark,
            name.upper() if number % 2 else name,
            round(chance.uniform(18, 110), 2),
            tonnage,
            licence,
        )


def _local(chance: random.Random, number: int, count: int) -> tuple[dt.datetime, dt.datetime]:
    """Arrival and departure by the lock house's clock, spread over the season."""
    arrived = _START + dt.timedelta(minutes=int(number * 500_000 / count) + chance.randint(0, 9))
    return arrived, arrived + dt.timedelta(minutes=chance.randint(12, 95))


def _upper_passages(chance: random.Random, count: int) -> Iterator[tuple[Any, ...]]:
    vessels = _vessel_count(count)
    for number in range(1, count + 1):
        arrived, departed = _local(chance, number, count)
        written = arrived.strftime("%d.%m.%Y %H:%M")
        toll = f"{chance.randint(5, 2400):,}".replace(",", ".") + f",{chance.randint(0, 99):02d}"
        draught: Any = round(chance.uniform(0.6, 3.4), 2)
        lock, vessel, remark = f"l{chance.randint(1, 8)}", _mark(chance.randint(1, vessels)), None
        season = 2025 if number % 12 else 2024
        match number % 997:
            case 13:
                toll = "free"
            case 101:
                toll = "1.23,50"
            case 211:
                written = "31.06.2025 10:15"
            case 307:
                vessel = "XX0000"
            case 401:
                draught = 31.0
            case 503:
                draught = "shallow"
            case 601:
                written = "30.03.2025 02:30"  # the hour that the clocks skip
            case 701:
                written, departed = (
                    "26.10.2025 02:15",
                    dt.datetime(2025, 10, 26, 4, 0),
                )  # the hour that comes twice
        if number == 1234:
            remark = _LONG
        elif number % 9 == 0:
            remark = chance.choice(["ice at the gate", "waited for tow", "bow thruster failed", "night rate"])
        left = "" if number % 40 == 0 else departed.strftime("%d.%m.%Y %H:%M")
        voided = "x" if number % 150 == 0 else None
        yield (number, season, lock, vessel, toll, draught, written, left, remark, voided)


def _lower_passages(chance: random.Random, count: int) -> Iterator[tuple[Any, ...]]:
    vessels = _vessel_count(count)
    for number in range(1, count + 1):
        arrived, departed = _local(chance, number, count)
        toll: Any = chance.randint(500, 240_000) / 100
        if number % 1501 == 0:
            toll = -12.5  # the register's own check refuses it
        if number % 1999 == 0:
            departed = arrived - dt.timedelta(hours=3)
        yield (
            number,
            2025,
            f"L{chance.randint(1, 8)}",
            f"{_mark(chance.randint(1, vessels))} ",
            toll,
            chance.randint(60, 340),
            arrived.strftime("%m/%d/%Y %H:%M"),
            departed.strftime("%m/%d/%Y %H:%M"),
            _LONG if number % 2500 == 0 else None,
        )


def _cargo(chance: random.Random, count: int) -> Iterator[tuple[Any, ...]]:
    for number in range(1, count + 1):
        for item in range(1, 1 + chance.randint(0, 2)):
            tonnes = f"{chance.uniform(1, 900):.3f}".replace(".", ",")
            yield (number, item, chance.choice(_GOODS), tonnes)
