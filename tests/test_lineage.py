"""From which columns each column comes; pictures of tables and columns; events and spans of open standards."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

import kanal
from conftest import Cli, Files, document

SVG = "{http://www.w3.org/2000/svg}"
JOB = """
[pipeline.skippers]
source = "old:skipper"
target = "new:skipper"
create = "missing"
[pipeline.vessels]
source = "old:vessel"
target = "new:vessel"
create = "missing"
where = "state <> 'gone' AND tons > 5"
after = "skippers"
[pipeline.vessels.lookup.skipper]
table = "new:skipper"
on = { licence = "upper(licence_txt)" }
[pipeline.vessels.columns]
mark = "mark"
title = "mark || ' ' || coalesce(name, :unknown)"
skipper_name = "skipper.name"
rank = "CASE WHEN tons > 100 THEN skipper.rank ELSE 0 END"
fixed = "'a'"
[parameters]
unknown = "?"
"""
FILTER = [("state", "filter"), ("tons", "filter")]
EXPECTED: dict[str, list[tuple[str, str]]] = {  # column: the source's columns that it comes from, and how
    "mark": [("mark", "value")],
    "title": [("mark", "value"), ("name", "value")],
    "skipper_name": [("new:skipper.name", "value"), ("licence_txt", "look-up")],
    "rank": [("tons", "value"), ("new:skipper.rank", "value"), ("licence_txt", "look-up")],
    "fixed": [],
}


@pytest.fixture
def job(files: Files) -> Path:
    files.database(
        "old.db",
        "CREATE TABLE skipper (licence TEXT PRIMARY KEY, name TEXT, rank INTEGER); CREATE TABLE vessel "
        "(mark TEXT PRIMARY KEY, name TEXT, tons INTEGER, state TEXT, licence_txt TEXT, unused TEXT)",
        skipper=[("A1", "Ada", 3)], vessel=[("M1", None, 200, "here", "a1", "x")],
    )  # fmt: skip
    files.database("new.db", "CREATE TABLE skipper (licence TEXT PRIMARY KEY, name TEXT, rank INTEGER)")
    return files.job(JOB)


def test_lineage_comes_from_the_expressions_themselves(job: Path, cli: Cli) -> None:
    found = document(cli("lineage", str(job), "vessel", "--json"))
    assert {one["column"] for one in found} == set(EXPECTED)
    for one in found:
        places = [f"{s['place']}.{s['column']}".removeprefix("old:vessel.") for s in one["sources"]]
        parts = list(zip(places, [source["part"] for source in one["sources"]], strict=True))
        assert sorted(parts) == sorted([*EXPECTED[one["column"]], *FILTER]), one["column"]
    for what in ("vessel.rank", "new:vessel.rank", "vessels.rank", "VESSEL.RANK"):
        assert [one["column"] for one in document(cli("lineage", str(job), what, "--json"))] == ["rank"], what
    outcome = cli("lineage", str(job), "vesel")
    assert outcome.returncode == 2 and "Did you mean" in outcome.stderr
    text = cli("lineage", str(job)).stdout
    lines = text.splitlines()
    second = next(place for place, line in enumerate(lines) if line.strip().startswith("found by"))
    assert lines[second].index("found by") == lines[second - 1].index("new:skipper.")  # a cell of several lines
    assert "found by old:vessel.licence_txt" in text and "Rows are chosen by old:vessel.state, old:vessel.tons." in text


def test_each_change_of_an_expression_changes_the_lineage(job: Path, cli: Cli) -> None:
    """A column that is taken out of an expression is taken out of its lineage: nothing is guessed from names."""
    job.write_text(job.read_text().replace("mark || ' ' || coalesce(name, :unknown)", "upper(state)"))
    found = document(cli("lineage", str(job), "vessel.title", "--json"))[0]
    assert [s["column"] for s in found["sources"] if s["part"] == "value"] == ["state"]


def test_the_run_log_keeps_it(job: Path, cli: Cli, files: Files) -> None:
    assert cli("run", str(job)).returncode == 0 and cli("run", str(job)).returncode == 0
    plans = files.rows("kanal-runs.db", "SELECT content FROM kanal_plan")
    assert len(plans) == 1  # the same plan once
    outline = json.loads(plans[0][0])
    assert [step["name"] for step in outline["steps"]] == ["skippers", "vessels"] and len(outline["columns"]) == 8


def boxes(path: Path) -> list[tuple[float, float, float, float]]:
    root = ElementTree.parse(path).getroot()
    found = [rect for rect in root.iter(f"{SVG}rect") if rect.get("class") == "box"]
    return [tuple(float(rect.get(name) or 0) for name in ("x", "y", "width", "height")) for rect in found]  # type: ignore[misc]


def test_pictures(job: Path, cli: Cli, files: Files) -> None:
    """Boxes do not overlap, every reference and origin has a line, and hostile names are only text."""
    evil = '<script>&"' + "n" * 300
    tables = [f'CREATE TABLE "t{n}" (id INTEGER PRIMARY KEY, ' + "".join(
        f'r{m} INTEGER REFERENCES "t{m}"(id), ' for m in range(max(0, n - 3), n, 2)) + "v TEXT)" for n in range(60)]  # fmt: skip
    quoted = evil.replace('"', '""')
    files.database(
        "sixty.db",
        ";".join([*tables, f'CREATE TABLE "{quoted}" (id INTEGER PRIMARY KEY, up INTEGER REFERENCES "{quoted}"(id))']),
    )
    outcome = cli("tables", "sqlite:///sixty.db", "--picture", "tables.svg")
    assert outcome.returncode == 0 and "is drawn" in outcome.stderr
    found = boxes(files.folder / "tables.svg")
    assert len(found) == 61
    for place, (x, y, wide, high) in enumerate(found):
        for x2, y2, wide2, high2 in found[:place]:
            assert x + wide <= x2 or x2 + wide2 <= x or y + high <= y2 or y2 + high2 <= y
    text = (files.folder / "tables.svg").read_text()
    references = sum(sql.count("REFERENCES") for sql in tables) + 1
    assert len(re.findall(r'class="link', text)) == references and "<script" not in text
    assert cli("lineage", str(job), "--picture", "lineage.svg").returncode == 0
    lines = re.findall(r'class="link( weak)?"', (files.folder / "lineage.svg").read_text())
    assert len(lines) == 3 + 6 + 2 + 2 and lines.count(" weak") == 4  # skippers, values, look-ups, filters
    assert cli("tables", "sqlite:///sixty.db", "--picture", "tables.png").returncode == 2
    assert cli("lineage", str(job), "--picture", "nowhere/x.svg").returncode == 2


def test_events_are_those_of_the_standard(job: Path, cli: Cli, files: Files) -> None:
    """Read by the classes that the standard's own client makes from its published schema, they come out the same."""
    event_v2 = pytest.importorskip("openlineage.client.event_v2")
    from openlineage.client.facet_v2 import column_lineage_dataset, job_type_job, schema_dataset
    from openlineage.client.serde import Serde

    assert cli("lineage", str(job), "--openlineage", "events.jsonl").returncode == 0
    events = [json.loads(line) for line in (files.folder / "events.jsonl").read_text().splitlines()]
    assert [event["job"]["name"] for event in events] == ["test.skippers", "test.vessels"]

    def facet(kind: Any, given: dict[str, Any], **made: Any) -> Any:
        values = {name: value for name, value in given.items() if not name.startswith("_")}
        result = kind(**(values | made), producer=given["_producer"])
        version = re.compile(r"/[0-9]+-[0-9]+-[0-9]+/")  # a newer client has newer ones
        assert version.sub("/", result._schemaURL) == version.sub("/", given["_schemaURL"])
        result._schemaURL = given["_schemaURL"]
        return result

    def lineage(given: dict[str, Any]) -> Any:
        fields = {
            name: column_lineage_dataset.Fields(inputFields=[
                column_lineage_dataset.InputField(**source | {"transformations": [
                    column_lineage_dataset.Transformation(**one) for one in source["transformations"]]})
                for source in field["inputFields"]])
            for name, field in given["fields"].items()
        }  # fmt: skip
        return facet(column_lineage_dataset.ColumnLineageDatasetFacet, given, fields=fields)

    for event in events:
        output = event["outputs"][0]
        types = [schema_dataset.SchemaDatasetFacetFields(**one) for one in output["facets"]["schema"]["fields"]]
        remade = event_v2.JobEvent(
            eventTime=event["eventTime"], producer=event["producer"],
            job=event_v2.Job(event["job"]["namespace"], event["job"]["name"], facets={
                "jobType": facet(job_type_job.JobTypeJobFacet, event["job"]["facets"]["jobType"])}),
            inputs=[event_v2.InputDataset(**one) for one in event["inputs"]],
            outputs=[event_v2.OutputDataset(output["namespace"], output["name"], facets={
                "schema": facet(schema_dataset.SchemaDatasetFacet, output["facets"]["schema"], fields=types),
                "columnLineage": lineage(output["facets"]["columnLineage"])})],
        )  # fmt: skip
        again = _filled(json.loads(Serde.to_json(remade)))
        assert again.pop("schemaURL").endswith("/JobEvent") and event.pop("schemaURL").endswith("/JobEvent")
        assert again == _filled(event)
    fields = events[1]["outputs"][0]["facets"]["columnLineage"]["fields"]
    kinds = {
        (one["field"], one["transformations"][0]["type"], one["transformations"][0]["subtype"])
        for one in fields["rank"]["inputFields"]
    }
    assert ("tons", "DIRECT", "TRANSFORMATION") in kinds and ("licence_txt", "INDIRECT", "JOIN") in kinds
    assert ("state", "INDIRECT", "FILTER") in kinds
    assert fields["mark"]["inputFields"][0]["transformations"][0]["subtype"] == "IDENTITY"


