"""The commands and their arguments. Each imports what it needs only when it is called, so that help is quick."""

from __future__ import annotations

import copy
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, cast

import typer

app = typer.Typer(
    name="kanal",
    help="Load tables from database to database, with every row accounted for.",
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"]},
)

JobFile = Annotated[Path, typer.Argument(metavar="JOB", help="The job file, in TOML.", show_default=False)]
JobFiles = Annotated[list[Path], typer.Argument(metavar="JOB...", help="Job files or bundles.", show_default=False)]
Place = Annotated[str, typer.Argument(metavar="PLACE", help="A URL, or a connection's name with --job FILE.")]
PlaceJob = Annotated[
    Path | None,
    typer.Option("--job", metavar="FILE", help="The job file whose connection is named.", show_default=False),
]
Like = Annotated[
    list[str] | None,
    typer.Option(
        metavar="PATTERN", help="Only tables like this, such as 'lock_*'; can be repeated.", show_default=False
    ),
]
NotLike = Annotated[
    list[str] | None,
    typer.Option(metavar="PATTERN", help="No tables like this; can be repeated.", show_default=False),
]
Schema = Annotated[str | None, typer.Option(help="Of this schema.", show_default=False)]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON document and nothing else.")]
RunNumber = Annotated[
    int | None,
    typer.Argument(
        metavar="RUN", help="A run's number; the latest if left out.", show_default=False, min=1, max=2**31 - 1
    ),
]
LogJob = Annotated[
    Path | None,
    typer.Option("--job", metavar="FILE", help="Take the run log that this job names.", show_default=False),
]
LogUrl = Annotated[str | None, typer.Option("--run-log", metavar="URL", help="Take this run log.", show_default=False)]
Events = Annotated[
    Path | None,
    typer.Option(
        metavar="FILE", show_default=False, help="Append what happens to a file, a line of JSON an event; - is stderr."
    ),
]
SetValues = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="NAME=VALUE",
        show_default=False,
        help="Another value for a parameter; can be repeated.",
    ),
]


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
    """Try connections: server, version, latency, rights, or why one does not work and what to do."""
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
    """Show some rows of a table, and what stands in each column."""
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
    since: Annotated[
        bool, typer.Option("--since", help="Load only what is new, where a change column is found.")
    ] = False,
    sample: Annotated[int, typer.Option("--sample", help="Rows of each table to look at; 0 for none.", min=0)] = 1_000,
    name: Annotated[str | None, typer.Option(help="The job's name.", show_default=False)] = None,
    into: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE", show_default=False, help="Write to this file; if it is there, add only what is new."
        ),
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
        typer.Option(help="Try so many rows of each pipeline, without writing.", min=1, show_default=False),
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
    """Show the steps in order, with what waits for what and why."""
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
            metavar="VALUE", show_default=False, help="Take change values from this on, whatever the watermarks say."
        ),
    ] = None,
    until: Annotated[
        str | None,
        typer.Option(
            metavar="VALUE",
            show_default=False,
            help="Take change values before this only; watermarks stay where they are.",
        ),
    ] = None,
    everything: Annotated[
        bool, typer.Option("--all", help="Take all rows and files, whatever was loaded before.")
    ] = False,
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
            help="Load from --since to --until in windows so long, such as '1 day', each in a run of its own.",
        ),
    ] = None,
    notify: Annotated[bool, typer.Option("--notify", help="Send the messages of [notify] when it has ended.")] = False,
    set_values: SetValues = None,
    events: Events = None,
    json: Json = False,
) -> int:
    """Run a job and show what became of every row."""
    from kanal.cli.run import run as command
    from kanal.runner.run_options import RunOptions

    options = RunOptions(only, None, batch_rows, workers, since, until, everything, make_tables, anew=anew)
    if by is not None:
        from kanal.cli.windows import run_windows as command_by_windows
        from kanal.core.errors import KanalError

        others = [
            name for name, given in (("--dry-run", dry_run), ("--rehearse", rehearse), ("--notify", notify)) if given
        ]
        if others:
            raise KanalError(f"--by does not go with {' and '.join(others)}", "give one of them")
        return command_by_windows(job, options, by, set_values or [], events, json)
    if rehearse:
        from kanal.cli.run import rehearse as command_undone

        return command_undone(job, options, set_values or [], json)
    if dry_run:
        from kanal.cli.run import dry_run as command_without_writing

        return command_without_writing(job, options, set_values or [], json)
    return command(job, options, set_values or [], events, json, notify)


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
    quick: Annotated[bool, typer.Option("--quick", help="Compare counts and a sum of each column alone.")] = False,
    allow_extra: Annotated[
        bool, typer.Option("--allow-extra", help="Rows that only the target has are as they should be.")
    ] = False,
    rows: Annotated[int, typer.Option("-n", "--rows", help="How many rows of each kind to show.", min=0)] = 3,
    set_values: SetValues = None,
    json: Json = False,
) -> int:
    """Compare what the sources hold, after the mapping, with what stands in the targets."""
    from kanal.cli.compare import compare as command

    return command(job, only, quick, allow_extra, rows, set_values or [], json)


