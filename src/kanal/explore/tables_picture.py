"""Draws tables and their references."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from kanal.connections import TableInfo
from kanal.core.errors import counted
from kanal.explore.boxes import Box, Link, save, stack

#: Columns of a table that are drawn; keys and references come first.
_COLUMNS = 9


def draw_tables(tables: Sequence[TableInfo], path: Path) -> None:
    """Draw tables to an .svg file: what is referred to stands left of what refers to it. Raises KanalError."""
    boxes = {table.name: Box(table.name, _lines(table)) for table in tables}
    refers = {table.name: [key.table for key in table.foreign_keys if key.table in boxes] for table in tables}
    named = {name for name, others in refers.items() if others} | {one for others in refers.values() for one in others}
    depth = _depths([name for name in boxes if name in named], refers)
    columns: list[list[Box]] = [[] for _ in range(max(depth.values(), default=-1) + 1)]
    for name, number in depth.items():
        columns[number].append(boxes[name])
    for _ in range(4):  # near to what they refer to, and to what refers to them
        _sort(columns, refers, boxes)
    lonely = [boxes[name] for name in boxes if name not in named]
    if lonely:  # next to the others, as high as those
        height = max([sum(box.high for box in column) for column in columns], default=0) or 900
        column: list[Box] = []
        for box in lonely:
            if column and sum(one.high + 18 for one in column) + box.high > max(height, 600):
                columns.append(column)
                column = []
            column.append(box)
        columns.append(column)
    stack(columns, 320)
    links = []
    for table in tables:
        for key in table.foreign_keys:
            if key.table in boxes:
                pairs = zip(key.columns, key.referred, strict=False)
                said = f"{table.name} refers to {key.table}: " + ", ".join(f"{mine} = {there}" for mine, there in pairs)
                links.append(Link(boxes[table.name], key.columns[0], boxes[key.table], None, said))
    save(list(boxes.values()), links, f"{counted(len(tables), 'table')}, {counted(len(links), 'reference')}", path)


def _lines(table: TableInfo) -> list[tuple[str, str]]:
    keys = {name for key in table.foreign_keys for name in key.columns}
    first = table.primary_key
    columns = sorted(table.columns, key=lambda column: (column.name not in first, column.name not in keys))
    lines = []
    for column in columns[:_COLUMNS]:
        mark = "key " if column.name in first else ""
        lines.append((column.name, f"{mark}{column.type if column.type is not None else column.declared}".lower()))
    if len(columns) > _COLUMNS:
        lines.append((f"… {len(columns) - _COLUMNS} more", ""))
    return lines


def _depths(names: Sequence[str], refers: Mapping[str, Sequence[str]]) -> dict[str, int]:
    """How far each table is from those that refer to none; a circle is cut if it is met again."""
    found: dict[str, int] = {}

    def of(name: str, above: frozenset[str]) -> int:
        if name not in found:
            others = [other for other in refers[name] if other not in above and other != name]
            depth = 1 + max((of(other, above | {name}) for other in others), default=-1)
            found[name] = depth
        return found[name]

    for name in names:
        of(name, frozenset())
    return found


def _sort(columns: list[list[Box]], refers: Mapping[str, Sequence[str]], boxes: Mapping[str, Box]) -> None:
    stack(columns, 320)
    for column in columns:

        def wish(box: Box) -> float:
            near = [boxes[name] for name in refers[box.title]]
            near += [boxes[name] for name, others in refers.items() if box.title in others]
            return sum(one.y + one.high / 2 for one in near) / len(near) if near else box.y

        column.sort(key=wish)
        stack(columns, 320)