def _filled(value: Any) -> Any:
    """A document without its empty parts."""
    if isinstance(value, dict):
        return {key: part for key, one in value.items() if (part := _filled(one)) not in ({}, [], None)}
    return [_filled(one) for one in value] if isinstance(value, list) else value


def test_a_run_is_spans(job: Path) -> None:
    sdk = pytest.importorskip("opentelemetry.sdk.trace")
    from opentelemetry import trace
    from opentelemetry.sdk.trace.export import SimpleSpanProcessor
    from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter

    exporter, provider = InMemorySpanExporter(), sdk.TracerProvider()
    provider.add_span_processor(SimpleSpanProcessor(exporter))
    trace.set_tracer_provider(provider)
    run = kanal.Job.read(job).run()
    spans = {span.name: span for span in exporter.get_finished_spans()}
    assert set(spans) == {"kanal run", "kanal step skippers", "kanal step vessels"}
    whole = spans["kanal run"]
    assert whole.attributes["kanal.run"] == run.run and whole.attributes["kanal.status"] == "succeeded"
    for name in ("skippers", "vessels"):
        span = spans[f"kanal step {name}"]
        assert span.parent.span_id == whole.context.span_id
        assert span.attributes["kanal.inserted"] == run[name].tally.inserted == 1


WINDOWS = [
    ("", "no pipeline loads only what is new"),
    ('since = "tons"\n', "the windows of the schedule are times"),
    ('since = "CAST(state AS date)"\n', "is a date, and the windows of the schedule are 6 hours"),
]


@pytest.mark.parametrize(("since", "said"), WINDOWS, ids=[w[1] for w in WINDOWS])
def test_windows_that_no_pipeline_has(files: Files, job: Path, cli: Cli, since: str, said: str) -> None:
    path = files.job('[pipeline.vessels]\nsource = "old:vessel"\ntarget = "new:v"\ncreate = "missing"\n' + since
                     + '[schedule]\ncron = "0 2 * * *"\nwindow = "6 hours"\n', "windows.toml")  # fmt: skip
    outcome = cli("check", str(path))
    assert outcome.returncode == 2 and said in " ".join(outcome.stdout.split())
