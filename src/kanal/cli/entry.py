"""Runs a command line, and prints what is wrong with it."""

from __future__ import annotations

import copy
import os
import sys
from collections.abc import Callable
from typing import Annotated, Any, cast

import typer

from kanal.cli.app import app

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
