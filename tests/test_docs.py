"""The documentation is true: made pages match the code, every key is described, links and pictures exist."""

from __future__ import annotations

import importlib
import json
import re
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from kanal import Job
from kanal.definition import Check, Column, Command, Connection, Lookup, Pipeline
from kanal.definition.base import Model

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]


def test_pages_made_from_the_code_are_current() -> None:
    outcome = subprocess.run(
        [sys.executable, "docs/make.py", "--check"], cwd=ROOT, capture_output=True, text=True, check=False
    )
    assert outcome.returncode == 0, outcome.stdout + outcome.stderr


@pytest.mark.parametrize("model", [Job, Connection, Pipeline, Column, Lookup, Check, Command])
def test_every_key_is_in_the_reference(model: type[Model]) -> None:
    text = (ROOT / "docs" / "job-file.md").read_text(encoding="utf-8")
    for name, field in model.model_fields.items():
        key = field.alias or name
        assert f"`{key}`" in text or f"[{key}" in text or f"{key} =" in text or f".{key}." in text, key


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for link in re.findall(r"\]\(([^)#]+)\)", page.read_text(encoding="utf-8")):
        assert (page.parent / link).exists(), link


def test_every_picture_is_linked_and_the_first_job_is_ten_lines() -> None:
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in readme
    job = re.search(r"```toml\n(.*?)```", readme, re.DOTALL)
    assert job is not None
    assert len([line for line in job[1].splitlines() if line]) <= 10
    assert set(Job.model_validate(tomllib.loads(job[1])).pipeline) == {"vessels"}


def test_the_guide_tells_what_its_commands_print(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.syspath_prepend(ROOT / "docs")
    make = importlib.import_module("make")
    guide = (ROOT / "docs" / "guide.md").read_text(encoding="utf-8")

    def masked(text: str) -> list[str]:
        text = text.replace(str(tmp_path.resolve()), "/home/you")
        text = re.sub(r"\d+\.\d+ (s|ms)\b|\d{4}-\d\d-\d\d \d\d:\d\d:\d\d|SQLite [\d.]+", "#", text)
        return [" ".join(line.split()) for line in text.splitlines()]

    found, expected = masked(make.told(guide, tmp_path)), masked(guide)
    assert [pair for pair in zip(found, expected, strict=False) if pair[0] != pair[1]] == []
    assert len(found) == len(expected)


def test_the_schema_knows_the_keys_of_the_demo() -> None:
    schema = json.loads((ROOT / "docs" / "job.schema.json").read_text(encoding="utf-8"))
    demo = tomllib.loads((ROOT / "src/kanal/demo/lock-register.toml").read_text(encoding="utf-8"))
    assert set(demo) <= set(schema["properties"])
    assert schema["additionalProperties"] is False
