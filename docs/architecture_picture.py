"""Draws the layers of Kanal and the stages of a step, as the code has them."""

from __future__ import annotations

import ast
import importlib
import textwrap
import tomllib
from html import escape
from pathlib import Path

from kanal.runner.stages import ORDER

ROOT = Path(__file__).parents[1]
#: Of these layers, the parts are drawn too.
_PARTS = {
    "runner": ("planning", "elsewhere", "step", "stages"),
    "connections": ("files", "sql"),
}
_WIDE, _LEFT, _LINE = 560, 20, 17
_STYLE = (
    "text{font:13px system-ui,'DejaVu Sans',sans-serif;fill:#1d2a2e}.name{font-weight:600}.dim{fill:#56666b}"
    ".paper{fill:#fbfaf7}.layer{fill:#fff;stroke:#8a9894}.part{fill:#eef4f2;stroke:#a9b8b3}"
    ".stage{fill:#f6ecd6;stroke:#b79a5c}.line{stroke:#14505c;stroke-width:1.4;fill:none}"
)


def layers() -> list[str]:
    """The packages of Kanal, from the top layer to the bottom one, as the import rules state them."""
    rules = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["tool"]["importlinter"]["contracts"]
    (found,) = (rule["layers"] for rule in rules if rule["type"] == "layers")
    return [name.strip().removeprefix("kanal.") for layer in found for name in layer.split("|") if "demo" not in name]


def purpose(module: str) -> str:
    """The first sentence of a module's docstring."""
    found = importlib.util.find_spec(module)
    assert found is not None and found.origin is not None
    text = ast.get_docstring(ast.parse(Path(found.origin).read_text(encoding="utf-8"))) or ""
    return " ".join(text.split("\n\n")[0].split())


def picture() -> str:
    """The drawing as SVG: layers on the left, each of which imports only those below it; stages on the right."""
    shapes: list[str] = []
    y = 34
    for name in layers():
        y = _layer(shapes, name, y)
    bottom = _stages(shapes)
    high, wide = max(y, bottom) + 10, _LEFT + _WIDE + 370
    head = (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide}" height="{high}" viewBox="0 0 {wide} {high}" '
        f'role="img" aria-label="The layers of Kanal, and the stages of a step"><style>{_STYLE}</style>'
        '<defs><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto">'
        '<path d="M0,0 L8,4 L0,8 z" fill="#14505c"/></marker></defs>'
        f'<rect class="paper" width="{wide}" height="{high}"/>'
        f'<text x="{_LEFT}" y="22" class="name">Layers: each imports only those below it</text>'
    )
    return head + "".join(shapes) + "</svg>\n"


def _layer(shapes: list[str], name: str, y: int) -> int:
    """Draw a layer with its parts; where the next one begins."""
    lines = textwrap.wrap(purpose(f"kanal.{name}"), 78)
    parts = _PARTS.get(name, ())
    high = 30 + len(lines) * _LINE + (len(parts) * 28 + 6 if parts else 0)
    shapes.append(f'<rect class="layer" x="{_LEFT}" y="{y}" width="{_WIDE}" height="{high}" rx="6"/>')
    shapes.append(f'<text x="{_LEFT + 12}" y="{y + 20}" class="name">{escape(name)}/</text>')
    for place, line in enumerate(lines):
        text_y = y + 20 + (place + 1) * _LINE
        shapes.append(f'<text x="{_LEFT + 12}" y="{text_y}" class="dim">{escape(line)}</text>')
    for place, part in enumerate(parts):
        top = y + 30 + len(lines) * _LINE + place * 28
        about = textwrap.shorten(purpose(f"kanal.{name}.{part}"), 66, placeholder="…")
        shapes.append(f'<rect class="part" x="{_LEFT + 12}" y="{top}" width="{_WIDE - 24}" height="24" rx="4"/>')
        shapes.append(
            f'<text x="{_LEFT + 22}" y="{top + 16}"><tspan class="name">{escape(part)}/</tspan> '
            f'<tspan class="dim">{escape(about)}</tspan></text>'
        )
    return y + high + 8


def _stages(shapes: list[str]) -> int:
    """Draw the stages of a step from top to bottom; where they end."""
    x, y = _LEFT + _WIDE + 40, 34
    shapes.append(f'<text x="{x}" y="22" class="name">Stages: what a batch of rows goes through</text>')
    boxes = [("read", "source_rows.py reads ahead")]
    boxes += [(str(stage.name), purpose(stage.__module__)) for stage in ORDER]
    boxes += [("count, commit", "books.py counts; a way commits: all rows, or each batch")]
    for place, (name, about) in enumerate(boxes):
        lines = textwrap.wrap(about, 44)
        high = 26 + len(lines) * _LINE
        kind = "stage" if 0 < place < len(boxes) - 1 else "part"
        shapes.append(f'<rect class="{kind}" x="{x}" y="{y}" width="310" height="{high}" rx="6"/>')
        shapes.append(f'<text x="{x + 12}" y="{y + 18}" class="name">{escape(name)}</text>')
        for number, line in enumerate(lines):
            text_y = y + 18 + (number + 1) * _LINE
            shapes.append(f'<text x="{x + 12}" y="{text_y}" class="dim">{escape(line)}</text>')
        if place < len(boxes) - 1:
            shapes.append(f'<path class="line" marker-end="url(#tip)" d="M{x + 155},{y + high} V{y + high + 13}"/>')
        y += high + 14
    return y
