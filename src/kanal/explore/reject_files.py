"""Writes rejected rows as CSV: what was wrong, then the source's row."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from typing import IO, Any

from kanal.core.rejects import row_from_json

_HEADS = ("step", "column", "reason", "value", "message", "constraint")


def reject_documents(log: Any, run: int, step: str | None, **where: str | None) -> list[dict[str, Any]]:
    """The rejects of a run that are not resolved, each with its row by column."""
    found: list[dict[str, Any]] = log.rejects.table(run, step, **where).to_pylist()
    for reject in found:
        reject["row"] = row_from_json(reject["row"])
    return found


def write_csv(file: IO[str], rejects: Sequence[dict[str, Any]], escape_formulas: bool) -> None:
    """Write rejects to an open file; with `escape_formulas`, ' is put before what a spreadsheet takes for a formula."""
    columns = list(dict.fromkeys(name for reject in rejects for name in reject["row"]))

    def cell(value: str | None) -> str | None:
        return f"'{value}" if escape_formulas and value and value[0] in "=+-@\t\r" else value

    writer = csv.writer(file)
    writer.writerow([*_HEADS, *columns])
    for reject in rejects:
        cells = [*(reject[name] for name in _HEADS), *(reject["row"].get(name) for name in columns)]
        writer.writerow([cell(value) for value in cells])
