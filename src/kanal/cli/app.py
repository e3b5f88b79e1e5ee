"""The commands and their arguments. Each imports what it needs only when it is called, so that help is quick."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from kanal.cli.arguments import (
    Events,
    JobFile,
    JobFiles,
    Json,
    Like,
    LogJob,
    LogUrl,
    NotLike,
    Place,
    PlaceJob,
    RunNumber,
    Schema,
    SetValues,
)

app = typer.Typer(
    name="kanal",
    help="Load tables from database to database, with every row accounted for.",
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"]},
)


@app.callback(invoke_without_command=True)
def _top(
    version: Annotated[bool, typer.Option("--version", help="Print the version and stop.")] = False,
) -> None:
    if version:
        from kanal import __version__

        print(f"kanal {__version__}")
        raise typer.Exit


@app.command()
def demo(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="Where to write it.")] = Path("kanal-demo"),
    passages: Annotated[int, typer.Option(help="Passages in each lock house.", min=1)] = 6_000,
    json: Json = False,
) -> int:
    """Write the demo's databases and job to a folder, and run the job."""
    from kanal.cli.demo import demo as command

    return command(folder, passages, json)


@app.command()
def ping(
    place: Annotated[str, typer.Argument(metavar="JOB|PLACE", help="A job file, a URL, or a connection's name.")],
    job: PlaceJob = None,
    json: Json = False,
) -> int:
    """Try connections: show server, version, latency and rights, or the error and its remedy."""
    from kanal.cli.ping import ping as command

    return command(place, job, json)


@app.command()
def tables(
    place: Place,
    like: Like = None,
    not_like: NotLike = None,
    schema: Schema = None,
    columns: Annotated[bool, typer.Option("--columns", help="Show the columns of each table too.")] = False,
    picture: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw them and their references to an .svg file.", show_default=False),
    ] = None,
    job: PlaceJob = None,
    json: Json = False,
) -> int:
    """List tables and views with rows, columns, keys and references."""
    from kanal.cli.tables import tables as command

    return command(place, like or [], not_like or [], schema, columns, picture, job, json)


@app.command()
def sample(
    place: Place,
    table: Annotated[str, typer.Argument(metavar="TABLE", help="TABLE, SCHEMA.TABLE, a file, or a pattern of files.")],
    rows: Annotated[int, typer.Option("-n", "--rows", help="How many rows to show.", min=0)] = 10,
    scan: Annotated[int, typer.Option(help="How many rows to look at for the columns' profiles.", min=1)] = 100_000,
    job: PlaceJob = None,
    json: Json = False,
) -> int:
    """Show some rows of a table, and a profile of each column."""
    from kanal.cli.tables import sample as command

    return command(place, table, rows, scan, job, json)


@app.command()
def draft(
    source: Annotated[str, typer.Argument(metavar="FROM", help="A URL, or a connection's name with --job FILE.")],
    target: Annotated[str, typer.Argument(metavar="TO", help="A URL, or a connection's name with --job FILE.")],
    like: Like = None,
    not_like: NotLike = None,
    from_schema: Annotated[
        str | None, typer.Option(help="Tables of this schema of the source.", show_default=False)
    ] = None,
    schema: Annotated[str | None, typer.Option(help="Targets in this schema.", show_default=False)] = None,
    prefix: Annotated[str, typer.Option(help="Before the names of the targets.", show_default=False)] = "",
    write: Annotated[str, typer.Option(metavar="RULE", help="append, truncate or merge.")] = "truncate",
    since: Annotated[bool, typer.Option("--since", help="Load only new rows, if a change column is found.")] = False,
    sample: Annotated[int, typer.Option("--sample", help="Rows of each table to look at; 0 for none.", min=0)] = 1_000,
    name: Annotated[str | None, typer.Option(help="The job's name.", show_default=False)] = None,
    into: Annotated[
        Path | None,
        typer.Option(metavar="FILE", show_default=False, help="Write to this file; if it exists, add only new tables."),
    ] = None,
    job: PlaceJob = None,
) -> int:
    """Write a job file from the tables of a source, with their keys and references."""
    from kanal.cli.draft import draft as command
    from kanal.explore.draft import Wish

    patterns = tuple(like or ()), tuple(not_like or ())
    wish = Wish(*patterns, from_schema, schema, prefix, write, since, sample)
    return command(source, target, wish, name, into, job)


