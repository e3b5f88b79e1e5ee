"""Writes the pages that are made from the code: the schema of the job file, and the tables of functions, conversions
and settings that cannot be combined; and the diagram of the architecture.

python docs/make.py          writes them
python docs/make.py --check  says which of them differ from the code, and exits with 1 if any does
python docs/make.py --guide  runs the commands of the guide, and writes what they print into it
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

from architecture_picture import picture

from kanal.core.conversions import all_examples
from kanal.core.expressions.registry import all_functions
from kanal.core.reasons import Reason
from kanal.definition import JobDefinition
from kanal.runner.planning.combinations import COMBINATIONS

HERE = Path(__file__).parent


def schema() -> str:
    """The JSON Schema of a job file."""
    document = JobDefinition.model_json_schema(by_alias=True)
    document["title"] = "A job of Kanal"
    document["properties"]["include"] = {
        "anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}],
        "description": "Other files, merged under this one.",
    }
    definitions = document["$defs"]
    # What only a Python program can give.
    del definitions["Source"]["properties"]["data"], definitions["Table"]["properties"]["memory"]
    document["properties"]["functions"]["items"] = {"type": "string"}
    for name, kind in (
        ("Source", "a table: CONNECTION:SCHEMA.TABLE"),
        ("Table", "a table: CONNECTION:SCHEMA.TABLE"),
        ("Column", "an SQL expression"),
    ):
        definitions[name] = {"anyOf": [{"type": "string", "description": kind}, definitions[name]]}
    return json.dumps(document, indent=1, ensure_ascii=False) + "\n"


def functions() -> str:
    """The tables of functions, by group."""
    lines: list[str] = []
    for group in dict.fromkeys(entry.group for entry in all_functions()):
        lines += [f"### {group}", "", "| function | does | example | gives |", "|---|---|---|---|"]
        for entry in all_functions():
            if entry.group == group:
                signature, example = (text.replace("|", "\\|") for text in (entry.signature, entry.example[0]))
                meaning = " ".join(entry.meaning.split()).replace("|", "\\|")
                lines.append(f"| `{signature}` | {meaning} | `{example}` | {_value(entry.example[1])} |")
        lines.append("")
    return "\n".join(lines)


def _value(text: str | None) -> str:
    return "NULL" if text is None else f"`{text}`" if text else "an empty text"


def reasons() -> str:
    """The table of reasons."""
    rows = [f"| `{reason}` | {reason.explanation} |" for reason in Reason]
    return "\n".join(["| reason | means |", "|---|---|", *rows, ""])


def combinations() -> str:
    """The table of settings that cannot be combined."""
    rows = [f"| {_code(pair.setting.text)} | {_code(pair.other.text)} | {pair.why} |" for pair in COMBINATIONS]
    return "\n".join(["| setting | cannot be combined with | because |", "|---|---|---|", *rows, ""])


def _code(text: str) -> str:
    """A setting as code, if it is one."""
    return re.sub(r'\w+ = "\w+"|^\w+$|(?<= )(?:delete_when|newer_by)$', r"`\g<0>`", text)


def conversions() -> str:
    """The table of conversions."""
    rows = ["| from | to | what happens | example |", "|---|---|---|---|"]
    for one in sorted(all_examples(), key=lambda one: (one.source.value, one.target.value)):
        given = ", ".join(f"{name} = {_toml(getattr(one.options, name))}" for name in sorted(one.options.given()))
        with_options = f" with `{given}`" if given else ""
        meaning = " ".join(one.meaning.split())
        target = "varchar(3)" if one.options.too_long else one.target.value
        rows.append(f"| {one.source.value} | {target} | {meaning} | `{one.value}` → `{one.result}`{with_options} |")
    return "\n".join([*rows, ""])


def _toml(value: object) -> str:
    return json.dumps(list(value) if isinstance(value, tuple) else value, ensure_ascii=False)


def filled(page: str, mark: str, content: str) -> str:
    """A page with the part between its two marks replaced."""
    start, end = f"<!-- {mark} -->\n", f"<!-- /{mark} -->"
    head, _, rest = page.partition(start)
    _, _, tail = rest.partition(end)
    return head + start + content + end + tail


def pages() -> dict[Path, str]:
    """Every page made from the code, with what it should hold."""
    expressions, converting, job_file = HERE / "expressions.md", HERE / "conversions.md", HERE / "job-file.md"
    return {
        HERE / "job.schema.json": schema(),
        HERE / "architecture.svg": picture(),
        job_file: filled(job_file.read_text(encoding="utf-8"), "combinations", combinations()),
        expressions: filled(expressions.read_text(encoding="utf-8"), "functions", functions()),
        converting: filled(
            filled(converting.read_text(encoding="utf-8"), "reasons", reasons()), "conversions", conversions()
        ),
    }


def told(page: str, folder: Path) -> str:
    """A page whose consoles show what their commands print when they are run one after the other in a folder.

    Of a command followed by a line of … only the first lines are shown, as many as there are, or 12.
    """
    place = folder

    def shown(block: re.Match[str]) -> str:
        nonlocal place
        lines = []
        for command, before in re.findall(r"^\$ (.*)\n((?:(?!\$ ).*\n)*)", block[1], re.MULTILINE):
            lines.append(f"$ {command}")
            if command.startswith("cd "):
                place /= command[3:]
                continue
            outcome = subprocess.run(
                ["bash", "-c", command], cwd=place, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
                env=os.environ | {"PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}", "COLUMNS": "100"},
                stdin=subprocess.DEVNULL, check=False,
            )  # fmt: skip
            found = [line.rstrip() for line in outcome.stdout.rstrip().splitlines()]
            if "…\n" in before:
                most = before.partition("…\n")[0].count("\n") or 12
                found = [*found[:most], "…"] if len(found) > most else found
            lines += [*found, *([""] if found else [])]
        return "```console\n" + "\n".join(lines).rstrip() + "\n```\n"

    return re.sub(r"```console\n(.*?)```\n", shown, page, flags=re.DOTALL)


def write_guide() -> None:
    """Write the outputs of the guide's commands anew."""
    guide = HERE / "guide.md"
    with tempfile.TemporaryDirectory() as folder:
        text = told(guide.read_text(encoding="utf-8"), Path(folder))
    guide.write_text(text.replace(str(Path(folder).resolve()), "/home/you"), encoding="utf-8")


def main() -> None:
    """Write the pages, or compare them."""
    if "--guide" in sys.argv:
        write_guide()
        return
    stale = [path for path, text in pages().items() if not path.exists() or path.read_text(encoding="utf-8") != text]
    if "--check" in sys.argv:
        print("\n".join(f"{path.name} differs from the code: run python docs/make.py" for path in stale))
        sys.exit(1 if stale else 0)
    for path, text in pages().items():
        path.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
