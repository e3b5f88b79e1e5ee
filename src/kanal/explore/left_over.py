"""What runs that were killed have left in targets: portions that nobody will publish."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kanal.connections.base import as_portioned
from kanal.connections.roles import Writes
from kanal.definition import JobDefinition
from kanal.runner.elsewhere import known_of
from kanal.runner.elsewhere.names import prefix_of
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.run import run_log_of
from kanal.runner.run_options import planned

if TYPE_CHECKING:
    from kanal.runner.elsewhere.crew import Crew


def clean(job: JobDefinition, crew: Crew | None = None) -> list[tuple[str, str]]:
    """Drop the portions of a job's runs, but those of one under way; the connection and table of each.

    Raises KanalError if the run log or a target cannot be reached.
    """
    log, all_runs = run_log_of(job), prefix_of(job.log_name)
    under_way = []
    if log.exists():
        log.prepare()
        log.runs.end_dead_runs()
        records = [
            record for record in log.past.latest(200) if record.job == job.log_name and record.status == "running"
        ]
        under_way = [prefix_of(job.log_name, str(record.token)) for record in records]
    found: list[tuple[str, str]] = []
    with planned(job, {}, known_of(job, crew)) as plan:
        places = {}
        for step in plan.steps:
            if isinstance(step, PipelinePlan) and Writes.PORTIONS in step.target.writes:
                places[step.target.name, step.target_table.schema] = step
        for (name, schema), step in places.items():
            tables = [table for table in step.target.catalogue.table_names(schema) if table.startswith(all_runs)]
            for table in tables:
                if not any(table.startswith(prefix) for prefix in under_way):
                    gone = as_portioned(step.target).drop_portions(step.target_table, table)
                    found += [(name, one) for one in gone]
    return found