@app.command()
def check(
    job: JobFile,
    sample: Annotated[
        int | None,
        typer.Option(help="Try this many rows of each pipeline, without writing.", min=1, show_default=False),
    ] = None,
    json: Json = False,
) -> int:
    """Say all that is wrong with a job before a row moves, and how a sample of rows would fare; with --env all, in each
    of its environments."""
    from kanal.cli.check import check as command

    return command(job, sample, json)


@app.command()
def order(
    job: JobFile,
    picture: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Draw it to an .svg or .png file.", show_default=False)
    ] = None,
    json: Json = False,
) -> int:
    """Show the steps in order, with their dependencies and the reasons."""
    from kanal.cli.order import order as command

    return command(job, picture, json)


@app.command()
def create(
    job: JobFile,
    show_sql: Annotated[
        bool, typer.Option("--show", help="Print the SQL instead, with the ALTER statements that existing tables need.")
    ] = False,
    alter: Annotated[
        bool, typer.Option("--alter", help="Add and widen columns of existing tables too, as the mapping needs.")
    ] = False,
    json: Json = False,
) -> int:
    """Create the target tables that are missing, from the mapping; no rows. Tables that exist are left alone, unless
    --alter is given."""
    from kanal.cli.create import create as command

    return command(job, show_sql, alter, json)


@app.command()
def run(
    job: JobFile,
    only: Annotated[
        list[str] | None,
        typer.Option(metavar="STEP", show_default=False, help="Run only this step; can be repeated."),
    ] = None,
    batch_rows: Annotated[
        int | None, typer.Option(help="Rows a batch, for all pipelines.", min=1, show_default=False)
    ] = None,
    workers: Annotated[
        int | None, typer.Option(help="Steps that may run at once.", min=1, max=64, show_default=False)
    ] = None,
    since: Annotated[
        str | None,
        typer.Option(
            metavar="VALUE",
            show_default=False,
            help="Load change values from this one on, regardless of the watermarks.",
        ),
    ] = None,
    until: Annotated[
        str | None,
        typer.Option(
            metavar="VALUE",
            show_default=False,
            help="Load only change values before this one; watermarks stay unchanged.",
        ),
    ] = None,
    everything: Annotated[bool, typer.Option("--all", help="Load all rows and files, new or not.")] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Do all but write, and log nothing.")] = False,
    rehearse: Annotated[
        bool, typer.Option("--rehearse", help="Do all of it in the targets too, and undo it; log nothing.")
    ] = False,
    make_tables: Annotated[bool, typer.Option("--create", help="Create missing target tables first.")] = False,
    anew: Annotated[
        bool, typer.Option("--anew", help="Load all rows even if an unfinished run has committed some of them.")
    ] = False,
    by: Annotated[
        str | None,
        typer.Option(
            metavar="LENGTH",
            show_default=False,
            help="Load from --since to --until in windows of this length, such as '1 day', each in its own run.",
        ),
    ] = None,
    notify: Annotated[bool, typer.Option("--notify", help="Send the messages of [notify] when it has ended.")] = False,
    set_values: SetValues = None,
    events: Events = None,
    json: Json = False,
) -> int:
    """Run a job and show what became of every row."""
    from kanal.cli.ways import run_by as command
    from kanal.runner.run_options import RunOptions

    options = RunOptions(only, None, batch_rows, workers, since, until, everything, make_tables, anew=anew)
    ways = {"--by": by, "--dry-run": dry_run, "--rehearse": rehearse, "--notify": notify}
    return command(job, options, set_values or [], events, json, ways)


