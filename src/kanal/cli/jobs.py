"""Reads the job that a command is given, in the environment that was chosen by --env or KANAL_ENV; and the cluster."""

from __future__ import annotations

from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kanal.job import Job
    from kanal.runner.elsewhere.crew import Crew

#: In place of a name: all environments, which kanal check goes through.
ALL = "all"
#: What was chosen for the command that runs; None for no environment.
_chosen: list[str | None] = [None]
#: The address of the scheduler that was chosen; None for this process.
_cluster: list[str | None] = [None]


def choose_environment(name: str | None) -> None:
    """Have the jobs that are read from now on be in an environment; None for none."""
    _chosen[0] = name or None


def chosen_environment() -> str | None:
    """The environment that was chosen."""
    return _chosen[0]


def choose_cluster(address: str | None) -> None:
    """Have what is run from now on be run by the workers of a scheduler at an address; None for this process."""
    _cluster[0] = address or None


def chosen_cluster() -> str | None:
    """The address of the scheduler that was chosen."""
    return _cluster[0]


def crew() -> AbstractContextManager[Crew | None]:
    """Those who run steps: of the cluster that was chosen, or None. Raises KanalError."""
    from kanal.runner.elsewhere import cluster_at

    return cluster_at(_cluster[0])


def read_job(path: Path) -> Job:
    """The job of a file in the environment that was chosen; raises JobError."""
    from kanal.job import Job

    return Job.read(path, _chosen[0])


def arguments_for(path: Path | str, environment: str | None = None) -> str:
    """A job file as an argument of another command, with the environment given, or else the one that was chosen."""
    name = environment or chosen_environment()
    return f"{path} --env {name}" if name else str(path)
