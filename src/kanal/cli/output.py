"""What the commands share in printing: the console, tables of counts, JSON documents."""

from __future__ import annotations

import json
import os
import re
import sys
from collections.abc import Iterable, Sequence
from itertools import zip_longest
from typing import Any, Protocol

from rich.console import Console
from rich.markup import escape as escape_markup
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from kanal.core.errors import duration
from kanal.core.reasons import NOTICES
from kanal.core.tally import COUNTS, Tally

#: Every mark is told apart without colour too.
_SIGNS = {
    "succeeded": ("green", "✓"),
    "failed": ("bold red", "✗"),
    "blocked": ("yellow", "◦"),
    "stopped": ("yellow", "■"),
    "running": ("cyan", "▸"),
    "waiting": ("dim", "·"),
}
#: Columns that are shown even where every count in them is 0.
_ALWAYS = frozenset({"read", "rejected", "inserted"})


#: Control characters, which a terminal obeys, and those that turn the direction of what follows.
_CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def visible(text: str) -> str:
    """A text whose control characters are shown and not obeyed."""
    return _CONTROLS.sub(
        lambda found: f"\\x{ord(found[0]):02x}" if ord(found[0]) < 256 else f"\\u{ord(found[0]):04x}", text
    )


def escape(text: str) -> str:
    """A text from anywhere, as it may be printed."""
    return escape_markup(visible(text))


def console(stderr: bool = False) -> Console:
    """A console for a person; 100 columns wide if it is no terminal."""
    made = Console(stderr=stderr, highlight=False)
    if not made.is_terminal:
        width = os.environ.get("COLUMNS", "")
        made = Console(
            stderr=stderr, highlight=False, width=int(width) if width.isdigit() and int(width) >= 40 else 100
        )
    return made


def print_json(document: Any) -> None:
    """One JSON document on standard output."""
    text = json.dumps(document, ensure_ascii=False, indent=2)
    sys.stdout.write(_AFTER_ASCII.sub(lambda found: f"\\u{ord(found[0]):04x}", text) + "\n")


#: Control characters that JSON lets stand, and lone halves of a character, which are no text.
_AFTER_ASCII = re.compile("[\x7f-\x9f\ud800-\udfff\u202a-\u202e\u2066-\u2069]")


def table(*columns: str, title: str | None = None) -> Table:
    """A table in the manner of all of Kanal's.

    A column whose name begins with # is one of numbers; one that begins with ~ is cut if the table is too wide.
    """
    made = Table(
        box=None,
        title=title,
        title_justify="left",
        title_style="bold",
        header_style="bold",
        pad_edge=False,
        padding=(0, 2, 0, 0),
    )
    for column in columns:
        made.add_column(
            column.lstrip("#~"),
            justify="right" if column.startswith("#") else "left",
            no_wrap=True,
            overflow="ellipsis",
            ratio=1 if column.startswith("~") else None,
        )
    return made


def show(screen: Console, drawn: Table) -> None:
    """Print a table no wider than the screen: the column made to be cut is cut, to 24; then all close up."""
    cells = [[_lines(cell) for cell in (column.header, *column.cells)] for column in drawn.columns]
    widths = [max(line.cell_len for cell in column for line in cell) for column in cells]
    least = sum(min(width, 24) if column.ratio else width for column, width in zip(drawn.columns, widths, strict=True))
    gap = 2 if least + 2 * (len(widths) - 1) <= screen.width else 1
    spare = screen.width - sum(widths) - gap * (len(widths) - 1)
    for place, column in enumerate(drawn.columns):
        if column.ratio and spare < 0:
            widths[place] = max(8, widths[place] + spare)
            column.max_width = widths[place]
        column.ratio = None
    if sum(widths) + gap * (len(widths) - 1) > screen.width:
        drawn.padding = (0, gap, 0, 0)
        screen.print(drawn)  # which cuts the other columns too
        return
    if drawn.title:
        screen.print(f"[bold]{drawn.title}[/]")
    # Not by the table itself, which takes several times as long.
    lines = []
    for row in zip(*cells, strict=True):
        for parts in zip_longest(*row, fillvalue=Text()):
            fitted = (
                _fitted(part, column.justify == "right", width)
                for part, column, width in zip(parts, drawn.columns, widths, strict=True)
            )
            lines.append(Text(" " * gap).join(fitted))
            lines[-1].rstrip()
    lines[0].stylize("bold")
    screen.print(Text("\n").join(lines), soft_wrap=True)