@app.command()
def clean(job: JobFile, json: Json = False) -> int:
    """Drop the tables that killed runs have left in the targets of a job."""
    from kanal.cli.clean import clean as command

    return command(job, json)


@app.command()
def compare(
    job: JobFile,
    only: Annotated[
        list[str] | None,
        typer.Option(metavar="STEP", show_default=False, help="Only what this step loads; can be repeated."),
    ] = None,
    quick: Annotated[bool, typer.Option("--quick", help="Compare only counts and a sum of each column.")] = False,
    allow_extra: Annotated[
        bool, typer.Option("--allow-extra", help="Rows that only the target has are as they should be.")
    ] = False,
    rows: Annotated[int, typer.Option("-n", "--rows", help="How many rows of each kind to show.", min=0)] = 3,
    set_values: SetValues = None,
    json: Json = False,
) -> int:
    """Compare the mapped rows of the sources with the rows of the targets."""
    from kanal.cli.compare import compare as command

    return command(job, only, quick, allow_extra, rows, set_values or [], json)


@app.command()
def resume(
    number: RunNumber = None, job: LogJob = None, run_log: LogUrl = None, events: Events = None, json: Json = False
) -> int:
    """Resume a run that failed, was stopped or died; steps that succeeded are not run again."""
    from kanal.cli.resume import resume as command

    return command(number, job, run_log, events, json)


@app.command()
def watermarks(
    job: JobFile,
    step: Annotated[str | None, typer.Argument(metavar="STEP", help="Only this step's.", show_default=False)] = None,
    value: Annotated[
        str | None, typer.Option("--set", metavar="VALUE", help="Set the step's watermark to this.", show_default=False)
    ] = None,
    clear: Annotated[bool, typer.Option("--clear", help="Take the step's watermark away.")] = False,
    json: Json = False,
) -> int:
    """Show or set the watermarks of the steps that load only new rows."""
    from kanal.cli.watermarks import watermarks as command

    return command(job, step, value, clear, json)


@app.command()
def files(
    job: JobFile,
    step: Annotated[str | None, typer.Argument(metavar="STEP", help="Only this step's.", show_default=False)] = None,
    forget: Annotated[
        str | None,
        typer.Option(metavar="FILE", help="Forget that the step has loaded this file.", show_default=False),
    ] = None,
    json: Json = False,
) -> int:
    """Show when and by which run each file was loaded, and which files are new; or forget one."""
    from kanal.cli.files import files as command

    return command(job, step, forget, json)


@app.command()
def replay(
    number: RunNumber = None,
    step: Annotated[str | None, typer.Argument(metavar="STEP", help="Only this step's.", show_default=False)] = None,
    job: LogJob = None,
    run_log: LogUrl = None,
    events: Events = None,
    json: Json = False,
) -> int:
    """Load the rejected rows of a run again, and only those, after the cause was fixed."""
    from kanal.cli.replay import replay as command

    return command(number, step, job, run_log, events, json)


@app.command()
def runs(
    number: RunNumber = None,
    windows: Annotated[
        bool, typer.Option("--windows", help="Show which windows of a job are loaded, failed or missing; with --job.")
    ] = False,
    job: LogJob = None,
    run_log: LogUrl = None,
    json: Json = False,
) -> int:
    """List past runs, or one run with its steps."""
    if windows:
        from kanal.cli.windows import show_windows as command_of_windows

        return command_of_windows(job, json)
    from kanal.cli.runs import runs as command

    return command(number, job, run_log, json)


@app.command()
def report(
    number: RunNumber = None,
    into: Annotated[Path, typer.Option(metavar="FILE", help="The file, such as run.html.", show_default=False)] = Path(
        "run.html"
    ),
    job: LogJob = None,
    run_log: LogUrl = None,
    json: Json = False,
) -> int:
    """Write one page about a run to a file, which needs no server: to look at, or to mail."""
    from kanal.cli.service import report as command

    return command(number, into, job, run_log, json)


