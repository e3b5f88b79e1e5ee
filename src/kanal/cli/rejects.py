"""kanal rejects: the rows of a run that were not loaded, and why."""

from __future__ import annotations

import json as json_module
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any

from rich.console import Console

from kanal.cli.log import find_run_log, job_name, private
from kanal.cli.output import console, escape, example, indented, print_hints, print_json, rejects_table, show, table
from kanal.core.errors import KanalError, counted
from kanal.core.nearest import did_you_mean
from kanal.core.reasons import NOT_REPLAYED, Reason
from kanal.core.rejects import row_from_json
from kanal.explore.reject_files import reject_documents, write_csv


def rejects(
    run: int | None,
    step: str | None,
    reason: str | None,
    column: str | None,
    examples: int | None,
    export: Path | None,
    escape_formulas: bool,
    job: Path | None,
    run_log: str | None,
    json: bool,
) -> int:
    """Print the rejects of a run, grouped and then one by one, or write them to a file; the exit status."""
    log = find_run_log(job, run_log)
    record = log.past.run(run, job_name(job))
    if record.error:
        raise KanalError(
            f"Run {record.run} of {record.job} failed before a step could begin", f"see kanal runs {record.run}"
        )
    names = [result.step for result in record.steps]
    if step is not None and step not in names:
        raise KanalError(f'Run {record.run} has no step "{step}"', did_you_mean(step, names))
    if reason is not None and reason not in set(Reason):
        raise KanalError(f'There is no reason "{reason}"', did_you_mean(reason, [str(known) for known in Reason]))
    chosen: dict[str, str | None] = {"reason": reason, "column": column}
    found = reject_documents(log, record.run, step, **chosen) if json or export is not None else []
    if export is not None:
        _export(export, found, escape_formulas)
        console(stderr=True).print(f"{len(found):,} rejected rows written to {export}")
        return 0
    if json:
        print_json(found)
        return 0
    screen = console()
    groups = log.rejects.groups(record.run, step, **chosen)
    resolved = log.rejects.resolved(record.run)
    if resolved:
        screen.print(f"[dim]{resolved:,} rejected rows of run {record.run} were resolved by a replay.[/]\n")
    gone = log.rejects.gone(record.run)
    if gone:
        screen.print(f"[dim]Gone from the source: {counted(gone, 'rejected row')} of run {record.run}.[/]\n")
    if not groups and (resolved or gone):
        screen.print(f"[green]✓[/] Run {record.run} of {escape(record.job)} has no other rejects.")
        return 0
    if not groups and (step or reason or column):
        screen.print(f"Run {record.run} of {escape(record.job)} has no such rejects.")
        return 0
    if not groups:
        screen.print(f"[green]✓[/] Run {record.run} of {escape(record.job)} rejected no rows.")
        return 0
    screen.print(f"Run {record.run} of {escape(record.job)}\n")
    show(screen, rejects_table(groups))
    _print_cascades(screen, log.rejects.cascades(record.run, step))
    shown = sum(_print_group(screen, group, log.rejects.examples(record.run, group, examples)) for group in groups)
    total = sum(group["rows"] for group in groups)
    if shown < total:
        screen.print(f"\n[dim]{shown:,} of {total:,} shown; --all shows all, --export FILE writes them to a file.[/]")
    _print_replay(screen, groups, f"kanal replay {record.run}" + (f" --job {job}" if job else ""))
    return 0


def _print_replay(screen: Console, groups: list[dict[str, Any]], command: str) -> None:
    if any(group["reason"] not in NOT_REPLAYED for group in groups):
        print_hints(screen, [(command, "load them again, once the cause is fixed")])


def _print_cascades(screen: Console, found: list[dict[str, Any]]) -> None:
    """Show which rejects others are to blame for: correct the one, and the many are good."""
    if not found:
        return
    drawn = table("step", "#rows", "~refer to", "which was rejected by", title="Rejected because another row was")
    for one in found[:_CASCADES]:
        name, key = json_module.loads(one["parent"])
        row = ", ".join(f"{column} {value}" for column, value in key.items())
        why = ", ".join(filter(None, (one["parent_column"], one["parent_reason"])))
        drawn.add_row(
            escape(one["step"]), f"{one['rows']:,}", escape(f"{name} {row}"), escape(f"{one['parent_step']}: {why}")
        )
    screen.print()
    show(screen, drawn)
    rest = sum(one["rows"] for one in found[_CASCADES:])
    if rest:
        screen.print(f"[dim]and {counted(rest, 'row')} because of {len(found) - _CASCADES:,} other rejected rows[/]")


#: Of so many rejects is said how many others they are to blame for.
_CASCADES = 5


def _print_group(screen: Console, group: dict[str, Any], found: list[dict[str, Any]]) -> int:
    """Print some rejects of a group, each message once for all that follow and have it; how many they are."""
    if not found:
        return 0
    column = f", {escape(group['column'])}" if group["column"] else ""
    screen.print(
        f"\n[bold]{escape(group['step'])}[/]{column}: [red]{group['reason']}[/], {counted(group['rows'], 'row')}"
    )
    said = None
    for reject in found:
        if reject["message"] != said:
            said = reject["message"]
            screen.print(indented(escape(said)))
        row = row_from_json(reject["row"]).items()
        for line in _lines([(name, example(value, 30)) for name, value in row], screen.width - 6):
            screen.print(indented("  ".join(f"[dim]{escape(name)}[/] {escape(value)}" for name, value in line), 6))
    return len(found)


def _lines(cells: list[tuple[str, str]], width: int) -> Iterator[list[tuple[str, str]]]:
    """Names and values in lines of a width, no value broken."""
    line: list[tuple[str, str]] = []
    used = 0
    for name, value in cells:
        size = len(name) + len(value) + 3
        if line and used + size - 2 > width:
            yield line
            line, used = [], 0
        line.append((name, value))
        used += size
    if line:
        yield line


def _export(path: Path, found: list[dict[str, Any]], escape_formulas: bool) -> None:
    """Write rejects as JSON lines if the file is called so, else as CSV."""
    if path.suffix in (".jsonl", ".ndjson"):
        lines = (json_module.dumps(reject, ensure_ascii=False) + "\n" for reject in found)
        _write(path, lambda file: file.writelines(lines))
        return
    _write(path, lambda file: write_csv(file, found, escape_formulas))


def _write(path: Path, content: Callable[[IO[str]], object]) -> None:
    try:
        with open(path, "w", newline="", encoding="utf-8", opener=private) as file:
            content(file)
    except OSError as error:
        raise KanalError(f"{path} cannot be written: {error.strerror}", "name another file") from None
