"""Columns that source tables got since a job first loaded them: takes them over into its file."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit
from msgspec import Struct, field
from sqlglot import exp

from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.base import Connection
from kanal.core.errors import KanalError
from kanal.core.expressions.syntax import parse
from kanal.explore.draft import Wish, key_text, mapping_lines
from kanal.explore.tables import chosen_tables
from kanal.runlog import SeenTable
from kanal.runner.job_plan import JobPlan, PipelinePlan
from kanal.runner.shapes import SOURCE, seen_table


class NewColumns(Struct):
    """Columns of a step's source that are new: those that the file's mapping takes now, and those that the target
    lacks, so that they can only be loaded once it has them."""

    step: str
    taken: list[str] = field(default_factory=list)
    lacking: list[str] = field(default_factory=list)


def take_over(
    path: Path, plan: JobPlan, source: Connection, first_seen: Mapping[tuple[str, str], SeenTable], wish: Wish
) -> list[NewColumns]:
    """Map the columns in a job's file that the tables of a source got since each step first saw its table.

    Columns that were there then and are not mapped, or are to be skipped, stay as they are. Raises KanalError if the
    file cannot be changed.
    """
    text = path.read_text(encoding="utf-8")
    written: Mapping[str, Any] = tomlkit.parse(text).unwrap().get("pipeline", {})
    names = set(chosen_tables(source, wish.from_schema, wish.like, wish.not_like))
    found = []
    for step in plan.steps:
        if not isinstance(step, PipelinePlan) or step.name not in written or step.settings.source.query is not None:
            continue
        if step.source.identity != source.identity or step.reading.table.name not in names:
            continue
        columns = _new(step, first_seen.get((step.name, SOURCE)))
        if not columns:
            continue
        new = NewColumns(step.name, lacking=[c.name for c in columns if step.target_table.column(c.name) is None])
        if "*" not in step.settings.same and step.settings.columns:
            new.taken = [column.name for column in columns]
            lines = mapping_lines(source, step.reading.table, columns, step.target_table, wish)
            text = _with_lines(text, written, step.name, lines)
        found.append(new)
    if any(new.taken for new in found):
        try:
            path.write_text(text, encoding="utf-8")
        except OSError as error:
            raise KanalError(f"{path} cannot be written: {error.strerror}", "change it by hand") from None
    return found


def _new(step: PipelinePlan, first: SeenTable | None) -> list[ColumnInfo]:
    """The columns of a step's source that go nowhere and were not there when it first saw the table."""
    table: TableInfo = step.reading.table
    if first is None or first.place != seen_table(step.name, SOURCE, step.source, table).place:
        return []
    known = {column.name.casefold() for column in first.shape.columns}
    known |= {name.casefold() for name in (*step.settings.skip, *step.reading.columns)}
    # What is mapped to a column that the target lacks is not read yet.
    for mapped in step.settings.columns.values():
        known |= {found.name.casefold() for found in parse(mapped.from_).find_all(exp.Column)}
    return [column for column in table.columns if column.name.casefold() not in known]


def _with_lines(text: str, written: Mapping[str, Any], step: str, lines: Sequence[str]) -> str:
    """A job's file with lines at the end of a pipeline's mapping; raises KanalError if that cannot be done."""
    head = re.compile(rf"\s*\[\s*pipeline\s*\.\s*{_name(step)}\s*\.\s*columns\s*\]\s*(#.*)?")
    rows = text.split("\n")
    wanted = tomlkit.parse(text).unwrap()
    wanted["pipeline"][step]["columns"] |= tomlkit.parse("\n".join(lines)).unwrap()
    for start in [place for place, row in enumerate(rows) if head.fullmatch(row.rstrip("\r"))]:
        for end in range(start + 1, len(rows) + 1):
            made = "\n".join([*rows[:end], *lines, *rows[end:]])
            follows = rows[end].strip() if end < len(rows) else ""
            if (not follows or follows.startswith(("[", "#"))) and _reads_as(made, wanted):
                return made
    raise KanalError(
        f"pipeline {step} has its columns in a form that lines cannot be added to", f"add by hand: {'; '.join(lines)}"
    )


def _reads_as(text: str, wanted: Any) -> bool:
    try:
        return bool(tomlkit.parse(text).unwrap() == wanted)
    except (tomlkit.exceptions.TOMLKitError, ValueError):
        return False


def _name(step: str) -> str:
    return f"(?:{re.escape(step)}|{re.escape(key_text(step))}|\"{re.escape(step)}\"|'{re.escape(step)}')"
