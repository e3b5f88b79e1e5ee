"""Makes the demo's toll cards: a folder of files as they arrive, with what goes wrong in such files."""

from __future__ import annotations

import datetime as dt
import random
import shutil
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

JOB_FILE = "toll-cards.toml"
_KEEPERS = ["J\u00f6rn Haverdal", "Famke Quispel", "Aldo M\u00fcrkens", "Berit van Zijl"]


def write_cards(folder: Path, seed: int = 2025) -> None:
    """Write the files into the folder's inbox; an outbox that an earlier demo has filled is emptied."""
    for name in ("inbox", "outbox"):
        shutil.rmtree(folder / name, ignore_errors=True)
    inbox = folder / "inbox"
    inbox.mkdir()
    chance = random.Random(seed)
    may, june = list(_cards(chance, 5, 1)), list(_cards(chance, 6, 201))
    _write(inbox / "cards-2025-05.csv", ["card", "keeper", "mark", "passed", "toll", "remark"], may, [])
    # One with every trap: other order of columns, a delimiter too many, a line break, no such day, a doubled card.
    traps = [
        "401;31.06.2025 10:00;SW0003;Famke Quispel;1,50;",
        "402;01.06.2025 10:00;SW0003;Famke Quispel;1,50;one;more",
        '403;02.06.2025 11:00;SW0004;Famke Quispel;2,50;"paid\nlater"',
        "403;02.06.2025 11:00;SW0004;Famke Quispel;9,99;again",
        "404;03.06.2025 12:00;SW0005;Famke Quispel;1.234,50;=2+2",
        '405;04.06.2025 9:00;SW0006;"Famke" Quispel;3;',
    ]
    _write(inbox / "cards-2025-06.csv", ["card", "passed", "mark", "keeper", "toll", "remark"], june, traps)
    shutil.copy(inbox / "cards-2025-06.csv", inbox / "cards-2025-06 (1).csv")  # the same file, sent twice
    (inbox / "old-machine.dat").write_bytes("".join(_lines(chance)).encode("cp850"))
    with suppress(ImportError):
        _workbook(inbox / "cards-2025-07.xlsx", list(_cards(chance, 7, 501)))


def _cards(chance: random.Random, month: int, first: int) -> Iterator[dict[str, Any]]:
    for number in range(first, first + 200):
        passed = dt.datetime(2025, month, 1, 6) + dt.timedelta(minutes=200 * (number - first) + chance.randint(0, 90))
        yield {
            "card": number,
            "keeper": chance.choice(_KEEPERS),
            "mark": f"SW{chance.randint(1, 120):04d}",
            "passed": passed,
            "toll": chance.randint(150, 99_999) / 100,
            "remark": chance.choice(["", "", "", "night rate", "ice; slow"]),
        }


def _write(path: Path, names: list[str], cards: list[dict[str, Any]], more: list[str]) -> None:
    lines = ["Toll cards of the lower house, kept by hand", "", ";".join(names)]
    for card in cards:
        shown = card | {"passed": f"{card['passed']:%d.%m.%Y %H:%M}", "toll": f"{card['toll']:.2f}".replace(".", ",")}
        texts = [str(shown[name]) for name in names]
        lines.append(";".join(f'"{text}"' if ";" in text else text for text in texts))
    path.write_bytes("\r\n".join([*lines, *more, ""]).encode("cp1252"))


def _lines(chance: random.Random) -> Iterator[str]:
    """The cards of the old machine: card 1 to 8, mark 9 to 16, keeper 17 to 36, toll 37 to 45, day 46 to 53."""
    for number in range(901, 1001):
        toll, day = chance.randint(150, 99_999) / 100, dt.date(2025, 4, 1 + number % 30)
        mark, keeper = f"SW{chance.randint(1, 120):04d}", chance.choice(_KEEPERS)
        line = f"{number:08d}{mark:<8}{keeper:<20}{toll:>9.2f}{day:%Y%m%d}"
        yield (line[:30] if number == 950 else line) + "\r\n"  # one card was torn


def _workbook(path: Path, cards: list[dict[str, Any]]) -> None:
    import xlsxwriter

    book = xlsxwriter.Workbook(str(path))
    sheet = book.add_worksheet("July")
    moment = book.add_format({"num_format": "dd.mm.yyyy hh:mm"})
    sheet.write(0, 1, "Toll cards of July")
    names = ["card", "keeper", "mark", "passed", "toll", "remark"]
    sheet.write_row(2, 1, names)
    for row, card in enumerate(cards, 3):
        for place, name in enumerate(names, 1):
            value = card[name]
            if isinstance(value, dt.datetime):
                sheet.write_datetime(row, place, value, moment)
            elif value != "":
                sheet.write(row, place, value)
    sheet.write_formula(50, 5, "=1/0", None, "#DIV/0!")
    sheet.write_string(60, 1, "0560")  # a text that looks like a number
    book.close()
