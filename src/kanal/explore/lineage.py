"""From which columns each target column comes: a picture, and events of the OpenLineage standard."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from kanal.connections.base import Connection
from kanal.core.errors import KanalError, counted
from kanal.core.nearest import did_you_mean
from kanal.explore.boxes import Box, Link, save, stack
from kanal.runner.job_plan import JobPlan, PipelinePlan
from kanal.runner.outline import Origin, origins_of
from kanal.version import VERSION

_SPEC = "https://openlineage.io/spec/2-0-2/OpenLineage.json#/$defs/JobEvent"
_FACETS = "https://openlineage.io/spec/facets"
_PRODUCER = f"urn:kanal:{VERSION}"
#: How a column of a look-up or filter takes part, in the words of the standard.
_INDIRECT = {"filter": "FILTER", "look-up": "JOIN"}
#: How the standard calls what URLs call otherwise.
_SCHEMES = {"postgresql": "postgres", "mariadb": "mysql"}


def chosen(plan: JobPlan, what: str | None) -> list[Origin]:
    """The origins of all columns, or of a target or a column of it alone; raises KanalError if there is none."""
    origins = origins_of(plan)
    if what is None:
        return origins
    wanted = what.lower()

    def names(origin: Origin) -> tuple[str, ...]:
        table = origin.target.partition(":")[2].lower()
        tables = (origin.target.lower(), table, table.rpartition(".")[2], origin.step.lower())
        return (*tables, *(f"{one}.{origin.column.lower()}" for one in tables))

    found = [origin for origin in origins if wanted in names(origin)]
    if not found:
        known = dict.fromkeys(name for origin in origins for name in names(origin))
        raise KanalError(f'the job fills no table or column "{what}"', did_you_mean(wanted, known) or "see kanal order")
    return found


def draw_lineage(origins: Sequence[Origin], path: Path) -> None:
    """Draw origins to an .svg file: sources at the left, targets at the right. Raises KanalError."""
    sources: dict[str, dict[str, str]] = {}
    targets: dict[str, dict[str, str]] = {}
    for origin in origins:
        targets.setdefault(origin.target, {})[origin.column] = ""
        for place, column, _ in origin.sources:
            sources.setdefault(place, {})[column] = ""
    left = {place: Box(place, list(columns.items()), "left") for place, columns in sources.items()}
    right = {place: Box(place, list(columns.items())) for place, columns in targets.items()}
    stack([list(left.values()), list(right.values())], 520)
    links: dict[tuple[str, str, str, str | None], Link] = {}
    for origin in origins:
        for place, column, part in sorted(origin.sources, key=lambda source: source[2] == "value", reverse=True):
            said = f"{place}.{column} → {origin.target}.{origin.column}: {origin.expression}"
            said += f" ({part})" if part != "value" else ""
            if part == "filter":  # which goes for all columns of the target
                said = f"{place}.{column} decides which rows of {origin.target} are loaded"
            end = None if part == "filter" else origin.column
            link = Link(left[place], column, right[origin.target], end, said, part != "value")
            links.setdefault((place, column, origin.target, end), link)
    if len(links) > 400:  # else nothing could be seen
        links = {key: link for key, link in links.items() if not link.weak}
    many = len({(origin.target, origin.column) for origin in origins})
    heading = f"{counted(many, 'column')}, and where the values come from; dashed: what finds or chooses rows"
    save([*left.values(), *right.values()], list(links.values()), heading, path)


def write_events(plan: JobPlan, path: Path) -> int:
    """Write an OpenLineage JobEvent for each pipeline to a file, a line of JSON each; how many. Raises KanalError."""
    events = list(events_of(plan))
    try:
        path.write_text("".join(json.dumps(event, ensure_ascii=False) + "\n" for event in events), encoding="utf-8")
    except OSError as error:
        raise KanalError(f"{path} cannot be written: {error.strerror}", "name another file") from None
    return len(events)


def events_of(plan: JobPlan) -> Iterable[dict[str, Any]]:
    """The job's pipelines as events: https://openlineage.io/spec/2-0-2/OpenLineage.json."""
    now = dt.datetime.now(dt.UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    steps = [step for step in plan.steps if isinstance(step, PipelinePlan)]
    datasets: dict[str, tuple[str, str]] = {}
    for step in steps:
        datasets[step.settings.source.label] = _dataset(step.source, step.settings.source)
        datasets[step.settings.target.label] = _dataset(step.target, step.settings.target)
        for lookup, database, _ in step.lookups:
            table = step.settings.lookup[lookup.name].table
            datasets[table.label] = _dataset(database, table)
    origins = origins_of(plan)
    for step in steps:
        own = [origin for origin in origins if origin.step == step.name]
        names = dict.fromkeys(
            [step.settings.source.label, *(lookup.table.label for lookup in step.settings.lookup.values())]
        )
        namespace, name = datasets[step.settings.target.label]
        yield {
            "eventTime": now,
            "producer": _PRODUCER,
            "schemaURL": _SPEC,
            "job": {
                "namespace": "kanal",
                "name": f"{plan.job.log_name}.{step.name}",
                "facets": {
                    "jobType": _facet(
                        "2-0-4/JobTypeJobFacet", processingType="BATCH", integration="KANAL", jobType="LOAD"
                    )
                },
            },
            "inputs": [{"namespace": datasets[label][0], "name": datasets[label][1]} for label in names],
            "outputs": [{"namespace": namespace, "name": name, "facets": _facets(step, own, datasets)}],
        }


def _facets(step: PipelinePlan, origins: Sequence[Origin], datasets: dict[str, tuple[str, str]]) -> dict[str, Any]:
    columns = step.target_table.columns
    fields = {
        origin.column: {
            "inputFields": [
                {
                    "namespace": datasets[place][0], "name": datasets[place][1], "field": column,
                    "transformations": [_transformation(origin, column, part)],
                }
                for place, column, part in origin.sources
            ]
        }
        for origin in origins
        if origin.sources
    }  # fmt: skip
    return {
        "schema": _facet(
            "1-1-1/SchemaDatasetFacet",
            fields=[{"name": column.name, "type": str(column.type or column.declared)} for column in columns],
        ),
        "columnLineage": _facet("1-2-0/ColumnLineageDatasetFacet", fields=fields),
    }


def _transformation(origin: Origin, column: str, part: str) -> dict[str, Any]:
    if part != "value":
        return {"type": "INDIRECT", "subtype": _INDIRECT[part], "description": part, "masking": False}
    same = origin.expression.strip('"').lower() == column.lower()
    subtype = "IDENTITY" if same else "TRANSFORMATION"
    return {"type": "DIRECT", "subtype": subtype, "description": origin.expression, "masking": False}


def _facet(name: str, **values: Any) -> dict[str, Any]:
    kind = name.partition("/")[2]
    return {"_producer": _PRODUCER, "_schemaURL": f"{_FACETS}/{name}.json#/$defs/{kind}", **values}


def _dataset(connection: Connection, place: Any) -> tuple[str, str]:
    """The namespace and name of a table (https://openlineage.io/docs/spec/naming)."""
    url = urlsplit(connection.shown_url)
    scheme = _SCHEMES.get(url.scheme.partition("+")[0], url.scheme.partition("+")[0])
    table = f"{place.schema_}.{place.name}" if getattr(place, "schema_", None) else place.name or "query"
    if scheme in ("sqlite", "duckdb", "file"):
        return "file", f"{url.path.removeprefix('/') or '/'}:{table}"
    host = url.hostname or "localhost"
    port = f":{url.port}" if url.port else ""
    database = url.path.strip("/")
    return f"{scheme}://{host}{port}", ".".join(filter(None, [database, table]))
