"""kanal compare: whether the targets hold what the sources do, after the mapping."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from msgspec.structs import asdict
from rich.console import Console

from kanal.cli.jobs import read_job
from kanal.cli.memory import expect_long_work
from kanal.cli.output import console, escape, example, number, print_json, show, table
from kanal.cli.run import parse_values
from kanal.core.errors import counted
from kanal.explore.compare import Comparison, Example
from kanal.explore.compare import compare as compare_job
from kanal.runner import run_log_of
from kanal.runner.run_options import planned


def compare(
    path: Path, only: list[str] | None, quick: bool, allow_extra: bool, rows: int, values: list[str], json: bool
) -> int:
    """Compare the targets of a file's job with its sources; 1 where something differs."""
    job = read_job(path)
    expect_long_work()
    with planned(job, {"only": only, "parameters": parse_values(values)}) as plan:
        found = list(compare_job(plan, run_log_of(job), quick, rows))
    status = 1 if any(one.differs(allow_extra) for one in found) else 0
    if json:
        print_json([_document(one, allow_extra) for one in found])
        return status
    screen = console()
    show(screen, _quick_table(found, allow_extra) if quick else _full_table(found, allow_extra))
    for one in found:
        if one.refused:
            refused = f"{counted(one.refused, 'row')} that the target refused in the last run"
            are = "is" if one.refused == 1 else "are"
            screen.print(f"\n[dim]{escape(one.table)}: {refused} {are} not counted as missing.[/]")
    for one in found:
        if one.left_out:
            left = counted(one.left_out, "row")
            screen.print(
                f"\n[dim]{escape(one.table)}: {left} that the write rule leaves as they are count as the same.[/]"
            )
    for one in found:
        _print_examples(screen, one)
        if one.error:
            screen.print(
                f"\n[bold red]✗[/] [bold]{escape(one.table)}[/] could not be compared\n    {escape(one.error)}"
            )
        elif not one.key and not quick:
            screen.print(f"\n[dim]{escape(one.table)} has no key that is mapped: its rows are compared as wholes.[/]")
    screen.print()
    bad = sum(one.differs(allow_extra) for one in found)
    tables = counted(len(found), "table")
    if bad:
        verb = "differs" if bad == 1 else "differ"
        screen.print(f"[bold red]✗[/] {bad} of {tables} {verb} from what the sources hold")
    else:
        same = "counts and column sums are" if quick else "every row is"
        screen.print(f"[green]✓[/] {tables}: {same} as the sources and the mapping say")
    return status


def _mark(one: Comparison, allow_extra: bool) -> str:
    return "[bold red]✗[/]" if one.differs(allow_extra) else "[green]✓[/]"


def _full_table(found: list[Comparison], allow_extra: bool) -> Any:
    counts = ("read", "filtered", "rejected", "superseded")
    shown = [name for name in counts if name == "read" or any(getattr(one.tally, name) for one in found)]
    drawn = table("", "~table", *(f"#{name}" for name in shown), "#target", "#same", "#missing", "#extra", "#differing")
    for one in found:
        drawn.add_row(
            _mark(one, allow_extra),
            escape(one.table),
            *(number(getattr(one.tally, name)) for name in shown),
            number(one.target_rows),
            number(one.same),
            *(_bad(count) for count in (one.missing, one.extra, one.differing)),
        )
    return drawn


def _quick_table(found: list[Comparison], allow_extra: bool) -> Any:
    drawn = table("", "table", "#would load", "#target", "~columns whose sums differ")
    for one in found:
        columns = escape(", ".join(one.columns)) or "[dim]none[/]"
        drawn.add_row(
            _mark(one, allow_extra), escape(one.table), f"{one.source_rows:,}", f"{one.target_rows:,}", columns
        )
    return drawn


def _bad(count: int) -> str:
    return f"[red]{count:,}[/]" if count else number(0)


_SAID = {"missing": "missing in the target", "extra": "only in the target", "differing": "differs"}


def _print_examples(screen: Console, one: Comparison) -> None:
    if not one.examples:
        return
    screen.print(f"\n[bold]{escape(one.table)}[/]")
    with_values = any(found.values for found in one.examples)
    drawn = table("", "~row", *(("~column", "~source, mapped", "~target") if with_values else ()))
    for found in one.examples:
        row = ", ".join(f"{name} = {_shown(value)}" for name, value in found.key.items())
        first = [_SAID[found.kind], escape(example(row, 60))]
        if not found.values:
            drawn.add_row(*first)
        for column, (mapped, there) in found.values.items():
            drawn.add_row(*first, escape(column), escape(_shown(mapped)), escape(_shown(there)))
            first = ["", ""]
    show(screen, drawn)


def _shown(value: str | None) -> str:
    return example(value, 30)


def _document(one: Comparison, allow_extra: bool) -> dict[str, Any]:
    document = asdict(one)
    document["tally"] = asdict(one.tally)
    document["differs"] = one.differs(allow_extra)
    document["examples"] = [_example_document(found) for found in one.examples]
    return document


def _example_document(found: Example) -> dict[str, Any]:
    values = {column: {"source": mapped, "target": there} for column, (mapped, there) in found.values.items()}
    return {"kind": found.kind, "key": found.key, "values": values}
