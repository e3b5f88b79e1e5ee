"""kanal ping: tries connections and says what is there, or why it cannot be reached."""

from __future__ import annotations

from pathlib import Path

from rich.console import Console

from kanal.cli.jobs import read_job
from kanal.cli.output import console, escape, indented, print_json
from kanal.cli.place import is_url, open_place
from kanal.connections import open_connection
from kanal.core.errors import KanalError, capital
from kanal.explore.ping import Answer
from kanal.explore.ping import ping as try_connection


def ping(place: str, job: Path | None, json: bool) -> int:
    """Try the connections of a job file, or one place; 0 where all work, else 1."""
    if job is None and not is_url(place):
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
    about = vars(answer.about) if answer.about is not None else {}
    return {
        "connection": answer.connection,
        "url": answer.url,
        "works": answer.works,
        **about,
        "milliseconds": None if answer.milliseconds is None else round(answer.milliseconds, 2),
        "rights": [vars(right) for right in answer.rights],
        "error": answer.error,
        "remedy": answer.remedy,
    }