@app.command()
def resume(
    number: RunNumber = None, job: LogJob = None, run_log: LogUrl = None, events: Events = None, json: Json = False
) -> int:
    """Go on with a run that failed, was stopped or died; what has succeeded is not run again."""
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
    """Show up to where steps that load only what is new have come, or set that."""
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
    """Show which files were loaded when, by which run, and which are new; or forget one."""
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
    """Show from which source columns, through which expression, each target column comes."""
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
    reason: Annotated[str | None, typer.Option(help="Only those of this reason.", show_default=False)] = None,
    column: Annotated[str | None, typer.Option(help="Only those of this column.", show_default=False)] = None,
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
    at_once: Annotated[int, typer.Option(help="Runs that may go on at once.", min=1, max=256)] = 4,
    events: Events = None,
) -> int:
    """Run jobs when they are due, and show a page; until the process is stopped."""
    from kanal.cli.service import serve as command

    return command(jobs, port, listen, allow_actions, at_once, events)


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
    """Send a test message to those who are told of a job."""
    from kanal.cli.service import notify as command

    return command(job, name, json)


#: Parameters of commands by which they are given a job, and commands that a cluster can do.
_JOBS = frozenset({"job", "jobs", "number"})
_BY_CLUSTER = frozenset({"check", "clean", "ping", "replay", "resume", "run"})


def command_line(wanted: str | None = None) -> Callable[..., Any]:
    """All commands, or the wanted one alone if there is such a one, since to make all of them takes a while; those that
    are given a job take --env too, and what a cluster can do --cluster."""
    made = copy.copy(app)
    made.registered_commands = [
        info for info in app.registered_commands if wanted in (info.name, getattr(info.callback, "__name__", None))
    ] or app.registered_commands
    group: Any = typer.main.get_command(made)
    options = {option.name: option for option in _with_options().params}
    for name, command in group.commands.items():
        if _JOBS & {parameter.name for parameter in command.params}:
            command.params.append(options["env"])
        if name in _BY_CLUSTER:
            command.params.append(options["cluster"])
    return cast("Callable[..., Any]", group)


def _choose(value: str | None) -> None:
    from kanal.cli.jobs import choose_environment

    choose_environment(value)


_Environment = Annotated[
    str | None,
    typer.Option(
        "--env",
        metavar="NAME",
        envvar="KANAL_ENV",
        expose_value=False,
        callback=_choose,
        show_default=False,
        help="In this environment of the job.",
    ),
]


def _choose_cluster(value: str | None) -> None:
    from kanal.cli.jobs import choose_cluster

    choose_cluster(value)


_Cluster = Annotated[
    str | None,
    typer.Option(
        "--cluster",
        metavar="ADDRESS",
        envvar="KANAL_CLUSTER",
        expose_value=False,
        callback=_choose_cluster,
        show_default=False,
        help="By the workers of the dask.distributed scheduler at this address, such as tcp://hub:8786.",
    ),
]


def _with_options() -> Any:
    """A command that takes nothing but what several have in common."""
    only = typer.Typer(add_completion=False)

    @only.command()
    def command(env: _Environment = None, cluster: _Cluster = None) -> None:
        """Nothing."""

    return typer.main.get_command(only)


def run_app(arguments: list[str]) -> int:
    """Run the command line; the exit status: 0 well, 1 a step failed, 2 job or arguments wrong, 130 interrupted."""
    from kanal.cli.guarded import Guarded

    outputs = sys.stdout, sys.stderr
    out = sys.stdout = Guarded(outputs[0])
    sys.stderr = Guarded(outputs[1])
    try:
        status = _run(arguments)
        out.flush()
        if out.failure is not None:
            _complain(f"standard output cannot be written: {out.failure.strerror}; what was done is done.")
        sys.stderr.flush()
        return status
    finally:
        sys.stdout, sys.stderr = outputs


def _run(arguments: list[str]) -> int:
    from kanal.core.errors import KanalError

    in_json = "--json" in arguments
    try:
        status = command_line(next(iter(arguments), None))(arguments or ["--help"], standalone_mode=False)
    except KanalError as error:
        _say(error, in_json)
        return 2
    except KeyboardInterrupt:
        _complain("interrupted.")
        return 130
    except typer.Exit as error:
        return error.exit_code
    except Exception as error:
        shown = getattr(error, "format_message", None)
        if shown is not None:  # an argument that is wrong
            context = getattr(error, "ctx", None)
            command = context.command_path if context is not None else "kanal"
            _say(KanalError(shown().rstrip("."), f"see {command} --help"), in_json)
            return 2
        if os.environ.get("KANAL_TRACEBACK"):
            raise
        _say(
            KanalError(
                f"this should not happen: {type(error).__name__}: {' '.join(str(error).split())[:300]}",
                "please report it; KANAL_TRACEBACK=1 in the environment shows where it arose",
            ),
            in_json,
        )
        return 2
    return status if isinstance(status, int) else 0


def _say(error: Exception, in_json: bool) -> None:
    """Print what is wrong for people, or as a JSON document."""
    if not in_json:
        _complain(str(error))
        return
    from kanal.cli.output import print_json

    problems = getattr(error, "problems", None)
    documents = [
        {"what": one.what, "remedy": one.remedy, "file": str(one.file) if one.file else None, "line": one.line}
        for one in problems or ()
    ]
    if not documents:
        what, remedy = getattr(error, "what", str(error)), getattr(error, "remedy", "")
        documents = [{"what": what, "remedy": remedy, "file": None, "line": None}]
    document: dict[str, object] = {"error": documents[0]}
    print_json(document | ({"more": documents[1:]} if len(documents) > 1 else {}))


def _complain(text: str) -> None:
    from kanal.cli.output import visible

    for line in text.splitlines():
        print(f"kanal: {visible(line)}", file=sys.stderr)
