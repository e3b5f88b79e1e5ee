"""kanal ping: tries connections and says what is there, or why it cannot be reached."""

from __future__ import annotations

from pathlib import Path

from msgspec.structs import asdict
from rich.console import Console

from kanal.cli.jobs import chosen_cluster, crew, read_job
from kanal.cli.output import console, escape, indented, mark, print_json, show, table
from kanal.cli.place import is_url, open_place
from kanal.connections import open_connection
from kanal.connections.urls import url_remedy
from kanal.core.errors import KanalError, capital
from kanal.explore.ping import Answer
from kanal.explore.ping import ping as try_connection


def ping(place: str, job: Path | None, json: bool) -> int:
    """Try the connections of a job file, or one place; 0 if all work, else 1."""
    if chosen_cluster() is not None:
        return _from_cluster(place, job, json)
    if job is None and not is_url(place):
        remedy = url_remedy(place, "")
        if remedy:
            raise KanalError(f"{place} is neither a job file nor a URL", remedy)
        answers = _of_job(Path(place))
    else:
        with open_place(place, job) as database:
            answers = [try_connection(database)]
    if json:
        print_json([_document(answer) for answer in answers])
    else:
        screen = console()
        for answer in answers:
            _print(screen, answer)
    return 0 if all(answer.works for answer in answers) else 1


def _of_job(path: Path) -> list[Answer]:
    job = read_job(path)
    answers = []
    for name, connection in job.connection.items():
        try:
            database = open_connection(name, connection, job.folder)
        except KanalError as error:
            what = error.what.removeprefix(f"connection {name}: ")
            answers.append(Answer(name, "", error=what, remedy=error.remedy))
            continue
        answers.append(try_connection(database))
        database.dispose()
    return answers


def _from_cluster(place: str, job: Path | None, json: bool) -> int:
    """Try connections from each worker; 0 if each works from all that are to reach it, and from one at least."""
    if is_url(place):
        raise KanalError(f"{place} is not one of a job's connections", "name a job file, or a connection with --job")
    definition = read_job(job or Path(place))
    names = [place] if job is not None else list(definition.connection)
    from kanal.explore.ping import ping_from_workers

    with crew() as workers:
        found = ping_from_workers(workers, definition, names)
    bad = [name for name in names if not any(one.connection == name and one.answer.works for one in found)]
    bad += [one.connection for one in found if not one.answer.works]
    if json:
        print_json([{"worker": one.worker, "host": one.host} | _document(one.answer) for one in found])
        return 1 if bad else 0
    screen = console()
    drawn = table("", "connection", "worker", "host", "#ms", "says")
    for one in found:
        answer, about = one.answer, one.answer.about
        said = f"{about.server} {about.version}" if about is not None else answer.error or ""
        milliseconds = f"{answer.milliseconds:.1f}" if answer.milliseconds is not None else ""
        drawn.add_row(mark("succeeded" if answer.works else "failed"), escape(one.connection), escape(one.worker),
                      escape(one.host), milliseconds, escape(said))  # fmt: skip
    show(screen, drawn)
    for one in found:
        if one.answer.remedy:
            screen.print(indented(f"[cyan]→[/] {escape(one.worker)}: {escape(capital(one.answer.remedy))}"))
    for name in bad:
        if not any(one.connection == name for one in found):
            tag = definition.connection[name].reached_from
            screen.print(f"{mark('failed')} {escape(name)}: no worker carries {escape(str(tag))}")
    return 1 if bad else 0


def _print(screen: Console, answer: Answer) -> None:
    mark = "[green]✓[/]" if answer.works else "[bold red]✗[/]"
    screen.print(f"{mark} [bold]{escape(answer.connection)}[/]  [dim]{escape(answer.url)}[/]", soft_wrap=True)
    if answer.about is None:
        screen.print(indented(escape(answer.error or "")))
        if answer.remedy:
            screen.print(indented(f"[cyan]→[/] {escape(capital(answer.remedy))}"))
        screen.print()
        return
    about = answer.about
    parts = [f"{about.server} {about.version}", f"by {about.driver}", f"answers in {answer.milliseconds:.1f} ms"]
    parts += [f"texts in {about.character_set}"] if about.character_set else []
    parts += [f"time zone {about.time_zone}"] if about.time_zone else []
    screen.print(indented(escape(", ".join(parts))))
    granted = [right.name for right in answer.rights if right.granted]
    if granted:
        screen.print(indented(f"[green]may[/]  {escape(', '.join(granted))}"))
    for right in answer.rights:
        if not right.granted:
            screen.print(indented(f"[yellow]not[/]  {escape(right.name)}  [cyan]→[/] {escape(right.ask_for)}"))
    screen.print()


def _document(answer: Answer) -> dict[str, object]:
    about = asdict(answer.about) if answer.about is not None else {}
    return {
        "connection": answer.connection,
        "url": answer.url,
        "works": answer.works,
        **about,
        "milliseconds": None if answer.milliseconds is None else round(answer.milliseconds, 2),
        "rights": [asdict(right) for right in answer.rights],
        "error": answer.error,
        "remedy": answer.remedy,
    }