def _lines(content: Any) -> list[Text]:
    """The lines of a cell, one at least."""
    text = content if isinstance(content, Text) else Text.from_markup(str(content))
    return list(text.split(allow_blank=True)) or [Text()]


def _fitted(line: Text, right: bool, width: int) -> Text:
    """A line of a cell, cut or filled up to a width."""
    made = line.copy()
    made.truncate(width, overflow="ellipsis")
    made.align("right" if right else "left", width)
    return made


def mark(status: str) -> str:
    """The sign of a status alone."""
    style, sign = _SIGNS.get(status, ("default", "?"))
    return f"[{style}]{sign}[/]"


def status_text(status: str) -> str:
    """The sign of a status and its name."""
    style, sign = _SIGNS.get(status, ("default", "?"))
    return f"[{style}]{sign} {status}[/]"


def number(count: int) -> str:
    """A count with separators; 0 is dim."""
    return f"{count:,}" if count else "[dim]0[/]"


def tally_table(rows: Iterable[tuple[str, str, Tally, float]]) -> Table:
    """Steps with their counts: name, status, tally, seconds. Columns without any row are left out."""
    steps = list(rows)
    shown = [name for name in COUNTS if name in _ALWAYS or any(getattr(tally, name) for _, _, tally, _ in steps)]
    made = table("", "~step", *(f"#{name}" for name in shown), "#time")
    total = Tally.sum(tally for _, _, tally, _ in steps)
    for step, status, tally, seconds in steps:
        counts = [_count(name, getattr(tally, name)) for name in shown]
        made.add_row(mark(status), escape(step), *counts, duration(seconds))
    if len(steps) > 1:
        made.add_section()
        made.add_row("", "[bold]all[/]", *(f"[bold]{getattr(total, name):,}[/]" for name in shown), "")
    return made


class _Noted(Protocol):
    """A step that may have a note."""

    @property
    def step(self) -> str:
        """Its name."""

    @property
    def note(self) -> str | None:
        """What is worth knowing of it."""


def print_notes(screen: Console, steps: Iterable[_Noted]) -> None:
    """What is worth knowing of steps, a line each."""
    noted = [step for step in steps if step.note]
    if noted:
        screen.print()
    for step in noted:
        screen.print(f"[dim]{escape(step.step)}: {escape(step.note or '')}.[/]")


def _count(name: str, count: int) -> str:
    return f"[red]{count:,}[/]" if name == "rejected" and count else number(count)


def rejects_table(groups: Sequence[dict[str, Any]], of_one_step: bool = False) -> Table:
    """Rejects by step, column and reason, with a value as example, or what was said of the row."""
    listed = "Rejected rows" if any(group["reason"] not in NOTICES for group in groups) else "Worth knowing"
    title = None if of_one_step else listed
    made = table("  " if of_one_step else "step", "column", "reason", "#rows", "#longest", "~for instance", title=title)
    for group in groups:
        by_message = group["reason"] in ("refused_by_target", "not_loaded_yet")
        said = group["message"] if by_message else group["value"]
        made.add_row(
            "" if of_one_step else escape(group["step"]),
            escape(group["column"] or ""),
            group["reason"],
            f"{group['rows']:,}",
            f"{group['longest']:,}" if group["longest"] is not None else "",
            escape(example(said and said.removeprefix("the target refused the row: "), 60)),
        )
    return made


def indented(text: str, by: int = 4) -> Padding:
    """A paragraph set in from the left."""
    return Padding(text, (0, 0, 0, by))


def example(value: str | None, longest: int = 36) -> str:
    """A value for a table: on one line, cut if it is long, and in quotes where blanks stand around it."""
    if value is None:
        return "NULL"
    value = _CONTROLS.sub(lambda found: found[0] if found[0].isspace() else visible(found[0]), value)
    bare = value.strip()
    line = " ".join(value.split())
    text = line if value == bare != "" else repr(value.replace(bare, line))
    return text if len(text) <= longest else f"{text[: longest - 1]}…"


def print_hints(screen: Console, hints: list[tuple[str, str]]) -> None:
    """Commands to continue."""
    screen.print()
    widest = max(len(command) for command, _ in hints)
    for command, meaning in hints:
        screen.print(f"  [cyan]{escape(command.ljust(widest))}[/]  [dim]{meaning}[/]", soft_wrap=True)
