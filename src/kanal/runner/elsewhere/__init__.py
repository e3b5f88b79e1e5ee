"""Steps in other processes and on other machines."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import Executor
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # it is imported where something runs elsewhere
    from kanal.definition import JobDefinition
    from kanal.runner.elsewhere.crew import Crew
    from kanal.runner.planning.job_planner import Known


@contextmanager
def crew_of(executor: Executor | Crew | None) -> Iterator[Crew | None]:
    """Those who work for an executor of any kind; None for none."""
    if executor is None:
        yield None
        return
    from kanal.runner.elsewhere.cluster import crew_for

    with crew_for(executor) as crew:
        yield crew


@contextmanager
def cluster_at(address: str | None) -> Iterator[Crew | None]:
    """The cluster of a scheduler at an address; None for no address. Raises KanalError."""
    if not address:
        yield None
        return
    from kanal.runner.elsewhere.cluster import Cluster

    cluster = Cluster(address)
    try:
        yield cluster
    finally:
        cluster.close()


def known_of(job: JobDefinition, crew: Crew | None) -> Known | None:
    """How a job's connections are opened if a crew runs it; None for as always."""
    if crew is None:
        return None
    from kanal.runner.elsewhere.distant import known_of as known

    return known(job, crew)