@app.command()
def lineage(
    job: JobFile,
    what: Annotated[
        str | None,
        typer.Argument(metavar="TABLE[.COLUMN]", help="Only this target, or column of it.", show_default=False),
    ] = None,
    picture: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Draw it to an .svg file.", show_default=False)
    ] = None,
    openlineage: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Write OpenLineage events, a line of JSON each.", show_default=False),
    ] = None,
    json: Json = False,
) -> int:
    """Show the source columns and the expression of each target column."""
    from kanal.cli.lineage import lineage as command

    return command(job, what, picture, openlineage, json)


@app.command()
def bundle(
    job: JobFile,
    into: Annotated[
        Path, typer.Option(metavar="FILE", help="The bundle, such as house.kanal.zip.", show_default=False)
    ],
    json: Json = False,
) -> int:
    """Pack a job and all texts that it needs into one file with checksums, which runs as the job does."""
    from kanal.cli.bundle import bundle as command

    return command(job, into, json)


@app.command()
def rejects(
    number: RunNumber = None,
    step: Annotated[str | None, typer.Argument(metavar="STEP", help="Only this step's.", show_default=False)] = None,
    reason: Annotated[str | None, typer.Option(help="Only rows with this reason.", show_default=False)] = None,
    column: Annotated[str | None, typer.Option(help="Only rows rejected for this column.", show_default=False)] = None,
    examples: Annotated[
        int, typer.Option("-n", "--examples", help="How many rejected rows of each group to show.", min=0)
    ] = 2,
    everything: Annotated[bool, typer.Option("--all", help="Show every rejected row.")] = False,
    export: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            show_default=False,
            help="Write all of them to a CSV file, or to JSON lines in a .jsonl file.",
        ),
    ] = None,
    escape_formulas: Annotated[
        bool,
        typer.Option("--escape-formulas", help="In CSV, put ' before what a spreadsheet would take for a formula."),
    ] = False,
    job: LogJob = None,
    run_log: LogUrl = None,
    json: Json = False,
) -> int:
    """Show the rejected rows of a run, and why they were rejected."""
    from kanal.cli.rejects import rejects as command

    shown = None if everything else examples
    return command(number, step, reason, column, shown, export, escape_formulas, job, run_log, json)


@app.command()
def serve(
    jobs: JobFiles,
    port: Annotated[
        int | None,
        typer.Option(help="Show a page at this port.", min=1, max=65535, show_default=False),
    ] = None,
    listen: Annotated[
        str, typer.Option(metavar="ADDRESS", help="The address at which the page listens.")
    ] = "127.0.0.1",
    allow_actions: Annotated[
        str | None,
        typer.Option(
            metavar="VARIABLE",
            show_default=False,
            help="Let people start, stop, resume and replay runs from the page, with the token in this environment "
            "variable.",
        ),
    ] = None,
    allow_viewing: Annotated[
        str | None,
        typer.Option(
            metavar="VARIABLE",
            show_default=False,
            help="Show the page only to people with the token in this environment variable.",
        ),
    ] = None,
    host_name: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME", show_default=False, help="A name of the page in addresses; may be repeated."),
    ] = None,
    at_once: Annotated[int, typer.Option(help="The number of runs at the same time.", min=1, max=256)] = 4,
    events: Events = None,
) -> int:
    """Run jobs when they are due, and show a page; until the process is stopped."""
    from kanal.cli.service import serve as command

    return command(jobs, port, listen, allow_actions, allow_viewing, host_name or [], at_once, events)


@app.command("next")
def next_(
    jobs: JobFiles,
    count: Annotated[int, typer.Option("-n", "--count", help="How many times of each job.", min=1, max=1000)] = 5,
    json: Json = False,
) -> int:
    """List when jobs are due next."""
    from kanal.cli.service import coming as command

    return command(jobs, count, json)


@app.command()
def notify(
    job: JobFile,
    name: Annotated[str | None, typer.Argument(metavar="NAME", help="Only this receiver.", show_default=False)] = None,
    json: Json = False,
) -> int:
    """Send a test message to the receivers of a job."""
    from kanal.cli.service import notify as command

    return command(job, name, json)
