"""Draws boxes with lines of text, and curves between lines, as SVG: for pictures of tables and their columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from html import escape
from pathlib import Path

from msgspec import Struct

from kanal.core.errors import KanalError

WIDE, LINE, HEAD, PAD = 220, 18, 28, 8
#: More characters of a name than this do not fit.
_FIT = 29
_STYLE = (
    "text{font:13px system-ui,'DejaVu Sans',sans-serif;fill:#1d2a2e}.title{font-weight:600}.dim{fill:#56666b}"
    ".box{fill:#fff;stroke:#8a9894}.head{fill:#e3ecea}.left .head{fill:#f6ecd6}.link{fill:none;stroke:#14505c;"
    "stroke-opacity:.55;stroke-width:1.2}.link:hover{stroke-opacity:1;stroke-width:3}.weak{stroke-dasharray:4 4;"
    "stroke:#8a5300}.paper{fill:#fbfaf7}"
)


class Box(Struct, dict=True):
    """A box with a title and lines, each a name and what is said of it, at a place in pixels."""

    title: str
    lines: Sequence[tuple[str, str]]
    kind: str = "right"
    x: float = 0
    y: float = 0

    @cached_property
    def places(self) -> Mapping[str, int]:
        """The place of each line, by its name."""
        return {name: place for place, (name, _) in enumerate(self.lines)}

    @property
    def high(self) -> int:
        """Its height."""
        return HEAD + LINE * len(self.lines) + PAD

    def middle(self, line: str | None) -> float:
        """The height of the middle of a line, or of the title."""
        place = self.places.get(line or "", -1)
        return self.y + (HEAD / 2 if place < 0 else HEAD + LINE * place + LINE / 2 + 2)


class Link(Struct, frozen=True):
    """A curve from a line of one box to a line, or the title, of another; a weak one is dashed."""

    start: Box
    start_line: str | None
    end: Box
    end_line: str | None
    said: str
    weak: bool = False


def save(boxes: Sequence[Box], links: Sequence[Link], heading: str, path: Path) -> None:
    """Write the picture to an .svg file; raises KanalError."""
    if path.suffix.lower() != ".svg":
        raise KanalError(f"{path} is not an .svg file", "let its name end in .svg")
    wide = max([box.x + WIDE for box in boxes], default=WIDE) + 20
    high = max([box.y + box.high for box in boxes], default=0) + 20
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide:.0f}" height="{high:.0f}" '
        f'viewBox="0 0 {wide:.0f} {high:.0f}" role="img"><title>{escape(heading)}</title><style>{_STYLE}</style>'
        '<defs><marker id="tip" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="7" markerHeight="7" orient="auto">'
        f'<path d="M0,0 L8,4 L0,8 z" fill="#14505c"/></marker></defs><rect class="paper" width="{wide:.0f}" '
        f'height="{high:.0f}"/><text class="title" x="20" y="26" font-size="16">{escape(heading)}</text>'
    ]
    parts += [_link(link) for link in links]
    parts += [_box(box) for box in boxes]
    try:
        path.write_text("\n".join([*parts, "</svg>"]) + "\n", encoding="utf-8")
    except OSError as error:
        raise KanalError(f"{path} cannot be written: {error.strerror}", "name another file") from None


def _box(box: Box) -> str:
    lines = []
    for place, (name, said) in enumerate(box.lines):
        y = box.y + HEAD + LINE * place + 15
        room = _FIT - min(len(said), 14) - 1 if said else _FIT
        lines.append(
            f'<text x="{box.x + 10:.0f}" y="{y:.0f}">{escape(_cut(name, room))}<title>{escape(name)} '
            f'{escape(said)}</title></text><text class="dim" text-anchor="end" x="{box.x + WIDE - 8:.0f}" '
            f'y="{y:.0f}" font-size="11">{escape(_cut(said, 14))}</text>'
        )
    return (
        f'<g class="{box.kind}"><rect class="box" x="{box.x:.0f}" y="{box.y:.0f}" width="{WIDE}" '
        f'height="{box.high}" rx="5"/><rect class="head" x="{box.x + 0.5:.1f}" y="{box.y + 0.5:.1f}" '
        f'width="{WIDE - 1}" height="{HEAD - 5}" rx="5"/><text class="title" x="{box.x + 10:.0f}" '
        f'y="{box.y + 17:.0f}">{escape(_cut(box.title, 27))}<title>{escape(box.title)}</title></text>'
        f"{''.join(lines)}</g>"
    )


def _link(link: Link) -> str:
    y1, y2 = link.start.middle(link.start_line), link.end.middle(link.end_line)
    if link.end.x > link.start.x:
        x1, x2, bend = link.start.x + WIDE, link.end.x, 60
    elif link.end.x < link.start.x:
        x1, x2, bend = link.start.x, link.end.x + WIDE, -60
    else:  # in one column: around the right
        x1 = x2 = link.start.x + WIDE
        bend = 50
    back = x2 - bend if link.end.x != link.start.x else x2 + bend
    weak = " weak" if link.weak else ""
    return (
        f'<path class="link{weak}" marker-end="url(#tip)" d="M{x1:.0f},{y1:.0f} C{x1 + bend:.0f},{y1:.0f} '
        f'{back:.0f},{y2:.0f} {x2:.0f},{y2:.0f}"><title>{escape(link.said)}</title></path>'
    )


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def stack(columns: Sequence[Sequence[Box]], across: int, gap: int = 18, top: int = 46) -> None:
    """Place boxes in columns, each centred next to the highest one."""
    heights = [sum(box.high + gap for box in column) for column in columns]
    for number, column in enumerate(columns):
        y = top + (max(heights) - heights[number]) / 2
        for box in column:
            box.x, box.y = 20 + number * across, y
            y += box.high + gap
